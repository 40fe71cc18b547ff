"""What a command says, sent to somebody as well: for commands that a scheduler calls."""

from __future__ import annotations

import contextlib
import io
import sys
from collections.abc import Callable
from typing import TextIO

from vandrel.cli.session import Session
from vandrel.cli.terminal import clean
from vandrel.errors import DONE, VandrelError


class _Copied(io.TextIOBase):
    """A stream that keeps what goes through it. It is no terminal, so that lines come without colours."""

    def __init__(self, stream: TextIO, copy: io.StringIO) -> None:
        self._stream, self._copy = stream, copy

    def write(self, text: str) -> int:
        self._copy.write(text)
        return self._stream.write(text)

    def flush(self) -> None:
        self._stream.flush()


def mailed(session: Session, run: Callable[[], int], tell: Callable[[VandrelError], int]) -> int:
    """Run a command and send what it says; return its exit code, or that of a message that could not be sent.

    How messages are sent is looked up before: a command that changes something is not run in vain.
    """
    from vandrel.connections.mail import message, send

    try:
        mail, to = session.mail, session.args.mail_to
        message(mail, to, "", "")
    except VandrelError as error:
        return tell(error)
    copy = io.StringIO()
    with contextlib.redirect_stdout(_Copied(sys.stdout, copy)), contextlib.redirect_stderr(_Copied(sys.stderr, copy)):
        code = run()
    state = "done" if code == DONE else f"exit code {code}"
    try:
        subject = f"{session.charter.document.organization}: vandrel {session.args.command}, {state}"
        (refusal,) = send(mail, [message(mail, to, clean(subject), clean_lines(copy.getvalue()))])
    except VandrelError as error:
        refusal = error
    if refusal is None:
        return code
    exit_code = tell(refusal)
    return exit_code if code == DONE else code


def clean_lines(text: str) -> str:
    """Lines without what could drive a terminal."""
    return "".join(f"{clean(line)}\n" for line in text.splitlines())
