"""How a field of ours is kept in a directory of a given schema."""
