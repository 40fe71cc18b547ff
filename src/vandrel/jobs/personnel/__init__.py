"""Bringing the directory and the lists of the personnel office together."""
