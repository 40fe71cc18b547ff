"""The file of a new directory."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from vandrel.cli.session import Session
    from vandrel.directory.ldif import Origin


def make_directory(session: Session, origin: Origin | None = None) -> bool:
    """Make the directory's file, as a copy of another if that is what `origin` tells of; return false in a dry run.

    Raises:
        VandrelError: ``declined``, ``not-permitted``.

    """
    from vandrel.directory.embedded.store import EmbeddedDirectory

    charter, terminal = session.charter, session.terminal
    terminal.note(f"There is no directory yet: {session.directory_path} will be made, for {charter.base}.")
    if session.args.dry_run:
        terminal.note("Dry run: nothing was changed.")
        return False
    terminal.confirm("Make it?", yes=session.args.yes)
    contexts = list(dict.fromkeys([*(origin.contexts if origin else ()), charter.base]))
    definitions = origin.definitions if origin else ()
    EmbeddedDirectory.create(session.directory_path, contexts, definitions).close()
    session.new_directory = session.directory_path
    return True
