"""Formats and constants of directories with the Active Directory schema, each after the document that defines it."""
