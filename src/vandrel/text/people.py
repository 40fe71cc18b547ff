"""Names of people: taking a full name apart, particles, double names, initials."""

from __future__ import annotations

import re

from msgspec import Struct

#: Particles that stand before a surname and belong to it; a charter may replace the list.
PARTICLES = frozenset(
    (
        "af al am auf av bin bint da dal dalla das de degli dei del della delle dem den der des di do dos du e el ibn "
        "la las le los of op 't te ten ter thi till und van vom von y zu zum zur"
    ).split()
)

#: What may follow a surname (RFC 4519, generationQualifier).
GENERATIONS = frozenset({"jr", "jr.", "sr", "sr.", "ii", "iii", "iv", "v"})

_PARTS = re.compile(r"[\s\-\u2010\u2011]+")


class PersonName(Struct, frozen=True):
    """The parts of one person's name; each may be empty, but not all."""

    given: str = ""
    middle: str = ""
    surname: str = ""
    generation: str = ""


def split_full_name(text: str, particles: frozenset[str] = PARTICLES) -> PersonName:
    """Take ``Anna Maria van der Meer Jr`` or ``van der Meer, Anna Maria`` apart.

    A name of one word is a surname: every person entry must have one (RFC 4519, section 3.12). The split is a
    proposal that the caller shows; single fields override it.
    """
    before, comma, after = text.partition(",")
    words, tail = before.split(), after.split()
    if comma and tail and tail[0].casefold() in GENERATIONS and len(tail) == 1:
        words, tail, comma = [*words, tail[0]], [], ""
    generation = ""
    for part in (words, tail):
        if len(part) > 1 and part[-1].casefold() in GENERATIONS:
            generation = part.pop()
    if comma and tail:
        return PersonName(tail[0], " ".join(tail[1:]), " ".join(words), generation)
    if len(words) < 2:
        return PersonName(surname=" ".join(words), generation=generation)
    start = next((i for i, word in enumerate(words[:-1]) if i > 0 and word.casefold() in particles), len(words) - 1)
    return PersonName(words[0], " ".join(words[1:start]), " ".join(words[start:]), generation)


def without_particles(surname: str, particles: frozenset[str] = PARTICLES) -> str:
    """``van der Meer`` -> ``Meer``; a surname of particles alone stays as it is."""
    words = surname.split()
    while len(words) > 1 and words[0].casefold() in particles:
        words.pop(0)
    bare = " ".join(words)
    for prefix in ("d'", "d’"):
        if bare.casefold().startswith(prefix) and len(bare) > 2:
            bare = bare[2:]
    return bare


def parts(name: str) -> list[str]:
    """The parts of a double or multiple name, split at spaces and hyphens."""
    return [part for part in _PARTS.split(name) if part]


def initials(*names: str) -> str:
    """The first letter of each part of each name, upper case: ``Anna-Maria``, ``Öst`` -> ``AMÖ``."""
    return "".join(part[0].upper() for name in names for part in parts(name))
