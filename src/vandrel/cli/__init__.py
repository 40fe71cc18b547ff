"""The command line: options in, text or JSON out."""
