"""The command line: arguments in, rendering out."""
