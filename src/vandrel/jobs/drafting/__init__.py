"""Drafting a charter from a directory that was filled without one."""
