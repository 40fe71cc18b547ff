"""YAML as it is written; read back, it is what was written."""

from __future__ import annotations

from typing import Any


def dumped(value: Any, **how: Any) -> str:
    """A value as YAML, in the letters of every language.

    Args:
        value: what a document can hold: text, numbers, truth, None, lists and mappings of them.
        how: the library's options.

    """
    import yaml

    text: str = yaml.safe_dump(value, allow_unicode=True, **how)
    if "\x85" in text:  # written as a line break, it would be read as a space (YAML 1.1, 4.2 and 6.5)
        text = yaml.safe_dump(value, allow_unicode=False, **how)
    return text
