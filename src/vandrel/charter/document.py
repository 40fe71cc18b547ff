"""The charter as it is written: one class per mapping of the file. `vandrel.charter.charter` gives it meaning.

These classes are the one source of the loader's checks and of the JSON Schema for editors.
"""

from typing import Annotated, Literal

import msgspec
from msgspec import Meta, Struct


class _Part(Struct, frozen=True, forbid_unknown_fields=True, rename="kebab", omit_defaults=True):
    """A mapping of the charter: immutable; a key that is not known is a fault."""


Text = Annotated[str, Meta(min_length=1)]
Count = Annotated[int, Meta(ge=0)]


class Naming(_Part, frozen=True):
    """How one name is built."""

    ladder: Annotated[
        list[Text], Meta(description="Patterns from the first choice to the last; the last may count.", min_length=1)
    ]
    style: Annotated[str, Meta(description="Words for the whole name, as 'ascii lower plain'.")] = ""
    longest: Annotated[int, Meta(description="Greatest length in characters.", ge=0)] = 0
    forbid: Annotated[str, Meta(description="Characters that may not stand in the name.")] = ""
    reserved: Annotated[list[str], Meta(description="Names that are never given.")] = []


NamingLike = str | list[Text] | Naming


class Names(_Part, frozen=True):
    """The naming patterns: a pattern, a ladder of patterns, or a mapping with more to say."""

    login: Annotated[NamingLike | None, Meta(description="Short logon name.")] = None
    principal: Annotated[NamingLike | None, Meta(description="Principal name, with its suffix.")] = None
    full: Annotated[NamingLike | None, Meta(description="Full name.")] = None
    display: Annotated[NamingLike | None, Meta(description="Name as lists show it.")] = None
    name: Annotated[NamingLike | None, Meta(description="Name of the entry among its siblings.")] = None
    mail: Annotated[NamingLike | None, Meta(description="Mail address.")] = None


class Passwords(_Part, frozen=True):
    """Password rules; what is left out here comes from the rules above."""

    length: Annotated[Count | None, Meta(description="Fewest characters.")] = None
    classes: Annotated[
        Annotated[int, Meta(ge=0, le=4)] | None,
        Meta(description="How many of lower case, upper case, digits and others it must have."),
    ] = None
    history: Annotated[Count | None, Meta(description="How many earlier passwords may not come again.")] = None
    maximum_age: Annotated[Count | None, Meta(description="Days until it must be changed; 0: it never must.")] = None
    minimum_age: Annotated[Count | None, Meta(description="Days before its owner may change it again.")] = None
    own_names: Annotated[
        Literal["refuse", "allow"] | None, Meta(description="Parts of the person's own names in the password.")
    ] = None
    common: Annotated[
        Literal["refuse", "warn", "allow"] | None, Meta(description="A password that varies a common word.")
    ] = None
    first: Annotated[
        Literal["ask", "generate", "none"] | None, Meta(description="Where the first password comes from.")
    ] = None
    change: Annotated[bool | None, Meta(description="Whether the first password must be changed at logon.")] = None
    aloud: Annotated[
        bool | None, Meta(description="Whether generated passwords can be read aloud: syllables in place of letters.")
    ] = None
    generated: Annotated[
        Annotated[int, Meta(ge=8, le=128)] | None, Meta(description="Length of a generated password.")
    ] = None


class Leaving(_Part, frozen=True):
    """What happens when somebody leaves. Disabled the account is in any case."""

    place: Annotated[str, Meta(description="Pattern of the unit to which the account moves; empty: it stays.")] = ""
    stays_in: Annotated[list[Text], Meta(description="Patterns of groups that are not left; all others are.")] = []
    sets: Annotated[dict[str, str], Meta(description="Fields with the pattern of their value then.")] = {}
    mail: Annotated[
        Literal["stays", "to-successor"],
        Meta(description="Whether the mail address stays, or becomes a further one of the successor, if one is named."),
    ] = "stays"
    reports: Annotated[
        Literal["manager", "successor", "nobody"],
        Meta(description="Whom those get as a manager, and what had one as an owner, whom the person looked after."),
    ] = "manager"
    deleted_after: Annotated[
        Annotated[int, Meta(ge=0)] | None,
        Meta(description="Days from the last day until the account is deleted; without it, it is not."),
    ] = None


class Kind(_Part, frozen=True):
    """One kind of account."""

    about: Annotated[str, Meta(description="One line of explanation.")] = ""
    place: Annotated[str, Meta(description="Pattern of the unit, from the top down: /Ferries/{site}/{department}.")] = (
        ""
    )
    requires: Annotated[list[Text], Meta(description="Fields that must be given.")] = []
    names: Annotated[Names, Meta(description="Naming patterns that differ for this kind.")] = Names()
    sets: Annotated[dict[str, str], Meta(description="Fields with the pattern of their value.")] = {}
    groups: Annotated[list[Text], Meta(description="Patterns of the groups that it joins.")] = []
    password: Annotated[Passwords, Meta(description="Password rules that differ for this kind.")] = Passwords()
    ends: Annotated[
        int | str | None, Meta(description="End date by default: days from today, or a day of the year as 09-30.")
    ] = None
    suffix: Annotated[str, Meta(description="Suffix of the principal name, where it is not the first.")] = ""
    leaving: Annotated[Leaving | None, Meta(description="What happens when one leaves, where this kind differs.")] = (
        None
    )


class GroupKind(_Part, frozen=True):
    """One kind of group."""

    about: Annotated[str, Meta(description="One line of explanation.")] = ""
    name: Annotated[NamingLike, Meta(description="Pattern of the name; {stem} is the word that it is made from.")] = (
        "{stem}"
    )
    place: Annotated[str, Meta(description="The unit that holds such groups.")] = ""
    purpose: Annotated[Literal["security", "distribution"], Meta(description="What the group is for.")] = "security"
    scope: Annotated[
        Literal["global", "domain-local", "universal"], Meta(description="Where the group can be used.")
    ] = "global"
    mail: Annotated[str, Meta(description="Pattern of its mail address.")] = ""


#: What can be delegated, in the order in which it is wanted most.
Task = Literal["reset-passwords", "unlock", "edit-contacts", "fill-groups", "create-accounts", "join-computers"]


class Role(_Part, frozen=True):
    """An administrative role: held by whoever is a member of all its groups. Nobody holds one unless it is given."""

    groups: Annotated[list[Text], Meta(description="The groups that make up the role.", min_length=1)]
    about: Annotated[str, Meta(description="One line of explanation.")] = ""


class Unit(_Part, frozen=True):
    """One unit of the hierarchy, or many: a {list} in its name repeats it for each word of the list."""

    about: Annotated[str, Meta(description="One line of explanation.")] = ""
    holds: Annotated[list[Text], Meta(description="Kinds of account that belong here; computer for machines.")] = []
    protected: Annotated[bool, Meta(description="Whether deletion is refused; true unless told otherwise.")] = True
    groups: Annotated[
        dict[str, list[Text]], Meta(description="Groups that go with the unit: kind of group, and stems.")
    ] = {}
    delegation: Annotated[
        dict[str, list[Task]], Meta(description="Teams that may do a task here and below: group, and tasks.")
    ] = {}
    branch: Annotated[str, Meta(description="A branch that hangs below this unit.")] = ""
    units: Annotated["dict[str, Unit | None]", Meta(description="The units below.")] = {}


class OwnField(_Part, frozen=True):
    """A field that the organization adds; it works wherever a built-in one does."""

    about: Annotated[str, Meta(description="One line of explanation.")] = ""
    on: Annotated[
        list[Literal["account", "group", "unit", "computer"]],
        Meta(description="Object types that have it.", min_length=1),
    ] = msgspec.field(default_factory=lambda: ["account"])
    shape: Annotated[Literal["text", "date", "flag", "number"], Meta(description="What a value is.")] = "text"
    many: Annotated[bool, Meta(description="Whether it takes several values.")] = False
    values: Annotated[list[Text], Meta(description="The only values that it may have.")] = []
    form: Annotated[str, Meta(description="Regular expression that a value must match as a whole.")] = ""
    attribute: Annotated[
        dict[Literal["standard", "ad"], Text],
        Meta(
            description="Where it is kept, by schema: an attribute, or 'attribute of class' for one of its own class."
        ),
    ] = {}
    sensitive: Annotated[bool, Meta(description="Whether changes are marked in the record.")] = False


class Ownership(_Part, frozen=True):
    """That a domain is the organization's own, as somebody has seen."""

    proven: Annotated[Text, Meta(description="The day on which it was seen, as 2026-03-31.")]
    by: Annotated[str, Meta(description="Who saw it.")] = ""


class SeatPool(_Part, frozen=True):
    """Seats of a product that are counted: whoever is in its group, or has it in a field, has one."""

    group: Annotated[str, Meta(description="The group whose members have a seat.")] = ""
    field: Annotated[str, Meta(description="Instead of a group: a field of accounts, in which the seat stands.")] = ""
    value: Annotated[str, Meta(description="What stands in that field; empty: the name of the pool.")] = ""
    about: Annotated[str, Meta(description="One line of explanation.")] = ""
    capacity: Annotated[
        Annotated[int, Meta(ge=0)] | None, Meta(description="How many there are; none: any number.")
    ] = None
    parts: Annotated[
        dict[str, Text], Meta(description="Parts that are given apart, each with its group, or its value of the field.")
    ] = {}
    requires: Annotated[list[Text], Meta(description="Fields that whoever gets one must have, as country.")] = []
    beyond: Annotated[
        Literal["refuse", "tell"], Meta(description="Whether more than there are is refused, or told with the figure.")
    ] = "refuse"
    price: Annotated[
        Annotated[float, Meta(ge=0)] | None,
        Meta(description="What one costs in a month, in the currency of the house."),
    ] = None
    ends: Annotated[str, Meta(description="The last day of the term, as 2027-06-30.")] = ""


NumberRange = Annotated[list[Annotated[int, Meta(ge=1)]], Meta(min_length=2, max_length=2)]


class Posix(_Part, frozen=True):
    """What accounts and groups have on Unix systems (RFC 2307)."""

    uid_numbers: Annotated[NumberRange, Meta(description="First and last number of accounts.")] = msgspec.field(
        default_factory=lambda: [10_000, 59_999]
    )
    gid_numbers: Annotated[NumberRange, Meta(description="First and last number of groups.")] = msgspec.field(
        default_factory=lambda: [10_000, 59_999]
    )
    by_kind: Annotated[dict[str, NumberRange], Meta(description="Kinds of account with a range of their own.")] = {}
    group: Annotated[Text, Meta(description="Pattern of the group whose number an account has as its first.")] = ""
    personal_groups: Annotated[
        str, Meta(description="Place of groups of one's own: of each account, with its logon name and its number.")
    ] = ""
    home: Annotated[Text, Meta(description="Pattern of the home directory.")] = "/home/{login}"
    shell: Annotated[str, Meta(description="Shell.")] = "/bin/bash"
    kinds: Annotated[list[Text], Meta(description="Kinds of account that have it; none: all.")] = []


class PasswordMail(_Part, frozen=True):
    """The message that takes a first password to somebody."""

    to: Annotated[
        Literal["recovery-mail", "manager", "sponsor"],
        Meta(description="The person's recovery address, or the mail address of who answers for them."),
    ] = "recovery-mail"
    subject: Annotated[Text, Meta(description="Pattern of the subject.")] = "{organization}: a first password"
    text: Annotated[Text, Meta(description="Pattern of the text, line by line; {password} is the password.")] = (
        "The first password of {full} at {organization}:\n\n    {password}\n\n"
        "It is good for logging on once. The name to log on with comes by another way."
    )
    together: Annotated[
        bool, Meta(description="Whether the name to log on with and the password may stand in one message.")
    ] = False


class AuditException(_Part, frozen=True):
    """What an audit passes over for a time."""

    rule: Annotated[Text, Meta(description="The rule.")]
    reason: Annotated[Text, Meta(description="Why, in words.")]
    owner: Annotated[str, Meta(description="Who answers for it.")] = ""
    of: Annotated[list[Text], Meta(description="Logon names, names or places; none: everything.")] = []
    until: Annotated[str, Meta(description="The last day on which it counts, as 2027-03-31.")] = ""


class Document(_Part, frozen=True):
    """The whole charter."""

    vandrel: Annotated[int, Meta(description="Version of the charter's format: 1.", ge=1, le=1)] = 1
    organization: Annotated[str, Meta(description="Name of the organization.")] = ""
    base: Annotated[str, Meta(description="Distinguished name of the top: dc=marrowick,dc=example.")] = ""
    time_zone: Annotated[str, Meta(description="Time zone of dates, as Europe/Oslo.")] = "UTC"
    language: Annotated[str, Meta(description="Language of names, unless a person's own is given.")] = ""
    suffixes: Annotated[list[Text], Meta(description="Suffixes of principal names; the first is the default.")] = []
    internal: Annotated[
        list[Text], Meta(description="Suffixes that are for use inside alone: services outside cannot use them.")
    ] = []
    ownership: Annotated[
        dict[str, Ownership], Meta(description="Domains that are proven to be ours, with those below them.")
    ] = {}
    particles: Annotated[
        list[Text] | None, Meta(description="Particles of surnames, in place of the built-in list.")
    ] = None
    lists: Annotated[
        dict[str, list[Text]], Meta(description="Words that a field may have, and that units repeat over.")
    ] = {}
    attributes: Annotated[
        dict[str, dict[str, Text]],
        Meta(description="Where a directory has no attribute for a field: ad or standard, field, attribute to use."),
    ] = {}
    named_by: Annotated[
        Literal["name", "login"],
        Meta(description="What names the entries of accounts: a name of their own, or the logon name."),
    ] = "name"
    group_classes: Annotated[
        Annotated[list[Literal["groupOfNames", "groupOfUniqueNames", "posixGroup"]], Meta(min_length=1)] | None,
        Meta(description="Object classes of groups on a standard server; none: groupOfNames, beside what is there."),
    ] = None
    posix: Annotated[Posix | None, Meta(description="What accounts and groups have on Unix systems.")] = None
    fields: Annotated[dict[str, OwnField], Meta(description="Fields of the organization's own.")] = {}
    names: Annotated[Names, Meta(description="Naming patterns of accounts.")] = Names()
    passwords: Annotated[Passwords, Meta(description="Password rules for everybody.")] = Passwords()
    kinds: Annotated[dict[str, Kind], Meta(description="Kinds of account.")] = {}
    leaving: Annotated[Leaving | None, Meta(description="What happens when somebody leaves, of whatever kind.")] = None
    groups: Annotated[dict[str, GroupKind], Meta(description="Kinds of group.")] = {}
    branches: Annotated[
        dict[str, Unit], Meta(description="Branches that are written once and hung in many places.")
    ] = {}
    hierarchy: Annotated[dict[str, Unit | None], Meta(description="The units, from the top down.")] = {}
    photo_limit: Annotated[int, Meta(description="Most bytes of a photograph.", ge=1)] = 102_400
    attic_days: Annotated[int, Meta(description="Days for which deleted objects are kept in the attic.", ge=1)] = 30
    journal_days: Annotated[int, Meta(description="Days for which the journal keeps jobs; 0: for ever.", ge=0)] = 0
    copies: Annotated[
        list[Text] | None, Meta(description="Fields that a copy of an account takes from its source.")
    ] = None
    secret_attributes: Annotated[
        list[Text], Meta(description="Attributes with secrets in them: never shown, recorded or exported.")
    ] = []
    number_unique: Annotated[
        Literal["in-kind", "everywhere", "no"],
        Meta(description="Among which accounts an employee number is unique: those of one kind, all, or none."),
    ] = "in-kind"
    password_mail: Annotated[PasswordMail, Meta(description="The message that takes a first password to somebody.")] = (
        PasswordMail()
    )
    seats: Annotated[dict[str, SeatPool], Meta(description="Products with seats, by name.")] = {}
    exceptions: Annotated[list[AuditException], Meta(description="What an audit passes over.")] = []
    roles: Annotated[dict[str, Role], Meta(description="Administrative roles, by name.")] = {}
    privileged: Annotated[
        dict[str, Text], Meta(description="Groups that carry power, by name, and how far it reaches, in words.")
    ] = {}


#: What a charter must say; the loader and the JSON Schema both ask here.
REQUIRED = ("organization", "base", "suffixes", "kinds", "hierarchy")


def json_schema() -> dict[str, object]:
    """The JSON Schema (2020-12) of the charter, for editors and for the loader."""
    schema: dict[str, object] = msgspec.json.schema(Document)
    definitions = schema["$defs"]
    assert isinstance(definitions, dict)
    definitions["Document"]["required"] = list(REQUIRED)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Vandrel charter", **schema}
