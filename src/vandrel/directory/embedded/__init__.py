"""The embedded directory: one SQLite file."""
