"""Jobs over time: leaving and coming back, deleting, the attic and restoring, what is due."""
