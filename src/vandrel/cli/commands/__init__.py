"""One module a command: its options, and the request that it hands to a job."""
