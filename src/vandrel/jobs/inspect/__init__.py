"""Reports on what is there."""
