"""Vandrel: accounts, groups and units of a directory, by an organization's own house rules."""

__version__ = "0.1.0"
