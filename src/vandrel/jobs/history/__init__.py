"""Jobs on the journal: taking back and finishing."""
