"""What was done: the journal and the hand-out."""
