"""Jobs on accounts."""
