"""``vandrel charter``: check it, begin one, put out its schema, try its names, infer conventions."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel import file_names
from vandrel.cli.session import Session, count

if TYPE_CHECKING:
    from vandrel.jobs.audit.infer import Inferred

NAME = "charter"
HELP = "the house rules: check, begin, explain, infer"
DESCRIPTION = """\
Work on the charter, the file of house rules (docs/charter.md).

  check    name every fault in it, with line and column
  new      write a charter to start from
  schema   put out its JSON Schema, for editors
  kinds    list the kinds of account, with what each requires
  names    show what its patterns make of a person's name, every rung of each ladder
  infer    say which patterns the names of the directory's accounts follow, and which are exceptions"""
EXAMPLES = """\
  vandrel charter check
  vandrel charter kinds
  vandrel charter new --organization "Skelling Boatyard" --domain skelling.example
  vandrel charter schema > charter.schema.json
  vandrel charter names crew "Jörg Müller-Lüdenscheidt" language=de number=2041
  vandrel charter infer login mail
"""
WRITES = False

_SHOWN = 8

ACTIONS = ("check", "new", "schema", "kinds", "names", "infer")


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("action", choices=ACTIONS, help="what to do")
    parser.add_argument(
        "words",
        nargs="*",
        metavar="WORD",
        help="for new: the file; for names: kind, name and fields; for infer: fields",
    )
    parser.add_argument("--organization", metavar="NAME", help="new: name of the organization")
    parser.add_argument(
        "--domain", metavar="DOMAIN", help="new: its domain; the base and the first suffix follow from it"
    )


def run(session: Session) -> int:
    actions = {"check": _check, "new": _new, "schema": _schema, "kinds": _kinds, "names": _names, "infer": _infer}
    return actions[session.args.action](session)


def _check(session: Session) -> int:
    from vandrel.charter.load import load

    charter = load(session.charter_path, fresh=True)
    document = charter.document
    parts = [
        count(len(document.kinds), "kind") + " of account", count(len(document.groups), "kind") + " of group",
        count(len(charter.design), "unit"), count(len(document.suffixes), "suffix").replace("suffixs", "suffixes"),
    ]  # fmt: skip
    if session.out.as_json:
        session.out.json({"command": "charter check", "charter": str(session.charter_path), "faults": []})
    session.out.line(f"{session.charter_path}: no faults. {', '.join(parts)}.")
    return 0


def _new(session: Session) -> int:
    from importlib import resources

    from vandrel.charter.name_limits import is_suffix
    from vandrel.errors import Code, Location, VandrelError

    args = session.args
    path = Path(args.words[0] if args.words else file_names.CHARTER)
    domain = args.domain or "example.com"
    if not is_suffix(domain):
        raise VandrelError(
            Code.BAD_VALUE,
            f"{domain!r} is no domain",
            where=Location(option="--domain"),
            remedy="write one as skelling.example",
        )
    text = resources.files("vandrel.charter").joinpath("starter.yaml").read_text("utf-8")
    base = ",".join(f"dc={label}" for label in domain.split("."))
    organization = (args.organization or "Our Organization").replace("\\", "\\\\").replace('"', '\\"')
    text = text.replace("$organization", f'"{organization}"').replace("$base", base).replace("$domain", domain)
    try:
        with path.open("x", encoding="utf-8") as file:
            file.write(text)
    except FileExistsError:
        raise VandrelError(
            Code.TAKEN, "there is a charter already, and it is not overwritten", where=Location(file=str(path))
        ) from None
    except OSError as error:
        raise VandrelError(
            Code.NOT_PERMITTED, f"the charter cannot be written: {error.strerror}", where=Location(file=str(path))
        ) from None
    session.out.line(f"{path} is written. Make it yours, then: vandrel charter check, vandrel hierarchy build")
    return 0


def _schema(session: Session) -> int:
    from vandrel.charter.document import json_schema

    session.out.json(json_schema())
    return 0


def _kinds(session: Session) -> int:
    """Every kind with what it requires, so that nobody finds out by being refused."""
    kinds = session.charter.document.kinds
    if session.out.as_json:
        found = {
            name: {"about": kind.about, "requires": kind.requires, "place": kind.place} for name, kind in kinds.items()
        }
        session.out.json({"command": "charter kinds", "kinds": found})
        return 0
    rows = [(name, ", ".join(kind.requires), kind.place, kind.about) for name, kind in kinds.items()]
    session.out.table(("kind", "requires", "place", "about"), rows)
    return 0


def _names(session: Session) -> int:
    """Every name of every rung for one person; nothing is looked up but the charter."""
    from itertools import islice

    from vandrel.errors import Code, VandrelError
    from vandrel.fields import FIELDS, NAMED
    from vandrel.jobs.common import assignments
    from vandrel.text.people import initials, split_full_name

    plain, given = assignments.split(session.args.words)
    if not plain:
        raise VandrelError(Code.USAGE, "which kind?", remedy='vandrel charter names KIND "Anna Lund" FIELD=VALUE')
    kind, *words = plain
    spec = session.charter.kind(kind)
    person = split_full_name(" ".join(words), session.charter.particles)
    values = {
        **dict.fromkeys(FIELDS, ""), "given": person.given, "middle": person.middle, "surname": person.surname,
        "generation": person.generation, "suffix": spec.suffix or session.charter.document.suffixes[0],
        "domain": session.charter.domain, "year": str(session.charter.today().year),
        "language": session.charter.document.language,
        **{a.field: a.values[0] for a in given if a.values},
    }  # fmt: skip
    values["initials"] = values["initials"] or initials(values["given"], values["middle"], values["surname"])
    rules = {target: session.charter.naming(target, kind) for target in NAMED}
    rows: dict[str, list[tuple[str, str, str]]] = {}
    todo = list(NAMED)
    while todo:
        target = next((t for t in todo if not rules[t].fields() & (set(todo) - {t})), todo[0])
        todo.remove(target)
        found = [c for c in islice(rules[target].candidates(values), 12) if c.count is None or c.count <= 3]
        values[target] = found[0].value if found else ""
        rows[target] = [(c.value, f"{c.rung}", c.pattern) for c in found] or [("(nothing is left)", "", "")]
    if session.out.as_json:
        session.out.json({"command": "charter names", "names": {t: [row[0] for row in rows[t]] for t in NAMED}})
        return 0
    session.out.table(
        ("field", "name", "rung", "pattern"),
        [(target if number == 0 else "", *row) for target in NAMED for number, row in enumerate(rows[target])],
    )
    return 0


def _infer(session: Session) -> int:
    from vandrel.errors import Code, Location, VandrelError
    from vandrel.fields import NAMED
    from vandrel.jobs.audit.infer import infer
    from vandrel.text.nearest import did_you_mean

    context = session.context
    targets = session.args.words or ["login", "principal", "mail", "full", "display"]
    for target in targets:
        if target not in NAMED:
            raise VandrelError(
                Code.UNKNOWN_FIELD,
                f"{target!r} is no name that patterns build",
                where=Location(field=target),
                remedy=did_you_mean(target, NAMED) or f"there are: {', '.join(NAMED)}",
            )
    accounts = context.directory.search(context.charter.base, where=context.dialect.filter_for("account"))
    entries = [entry for entry in accounts if not context.dialect.is_servers_own(entry)]
    found = [infer(context, entries, target) for target in targets]
    if session.out.as_json:
        session.out.json({"command": "charter infer", "names": [_as_json(item) for item in found]})
        return 0
    for number, item in enumerate(found):
        if number:
            session.out.line()
        _show(session, item)
    return 0


def _show(session: Session, item: Inferred) -> None:
    share = f"{100 * item.conforming / item.accounts:.0f} %" if item.accounts else "none"
    session.out.heading(f"{item.target}: {item.conforming} of {count(item.accounts, 'account')} conform ({share})")
    session.out.table(
        ("accounts", "pattern"), [(f"  {rung.accounts}", rung.pattern) for rung in item.rungs], header=False
    )
    if item.exceptions:
        more = f", the first {_SHOWN}" if len(item.exceptions) > _SHOWN else ""
        session.out.line(f"  {count(len(item.exceptions), 'exception')}{more}:")
        rows = [
            (f"    {name}", f"{entry.dn.name} in {session.context.place(entry.dn.parent)}")
            for entry, name in item.exceptions
        ]
        session.out.table(("name", "of"), rows[:_SHOWN], header=False)


def _as_json(item: Inferred) -> dict[str, object]:
    return {
        "field": item.target,
        "accounts": item.accounts,
        "ladder": [{"pattern": rung.pattern, "accounts": rung.accounts} for rung in item.rungs],
        "exceptions": [{"dn": str(entry.dn), "name": name} for entry, name in item.exceptions],
    }
