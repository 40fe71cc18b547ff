"""Lists that were kept under a name: a small YAML file beside the charter."""

from __future__ import annotations

from pathlib import Path

from vandrel import file_names, safe_file
from vandrel.cli.session import Session
from vandrel.errors import Code, Location, VandrelError
from vandrel.text.nearest import did_you_mean

#: What is kept of a list, in the words of the options of ``vandrel find``.
KEPT = ("words", "of", "where", "under", "columns", "by", "reverse")


def _path(session: Session) -> Path:
    return session.folder / file_names.LISTS


def load(session: Session) -> dict[str, dict[str, object]]:
    """All kept lists by name.

    Raises:
        VandrelError: ``bad-value`` where the file is not what this program writes.

    """
    import yaml

    path = _path(session)
    if not path.exists():
        return {}
    try:
        data = yaml.safe_load(path.read_text("utf-8")) or {}
    except (yaml.YAMLError, OSError, UnicodeDecodeError) as error:
        raise VandrelError(
            Code.BAD_VALUE, f"the kept lists cannot be read: {error}", where=Location(file=str(path))
        ) from None
    if not isinstance(data, dict) or not all(isinstance(item, dict) for item in data.values()):
        raise VandrelError(Code.BAD_VALUE, "the kept lists must be a mapping of names", where=Location(file=str(path)))
    return data


def keep(session: Session, name: str, options: dict[str, object]) -> None:
    """Keep a list under a name; one of the same name is replaced. The file is written whole or not at all."""
    import yaml

    lists = load(session)
    lists[name] = {key: value for key, value in options.items() if key in KEPT and value}
    path = _path(session)
    text = yaml.safe_dump(lists, allow_unicode=True, sort_keys=True)
    safe_file.write(path, text.encode(), "file of lists", replace=True, private=False)


def kept(session: Session, name: str) -> dict[str, object]:
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
