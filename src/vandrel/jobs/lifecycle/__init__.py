"""Jobs over time: deleting, dated intentions."""
