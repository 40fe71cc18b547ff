"""Snapshots: taking, thinning, what differs between two, and objects and fields put back from one."""
