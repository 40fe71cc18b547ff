"""What a service demands of people: a small file with its rules and limits."""

from __future__ import annotations

from importlib import resources
from pathlib import Path
from typing import Annotated, Any, Literal

import msgspec
from msgspec import Meta, Struct

from vandrel.charter.charter import Charter
from vandrel.errors import Code, Location, VandrelError
from vandrel.text.nearest import did_you_mean, listed

_FOLDER = "profiles"


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
    for key, named in (
        ("compares", profile.compares), ("requires", profile.requires), ("lengths", list(profile.lengths)),
        ("forbids", list(profile.forbids)),
    ):  # fmt: skip
        for index, field in enumerate(named):
            if field not in fields:
                path = (key, field) if key in ("lengths", "forbids") else (key, index)
                source.fault(path, f"there is no field {field!r}", did_you_mean(field, fields))
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
