"""Names that look like others: letters of several scripts in one word, compatibility forms, letters that look Latin.

The letters are those of Unicode UTS #39, confusables.txt, that look like one lower-case Latin letter in common fonts.
"""

from __future__ import annotations

import re
import unicodedata

#: Each with the Latin letter behind it: Cyrillic, Greek, Armenian, and a Latin one.
_PAIRS = "аa сc ԁd еe һh іi јj ӏl оo рp ԛq ѕs ѵv ԝw хx уy αa ϲc ιi ϳj κk νv οo ρp τt υu γy ցg հh ոn օo սu ıi"
_TABLE = str.maketrans({pair[0]: pair[1] for pair in _PAIRS.split()})
_WORDS = re.compile(r"[^\W\d_]+")


def skeleton(name: str) -> str:
    """A name with each letter as the Latin one that it looks like, in lower case.

    >>> skeleton("аlund") == "alund"  # the first letter is Cyrillic
    True
    """
    if name.isascii():
        return name.lower()
    return unicodedata.normalize("NFKC", name).lower().translate(_TABLE)


def oddities(name: str) -> list[str]:
    """What makes a name look like something that it is not, in words.

    >>> oddities("аlund")
    ['letters of several scripts in one word: CYRILLIC, LATIN']
    >>> oddities("alund"), oddities("анна")
    ([], [])
    """
    if name.isascii():
        return []
    words = []
    for word in _WORDS.findall(name):
        scripts = {unicodedata.name(letter, "").partition(" ")[0] for letter in word}
        scripts -= {"MODIFIER", "COMBINING", "FULLWIDTH", "HIRAGANA", "KATAKANA", "CJK", "KATAKANA-HIRAGANA"}
        if len(scripts) > 1:
            words.append(f"letters of several scripts in one word: {', '.join(sorted(scripts))}")
    if unicodedata.normalize("NFKC", name) != unicodedata.normalize("NFC", name):
        words.append("compatibility forms of letters, which are equal to the usual ones")
    return words
