"""Preparation of strings for matching, after RFC 4518."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence

_SPACES = re.compile(r" {2,}")
# RFC 4518 section 2.2: controls, soft hyphen, variation selectors, zero-width characters are mapped to nothing ...
_NOTHING = re.compile(
    "[\x00-\x08\x0e-\x1f\x7f-\x84\x86-\x9f\u00ad\u034f\u06dd\u070f\u1806\u180b-\u180e\u200b-\u200f"
    "\u202a-\u202e\u2060-\u2063\u206a-\u206f\ufe00-\ufe0f\ufeff\ufff9-\ufffc]"
)
# ... and these to a space.
_SPACE_LIKE = re.compile("[\t\n\x0b\x0c\r\x85\u00a0\u1680\u2000-\u200a\u2028\u2029\u202f\u205f\u3000]")


def fold(text: str) -> str:
    """Map, normalize (NFKC) and fold the case of `text`; white space stays as it is (RFC 4518, 2.2 to 2.3)."""
    if text.isascii() and text.isprintable():
        return text.lower()
    return _normalized(_SPACE_LIKE.sub(" ", _NOTHING.sub("", text)))


def _normalized(text: str) -> str:
    folded = text.casefold()
    if unicodedata.is_normalized("NFKC", folded):
        return folded
    # Folding can undo normalization and the reverse (U+0345, U+1E9E), so once more.
    return unicodedata.normalize("NFKC", unicodedata.normalize("NFKC", folded).casefold())


def prepare(text: str) -> str:
    """The form in which two values of a case-ignoring string syntax are compared (RFC 4518, 2.6.1).

    >>> prepare("  Anna   MÜLLER ")
    'anna müller'
    """
    folded = text.lower() if text.isascii() and text.isprintable() else fold(text)
    if "  " in folded:
        folded = _SPACES.sub(" ", folded)
    return folded.strip(" ")


def prepare_exact(text: str) -> str:
    """The form in which two values of a case-sensitive string syntax are compared: mapped, normalized, not folded.

    >>> prepare_exact(" Anna  ＭＵＬＬＥＲ")
    'Anna MULLER'
    """
    if not (text.isascii() and text.isprintable()):
        text = unicodedata.normalize("NFKC", _SPACE_LIKE.sub(" ", _NOTHING.sub("", text)))
    return _SPACES.sub(" ", text).strip(" ")


def prepare_all(texts: Sequence[str]) -> list[str]:
    """What `prepare` makes of each of many values, in one go where all of them are plain."""
    together = "|".join(("", *texts, ""))  # a mark that is printable, and left alone by what follows
    if (
        not together.isprintable()
        or together.count("|") != len(texts) + 1
        or any(spaces in together for spaces in ("  ", "| ", " |"))
    ):
        return [prepare(text) for text in texts]
    lower = together.lower()
    if lower == together and lower.isascii():
        return list(texts)  # the same texts, and not as many more of them
    prepared = lower.split("|")[1:-1]
    if not together.isascii():
        others = [number for number, plain in enumerate(map(str.isascii, texts)) if not plain]
        if len(others) * 2 > len(texts):
            return _prepare_printable(texts)
        for number, text in zip(others, _prepare_printable([texts[number] for number in others]), strict=True):
            prepared[number] = text
    return prepared


def _prepare_printable(texts: Sequence[str]) -> list[str]:
    """What `prepare` makes of texts that are printable and have single spaces inside alone."""
    lines = "\n".join(texts)
    if _NOTHING.search(lines) is None:  # then a line is prepared in the middle of others as by itself
        folded = _normalized(lines)
        if "  " not in folded and "\n " not in folded and " \n" not in folded and folded == folded.strip(" "):
            return folded.split("\n")
    return [prepare(text) for text in texts]


def prepare_fragment(text: str, *, initial: bool = False, final: bool = False) -> str:
    """A substring prepared for comparison with prepared values: inner spaces count, outer ones only inside."""
    folded = _SPACES.sub(" ", fold(text))
    if initial:
        folded = folded.lstrip(" ")
    if final:
        folded = folded.rstrip(" ")
    return folded
