"""One way from a directory to another, or to a service: who goes there, who they are there, what changes."""
