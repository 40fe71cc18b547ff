"""What a directory is, and the transports behind its port."""
