"""Reports on how well the directory follows the charter."""
