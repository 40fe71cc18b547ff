"""How directories are reached: named connections, identities, and where their passwords come from."""
