"""The made-up ferry line that the demo and the tests work on."""
