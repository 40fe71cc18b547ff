"""Names in ASCII, by the language of the name.

The same letter is written differently by different languages: German writes ``ö`` as ``oe``, Turkish as ``o``.
`to_ascii` takes the language as the primary subtag of a BCP 47 tag, as preferredLanguage keeps it (RFC 2798, 2.7).

Sources: ICAO Doc 9303 part 3, section 6 (Latin national characters; Cyrillic), which is the default; DIN 5007-2
(German); ELOT 743 / ISO 843 type 2 (Greek); Ukrainian Cabinet Resolution 55 of 2010; the Bulgarian
Transliteration Act of 2009. Whatever no table covers goes to the library anyascii.
"""

from __future__ import annotations

import re
import unicodedata
from functools import lru_cache

# ICAO Doc 9303: what differs from leaving the diacritic out.
_LATIN = {
    "ä": "ae", "æ": "ae", "å": "aa", "ö": "oe", "ø": "oe", "œ": "oe", "ü": "ue", "ß": "ss", "þ": "th",
    "ð": "d", "đ": "d", "ł": "l", "ħ": "h", "ŋ": "n", "ŧ": "t", "ĳ": "ij", "ı": "i", "ĸ": "k",
}  # fmt: skip
_STRIPPED = {"ä": "a", "ö": "o", "ü": "u"}

_RUSSIAN = dict(
    zip(
        "абвгдеёжзийклмнопрстуфхцчшщъыьэюя",
        "a b v g d e e zh z i i k l m n o p r s t u f kh ts ch sh shch ie y  e iu ia".split(" "),
        strict=True,
    )
) | {"і": "i", "ї": "i", "є": "ie", "ґ": "g", "ў": "u", "ђ": "d", "ј": "j", "љ": "lj", "њ": "nj", "ћ": "c", "џ": "dz"}
_UKRAINIAN = _RUSSIAN | {"г": "h", "ґ": "g", "и": "y", "ь": "", "’": "", "'": "", "ʼ": ""}
_UKRAINIAN_START = {"є": "ye", "ї": "yi", "й": "y", "ю": "yu", "я": "ya"}
_BULGARIAN = _RUSSIAN | {"й": "y", "х": "h", "щ": "sht", "ъ": "a", "ь": "y", "ю": "yu", "я": "ya"}
_SERBIAN = _RUSSIAN | {"ђ": "dj", "ж": "z", "ј": "j", "ћ": "c", "х": "h", "ц": "c", "ч": "c", "џ": "dz", "ш": "s"}

_GREEK = dict(
    zip("αβγδεζηθικλμνξοπρσςτυφχψω", "a v g d e z i th i k l m n x o p r s s t y f ch ps o".split(), strict=True)
)
_GREEK_PAIRS = {"γγ": "ng", "γξ": "nx", "γχ": "nch", "ου": "ou"}
_GREEK_VOICED = set("αβγδεζηιλμνορυω")

#: language -> what differs for it from the default table.
_BY_LANGUAGE: dict[str, dict[str, str]] = {
    "de": {},
    "da": {}, "nb": {}, "nn": {}, "no": {},
    "sv": {"å": "a", "ä": "a", "ö": "o"}, "fi": {"å": "a", "ä": "a", "ö": "o"},
    "is": {"ö": "o", "æ": "ae", "á": "a"}, "fo": {},
    "tr": _STRIPPED, "az": _STRIPPED | {"ə": "a"}, "hu": _STRIPPED, "vi": {}, "pl": {},
    "es": _STRIPPED, "pt": _STRIPPED, "fr": _STRIPPED, "nl": _STRIPPED, "en": _STRIPPED, "et": _STRIPPED,
    "cs": _STRIPPED, "sk": _STRIPPED,
    "uk": _UKRAINIAN, "bg": _BULGARIAN, "sr": _SERBIAN, "ru": _RUSSIAN,
}  # fmt: skip

#: The language subtags that have a table of their own; others take the default.
LANGUAGES = frozenset({*_BY_LANGUAGE, "el"})

#: Letters that carry a vowel at the beginning of a word and have no letter in ASCII: alef and ayin.
_CARRIERS = {"ا": "a", "أ": "a", "آ": "a", "إ": "i", "ع": "a", "א": "a", "ע": "a"}
#: Letters by their class that are apostrophes in names: OʼBrien.
_APOSTROPHES = "ʼ"

_WORD = re.compile(r"[^\W\d_]+(?:[’'ʼ][^\W\d_]+)*")


def _greek_pair(pair: str, following: str, first: bool, last: bool) -> str | None:
    """Two Greek letters that stand for one sound, in ASCII; None where they do not."""
    if pair in _GREEK_PAIRS:
        return _GREEK_PAIRS[pair]
    if pair == "μπ":
        return "b" if first or last else "mp"
    if pair in ("αυ", "ευ", "ηυ"):
        return _GREEK[pair[0]] + ("v" if following in _GREEK_VOICED and following else "f")
    return None


def _greek_word(word: str) -> str:
    # The tonos and the dialytika decide whether two vowels are one sound: αϋ and άυ are two.
    letters: list[str] = []
    apart: list[bool] = []
    for char in unicodedata.normalize("NFC", word):
        base, *marks = list(unicodedata.normalize("NFD", char))
        letters.append(base)
        apart.append("\u0308" in marks or (bool(letters[:-1]) and _accented(word, len(letters) - 2) and base == "υ"))
    out: list[str] = []
    i = 0
    while i < len(letters):
        pair = "".join(letters[i : i + 2])
        if len(pair) == 2 and not apart[i + 1]:
            following = letters[i + 2] if i + 2 < len(letters) else ""
            text = _greek_pair(pair, following, i == 0, i + 2 == len(letters))
            if text is not None:
                out.append(text)
                i += 2
                continue
        out.append(_GREEK.get(letters[i], letters[i]))
        i += 1
    return "".join(out)


def _accented(word: str, index: int) -> bool:
    char = unicodedata.normalize("NFC", word)[index]
    return "\u0301" in unicodedata.normalize("NFD", char)


def _strip_marks(char: str) -> str:
    """A Latin letter without its marks; in other scripts a mark makes another letter, as the voicing of kana does."""
    if not unicodedata.name(char, "").startswith("LATIN"):
        return char
    return "".join(c for c in unicodedata.normalize("NFD", char) if not unicodedata.combining(c))


def _romanized(text: str) -> str:
    """What no table covers, by the library, without its quotation marks for letters that ASCII does not have."""
    from anyascii import anyascii

    parts = []
    for index, char in enumerate(text):
        letter = char.isalpha() and not char.isascii() and char not in _APOSTROPHES
        plain = anyascii(char).replace("'", "").replace("`", "") if letter else anyascii(char)
        parts.append(plain or (_CARRIERS.get(char, "") if index == 0 else ""))
    return "".join(parts)


def _is_script(word: str, name: str) -> bool:
    return any(unicodedata.name(char, "").startswith(name) for char in word)


def _lower_word(word: str, language: str) -> str:
    """One word in lower case, NFC, to ASCII as far as the tables go."""
    if _is_script(word, "GREEK"):
        return _greek_word(word)
    table = _BY_LANGUAGE.get(language, {})
    cyrillic = _is_script(word, "CYRILLIC")
    if cyrillic:
        table = table if "я" in table else _RUSSIAN
        if table is _UKRAINIAN:
            word = word.replace("зг", "zgh")
        elif table is _BULGARIAN and word.endswith("ия"):
            word = word[:-2] + "ia"
    out = []
    for index, char in enumerate(word):
        if index == 0 and table is _UKRAINIAN and char in _UKRAINIAN_START:
            out.append(_UKRAINIAN_START[char])
        elif char in table:
            out.append(table[char])
        elif char.isascii():
            out.append(char)
        else:
            out.append(_LATIN.get(char) or (char if cyrillic else _strip_marks(char)))
    return "".join(out)


def _lower(char: str, language: str) -> str:
    # Turkish and Azerbaijani: capital I is the dotless letter, capital İ the dotted one.
    if language in ("tr", "az"):
        return {"I": "ı", "İ": "i"}.get(char, char.lower())
    return "i" if char == "İ" else char.lower()


def _word_to_ascii(word: str, language: str) -> str:
    lowered = "".join(_lower(char, language) for char in word)
    text = _lower_word(unicodedata.normalize("NFC", lowered), language)
    if not text.isascii():
        text = _romanized(text).lower()
    if word.isupper() and len(word) > 1:
        return text.upper()
    if word[:1].isupper():
        capital = text[:1].upper() + text[1:]
        # MacLeod, McÖst: inner capitals of the original stay capitals where the letters are the same.
        if len(capital) == len(word):
            capital = "".join(c.upper() if o.isupper() else c for c, o in zip(capital, word, strict=True))
        return capital
    return text


@lru_cache(maxsize=4096)
def to_ascii(text: str, language: str = "") -> str:
    """`text` in printable ASCII by the customs of `language` (a BCP 47 tag; empty: ICAO Doc 9303).

    >>> to_ascii("Jörg Weiß"), to_ascii("Özgür Işık", "tr")
    ('Joerg Weiss', 'Ozgur Isik')
    """
    if text.isascii():
        return text
    primary = language.split("-", maxsplit=1)[0].lower()
    text = unicodedata.normalize("NFC", text)
    replaced = _WORD.sub(lambda match: _word_to_ascii(match.group(), primary), text)
    if not replaced.isascii():
        # A symbol is no part of a name: the library would spell it out.
        replaced = _romanized("".join(char for char in replaced if unicodedata.category(char)[0] != "S"))
    return "".join(char for char in replaced if " " <= char <= "~")
