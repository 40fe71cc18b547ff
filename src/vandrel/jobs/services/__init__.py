"""Getting a directory ready for services outside of it."""
