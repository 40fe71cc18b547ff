"""Lists that were kept under a name: a small YAML file beside the charter."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import msgspec
from msgspec import Meta, Struct

from vandrel import file_names, safe_file
from vandrel.cli.session import Session
from vandrel.errors import Code, Location, VandrelError
from vandrel.jobs.inspect.find import LISTS
from vandrel.text.nearest import did_you_mean
from vandrel.text.yaml_text import dumped


class KeptList(Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What is kept of a list, in the words of the options of ``vandrel find``."""

    words: list[str] = []
    type: Annotated[str, Meta(pattern=f"^({'|'.join(LISTS)}|)$")] = ""
    where: str = ""
    under: str = ""
    columns: str = ""
    by: str = ""
    reverse: bool = False


def _path(session: Session) -> Path:
    return session.folder / file_names.LISTS


def load(session: Session) -> dict[str, KeptList]:
    """All kept lists by name.

    Raises:
        VandrelError: ``bad-value``, with line and column, where the file is not what this program writes.

    """
    from vandrel.text.schema_errors import convert
    from vandrel.text.yaml_source import read

    path = _path(session)
    if not path.exists():
        return {}
    try:
        text = path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else "it is not UTF-8"
        what = f"the kept lists cannot be read: {why}"
        raise VandrelError(Code.BAD_VALUE, what, where=Location(file=str(path))) from None
    source = read(str(path), text, Code.BAD_VALUE)
    lists = convert(source, dict[str, KeptList], msgspec.json.schema(dict[str, KeptList]))
    if source.faults:
        faults = VandrelError(Code.BAD_VALUE, source.faults[0].what)
        faults.findings = tuple(source.faults)
        raise faults
    return lists


def keep(session: Session, name: str, options: dict[str, object]) -> None:
    """Keep a list under a name; one of the same name is replaced. The file is written whole or not at all."""
    lists = load(session)
    chosen = {key: options.get(key) for key in KeptList.__struct_fields__}
    lists[name] = KeptList(**{key: value for key, value in chosen.items() if value})  # type: ignore[arg-type]
    path = _path(session)
    text = dumped(msgspec.to_builtins(lists), sort_keys=True)
    safe_file.write(path, text.encode(), "file of lists", replace=True, private=False)


def kept(session: Session, name: str) -> KeptList:
    """One kept list.

    Raises:
        VandrelError: ``not-found``.

    """
    lists = load(session)
    if name not in lists:
        remedy = did_you_mean(name, lists) or (
            f"there are: {', '.join(lists)}" if lists else "vandrel find ... --keep NAME keeps one"
        )
        raise VandrelError(Code.NOT_FOUND, f"no list is kept under {name!r}", where=Location(text=name), remedy=remedy)
    return lists[name]
