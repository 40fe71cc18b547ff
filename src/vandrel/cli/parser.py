"""The command line: one parser, from which help, completion and the manual page come."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence
from importlib import import_module
from keyword import iskeyword
from typing import NoReturn

from vandrel import __version__
from vandrel.cli import complete

#: In the order of help: what is there, what is changed, what is designed, what was done, and the program itself.
#: Each is a module of this package.
COMMANDS = (
    "show", "find", "tree", "compare", "logon", "create", "copy", "import", "reconcile", "series", "invent", "edit",
    "reset", "unlock", "disable", "enable", "due", "rename", "handover", "leave", "move", "protect", "release",
    "delete", "attic", "restore", "purge", "snapshot", "roles", "audit", "chart", "suffixes", "ready", "synchronize",
    "guests", "seats", "undo", "hierarchy", "charter", "probe", "journal", "resume", "export", "load", "backup",
    "unpack", "verify", "demo", "stand-in", "completion", "manual",
)  # fmt: skip

DESCRIPTION = "Accounts, groups and units of a directory, by an organization's own house rules."

EPILOG = """\
examples:
  vandrel demo ferry                          make a folder to try everything in
  vandrel show mueller                        one person, from a fragment of the name
  vandrel create crew "Anna Lund" number=2041 site=Northquay department=Deck category=Hands
  vandrel edit alund title="Second mate" phone+="+47 5555 0100"

`vandrel COMMAND --help` has examples for each command. The charter is looked for in this folder and above.
"""


class _Parser(argparse.ArgumentParser):
    """Repeats nothing of a command line that could drive the terminal."""

    def error(self, message: str) -> NoReturn:
        from vandrel.cli.terminal import clean

        super().error(clean(message))


class _Formatter(argparse.RawDescriptionHelpFormatter):
    def __init__(self, prog: str) -> None:
        width = min(110, int(os.environ.get("COLUMNS") or 0) or _columns())
        super().__init__(prog, max_help_position=30, width=width)
        self._action_max_length = 14  # the longest command, indented: argparse forgets to count the indent


def _columns() -> int:
    try:
        return os.get_terminal_size(sys.stdout.fileno()).columns - 2
    except (OSError, ValueError, AttributeError):
        return 110


def common_options() -> _Parser:
    """Options that every command takes."""
    parser = _Parser(add_help=False)
    group = parser.add_argument_group("common options")
    group.add_argument("--charter", metavar="FILE", help="the charter (default: charter.yaml here or above)")
    which = group.add_argument(
        "--directory", metavar="WHICH",
        help="a file, the name of a connection, or an LDAP URL (default: directory.db beside the charter)",
    )  # fmt: skip
    complete.attach(which, complete.connections)
    who = group.add_argument("--who", metavar="WHO", help="another identity of the connection, or a name to bind with")
    complete.attach(who, complete.identities)
    group.add_argument("--json", action="store_true", help="one JSON object instead of text (docs/json.md)")
    group.add_argument("-q", "--quiet", action="store_true", help="print only what was asked for")
    group.add_argument("--no-color", action="store_true", help="no colours (also: the variable NO_COLOR)")
    return parser


def writing_options() -> _Parser:
    """Options of every command that changes something."""
    parser = _Parser(add_help=False)
    group = parser.add_argument_group("options of every change")
    group.add_argument("-n", "--dry-run", action="store_true", help="work everything out, show it, change nothing")
    group.add_argument("-y", "--yes", action="store_true", help="do not ask")
    return parser


def build_parser(only: str = "") -> argparse.ArgumentParser:
    """The command line: of every command, or, for speed, of the one that is called `only`."""
    parser = _Parser(
        prog="vandrel", description=DESCRIPTION, epilog=EPILOG, formatter_class=_Formatter, allow_abbrev=False
    )
    parser.add_argument("--version", action="version", version=f"vandrel {__version__}")
    commands = parser.add_subparsers(title="commands", metavar="COMMAND", required=True)
    common, writing = common_options(), writing_options()
    for name in [only] if only in COMMANDS else COMMANDS:
        module = f"{name}_" if iskeyword(name) else name.replace("-", "_")
        command = import_module(f"vandrel.cli.commands.{module}")
        parents = [common, writing] if command.WRITES else [common]
        added = commands.add_parser(
            command.NAME, help=command.HELP, description=command.DESCRIPTION, epilog="examples:\n" + command.EXAMPLES,
            parents=parents, formatter_class=_Formatter, allow_abbrev=False,
        )  # fmt: skip
        command.configure(added)
        # Words that come after an option belong to those before it, which argparse does not see to.
        listed = [action.dest for action in added._positionals._group_actions if action.nargs in ("*", "+")]
        added.set_defaults(run=command.run, command=command.NAME, words_go_to=listed[-1] if listed else "")
    if "_ARGCOMPLETE" in os.environ:
        import argcomplete

        argcomplete.autocomplete(parser)
    return parser


def parse(words: Sequence[str]) -> argparse.Namespace:
    """Read a command line; one that cannot be read ends the program with exit code 2."""
    parser = build_parser(words[0] if words else "")
    args, unknown = parser.parse_known_args(words)
    if unknown and (not args.words_go_to or any(word.startswith("-") and word != "-" for word in unknown)):
        parser.error(f"unrecognized arguments: {' '.join(unknown)}")
    if unknown:
        setattr(args, args.words_go_to, [*getattr(args, args.words_go_to), *unknown])
    return args
