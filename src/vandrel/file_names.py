"""The names of the files in a folder that Vandrel works in."""

CHARTER = "charter.yaml"
DIRECTORY = "directory.db"
JOURNAL = "journal.db"
ATTIC = "attic.db"
SNAPSHOTS = "snapshots.db"
LISTS = "lists.yaml"
CONNECTIONS = "connections.yaml"
