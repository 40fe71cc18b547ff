"""Distinguished names: their text (RFC 4514) and the key under which two spellings are the same name."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import suppress
from functools import lru_cache

from vandrel.errors import Code, Location, VandrelError
from vandrel.text.string_prep import prepare

#: Between the names of a key, root first. Preparation (RFC 4518) maps these controls to nothing in values.
LEVEL = "\x1f"
_PLUS = "\x1e"
_AFTER_LEVEL = "\x20"  # the code point after LEVEL: upper bound of the keys below a name

#: RFC 4514 section 3, and the long names of RFC 4519: all stand for one attribute type.
_ALIASES = {
    "commonname": "cn", "localityname": "l", "stateorprovincename": "st", "organizationname": "o",
    "organizationalunitname": "ou", "countryname": "c", "streetaddress": "street", "domaincomponent": "dc",
    "userid": "uid", "surname": "sn", "2.5.4.3": "cn", "2.5.4.7": "l", "2.5.4.8": "st", "2.5.4.10": "o",
    "2.5.4.11": "ou", "2.5.4.6": "c", "2.5.4.9": "street", "0.9.2342.19200300.100.1.25": "dc",
    "0.9.2342.19200300.100.1.1": "uid", "2.5.4.4": "sn",
}  # fmt: skip

_TYPE = re.compile(r"[A-Za-z][A-Za-z0-9-]*|\d+(?:\.\d+)+")
_HEX = re.compile(r"#(?:[0-9A-Fa-f]{2})+")
_ESCAPED = re.compile(r'\\(?:([0-9A-Fa-f]{2})|([ "#+,;<=>\\]))')
# '=' need not be escaped, and some servers cannot read it otherwise.
#: A first name without anything that is escaped, and the comma behind it.
_PLAIN = re.compile(r'([A-Za-z][A-Za-z0-9-]*)=([^\s#,+"\\<>;=\x00](?:[^,+"\\<>;=\x00]*[^\s,+"\\<>;=\x00])?),')
_SPECIAL = re.compile(r'[,+"\\<>;=]|([\x00-\x1f\x7f])')

Ava = tuple[str, "str | bytes"]
Rdn = tuple[Ava, ...]


def escape_value(value: str) -> str:
    """An attribute value as it stands in a name (RFC 4514, section 2.4).

    >>> escape_value("Deck, aft #2 ")
    'Deck\\\\, aft #2\\\\ '
    """
    # Only NUL must be written in hexadecimal; the other controls are too, so that a name never breaks a line.
    text = _SPECIAL.sub(lambda m: f"\\{ord(m[1]):02x}" if m[1] else "\\" + m.group(), value)
    if text[:1] in (" ", "#"):
        text = "\\" + text
    if text.endswith(" ") and value != " ":
        text = text[:-1] + "\\ "
    return text


def _format_rdn(rdn: Rdn) -> str:
    return "+".join(
        f"{kind}=#{value.hex()}" if isinstance(value, bytes) else f"{kind}={escape_value(value)}" for kind, value in rdn
    )


def _rdn_key(rdn: Rdn) -> str:
    keys = []
    for kind, value in rdn:
        low = kind.lower()
        prepared = f"#{value.hex()}" if isinstance(value, bytes) else prepare(value)
        keys.append(f"{_ALIASES.get(low, low)}={prepared}")
    return keys[0] if len(keys) == 1 else _PLUS.join(sorted(keys))


class DN:
    """A distinguished name: immutable, compared and hashed by its key, so spelling and case do not matter.

    ``rdns`` goes from the object up to the root, as the text does. ``key`` goes from the root down, so that
    all names below one have its key as a prefix.
    """

    __slots__ = ("_above", "_key", "_rdns", "_text")

    def __init__(self, rdns: tuple[Rdn, ...], *, key: str | None = None) -> None:
        self._rdns: tuple[Rdn, ...] | None = rdns
        self._key: str | None = LEVEL.join(_rdn_key(rdn) for rdn in reversed(rdns)) if key is None else key
        self._text: str | None = None
        self._above: DN | None = None  # of a name that was made from it

    @classmethod
    def stored(cls, text: str, key: str) -> DN:
        """A name that a store kept as text with its key; it is taken apart only when somebody asks."""
        self = cls.__new__(cls)
        self._rdns, self._text, self._key, self._above = None, text, key, None
        return self

    @classmethod
    def read(cls, text: str) -> DN:
        """A name that a server gave out; its key is worked out when somebody compares it.

        Raises on use what `parse` raises.
        """
        self = cls.__new__(cls)
        self._rdns, self._text, self._key, self._above = None, text, None, None
        return self

    @property
    def key(self) -> str:
        """The name from the root down as it is compared; equal for equal names."""
        if self._key is None:
            self._key = _read_key(str(self._text))
        return self._key

    @property
    def rdns(self) -> tuple[Rdn, ...]:
        """The parts of the name, the object's own first."""
        if self._rdns is None:
            self._rdns = parse(str(self._text)).rdns
        return self._rdns

    def __str__(self) -> str:
        if self._text is None:
            if self._above:
                self._text = f"{_format_rdn(self.rdns[0])},{self._above}"
            else:
                self._text = ",".join(_format_rdn(rdn) for rdn in self.rdns)
        return self._text

    def __repr__(self) -> str:
        return f"DN({str(self)!r})"

    def __eq__(self, other: object) -> bool:
        return isinstance(other, DN) and self.key == other.key

    def __hash__(self) -> int:
        return hash(self.key)

    def __bool__(self) -> bool:
        return bool(self.key)

    def __len__(self) -> int:
        return len(self.rdns)

    @property
    def parent(self) -> DN:
        """The name of the superior; that of the root (no RDN) is the root."""
        return self._above or DN(self.rdns[1:], key=self.parent_key)

    @property
    def parent_key(self) -> str:
        """The key of `parent`, without making that."""
        return self.key.rpartition(LEVEL)[0]

    @property
    def rdn(self) -> Rdn:
        """The object's own part."""
        return self.rdns[0]

    @property
    def rdn_text(self) -> str:
        """The object's own part as text."""
        return _format_rdn(self.rdns[0])

    @property
    def naming_attribute(self) -> str:
        """The attribute of the object's own part, the first of several."""
        return self.rdns[0][0][0]

    @property
    def name(self) -> str:
        """The value of the first naming attribute: what people call the object."""
        if self._rdns is None and (plain := _PLAIN.match(str(self._text))):
            return str(plain[2])  # most names need no reading of all their parts
        value = self.rdns[0][0][1] if self.rdns else ""
        return f"#{value.hex()}" if isinstance(value, bytes) else value

    def child(self, attribute: str, value: str) -> DN:
        """The name of an object directly below."""
        rdn: Rdn = ((attribute, value),)
        child = DN((rdn, *self.rdns), key=f"{self.key}{LEVEL if self.key else ''}{_rdn_key(rdn)}")
        child._above = self
        return child

    def is_below(self, other: DN) -> bool:
        """Whether this name is a true descendant of `other`."""
        return not other or self.key.startswith(other.key + LEVEL)

    def is_within(self, other: DN) -> bool:
        """Whether the name is another one, or below it."""
        return self == other or self.is_below(other)

    def moved(self, old: DN, new: DN) -> DN:
        """This name once its ancestor (or itself) `old` is called `new`."""
        return DN(self.rdns[: len(self.rdns) - len(old.rdns)] + new.rdns)

    def ancestors(self) -> Iterator[DN]:
        """From the parent up to, and without, the root."""
        above = self.parent
        while above:
            yield above
            above = above.parent


def below(key: str) -> tuple[str, str]:
    """The half-open range of the keys of all descendants of the name with this key."""
    return key + LEVEL, key + _AFTER_LEVEL


ROOT = DN(())


#: Deeper than any directory, and shallow enough for what works on names part by part.
_MOST_PARTS, _SHOWN = 250, 60


def _bad(text: str, column: int, why: str) -> VandrelError:
    return VandrelError(
        Code.BAD_NAME,
        f"{text!r} is not a distinguished name: {why}",
        where=Location(column=column + 1),
        remedy="a name looks like cn=Anna Lund,ou=Deck,dc=example; write a comma inside a value as \\,",
    )


def _read_value(text: str, start: int) -> tuple[str | bytes, int]:
    """One attribute value from `start`; the index after it. Text form, ``#hex`` form (RFC 4514, section 3)."""
    length = len(text)
    index = start
    while index < length and text[index] == " ":
        index += 1
    if text[index : index + 1] == "#":
        match = _HEX.match(text, index)
        if not match:
            raise _bad(text, index, "'#' must be followed by pairs of hexadecimal digits")
        after = match.end()
        while after < length and text[after] == " ":
            after += 1
        return bytes.fromhex(match.group()[1:]), after
    out = bytearray()
    keep = 0  # trailing spaces that are not escaped do not count
    while index < length:
        char = text[index]
        if char in ",;+":
            break
        if char == "\\":
            match = _ESCAPED.match(text, index)
            if not match:
                raise _bad(text, index, "a backslash must be followed by a special character or two hex digits")
            out += bytes.fromhex(match.group(1)) if match.group(1) else match.group(2).encode()
            index = match.end()
            keep = len(out)
            continue
        if char in '"<>' or char == "\x00":
            raise _bad(text, index, f"{char!r} must be escaped with a backslash")
        out += char.encode("utf-8", "surrogatepass")
        index += 1
        if char != " ":
            keep = len(out)
    try:
        return bytes(out[:keep]).decode(), index
    except UnicodeDecodeError:
        raise _bad(text, start, "the escaped bytes are not UTF-8") from None


def _read_key(text: str) -> str:
    """The key of a name. Of thousands of siblings only the first part is new, and nothing else is made of it."""
    plain = _PLAIN.match(text)
    above = _above(text[plain.end() :]) if plain else ""
    return f"{above}{LEVEL}{_rdn_key(((plain[1], plain[2]),))}" if plain and above else parse(text).key


@lru_cache(maxsize=1024)
def _above(text: str) -> str:
    try:
        return parse(text).key
    except VandrelError:  # the fault is told with its column in the whole name
        return ""


def name_in(value: object) -> DN | None:
    """The name that a value is; None for what is no name, or the empty one."""
    try:
        return parse(str(value)) or None
    except VandrelError:
        return None


@lru_cache(maxsize=8192)
def parse(text: str) -> DN:
    """Read a distinguished name (RFC 4514; spaces around separators and ``;`` are tolerated).

    Raises:
        VandrelError: code ``bad-name``, with the column.

    """
    if not text.strip():
        return ROOT
    if text.count(",") > _MOST_PARTS:
        raise _bad(f"{text[:_SHOWN]}...", 0, f"more than {_MOST_PARTS} parts")
    # Most names begin with one plain value, and share the rest with their siblings, which has been read before.
    if plain := _PLAIN.match(text):
        with suppress(VandrelError):  # the fault is told below, with its column
            parent = parse(text[plain.end() :])
            if parent:
                return parent.child(plain[1], plain[2])
    rdns: list[Rdn] = []
    avas: list[Ava] = []
    index, length = 0, len(text)
    while True:
        while index < length and text[index] == " ":
            index += 1
        match = _TYPE.match(text, index)
        if not match:
            raise _bad(text, index, "an attribute type is expected here")
        kind, index = match.group(), match.end()
        while index < length and text[index] == " ":
            index += 1
        if text[index : index + 1] != "=":
            raise _bad(text, index, f"'=' is expected after {kind!r}")
        value, index = _read_value(text, index + 1)
        avas.append((kind, value))
        if index < length and text[index] == "+":
            index += 1
            continue
        rdns.append(tuple(avas))
        avas = []
        if index >= length:
            return DN(tuple(rdns))
        if text[index] not in ",;":
            raise _bad(text, index, f"{text[index]!r} is not expected here")
        index += 1
