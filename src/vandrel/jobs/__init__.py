"""One module a job of the administrator: a request in, a proposal or a report out."""
