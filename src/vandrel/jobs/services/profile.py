"""What a service demands of people: a small file with its rules and limits."""

from __future__ import annotations

from collections.abc import Collection
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

import msgspec
from msgspec import Meta, Struct

from vandrel.charter.charter import Charter
from vandrel.errors import Code, Location, VandrelError
from vandrel.fields import FieldCatalog, Shape
from vandrel.text.nearest import did_you_mean, listed

if TYPE_CHECKING:
    from vandrel.text.yaml_source import Source

_FOLDER = "profiles"
#: The fields that are sent where a profile names none.
_SENT = (
    "login", "given", "surname", "full", "display", "mail", "number", "title", "company", "department", "office",
    "phone", "manager",
)  # fmt: skip
_KNOWN_BY: tuple[Literal["number", "mail", "login"], ...] = ("number", "mail", "login")
#: What is no value that can be sent: passwords are set there, and memberships follow from the groups that go along.
_NEVER_SENT = (Shape.SECRET, Shape.MEMBERSHIPS, Shape.ROLES)


class Copying(Struct, frozen=True, forbid_unknown_fields=True, rename="kebab", omit_defaults=True):
    """Who and what is copied into another directory, and how it is written there."""

    under: Annotated[list[str], Meta(description="Units whose people go there; none: all.")] = []
    send: Annotated[list[str], Meta(description="Fields that are sent as they are.")] = msgspec.field(
        default_factory=lambda: list(_SENT)
    )
    build: Annotated[dict[str, str], Meta(description="Fields there, each built by a pattern of fields here.")] = {}
    sensitive: Annotated[
        list[str], Meta(description="Fields of send that recover a password, and go all the same.")
    ] = []
    place: Annotated[str, Meta(description="Pattern of the place there; empty: as it is here.")] = ""
    groups: Annotated[list[str], Meta(description="Groups that go along, with * for any letters.")] = []
    place_of_groups: Annotated[str, Meta(description="Place of groups there; empty: as it is here.")] = ""
    match: Annotated[
        list[Literal["number", "mail", "login"]],
        Meta(description="By what somebody who is there already is known, the surest first.", min_length=1),
    ] = msgspec.field(default_factory=lambda: list(_KNOWN_BY))
    gone: Annotated[
        Literal["disable", "delete", "leave"], Meta(description="What happens there to who is not sent any more.")
    ] = "disable"
    most_gone: Annotated[
        Annotated[int, Meta(ge=0)] | None,
        Meta(description="More than these at once stop a run; none: a twentieth, 3 at the least."),
    ] = None
    identifier: Annotated[str, Meta(description="Attribute there that keeps the identifier of whoever is copied.")] = ""


class Profile(Struct, frozen=True, forbid_unknown_fields=True, rename="kebab", omit_defaults=True):
    """The demands of one service."""

    vandrel_profile: Annotated[int, Meta(description="Version of the format: 1.", ge=1, le=1)] = 1
    about: Annotated[str, Meta(description="What it is for.")] = ""
    kinds: Annotated[list[str], Meta(description="Kinds of account that are to go there; none: all.")] = []
    suffix: Annotated[
        Literal["any", "routable", "proven"],
        Meta(description="What suffixes of principal names must be: on the internet, or proven to be ours."),
    ] = "any"
    principal_is_mail: Annotated[bool, Meta(description="Whether the principal name is the mail address.")] = False
    compares: Annotated[list[str], Meta(description="Fields in which no value may be that of two people.")] = []
    requires: Annotated[list[str], Meta(description="Fields that may not be empty.")] = []
    lengths: Annotated[dict[str, int], Meta(description="Fields with the most characters that they may have.")] = {}
    forbids: Annotated[dict[str, str], Meta(description="Fields with characters that may not stand in them.")] = {}
    location: Annotated[str, Meta(description="The field with the legal location, a country of ISO 3166-1.")] = ""
    photo_limit: Annotated[int, Meta(description="Most bytes of a photograph; 0: any.", ge=0)] = 0
    copying: Annotated[Copying, Meta(description="Who and what is copied there by synchronize.")] = msgspec.field(
        default_factory=Copying
    )


class ProfileFaults(VandrelError):
    """A profile with faults: one finding for each, in the order of the file."""


def shipped() -> list[str]:
    """The names of the profiles that come with the program."""
    files = resources.files(__package__).joinpath(_FOLDER).iterdir()
    return sorted(file.name.removesuffix(".yaml") for file in files if file.name.endswith(".yaml"))


def load(name: str, charter: Charter) -> Profile:
    """Read a profile: one that is shipped, by its name, or a file; checked against the fields and kinds of a charter.

    Raises:
        ProfileFaults: code ``bad-value``, every fault with file, line and column.
        VandrelError: ``not-found`` or ``not-permitted`` where it cannot be read.

    """
    from vandrel.text.schema_errors import convert
    from vandrel.text.yaml_source import read

    fields, kinds = charter.fields, charter.document.kinds
    source = read(name, _text(name), Code.BAD_VALUE)
    schema: dict[str, Any] = msgspec.json.schema(Profile)
    profile = convert(source, Profile, schema)
    copying = profile.copying
    named: list[tuple[tuple[str, ...], Collection[str]]] = [
        (("compares",), profile.compares), (("requires",), profile.requires), (("lengths",), profile.lengths.keys()),
        (("forbids",), profile.forbids.keys()), (("copying", "send"), copying.send),
        (("copying", "build"), copying.build.keys()), (("copying", "sensitive"), copying.sensitive),
    ]  # fmt: skip
    for key, words in named:
        for index, field in enumerate(words):
            if field not in fields:
                path = (*key, index if isinstance(words, list) else field)
                source.fault(path, f"there is no field {field!r}", did_you_mean(field, fields))
    _check_copying(source, copying, fields)
    if profile.location and profile.location not in fields:
        source.fault(("location",), f"there is no field {profile.location!r}", did_you_mean(profile.location, fields))
    for index, kind in enumerate(profile.kinds):
        if kind not in kinds:
            source.fault(("kinds", index), f"the charter has no kind {kind!r}", did_you_mean(kind, kinds))
    if source.faults:
        error = ProfileFaults(Code.BAD_VALUE, source.faults[0].what)
        error.findings = tuple(source.faults)
        raise error
    return profile


def _check_copying(source: Source, copying: Copying, fields: FieldCatalog) -> None:
    """See to it that what is sent may be sent, and that what is built can be."""
    from vandrel.charter.pattern import parse
    from vandrel.fields import COMPUTED

    for index, name in enumerate(copying.send):
        field = fields.get(name)
        if field is not None and field.shape in _NEVER_SENT:
            source.fault(("copying", "send", index), f"{name} is not sent", "take it out")
        elif field is not None and field.sensitive and name not in copying.sensitive:
            what = f"{name} recovers a password, and is sent only on purpose"
            source.fault(("copying", "send", index), what, f"take it out, or add it: sensitive: [{name}]")
    patterns = {("copying", "build", field): pattern for field, pattern in copying.build.items()}
    for path, pattern in (patterns | {("copying", "place"): copying.place}).items():
        try:
            used = parse(pattern).fields() if pattern else ()
        except VandrelError as error:
            source.fault(path, error.findings[0].what, error.findings[0].remedy)
            continue
        for name in used:
            if name not in fields and name not in COMPUTED:
                source.fault(path, f"there is no field {name!r}", did_you_mean(name, fields))
    for index, place in enumerate(copying.under):
        if not place.startswith("/"):
            source.fault(("copying", "under", index), f"{place!r} is no place", "write it from the top down: /Ferries")


def _text(name: str) -> str:
    if name in shipped():
        return resources.files(__package__).joinpath(_FOLDER, f"{name}.yaml").read_text("utf-8")
    path = Path(name)
    try:
        return path.read_text("utf-8")
    except FileNotFoundError:
        remedy = did_you_mean(name, shipped()) or f"shipped are {listed(shipped(), 'and')}; or name a file"
        raise VandrelError(
            Code.NOT_FOUND, "there is no such profile", where=Location(file=name), remedy=remedy
        ) from None
    except (OSError, UnicodeDecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else "it is not UTF-8"
        raise VandrelError(Code.NOT_PERMITTED, f"it cannot be read: {why}", where=Location(file=name)) from None
