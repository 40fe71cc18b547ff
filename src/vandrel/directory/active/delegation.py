"""Tasks delegated to a team on a unit and all below, as access control entries: [MS-DTYP] 2.4.4, [MS-ADTS] 5.1.3.

Each task is a few entries that allow one thing each. A task counts as delegated where all of its entries stand. The
identifiers of classes, attributes, property sets and rights are those of [MS-ADSC], [MS-ADA1] to [MS-ADA3] and
[MS-ADTS] 5.1.3.2.1.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from uuid import UUID

from vandrel.directory.active.descriptor import ALLOW, ALLOW_OBJECT, DENY, DENY_OBJECT, Descriptor, Entry, with_entries

_CREATE_CHILD, _VALIDATED, _WRITE, _RIGHT = 0x01, 0x08, 0x20, 0x100
_HANDED_DOWN, _BELOW_ONLY = 0x02, 0x08  # flags: containers inherit it; it is for what is below alone


def _id(text: str) -> bytes:
    return UUID(text).bytes_le


_USER, _GROUP = _id("bf967aba-0de6-11d0-a285-00aa003049e2"), _id("bf967a9c-0de6-11d0-a285-00aa003049e2")
_COMPUTER = _id("bf967a86-0de6-11d0-a285-00aa003049e2")
_RESET = _id("00299570-246d-11d0-a768-00aa006e0529")
_PASSWORD_SET = _id("bf967a0a-0de6-11d0-a285-00aa003049e2")  # pwdLastSet
_LOCKED = _id("28630ebf-41d5-11d1-a9c1-0000f80367c1")  # lockoutTime
_PERSONAL, _MAIL = _id("77b5b886-944a-11d1-aebd-0000f80367c1"), _id("e45795b2-9455-11d1-aebd-0000f80367c1")
_WEB = _id("e45795b3-9455-11d1-aebd-0000f80367c1")
_HOST, _SERVICES = _id("72e39547-7b18-11d1-adef-00c04fd8d5cd"), _id("f3a64788-5306-11d1-a9c5-0000f80367c1")


def _make(kind: bytes) -> tuple[int, bytes, bytes]:
    """Objects of a class may be made here and below."""
    return _CREATE_CHILD, kind, b""


#: task -> (what is allowed, of what, on objects of which class; none: on the units themselves).
_TASKS: dict[str, tuple[tuple[int, bytes, bytes], ...]] = {
    "reset-passwords": ((_RIGHT, _RESET, _USER), (_WRITE, _PASSWORD_SET, _USER)),
    "unlock": ((_WRITE, _LOCKED, _USER),),
    "edit-contacts": ((_WRITE, _PERSONAL, _USER), (_WRITE, _MAIL, _USER), (_WRITE, _WEB, _USER)),
    "fill-groups": (_make(_GROUP), (_WRITE, b"", _GROUP)),
    "create-accounts": (_make(_USER), (_WRITE, b"", _USER), (_RIGHT, _RESET, _USER)),
    "join-computers": (
        _make(_COMPUTER), (_WRITE, b"", _COMPUTER), (_RIGHT, _RESET, _COMPUTER),
        (_VALIDATED, _HOST, _COMPUTER), (_VALIDATED, _SERVICES, _COMPUTER),
    ),
}  # fmt: skip


def _entries(trustee: str, task: str) -> list[Entry]:
    return [
        Entry(
            ALLOW_OBJECT, _HANDED_DOWN | (_BELOW_ONLY if on else 0), mask, what, on, trustee
        )
        for mask, what, on in _TASKS[task]
    ]  # fmt: skip


def read(descriptor: Descriptor) -> list[str]:
    """What stands in the object's own list: ``SID task`` for each, in the order of identifiers and tasks."""
    own = {e for e in (descriptor.dacl.entries if descriptor.dacl else ()) if not e.inherited}
    return [f"{who} {task}" for who, task in _tasks_held(own)]


#: What of a task lets somebody log on as somebody else, and is denied on an account that is to be out of reach.
_TAKES_OVER: dict[str, tuple[tuple[int, bytes], ...]] = {
    "reset-passwords": ((_RIGHT, _RESET), (_WRITE, _PASSWORD_SET)),
    "create-accounts": ((_RIGHT, _RESET), (_WRITE, b"")),
}


def _denials(trustee: str, task: str) -> list[Entry]:
    """An account's own denials, which go before whatever it is handed down ([MS-DTYP] 2.4.5)."""
    return [Entry(DENY_OBJECT if what else DENY, 0, mask, what, trustee=trustee) for mask, what in _TAKES_OVER[task]]


def shielded_from(descriptor: Descriptor) -> list[str]:
    """From whose tasks a single account is kept: ``SID task`` for each."""
    own = {entry for entry in (descriptor.dacl.entries if descriptor.dacl else ()) if entry.is_own}
    denied = sorted({entry.trustee for entry in own if entry.type == DENY_OBJECT})
    return [f"{who} {task}" for who in denied for task in _TAKES_OVER if own.issuperset(_denials(who, task))]


def shield(descriptor: Descriptor, added: Iterable[str], removed: Iterable[str]) -> Descriptor:
    """The descriptor that keeps the account from these tasks, and from those not any more; nothing else differs."""
    entries = list(descriptor.dacl.entries) if descriptor.dacl else []
    to_lift = [value.split(" ", 1) for value in removed]
    stay = [pair for value in shielded_from(descriptor) if (pair := value.split(" ", 1)) not in to_lift]
    stay += [value.split(" ", 1) for value in added]
    needed = {entry for who, task in stay for entry in _denials(who, task)}
    lifted = {entry for who, task in to_lift for entry in _denials(who, task)} - needed
    new = [entry for who, task in stay for entry in _denials(who, task) if entry not in entries]
    return with_entries(descriptor, [*dict.fromkeys(new), *(entry for entry in entries if entry not in lifted)])


def _tasks_held(own: set[Entry]) -> Iterator[tuple[str, str]]:
    for trustee in sorted({entry.trustee for entry in own if entry.type == ALLOW_OBJECT}):
        for task in _TASKS:
            if own.issuperset(_entries(trustee, task)):
                yield trustee, task


def changed(descriptor: Descriptor, added: Iterable[str], removed: Iterable[str]) -> Descriptor:
    """The descriptor with these tasks delegated, and those taken away; nothing else differs.

    What one task needs and another one that stays needs as well is kept.
    """
    before = descriptor.dacl.entries if descriptor.dacl else ()
    own = {entry for entry in before if not entry.inherited}
    to_lift = {tuple(value.split(" ", 1)) for value in removed}
    come = [value.split(" ", 1) for value in added]
    stay = {pair for pair in _tasks_held(own) if pair not in to_lift} | {(who, task) for who, task in come}
    needed = {entry for who, task in stay for entry in _entries(who, task)}
    lifted = {entry for who, task in to_lift for entry in _entries(who, task)} - needed
    entries = [entry for entry in before if entry.inherited or entry not in lifted]
    new = [entry for who, task in come for entry in _entries(who, task) if entry not in own]
    # [MS-DTYP] 2.4.5: the object's own denials, then what it allows itself, then what is handed down.
    explicit = (DENY, DENY_OBJECT, ALLOW, ALLOW_OBJECT)
    at = next((n for n, e in enumerate(entries) if e.inherited or e.type not in explicit), len(entries))
    return with_entries(descriptor, [*entries[:at], *dict.fromkeys(new), *entries[at:]])
