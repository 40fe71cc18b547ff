"""One view of an object through its fields, and what naming patterns see of it."""
