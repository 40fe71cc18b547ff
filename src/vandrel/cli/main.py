"""The program's entry: reads the command line, runs one command, turns every error into words and an exit code."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence


def main(words: Sequence[str]) -> int:
    """Run one command line and return its exit code."""
    from vandrel.cli.parser import build_parser
    from vandrel.cli.session import Session
    from vandrel.errors import DONE, INTERRUPTED, VandrelError

    parser = build_parser(words[0] if words else "")
    args = parser.parse_args(words)
    session = Session(args, words)
    try:
        return int(args.run(session) or DONE)
    except VandrelError as error:
        candidates = getattr(error, "candidates", None)
        if candidates and not session.out.as_json:
            from vandrel.cli.candidates import show

            sys.stdout.flush()
            show(candidates)
        session.out.error(error)
        return error.exit_code
    except KeyboardInterrupt:
        print("\nInterrupted. What was made is in the journal: vandrel journal", file=sys.stderr)
        return INTERRUPTED


def entry() -> None:
    """The console script."""
    words = sys.argv[1:]
    if words == ["--version"]:  # nothing but the number: the quickest answer that there is
        from vandrel import __version__

        print(f"vandrel {__version__}")
        return
    try:
        code = main(words)
        sys.stdout.flush()
    except BrokenPipeError:
        # The reader has gone, as head does: no traceback at the end either.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        code = 0
    except KeyboardInterrupt:
        code = 130
    sys.exit(code)
