"""Password rules: which are in force and where each comes from, what a password breaks, making one."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from datetime import datetime, timedelta

from msgspec import Struct

from vandrel.charter.document import Passwords
from vandrel.errors import NOTE, STOP, Code, Finding, Location, Severity
from vandrel.secret import Secret

#: What holds where no charter says anything.
DEFAULTS = Passwords(
    length=12,
    classes=3,
    history=24,
    maximum_age=0,
    minimum_age=0,
    own_names="refuse",
    common="warn",
    first="ask",
    change=True,
    generated=16,
    aloud=False,
)

CLASSES = {"lower-case letters": str.islower, "upper-case letters": str.isupper, "digits": str.isdigit}
_OTHERS = "other characters"

# Without the look-alikes 0 O 1 l I | and without what shells, spreadsheets and keyboards treat in ways of their own.
_LETTERS = {
    "lower": "abcdefghijkmnpqrstuvwxyz",
    "upper": "ABCDEFGHJKLMNPQRSTUVWXYZ",
    "digit": "23456789",
    "other": "-_.:+#%?",
}

_TOKENS = re.compile(r"[,.\-_#\s]+")
#: [MS-SAMR] 3.1.1.7.2: parts of the full name count from three letters on, the logon name as a whole.
_SHORTEST_PART = 3


class Rule(Struct, frozen=True):
    """One rule in force: its name in the charter, its value, and who set it."""

    name: str
    value: int | str | bool
    source: str

    def __str__(self) -> str:
        value = self.value
        match self.name:
            case "length":
                return f"{value} characters or more"
            case "classes":
                return f"{value} of four classes: lower case, upper case, digits, others"
            case "history":
                return f"none of the last {value}" if value else "earlier ones may come again"
            case "maximum-age":
                return f"lasts {value} days" if value else "does not grow old"
            case "minimum-age":
                return (
                    f"not changed again within {value} day{'s' * (value != 1)}"
                    if value
                    else "may be changed at any time"
                )
            case "own-names":
                return "no part of the person's own names" if value == "refuse" else "own names are allowed"
            case "common":
                return {"refuse": "no common word varied", "warn": "a common word varied is flagged"}.get(
                    str(value), "common words allowed"
                )
        return f"{self.name}: {value}"


class PasswordRules(Struct, frozen=True):
    """All rules in force for one account, by name."""

    rules: dict[str, Rule]

    def number(self, name: str) -> int:
        """The value of a rule that is a number; 0 for none."""
        return int(self.rules[name].value)

    def word(self, name: str) -> str:
        """The value of a rule that is a word."""
        return str(self.rules[name].value)

    def own(self, source: str) -> dict[str, Rule]:
        """Those that come from `source`."""
        return {name: rule for name, rule in self.rules.items() if rule.source == source}

    def shown(self) -> Iterator[Rule]:
        """The rules that a password is checked against."""
        for name in ("length", "classes", "own-names", "common", "history", "maximum-age", "minimum-age"):
            yield self.rules[name]


def in_force(layers: Iterable[tuple[str, Passwords]]) -> PasswordRules:
    """The rules that result from layers given from the general to the particular, each with its name."""
    rules: dict[str, Rule] = {}
    for source, layer in [("built in", DEFAULTS), *layers]:
        for attribute in Passwords.__struct_fields__:
            value = getattr(layer, attribute)
            if value is not None:
                name = attribute.replace("_", "-")
                rules[name] = Rule(name, value, source)
    return PasswordRules(rules)


def with_server(rules: PasswordRules, layers: Iterable[tuple[str, Passwords]]) -> PasswordRules:
    """The rules together with those of a server, which holds to its own: of two, the stricter counts.

    Among the layers of the server, from wide to narrow, the narrowest replaces the others.
    """
    served: dict[str, Rule] = {}
    for source, layer in layers:
        served |= in_force([(source, layer)]).own(source)
    combined = dict(rules.rules)
    for name, rule in served.items():
        if name in combined and _is_stricter(rule, combined[name]):
            combined[name] = rule
    return PasswordRules(combined)


def _is_stricter(rule: Rule, than: Rule) -> bool:
    if rule.name == "own-names":
        return rule.value == "refuse" != than.value
    new, old = int(rule.value), int(than.value)
    if rule.name == "maximum-age":
        return new != 0 and (old == 0 or new < old)
    return new > old


def classes_of(password: str) -> list[str]:
    """How many of the four classes of characters a text has."""
    classes = [name for name, test in CLASSES.items() if any(test(char) for char in password)]
    if any(not (char.islower() or char.isupper() or char.isdigit()) for char in password):
        classes.append(_OTHERS)
    return classes


def check(
    secret: Secret,
    rules: PasswordRules,
    *,
    login: str = "",
    full: str = "",
    words: Iterable[str] = (),
    used: Callable[[int], bool] = lambda last: False,
    changed: datetime | None = None,
    now: datetime | None = None,
) -> list[Finding]:
    """Every rule that a password breaks, each with its figure; the password itself is in none of them.

    Args:
        secret: the password.
        rules: the rules in force.
        login: short logon name, which may not stand in it.
        full: full name, no part of which of three letters or more may stand in it.
        words: further words that count as common: of the organization, its places.
        used: tells whether it is one of the last so many passwords.
        changed: when the password was last changed by its owner, for the shortest age; None: never.
        now: the current time, for the shortest age.

    """
    text, findings = secret.reveal(), []

    def broken(rule: str, what: str, remedy: str, severity: Severity = STOP) -> None:
        message = f"{what} ({rules.rules[rule].source})"
        findings.append(Finding(Code.PASSWORD, message, Location(field="password"), remedy, severity))

    for rule, what, remedy in _characters(text, rules):
        broken(rule, what, remedy)
    own = _own_parts(login, full) if rules.word("own-names") == "refuse" else []
    for part in own:
        if part.casefold() in text.casefold():
            broken("own-names", f"it has a part of the person's own names: {part}", "choose one without it")
    if rules.number("history") and used(rules.number("history")):
        broken("history", f"it is one of the last {rules.number('history')}", "choose one that was not used before")
    if rules.number("minimum-age") and changed is not None and now is not None:
        free = changed + timedelta(days=rules.number("minimum-age"))
        if now < free:
            what = f"it may not be changed again before {free:%Y-%m-%d %H:%M}"
            broken("minimum-age", what, "wait, or reset it as an administrator")
    common = rules.word("common")
    if common != "allow" and not secret.generated and _varies_a_word(text, [login, *full.split(), *words]):
        # Which word is not said: it would all but give the password away.
        remedy = "take words that have nothing to do with each other"
        broken("common", "it varies a common word", remedy, STOP if common == "refuse" else NOTE)
    return findings


def _characters(text: str, rules: PasswordRules) -> Iterator[tuple[str, str, str]]:
    """The rules of length and of classes of characters that a text breaks: rule, what is wrong, what to do."""
    if len(text) < (length := rules.number("length")):
        what = f"it has {len(text)} characters, and {length} is the least"
        yield "length", what, f"add {length - len(text)} or more"
    have, want = classes_of(text), rules.number("classes")
    if len(have) < want:
        missing = [name for name in (*CLASSES, _OTHERS) if name not in have]
        what = f"it has {len(have)} of the four classes of characters, and {want} are needed"
        yield "classes", what, f"add {' or '.join(missing)}"


def _own_parts(login: str, full: str) -> list[str]:
    parts = [part for part in _TOKENS.split(full) if len(part) >= _SHORTEST_PART]
    if len(login) >= _SHORTEST_PART:
        parts.append(login)
    return list(dict.fromkeys(parts))


#: Guesses, as a power of ten, that a password must withstand not to be called a variation.
_ENOUGH = 10.0


def _varies_a_word(text: str, words: list[str]) -> bool:
    """Whether a common word, or one of `words`, makes up half of a password that is easy to guess."""
    from zxcvbn import zxcvbn

    # Longer than this the estimate takes long and no word matters any more.
    result = zxcvbn(text[:64], user_inputs=[word for word in words if len(word) >= _SHORTEST_PART])
    if float(result["guesses_log10"]) >= _ENOUGH:
        return False
    lengths = [len(match["token"]) for match in result["sequence"] if match["pattern"] == "dictionary"]
    return max(lengths, default=0) >= max(_SHORTEST_PART, len(text) / 2)


def generate(rules: PasswordRules, avoid: Iterable[str] = ()) -> Secret:
    """A random password that the rules allow: all four classes, no look-alike characters.

    `avoid` holds words that may not stand in it, such as the person's names.
    """
    import secrets

    if rules.rules["aloud"].value:
        return _in_words(rules, avoid)
    length = max(rules.number("generated"), rules.number("length"), 8)
    alphabet = "".join(_LETTERS.values())
    banned = [word.casefold() for word in avoid if len(word) >= _SHORTEST_PART]
    while True:
        chars = [secrets.choice(alphabet) for _ in range(length)]
        text = "".join(chars)
        if len(classes_of(text)) == 4 and text[0].isalnum() and not any(word in text.casefold() for word in banned):
            return Secret(text, generated=True)


#: Letters of syllables that nobody mishears or misreads, and words of two syllables that make a password.
_CONSONANTS, _VOWELS, _LEAST_WORDS = "bdfgkmnprstvz", "aeiou", 5


def _in_words(rules: PasswordRules, avoid: Iterable[str]) -> Secret:
    """A password that can be read aloud: words of two syllables, and a number: ``Bakir-Tomun-Sovel-Perad-Gurik-47``.

    Each word has 13 * 5 * 13 * 5 * 13 forms, so that five of them and two digits are worth 84 bits.
    """
    import secrets

    length = max(rules.number("generated"), rules.number("length"))
    banned = [word.casefold() for word in avoid if len(word) >= _SHORTEST_PART]
    while True:
        words: list[str] = []
        while len(words) < _LEAST_WORDS or sum(map(len, words)) + len(words) + 2 < length:
            letters = [secrets.choice(_VOWELS if place % 2 else _CONSONANTS) for place in range(5)]
            words.append("".join(letters).capitalize())
        text = "-".join([*words, "".join(secrets.choice("23456789") for _ in range(2))])
        if not any(word in text.casefold() for word in banned):
            return Secret(text, generated=True)
