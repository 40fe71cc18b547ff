"""Near spellings, for every message that says that a word is not known."""

from __future__ import annotations

from collections.abc import Iterable

_WORSE = 12


def nearest(word: str, choices: Iterable[str], limit: int = 3) -> list[str]:
    """The at most `limit` words of `choices` that `word` could be a slip for, best first; often none."""
    from rapidfuzz import fuzz, process

    matches = process.extract(
        word, list(dict.fromkeys(choices)), scorer=fuzz.ratio, processor=str.casefold, limit=limit, score_cutoff=60
    )
    # Beside a word that is hit almost exactly, one that merely resembles it is noise.
    return [str(name) for name, score, _ in matches if score > matches[0][1] - _WORSE]


def nearest_part(word: str, choices: Iterable[str], limit: int = 3) -> list[str]:
    """Like `nearest`, but a part of a known word that is near counts too, for names typed in part."""
    from rapidfuzz import fuzz, process

    matches = process.extract(word, list(dict.fromkeys(choices)), scorer=fuzz.WRatio, limit=limit, score_cutoff=70)
    return [str(match[0]) for match in matches]


def listed(words: Iterable[str], last: str = "or") -> str:
    """Words as prose: ``a``, ``a or b``, ``a, b or c``."""
    items = list(words)
    if len(items) < 2:
        return "".join(items)
    return f"{', '.join(items[:-1])} {last} {items[-1]}"


def did_you_mean(word: str, choices: Iterable[str]) -> str:
    """``did you mean X or Y?``, or nothing where no word is near."""
    near = nearest(word, choices)
    return f"did you mean {listed(near)}?" if near else ""
