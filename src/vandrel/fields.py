"""Our fields: the words for what is known about an account, a group or a unit.

How a field is kept in a directory is the business of `vandrel.dialects`; charters, commands and patterns speak
in these names only. The order here is the order of help and of completion.
"""

from __future__ import annotations

from enum import Enum

from msgspec import Struct

from vandrel.errors import Code, Location, VandrelError
from vandrel.text.nearest import did_you_mean


class Topic(Enum):
    """What the reader of a detail view wants to know; in the order of the view."""

    LOGON = "Logging on"
    NAMES = "Person"
    WORK = "Work"
    REACH = "Reaching them"
    DESK = "Working environment"
    BELONGS = "Belongs to"
    GROUP = "Group"
    OWN = "The organization's own"
    NOTES = "Notes"


class Shape(Enum):
    """What a value is."""

    TEXT = "text"
    REFERENCE = "name of an object"
    MEMBERSHIPS = "names of groups"
    ROLES = "names of roles"
    DATE = "date, as 2026-09-30"
    FLAG = "yes or no"
    SECRET = "password"
    NUMBER = "whole number"
    OCTETS = "file"

    @classmethod
    def of_own(cls, word: str) -> Shape:
        """The shape that the charter names for a field of the organization's own."""
        return {"text": cls.TEXT, "date": cls.DATE, "flag": cls.FLAG, "number": cls.NUMBER}[word]


ACCOUNT, GROUP, UNIT, COMPUTER = "account", "group", "unit", "computer"
OBJECT_TYPES = (ACCOUNT, GROUP, UNIT, COMPUTER)
_A, _AG, _AGU = frozenset({ACCOUNT}), frozenset({ACCOUNT, GROUP}), frozenset({ACCOUNT, GROUP, UNIT})
_G, _U = frozenset({GROUP}), frozenset({UNIT})
_AC, _AGC = frozenset({ACCOUNT, COMPUTER}), frozenset({ACCOUNT, GROUP, COMPUTER})
_ALL = frozenset({ACCOUNT, GROUP, UNIT, COMPUTER})


class Field(Struct, frozen=True):
    """One field.

    ``on`` says which objects have it; ``many`` whether it takes several values; ``named`` whether it is a name
    that the charter's patterns build; ``unit`` what a number counts; ``sensitive`` whether it helps to recover a
    password, so that changes to it are marked in the record.
    """

    name: str
    about: str
    topic: Topic
    on: frozenset[str] = _A
    shape: Shape = Shape.TEXT
    many: bool = False
    named: bool = False
    unit: str = ""
    sensitive: bool = False


_T, _S = Topic, Shape

FIELDS: dict[str, Field] = {
    field.name: field
    for field in (
        Field("login", "short name to log on with, unique in the domain", _T.LOGON, named=True),
        Field("principal", "name with suffix to log on with, unique in the forest", _T.LOGON, named=True),
        Field("enabled", "whether the account may be used", _T.LOGON, _AC, _S.FLAG),
        Field("password", "ask, generate, none, or - to read it from standard input", _T.LOGON, shape=_S.SECRET),
        Field("change", "whether the password must be changed at the next logon", _T.LOGON, shape=_S.FLAG),
        Field("locked", "whether bad attempts have locked the account; no unlocks it", _T.LOGON, shape=_S.FLAG),
        Field("password-fixed", "whether its owner may not change the password: for services", _T.LOGON, shape=_S.FLAG),
        Field("password-never-expires", "whether the password never grows old: for services", _T.LOGON, shape=_S.FLAG),
        Field("password-reversible", "whether the password can be read back: avoid", _T.LOGON, shape=_S.FLAG),
        Field("starts", "first day", _T.LOGON, shape=_S.DATE),
        Field("ends", "last day on which the account works", _T.LOGON, shape=_S.DATE),
        Field("back", "day on which a disabled account comes back", _T.LOGON, _AC, _S.DATE),
        Field("hours", "hours of the week, as Mon-Fri 06-18, Sat 08-12", _T.LOGON),
        Field("machines", "computers that the account may log on to; all, if none is named", _T.LOGON, many=True),
        Field("name", "name of the entry among its siblings", _T.NAMES, _ALL, named=True),
        Field("full", "full name", _T.NAMES, named=True),
        Field("display", "name as lists show it", _T.NAMES, _AG, named=True),
        Field("given", "given name", _T.NAMES),
        Field("middle", "further given names", _T.NAMES),
        Field("surname", "family name, with its particles", _T.NAMES),
        Field("generation", "Jr, Sr, III", _T.NAMES),
        Field("initials", "initials", _T.NAMES),
        Field("language", "language of the name, as de, tr or el: decides how it is written in ASCII", _T.NAMES),
        Field("photo", "photograph, a JPEG file", _T.NAMES, shape=_S.OCTETS, unit="bytes"),
        Field("number", "employee number", _T.WORK),
        Field("badge", "number of the staff card", _T.WORK),
        Field("kind", "kind of account in the charter", _T.WORK, _AG),
        Field("title", "title or rank", _T.WORK),
        Field("company", "company", _T.WORK),
        Field("department", "department", _T.WORK),
        Field("division", "division, above departments", _T.WORK),
        Field("site", "site or town", _T.WORK, _AC),
        Field("office", "office", _T.WORK),
        Field("room", "room", _T.WORK),
        Field("category", "sort of work", _T.WORK, _AGU),
        Field("car", "licence plate", _T.WORK),
        Field("manager", "who they report to", _T.WORK, shape=_S.REFERENCE),
        Field("assistant", "who keeps their calendar", _T.WORK, shape=_S.REFERENCE, many=True),
        Field("sponsor", "who answers for a guest", _T.WORK, shape=_S.REFERENCE),
        Field("owner", "who answers for the object", _T.WORK, _ALL, _S.REFERENCE, many=True),
        Field("mail", "mail address", _T.REACH, _AG, named=True),
        Field("alias", "further addresses: mail, or of a type, as sip:a@b", _T.REACH, _AG, many=True),
        Field("phone", "telephone numbers", _T.REACH, many=True),
        Field("mobile", "mobile telephone numbers", _T.REACH, many=True, sensitive=True),
        Field("recovery-mail", "private mail address that recovers a password", _T.REACH, many=True, sensitive=True),
        Field("fax", "fax numbers", _T.REACH, many=True),
        Field("pager", "pager numbers", _T.REACH, many=True),
        Field("home-phone", "telephone numbers at home", _T.REACH, many=True),
        Field("home-address", "private address, its lines divided by $", _T.REACH, many=True),
        Field("ip-phone", "numbers or names for calls over the network", _T.REACH, many=True),
        Field("web", "web pages", _T.REACH, many=True),
        Field("street", "street and number", _T.REACH, _A),
        Field("postcode", "postal code", _T.REACH),
        Field("post-box", "post office boxes", _T.REACH, many=True),
        Field("province", "state or province", _T.REACH),
        Field("country", "country, as two letters", _T.REACH),
        Field("home", "home folder, as \\\\fileserver\\homes\\{login}", _T.DESK),
        Field("drive", "letter that the home folder gets, as H:", _T.DESK),
        Field("profile", "folder of the profile", _T.DESK),
        Field("script", "script that runs at logon", _T.DESK),
        Field("uid-number", "number of the account on Unix systems", _T.DESK, shape=_S.NUMBER),
        Field(
            "gid-number",
            "number of the group on Unix systems; of an account, that of its first one",
            _T.DESK,
            _AG,
            _S.NUMBER,
        ),
        Field("unix-home", "home directory on Unix systems", _T.DESK),
        Field("shell", "shell on Unix systems", _T.DESK),
        Field("ssh-key", "public keys of SSH", _T.DESK, many=True),
        Field("dial-in", "whether dialling in is allowed; empty: as the server's policy says", _T.DESK, shape=_S.FLAG),
        Field("dial-in-address", "IPv4 address given to who dials in", _T.DESK),
        Field("dial-in-callback", "number that is called back", _T.DESK),
        Field(
            "remote-disconnect-limit",
            "how long a cut session on another computer stays; 0: for ever",
            _T.DESK,
            shape=_S.NUMBER,
            unit="minutes",
        ),
        Field("remote-drive", "letter of the home folder in sessions on other computers", _T.DESK),
        Field("remote-home", "home folder in sessions on other computers", _T.DESK),
        Field(
            "remote-idle-limit",
            "idle time that ends a session on another computer; 0: none",
            _T.DESK,
            shape=_S.NUMBER,
            unit="minutes",
        ),
        Field("remote-logon", "whether sessions on other computers are allowed", _T.DESK, shape=_S.FLAG),
        Field("remote-profile", "folder of the profile in sessions on other computers", _T.DESK),
        Field(
            "remote-session-limit",
            "longest session on another computer; 0: no limit",
            _T.DESK,
            shape=_S.NUMBER,
            unit="minutes",
        ),
        Field("groups", "groups that the object is a member of", _T.BELONGS, _AGC, _S.MEMBERSHIPS, many=True),
        Field("primary", "the group that counts as the first, and lists no members", _T.BELONGS, _AC, _S.REFERENCE),
        Field("roles", "administrative roles, by the groups that make them up", _T.BELONGS, shape=_S.ROLES, many=True),
        Field("entitlement", "products of services that the account may use", _T.BELONGS, many=True),
        Field("service-role", "roles within a service outside", _T.BELONGS, many=True),
        Field("delegation", "teams that may do a task here and below, as team-desk: unlock", _T.BELONGS, _U, many=True),
        Field("purpose", "security or distribution", _T.GROUP, _G),
        Field("scope", "global, domain-local or universal", _T.GROUP, _G),
        Field("members", "members", _T.GROUP, _G, _S.REFERENCE, many=True),
        Field("notes", "notes", _T.NOTES, _ALL, many=True),
        Field("protected", "whether deletion, rename and move are refused", _T.NOTES, _ALL, _S.FLAG),
    )
}

#: The names that the charter's patterns build, in the order in which people read them.
NAMED = ("login", "principal", "mail", "full", "display", "name")

#: What patterns may use besides the fields of the person and the lists of the charter.
COMPUTED = {
    "count": "2, 3, 4 ... for the rung that resolves a collision",
    "suffix": "the suffix of the principal name",
    "domain": "the mail domain: the first suffix of the charter",
    "year": "the current year",
    "today": "the current day, as 2026-11-28",
    "stem": "the word that a group or unit is made from",
}


class FieldCatalog(dict[str, Field]):
    """All fields of an organization by name: the built-in ones and its own."""

    def named(self, name: str, on: str | None = None) -> Field:
        """The field with this name, on this type of object.

        Raises:
            VandrelError: code ``unknown-field``, with near spellings.

        """
        field = self.get(name)
        if field is None or (on is not None and on not in field.on):
            names = [field.name for field in self.values() if on is None or on in field.on]
            of = f" of {'an' if on == ACCOUNT else 'a'} {on}" if on else ""
            hint = did_you_mean(name, names) or f"the fields{of} are: {', '.join(names)}"
            raise VandrelError(
                Code.UNKNOWN_FIELD, f"there is no field {name!r}{of}", where=Location(field=name),
                remedy=f"{hint}; a raw attribute is written @{name}",
            )  # fmt: skip
        return field


#: The fields that every organization has.
BUILT_IN = FieldCatalog(FIELDS)
