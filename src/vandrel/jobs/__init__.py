"""One module per job of the administrator: a request in, steps out."""
