"""What was done: the journal."""
