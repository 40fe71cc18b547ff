"""Jobs on groups and memberships."""
