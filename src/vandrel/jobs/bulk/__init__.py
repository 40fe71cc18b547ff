"""Jobs on many objects at once: rosters, series, LDIF."""
