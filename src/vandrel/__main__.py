"""``python -m vandrel``."""

from vandrel.cli.main import entry

if __name__ == "__main__":
    entry()
