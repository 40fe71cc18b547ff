"""The program's entry: reads the command line, runs one command, turns every error into words and an exit code."""

from __future__ import annotations

import io
import os
import sys
from argparse import Namespace
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from vandrel.cli.session import Session
    from vandrel.errors import VandrelError


def main(words: Sequence[str], *, owns_output: bool = False) -> int:
    """Run one command line and return its exit code; with `owns_output`, standard output is its own to exchange."""
    from vandrel.cli.quick_start import load_msgspec

    load_msgspec()
    from vandrel.cli.parser import parse
    from vandrel.cli.session import OutdatedError, Session
    from vandrel.errors import VandrelError

    try:
        args = parse(words)
    except VandrelError as error:
        command = next((word for word in words if not word.startswith("-")), "")
        unread = Namespace(command=command, json="--json" in words, no_color="--no-color" in words)
        return _tell(Session(unread, words), error)
    if owns_output and getattr(args, "yes", False) and not args.dry_run:
        _outlive_reader()
    try:
        return _given(Session(Namespace(**vars(args)), words, trusting=not _reads_input(words)), words)
    except OutdatedError:
        return _given(Session(args, words), words)


def _given(session: Session, words: Sequence[str]) -> int:
    """Run the command, and do what is to be done whatever comes of it."""
    if getattr(session.args, "mail_to", ""):
        from vandrel.cli.mail_report import mailed

        code = mailed(session, lambda: session.tell_damage(_run(session, words)), lambda error: _tell(session, error))
    else:
        code = session.tell_damage(_run(session, words))
    if code and not session.begun:
        session.withdraw_new_directory()
    return code


def _run(session: Session, words: Sequence[str]) -> int:
    """Run the command; every error becomes words and an exit code, but for what makes it begin anew."""
    from vandrel.cli.session import OutdatedError
    from vandrel.errors import INTERRUPTED, VandrelError

    try:
        _must_be_text(words)
        result = _worked_out(session)
        if isinstance(result, int):
            return result
        from vandrel.cli.present import present

        again = None if _reads_input(words) else lambda: session.args.run(session)
        return present(session, result, again)
    except VandrelError as error:
        return _tell(session, error)
    except KeyboardInterrupt:
        print(f"\nInterrupted. {_how_far(session)}", file=sys.stderr)
        return INTERRUPTED
    except (BrokenPipeError, OutdatedError):
        raise
    except OSError as error:
        return _tell(session, _system(error))
    except Exception as error:
        return _tell(session, _internal(error))


def _worked_out(session: Session) -> Any:
    """What the command has worked out, on servers that are what they were taken to be.

    Raises:
        OutdatedError: one of them is not: all of it is to be worked out anew.

    """
    try:
        result = session.args.run(session)
    except Exception:  # whatever it is, it may have come of what was taken for true
        session.must_be_current()
        raise
    session.must_be_current()
    session.trusting = False  # from here on something is shown, and may be written
    return result


def _reads_input(words: Sequence[str]) -> bool:
    """Whether a command line names standard input, which can be read only once."""
    return any(word == "-" or word.endswith("=-") for word in words)


def _must_be_text(words: Sequence[str]) -> None:
    """See to it that the command line is UTF-8; Python lets other bytes through as halves of characters.

    Raises:
        VandrelError: ``usage``.

    """
    from vandrel.errors import Code, VandrelError

    for number, word in enumerate(words, 1):
        try:
            word.encode()
        except UnicodeEncodeError as error:
            what = f"argument {number} is not UTF-8, at letter {error.start + 1}: {word!a}"
            raise VandrelError(
                Code.USAGE, what, remedy="set the terminal to UTF-8; give such a file another name"
            ) from None


def _tell(session: Session, error: VandrelError) -> int:
    """Put an error out, with what it may have meant, and what is left of a job; return its exit code."""
    terminal = session.terminal
    if terminal.as_json:
        from vandrel.cli.present.json_output import encode, of_error

        sys.stderr.write(encode(of_error(getattr(session.args, "command", ""), error)))
        return error.exit_code
    if candidates := getattr(error, "candidates", None):
        rows = [(each.name, each.full, each.object_type, each.place) for each in candidates]
        terminal.candidates(rows)
    sys.stdout.flush()
    terminal.findings(error.findings)
    if broken := _broken_off(session):
        print(f"      {broken}", file=sys.stderr)
    return error.exit_code


def _how_far(session: Session) -> str:
    """What an interrupt has left, and what to do about it."""
    if not session.begun:
        return "No job had begun."
    return _broken_off(session) or f"Job {session.begun} was over already: vandrel journal {session.begun}"


def _broken_off(session: Session) -> str:
    """That the job of this command was broken off, if it was."""
    if not session.begun:
        return ""
    from vandrel.errors import VandrelError

    try:
        job = session.journal().job(session.begun)
    except VandrelError:  # what went wrong before is told, and may be just that
        return ""
    if job.state != "broken off":
        return ""
    return (
        f"Job {job.number} was broken off: vandrel resume {job.number} finishes it, vandrel undo {job.number} takes "
        "back what was made"
    )


def _system(error: OSError) -> VandrelError:
    """What the operating system refuses: a full disk under standard output, a file that has gone."""
    import errno

    from vandrel.errors import Code, Location, VandrelError

    code = Code.DISK_FULL if error.errno in (errno.ENOSPC, errno.EDQUOT) else Code.NOT_PERMITTED
    return VandrelError(
        code, f"the system says: {error.strerror or error}", where=Location(file=str(error.filename or "output"))
    )


def _internal(error: Exception) -> VandrelError:
    """A fault of ours in plain words; the traceback goes to a file, which whoever mends it can ask for."""
    import tempfile
    import traceback

    from vandrel.errors import Code, VandrelError

    with tempfile.NamedTemporaryFile("w", prefix="vandrel-", suffix=".txt", delete=False, encoding="utf-8") as file:
        traceback.print_exception(error, file=file)
    what = f"this is a fault of Vandrel, not of yours: {type(error).__name__}"
    return VandrelError(Code.INTERNAL, what, remedy=f"vandrel journal tells what was made; report it with {file.name}")


class _Unread(io.FileIO):
    """Standard output whose reader may go, as head does: what nobody reads is let go."""

    def write(self, octets: Any) -> int:
        """Write all, or pretend to."""
        try:
            return super().write(octets)
        except BrokenPipeError:
            return len(octets)


def _outlive_reader() -> None:
    """See to it that what somebody said yes to is made even if nobody reads the preview to its end."""
    if isinstance(out := sys.stdout, io.TextIOWrapper):
        out.flush()
        raw = io.BufferedWriter(_Unread(out.fileno(), "wb", closefd=False))
        sys.stdout = io.TextIOWrapper(raw, out.encoding, out.errors, line_buffering=out.line_buffering)


def _let_go() -> None:
    """Let what is still to be written go nowhere, so that the interpreter does not fail at its end."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def entry() -> None:
    """The console script."""
    words = sys.argv[1:]
    if words == ["--version"]:  # nothing but the number: the quickest answer that there is
        from vandrel import __version__

        print(f"vandrel {__version__}")
        return
    if sys.stdout is None:  # closed by the caller
        sys.stdout = open(os.devnull, "w", encoding="utf-8")  # noqa: SIM115, PTH123
    for stream in (sys.stdout, sys.stderr):
        # A terminal that cannot show a letter shows a question mark: no reason to fail.
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="replace")
    if isinstance(sys.stdin, io.TextIOWrapper):
        sys.stdin.reconfigure(errors="strict")
    try:
        code = main(words, owns_output=True)
        sys.stdout.flush()
    except BrokenPipeError:
        _let_go()
        code = 0  # the reader has gone, as head does
    except OSError as error:
        _let_go()
        known_error = _system(error)
        print(f"stop  output: {known_error}", file=sys.stderr)
        code = known_error.exit_code
    except KeyboardInterrupt:
        from vandrel.errors import INTERRUPTED

        code = INTERRUPTED
    sys.exit(code)
