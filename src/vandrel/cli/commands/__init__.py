"""One module a command: its options, and the request that they make."""
