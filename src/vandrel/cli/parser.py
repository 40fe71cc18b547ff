"""The command line: one parser, from which help, completion and the manual page come."""

from __future__ import annotations

import argparse
import os
import re
import sys
from collections.abc import Iterator, Sequence
from importlib import import_module
from keyword import iskeyword
from typing import Any, NoReturn

from vandrel import __version__
from vandrel.cli import complete
from vandrel.errors import Code, Location, VandrelError

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


#: What the library says of one argument, and of those that are missing.
_OF_ONE = re.compile(r"argument ([^:]+): (.*)", re.DOTALL)
_MISSING = re.compile(r"the following arguments are required: (.*)", re.DOTALL)
#: What it says of how many values an option has, by the beginning, in our words.
_OUR_WORDS = {
    "expected one argument": "a value must follow it", "expected at least one argument": "a value must follow it",
    "ignored explicit argument": "it takes no value",
}  # fmt: skip


class _Parser(argparse.ArgumentParser):
    """Tells what is wrong with a command line as everything else is told."""

    def error(self, message: str) -> NoReturn:
        """Raise a `VandrelError` with what the library has found."""
        about = _OF_ONE.fullmatch(message)
        option, what = about.groups() if about else ("", message)
        what = next((ours for theirs, ours in _OUR_WORDS.items() if what.startswith(theirs)), what)
        if missing := _MISSING.fullmatch(message):
            what = f"more is needed: {' and '.join(self._needed(missing[1].split(', ')))}"
        self.refuse(what, option=option)

    def _needed(self, names: Sequence[str]) -> Iterator[str]:
        """What there must be, in words: of an argument with choices, these."""
        from vandrel.text.nearest import listed

        for action in self._actions:
            name = "/".join(action.option_strings) or str(action.metavar or action.dest)
            if name in names and action.nargs != "*":
                is_command = isinstance(action, argparse._SubParsersAction)
                yield listed(map(str, action.choices)) if action.choices and not is_command else name

    def refuse(self, what: str, *, option: str = "", hint: str = "") -> NoReturn:
        """Raise a `VandrelError` of code ``usage``, which says where help is; `hint` goes before that."""
        remedy = f"{self.prog} --help tells what there is"
        raise VandrelError(
            Code.USAGE, what, where=Location(option=option), remedy=f"{hint} {remedy}" if hint else remedy
        )

    def refuse_unknown(self, words: Sequence[str]) -> NoReturn:
        """Refuse words that mean nothing here: an option that there is not, or more of them than are taken."""
        word = next((word for word in words if word.startswith("-") and word != "-"), "")
        if not word:  # which is not repeated, for it may be a password
            self.refuse(f"{'a word' if len(words) == 1 else f'{len(words)} words'} too many")
        option = word.partition("=")[0]
        self.refuse(f"there is no option {option}", hint=self._meant_by(option))

    def _meant_by(self, option: str) -> str:
        """What somebody may have meant by an option that there is not: a field, or another option."""
        from vandrel.fields import BUILT_IN
        from vandrel.text.nearest import listed, nearest

        name = option.lstrip("-")
        takes_fields = any("FIELD=" in str(action.metavar) for action in self._actions)
        if takes_fields and name in BUILT_IN:
            return f"a field has no hyphens: {name}=...;"
        near = nearest(name, (known[2:] for known in self._option_string_actions if len(known) > 2))
        return f"did you mean {listed(f'--{known}' for known in near)}?" if near else ""

    def _check_value(self, action: argparse.Action, value: Any) -> None:
        """Tell which words there are, and which of them was meant."""
        if action.choices is None or value in action.choices:
            return
        from vandrel.text.nearest import did_you_mean, listed

        hint = did_you_mean(value, action.choices)
        if isinstance(action, argparse._SubParsersAction):
            self.refuse(f"there is no command {value!r}", hint=hint)
        choices, option = listed(map(str, action.choices)), "/".join(action.option_strings)
        if option == "--password":  # somebody's, very likely
            self.refuse(f"this is none of {choices}", option=option, hint="a password never stands in a command line;")
        self.refuse(f"{value!r} is none of {choices}", option=option, hint=hint)


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


def build_parser(only: str = "") -> _Parser:
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
        added.set_defaults(
            run=command.run, command=command.NAME, parser=added, words_go_to=listed[-1] if listed else ""
        )
    if "_ARGCOMPLETE" in os.environ:
        import argcomplete

        argcomplete.autocomplete(parser)
    return parser


def parse(words: Sequence[str]) -> argparse.Namespace:
    """Read a command line.

    Raises:
        VandrelError: ``usage`` for one that cannot be read.

    """
    if words[:1] == ["help"]:  # whoever thinks of a word first finds the option
        words = [*words[1:2], "--help"]
    parser = build_parser(words[0] if words else "")
    first = words[0].partition("=")[0] if words else ""
    if first.startswith("-") and first not in parser._option_string_actions:
        parser.refuse(f"{first} stands before the command", hint=f"write it behind: vandrel COMMAND ... {first};")
    args, unknown = parser.parse_known_args(words)
    if unknown and (not args.words_go_to or any(word.startswith("-") and word != "-" for word in unknown)):
        args.parser.refuse_unknown(unknown)
    if unknown:
        setattr(args, args.words_go_to, [*getattr(args, args.words_go_to), *unknown])
    return args
