"""Security descriptors in self-relative form: [MS-DTYP] 2.4.6, with their lists (2.4.5) and entries (2.4.4).

What is read is written again octet by octet; entries of a type that is not known here are kept as they are.
"""

from __future__ import annotations

import struct
from uuid import UUID

from msgspec import Struct, structs

from vandrel.directory.active import sid

# ACE types (2.4.4.1): allow and deny, plain and for one property, child class or extended right.
ALLOW, DENY, ALLOW_OBJECT, DENY_OBJECT = 0x00, 0x01, 0x05, 0x06
# Flags (2.4.4.1): for what is below alone; handed down by what is above.
INHERIT_ONLY, INHERITED = 0x08, 0x10

# Rights: [MS-ADTS] 5.1.3.2.
DELETE, DELETE_TREE, DELETE_CHILD, EXTENDED_RIGHT = 0x00010000, 0x00000040, 0x00000002, 0x00000100
#: The extended right "Change Password": [MS-ADTS] 5.1.3.2.1.
CHANGE_PASSWORD = UUID("ab721a53-1e2f-11d0-9819-00aa0040529b").bytes_le

_HAS_TYPE, _HAS_INHERITED_TYPE = 0x1, 0x2
# Control (2.4.6): there is a discretionary list; nothing is handed down into it; the form that travels.
_DACL_PRESENT, _DACL_PROTECTED, _SELF_RELATIVE = 0x0004, 0x1000, 0x8000
_PARTS = ("owner", "group", "sacl", "dacl")


class Entry(Struct, frozen=True):
    """One access control entry. ``trustee`` is a SID; ``body`` holds what follows it, or all of an unknown type."""

    type: int
    flags: int
    mask: int = 0
    object: bytes = b""
    inherited_object: bytes = b""
    trustee: str = ""
    body: bytes = b""

    @property
    def inherited(self) -> bool:
        """Whether the entry was handed down from above."""
        return bool(self.flags & INHERITED)

    @property
    def is_own(self) -> bool:
        """Whether the entry is the object's own and holds for the object itself."""
        return not self.flags & (INHERITED | INHERIT_ONLY)


class Acl(Struct, frozen=True):
    """An access control list; ``rest`` is room behind its last entry that the size counts in."""

    revision: int
    entries: tuple[Entry, ...]
    rest: bytes = b""


class Descriptor(Struct, frozen=True):
    """A security descriptor; ``order`` is the order in which its parts lie in the octets."""

    control: int
    owner: str = ""
    group: str = ""
    sacl: Acl | None = None
    dacl: Acl | None = None
    resource_manager: int = 0
    order: tuple[str, ...] = _PARTS


def decode(octets: bytes) -> Descriptor:
    """Read a descriptor.

    Raises:
        ValueError: the octets are no self-relative security descriptor.

    """
    try:
        revision, manager, control, *offsets = struct.unpack_from("<BBHIIII", octets)
        if revision != 1 or not control & _SELF_RELATIVE:
            raise ValueError("not a self-relative security descriptor")
        present = {name: offset for name, offset in zip(_PARTS, offsets, strict=True) if offset}
        order = tuple(sorted(present, key=present.__getitem__))
        parts: dict[str, object] = {}
        for name, offset in present.items():
            if name in ("owner", "group"):
                parts[name] = sid.to_text(octets[offset : offset + sid.length(octets[offset : offset + 2])])
            else:
                parts[name] = _acl(octets[offset:])
    except (struct.error, IndexError) as error:
        raise ValueError(f"not a security descriptor: {error}") from None
    return Descriptor(control, resource_manager=manager, order=order, **parts)  # type: ignore[arg-type]


def encode(descriptor: Descriptor) -> bytes:
    """The octets of a descriptor."""
    offsets, body = dict.fromkeys(_PARTS, 0), b""
    for name in descriptor.order:
        part = getattr(descriptor, name)
        offsets[name] = 20 + len(body)
        body += _acl_octets(part) if isinstance(part, Acl) else sid.from_text(part)
    head = struct.pack("<BBHIIII", 1, descriptor.resource_manager, descriptor.control, *offsets.values())
    return head + body


def _acl(octets: bytes) -> Acl:
    revision, _, size, count, _ = struct.unpack_from("<BBHHH", octets)
    entries, at = [], 8
    for _ in range(count):
        kind, flags, length = struct.unpack_from("<BBH", octets, at)
        if length < 4 or at + length > size:
            raise ValueError("an access control entry does not fit its list")
        entries.append(_entry(kind, flags, octets[at + 4 : at + length]))
        at += length
    return Acl(revision, tuple(entries), octets[at:size])


def _entry(kind: int, flags: int, body: bytes) -> Entry:
    if kind not in (ALLOW, DENY, ALLOW_OBJECT, DENY_OBJECT):
        return Entry(kind, flags, body=body)
    mask, at, types = struct.unpack_from("<I", body)[0], 4, [b"", b""]
    if kind in (ALLOW_OBJECT, DENY_OBJECT):
        present = struct.unpack_from("<I", body, 4)[0]
        at = 8
        for number, bit in enumerate((_HAS_TYPE, _HAS_INHERITED_TYPE)):
            if present & bit:
                types[number] = body[at : at + 16]
                at += 16
    end = at + sid.length(body[at : at + 2])
    return Entry(kind, flags, mask, types[0], types[1], sid.to_text(body[at:end]), body[end:])


def _acl_octets(acl: Acl) -> bytes:
    entries = b"".join(map(_entry_octets, acl.entries)) + acl.rest
    return struct.pack("<BBHHH", acl.revision, 0, 8 + len(entries), len(acl.entries), 0) + entries


def _entry_octets(entry: Entry) -> bytes:
    body = entry.body
    if entry.trustee:
        types = b""
        if entry.type in (ALLOW_OBJECT, DENY_OBJECT):
            present = _HAS_TYPE * bool(entry.object) | _HAS_INHERITED_TYPE * bool(entry.inherited_object)
            types = struct.pack("<I", present) + entry.object + entry.inherited_object
        body = struct.pack("<I", entry.mask) + types + sid.from_text(entry.trustee) + body
    return struct.pack("<BBH", entry.type, entry.flags, 4 + len(body)) + body


# --- what Vandrel means to say with a descriptor

_SHIELD = Entry(DENY, 0, DELETE | DELETE_TREE, trustee=sid.EVERYONE)
_GUARD = Entry(DENY, 0, DELETE_CHILD, trustee=sid.EVERYONE)
_NO_CHANGE = tuple(
    Entry(DENY_OBJECT, 0, EXTENDED_RIGHT, CHANGE_PASSWORD, trustee=who) for who in (sid.SELF, sid.EVERYONE)
)


def is_protected(descriptor: Descriptor) -> bool:
    """Whether everybody is denied to delete the object: entries of its own, not handed down."""
    return bool(_denied(descriptor) & DELETE)


def _denied(descriptor: Descriptor) -> int:
    """The rights that the object's own list denies everybody."""
    denied = 0
    for entry in _own(descriptor):
        if entry.type == DENY and entry.trustee == sid.EVERYONE:
            denied |= entry.mask
    return denied


def protect(descriptor: Descriptor, is_on: bool) -> Descriptor:
    """The descriptor with deletion denied to everybody, or with that taken away; nothing else differs."""
    if is_on == is_protected(descriptor):
        return descriptor
    if is_on:
        return _with_denials(descriptor, (_SHIELD,))
    return _without(descriptor, _SHIELD.mask)


def is_guarding(descriptor: Descriptor) -> bool:
    """Whether everybody is denied to delete the object's children by the right to delete children alone."""
    return bool(_denied(descriptor) & DELETE_CHILD)


def guard_children(descriptor: Descriptor, is_on: bool) -> Descriptor:
    """The descriptor of a superior under which a protected object is safe, or that without the denial.

    [MS-ADTS] 3.1.1.5.5: whoever may delete the children of the superior needs no right on the object itself. With
    this entry, what is not protected can still be deleted by those who have the right on it.
    """
    if is_on == is_guarding(descriptor):
        return descriptor
    return _with_denials(descriptor, (_GUARD,)) if is_on else _without(descriptor, _GUARD.mask)


def _without(descriptor: Descriptor, mask: int) -> Descriptor:
    """The descriptor in which its own list denies everybody none of these rights any more."""
    remaining = []
    for entry in _entries(descriptor):
        bare = entry
        if entry.type == DENY and entry.trustee == sid.EVERYONE and entry.is_own:
            bare = structs.replace(entry, mask=entry.mask & ~mask)
            if not bare.mask:
                continue
        remaining.append(bare)
    return with_entries(descriptor, remaining)


def is_password_fixed(descriptor: Descriptor) -> bool:
    """Whether the owner of the account may not change the password: the right is denied to SELF and to everybody."""
    denied = {entry.trustee for entry in _own(descriptor) if _denies_change(entry)}
    return {sid.SELF, sid.EVERYONE} <= denied


def fix_password(descriptor: Descriptor, is_on: bool) -> Descriptor:
    """The descriptor with the right to change the password denied, or with those denials taken away."""
    if is_on == is_password_fixed(descriptor):
        return descriptor
    ours = (sid.SELF, sid.EVERYONE)
    bare = [e for e in _entries(descriptor) if not (e.is_own and _denies_change(e) and e.trustee in ours)]
    without = with_entries(descriptor, bare)
    return _with_denials(without, _NO_CHANGE) if is_on else without


def _denies_change(entry: Entry) -> bool:
    return entry.type == DENY_OBJECT and bool(entry.mask & EXTENDED_RIGHT) and entry.object == CHANGE_PASSWORD


def _entries(descriptor: Descriptor) -> tuple[Entry, ...]:
    return descriptor.dacl.entries if descriptor.dacl else ()


def _own(descriptor: Descriptor) -> list[Entry]:
    return [entry for entry in _entries(descriptor) if entry.is_own]


def _with_denials(descriptor: Descriptor, entries: tuple[Entry, ...]) -> Descriptor:
    # [MS-DTYP] 2.4.5: denials of the object's own come first.
    return with_entries(descriptor, [*entries, *_entries(descriptor)])


def with_entries(descriptor: Descriptor, entries: list[Entry]) -> Descriptor:
    """The descriptor with these entries in its discretionary list."""
    old = descriptor.dacl or Acl(4, ())
    order = descriptor.order if "dacl" in descriptor.order else (*descriptor.order, "dacl")
    # 2.4.5.1: a list with entries for one property or right has revision 4.
    revision = 4 if any(e.type in (ALLOW_OBJECT, DENY_OBJECT) for e in entries) else old.revision
    return structs.replace(
        descriptor, control=descriptor.control | _DACL_PRESENT, order=order,
        dacl=Acl(revision, tuple(entries), old.rest),
    )  # fmt: skip


def with_own_of(descriptor: Descriptor, other: Descriptor) -> Descriptor:
    """The descriptor with the own entries of another in place of its own; what is handed down stays.

    Where the other takes nothing from above, this one does not either.
    """
    own = [entry for entry in _entries(other) if not entry.inherited]
    takes_nothing = bool(other.control & _DACL_PROTECTED)
    handed_down = [entry for entry in _entries(descriptor) if entry.inherited and not takes_nothing]
    control = descriptor.control & ~_DACL_PROTECTED | other.control & _DACL_PROTECTED
    return with_entries(structs.replace(descriptor, control=control), [*own, *handed_down])
