"""The values of our fields as a request gives them: read, resolved, and checked against the charter."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from contextlib import suppress
from datetime import date
from pathlib import Path
from typing import get_args

from vandrel.charter.document import Task
from vandrel.charter.name_limits import NAME_LIMITS
from vandrel.errors import NOTE, STOP, Code, Finding, Location, Severity, VandrelError
from vandrel.fields import ACCOUNT, GROUP, Field, Shape, Topic
from vandrel.jobs.common.assignments import flag
from vandrel.jobs.common.resolve import resolve
from vandrel.objects.context import Context
from vandrel.text import addresses, octets, week
from vandrel.text.look_alikes import oddities
from vandrel.text.nearest import did_you_mean
from vandrel.text.string_prep import prepare


def read(context: Context, field: Field, values: Sequence[str], object_type: str) -> list[str]:
    """The values of one field in the form that dialects take: names resolved, words of lists spelled as listed.

    Raises:
        VandrelError: ``bad-value``, ``not-found``, ``ambiguous``.

    """
    match field.shape:
        case Shape.FLAG:
            return [flag(field.name, value) for value in values]
        case Shape.DATE:
            return [_date(field.name, value) for value in values]
        case Shape.REFERENCE:
            return [str(resolve(context, value).dn) for value in values]
        case Shape.MEMBERSHIPS:
            return [str(resolve(context, value, (GROUP,)).dn) for value in values]
        case Shape.NUMBER:
            return [_number(field, value) for value in values]
        case Shape.OCTETS:
            return [_file(field, value) for value in values]
    if field.name == "delegation":
        return [task for value in values for task in _tasks(context, value)]
    if field.name == "hours":
        return [week.to_text(week.parse(value)) for value in values]
    if field.name in ("purpose", "scope"):
        values = [_one_of(field.name, value, _WORDS[field.name]) for value in values]
    words = context.charter.words_of(field.name)
    if words is not None:
        values = [_one_of(field.name, value, words) for value in values]
    stripped = [value.strip() for value in values]
    return addresses.normal(stripped) if field.name == "alias" else stripped


_WORDS = {"purpose": ["security", "distribution"], "scope": ["global", "domain-local", "universal"]}


#: The years that all directories keep: [MS-DTYP] 2.3.3 begins with 1601; the day after the last must exist as well.
_YEARS = range(1602, 9999)


def _how_to_write(field: str, value: str) -> str:
    """How a day is written here; the very day that was meant, where it was written the other way round with points."""
    with suppress(ValueError):  # no numbers, or no day of the calendar
        day, month, year = map(int, value.split("."))
        return f"write {field}={date(year, month, day).isoformat()}"
    return f"a day is written so: {field}=2026-12-31"


def _date(field: str, value: str) -> str:
    try:
        day = date.fromisoformat(value)
    except ValueError:
        what = f"{field} is a day, and {value!r} is none"
        raise VandrelError(
            Code.BAD_VALUE, what, where=Location(field=field), remedy=_how_to_write(field, value)
        ) from None
    if day.year not in _YEARS:
        what = f"{field} is a day that no directory keeps: {value}"
        raise VandrelError(Code.BAD_VALUE, what, where=Location(field=field), remedy=f"for no day at all: {field}=")
    return day.isoformat()


def _tasks(context: Context, value: str) -> list[str]:
    """A team and its tasks, parted by commas or blanks: ``team: task`` for each, the team by its exact name."""
    team, colon, tasks = value.rpartition(":")
    choices = get_args(Task)
    words = tasks.replace(",", " ").split() or [""]
    if unknown := [word for word in words if not colon or word not in choices]:
        remedy = did_you_mean(unknown[0], choices) if colon else ""
        remedy = remedy or f"write GROUP:TASK or GROUP:TASK,TASK; the tasks are {', '.join(choices)}"
        raise VandrelError(
            Code.BAD_VALUE, f"{value!r} is no team and task", where=Location(field="delegation"), remedy=remedy
        )
    name = resolve(context, team, (GROUP,)).dn.name
    return [f"{name}: {word}" for word in words]


def _number(field: Field, value: str) -> str:
    if value.isascii() and value.isdecimal() and len(value) <= _DIGITS:
        return str(int(value))
    raise VandrelError(
        Code.BAD_VALUE,
        f"{field.name} is a whole number of {field.unit}, and {value!r} is none",
        where=Location(field=field.name),
        remedy=f"write {field.name}=30, or {field.name}= to clear it",
    )


def _file(field: Field, path: str) -> str:
    """What a file holds, as text.

    Raises:
        VandrelError: ``bad-value`` where it cannot be read, or holds more than any photograph.

    """
    try:
        with Path(path).open("rb") as source:
            value = source.read(_LARGEST + 1)
    except OSError as error:
        raise VandrelError(
            Code.BAD_VALUE,
            f"the file cannot be read: {error.strerror}",
            where=Location(file=path),
            remedy=f"write {field.name}=FILE",
        ) from None
    if len(value) > _LARGEST:
        raise VandrelError(Code.BAD_VALUE, f"{path} has more than {_LARGEST:,} bytes", where=Location(field=field.name))
    return octets.to_text(value)


def _one_of(field: str, value: str, words: Sequence[str]) -> str:
    for word in words:
        if prepare(word) == prepare(value):
            return word
    raise VandrelError(
        Code.BAD_VALUE, f"{value!r} is no {field} of the charter", where=Location(field=field),
        remedy=did_you_mean(value, words) or f"there are: {', '.join(words)}",
    )  # fmt: skip


#: More than this is no photograph of a person, and no number of minutes.
_LARGEST, _DIGITS = 10_000_000, 5

#: Names that people type to log on, and that others tell them by.
_LOGGED_ON_WITH = ("login", "principal", "mail")
#: Joiners that names in some scripts need, though they do not show.
_JOINERS = "\u200c\u200d"


def _controls(field: str, value: str) -> bool:
    """Whether a value has characters that do not print; notes may have several lines."""
    allowed = _JOINERS + ("\n\t" if field == "notes" else "")
    return not value.isprintable() and any(not (char.isprintable() or char in allowed) for char in value)


def contradictions(flags: Mapping[str, Sequence[str]]) -> list[Finding]:
    """Settings of a password that exclude each other: a forced change, and a ban on changing or unlimited validity."""
    if list(flags.get("change", ())) != ["yes"]:
        return []
    reasons = {"password-fixed": "its owner may not change it", "password-never-expires": "it never has to be changed"}
    return [
        Finding(
            Code.BAD_VALUE, f"a change at the next logon is demanded, and {why} ({name})", Location(field="change"),
            f"take one back: change=no, or {name}=no",
        )
        for name, why in reasons.items() if list(flags.get(name, ())) == ["yes"]
    ]  # fmt: skip


def _misshapen(context: Context, field: Field, value: str) -> str:
    """What is wrong with the shape of a value, for fields that have one."""
    own = context.charter.document.fields.get(field.name)
    if own is not None and own.form and not re.fullmatch(own.form, value):
        return f"does not have the form {own.form} of the charter"
    if field.name in ("drive", "remote-drive") and not re.fullmatch(r"[A-Za-z]:", value):
        return "is a letter and a colon, as H:, and this is none"
    if field.name == "dial-in-address" and not _is_ipv4(value):
        return "is an address as 192.0.2.7, and this is none"
    if field.name == "recovery-mail":
        return NAME_LIMITS["mail"].fault(value)
    return ""


def _is_ipv4(value: str) -> bool:
    from ipaddress import IPv4Address

    try:
        IPv4Address(value)
    except ValueError:
        return False
    return True


def _octets(context: Context, field: Field, values: Sequence[str], object_type: str) -> list[Finding]:
    """What speaks against a photograph: no JPEG, or more bytes than the schema takes."""
    attribute, most = context.dialect.attribute(field.name, object_type), context.charter.document.photo_limit
    findings = []
    for value in map(octets.from_text, values):
        if not octets.is_jpeg(value):
            what = f"{field.name} is a JPEG file, and this is none ({len(value):,} bytes)"
            findings.append(Finding(Code.BAD_VALUE, what, Location(field=field.name)))
        elif len(value) > most:
            what = f"{field.name} takes {most:,} bytes by the charter, and this file has {len(value):,}"
            findings.append(
                Finding(
                    Code.BAD_VALUE, what, Location(field=field.name), f"make it smaller by {len(value) - most:,} bytes"
                )
            )
        elif attribute and (
            finding := context.directory.schema.check_value(attribute, value, Location(field=field.name))
        ):
            findings.append(finding)
    return findings


def check(context: Context, field: Field, values: Sequence[str], object_type: str) -> list[Finding]:
    """What the charter and the limits of a field have against its values."""
    findings = []
    if not field.many and len(values) > 1:
        findings.append(_wrong(field, f"{field.name} takes one value, and {len(values)} are given"))
    if field.shape is Shape.OCTETS:
        return _octets(context, field, values, object_type)
    for value in values:
        if why := _not_legal(context, field, value, object_type):
            findings.append(_wrong(field, f"{field.name} {why}: {value!r}"))
        elif field.name == "principal":
            findings += _suffix(context, field, value)
        if field.name in _LOGGED_ON_WITH:
            findings += [_wrong(field, f"{value}: {odd}", severity=NOTE) for odd in oddities(value)]
        if field.name == "kind" and object_type == ACCOUNT and value not in (kinds := context.charter.document.kinds):
            what = f"there is no kind of account {value!r}"
            findings.append(_wrong(field, what, did_you_mean(value, kinds), Code.UNKNOWN_KIND))
        if field.name == "hours" and value not in ("all", "none") and (late := context.dialect.hours_late):
            what = (
                f"the server keeps whole hours of UTC: by the clock, each of these begins and ends {late} minutes later"
            )
            findings.append(_wrong(field, what, severity=NOTE))
        if (later := context.dialect.means_later(field.name, value))[0]:
            what = f"the server keeps hours in UTC: from {later[1]} on, by the clock, these will be {later[0]}"
            findings.append(_wrong(field, what, f"set them again that day: {value}", severity=NOTE))
        if field.name == "back" and value < context.charter.today().isoformat():
            findings.append(_wrong(field, f"the day of return lies behind: {value}", "name a day to come"))
        if field.name == "password-reversible" and value == "yes":
            what = "whoever reads the server's database can then read the password"
            findings.append(_wrong(field, what, "leave it, unless a program needs it", Code.REFUSED, NOTE))
    attribute = context.dialect.attribute(field.name, object_type)
    if attribute and field.shape is Shape.TEXT:
        schema, where = context.directory.schema, Location(field=field.name)
        checked = (schema.check_value(attribute, each, where) for each in context.dialect.stored(field.name, values))
        findings += [finding for finding in checked if finding]
    return findings


def _wrong(
    field: Field, what: str, remedy: str = "", code: Code = Code.BAD_VALUE, severity: Severity = STOP
) -> Finding:
    return Finding(code, what, Location(field=field.name), remedy, severity)


def _not_legal(context: Context, field: Field, value: str, object_type: str) -> str:
    """Why a value is too long, misshapen or not to be printed; empty when it is legal."""
    limited = {"name": object_type if object_type in NAME_LIMITS else "name", "alias": "mail"}
    limit = NAME_LIMITS.get(limited.get(field.name, field.name))
    if limit is None or (field.name == "alias" and addresses.split(value)[0]):
        why = _misshapen(context, field, value)
    else:
        why = limit.fault(value)
    return why or ("may not have characters that do not print" if _controls(field.name, value) else "")


def _suffix(context: Context, field: Field, value: str) -> list[Finding]:
    """What is wrong with the part of a principal name behind the ``@``."""
    suffix, suffixes = value.rpartition("@")[2], context.charter.document.suffixes
    findings = []
    if suffix not in suffixes:
        hint = did_you_mean(suffix, suffixes) or f"the charter has: {', '.join(suffixes)}"
        findings.append(_wrong(field, f"{suffix!r} is none of the charter's suffixes", hint))
    if unregistered := context.unregistered_suffix(value):
        what = f"{unregistered} is no suffix that is registered on the server, so other programs will not offer it"
        remedy = f"vandrel suffixes register {suffix}, or take another one"
        findings.append(_wrong(field, what, remedy, severity=NOTE))
    return findings


#: Text fields of which `read` or `check` wants to know more than that they are text of the right length.
_CLOSER = frozenset(
    "alias hours purpose scope delegation drive remote-drive dial-in-address recovery-mail kind".split()
)


def plain(context: Context, field: Field, object_type: str) -> str:
    """The attribute of a field whose values need no closer look than its schema's; else an empty string.

    What `vandrel.directory.schema.Schema.passes` there, `read` leaves as it is, and `check` has nothing against.
    """
    closer = (
        field.name in _CLOSER
        or field.name in NAME_LIMITS
        or context.charter.words_of(field.name) is not None
        or field.topic is Topic.OWN
    )
    attribute = context.dialect.attribute(field.name, object_type)
    if field.shape is not Shape.TEXT or closer or not attribute:
        return ""
    return attribute
