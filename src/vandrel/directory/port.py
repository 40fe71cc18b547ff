"""The port: what every directory can be asked, whatever is behind it."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from enum import Enum
from typing import Protocol

from msgspec import Struct

from vandrel.directory.dn import DN
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import EVERYTHING, Filter
from vandrel.directory.operations import Operation
from vandrel.directory.packing import Packed
from vandrel.directory.schema import Schema
from vandrel.errors import DirectoryError
from vandrel.secret import Secret

#: An attribute and a value of it.
Form = tuple[str, str]


class DescriptionChangedError(Exception):
    """A server has come to say something else of itself than what it was taken to say: begin anew, and wait for it."""


class WrittenAheadError(AssertionError):
    """Somebody writes to a directory that only sends questions ahead: a fault of the program."""


class Scope(Enum):
    """How far below its base a search looks (RFC 4511, section 4.5.1.2)."""

    BASE = "base"
    ONE = "one"
    SUBTREE = "subtree"


class Capabilities(Struct, frozen=True):
    """What a directory does of its own accord.

    Attributes:
        schema: ``standard`` or ``ad``: which dialect fits.
        mends_references: whether names that point at an object follow it when it is renamed, moved or deleted.
        disables: whether ``pwdAccountLockedTime`` keeps an account out without any policy.
        embedded: whether it is a file of ours.
        keeps_deleted: whether what was deleted can still be seen for a time.
        forgets_deleted: whether that can be ended by who asks for it (`Directory.forget`).
        taken_back: attributes that only the directory sets, and takes from an addition of what was deleted.
        is_flat: whether all objects stand right below the context, and there are no units.
        policy: the name of the password policy that holds where an object has none of its own, if that is known.
        answers: whether it answers; one that stands in for another (`Directory.ahead`) does not.

    """

    schema: str = "standard"
    mends_references: bool = False
    disables: bool = False
    embedded: bool = False
    keeps_deleted: bool = False
    forgets_deleted: bool = False
    taken_back: frozenset[str] = frozenset()
    is_flat: bool = False
    policy: str = ""
    answers: bool = True


class EffectiveRights(Struct, frozen=True):
    """What the bound identity may do on one object, as the server tells: attributes to write, classes to create.

    ``who`` is the identity as people call it, ``others`` the words for the other identities of the connection.
    """

    attributes: frozenset[str]
    classes: frozenset[str]
    who: str = ""
    others: tuple[str, ...] = ()


class Changes(Struct, frozen=True):
    """What has become of entries since a stamp. What a directory works out when it is read may change without.

    Attributes:
        stamp: for the next time; empty where the directory gives none.
        names: of the entries that are new or changed; None where it cannot be told.
        deleted: the identifiers of those that are not there any more.
        has_references: whether those are among the changed that point at what got another name or is gone.

    """

    stamp: str = ""
    names: Sequence[DN] | None = None
    deleted: frozenset[str] = frozenset()
    has_references: bool = False


def other_identities(words: Sequence[str]) -> str:
    """What to do next for somebody whose identity may not do a thing."""
    if not words:
        return "ask for the right, or give the connection an identity that has it"
    return f"try another identity of this connection: {' or '.join(f'--who {word}' for word in words)}"


class NamingTurn(Protocol):
    """The turn of one run to give names that must be unique, on a server that does not see to it.

    ``is_held`` says whether the others wait for it; where no turns can be taken, names are to be looked up afterwards.
    """

    is_held: bool

    def give_back(self) -> bool:
        """Let the next one in; whether the turn was this run's own to the end."""

    def let_go(self) -> None:
        """Give it back after an interruption, as far as can be."""


class Directory(Protocol):
    """A directory. Every method raises `DirectoryError` where the directory refuses or cannot be reached."""

    @property
    def location(self) -> str:
        """Where it is, as a user would name it: a path, the name of a connection, a URL."""

    @property
    def identity(self) -> str:
        """Which directory it is, wherever it is and however it is called; its location where it does not tell."""

    @property
    def bound_as(self) -> str:
        """The identity that the server knows this connection by, as it was given; empty for a file."""

    @property
    def capabilities(self) -> Capabilities:
        """What the directory does by itself."""

    @property
    def schema(self) -> Schema:
        """The definitions of attributes and object classes."""

    @property
    def contexts(self) -> tuple[DN, ...]:
        """The naming contexts; the first is the default."""

    def get(self, dn: DN) -> Entry | None:
        """The entry with this name, operational attributes included, or None."""

    def search(
        self, base: DN, scope: Scope = Scope.SUBTREE, where: Filter = EVERYTHING, only: Collection[str] = ()
    ) -> Iterator[Entry]:
        """The entries that the filter finds; nothing where `base` does not exist.

        In no order that a caller can count on: servers have their own. Who needs a superior before its
        subordinates sorts by `DN.key`. With `only`, no more attributes than these need to come.
        """

    def packed(self, base: DN, scope: Scope = Scope.SUBTREE) -> Iterator[Packed]:
        """The entries in this scope as `vandrel.directory.packing.pack` packs them, or more cheaply.

        As long as an entry does not change, its octets are the same each time.
        """

    def find_owners(self, forms: Mapping[str, Collection[str]]) -> dict[Form, DN]:
        """Which of these values, by attribute, are in use anywhere, each with one entry that has it.

        They are asked for together: over a slow line, that is one answer to wait for. The keys are as given.
        """

    def existing(self, dns: Collection[DN]) -> set[DN]:
        """Which of these names are the names of entries."""

    def some_values(self, dn: DN, attribute: str, values: Collection[str], others: int = 0) -> list[Value]:
        """Which of these values an attribute of an entry has, and so many others; fewer where those are all.

        For lists of names that may be long: where the directory can tell, the rest of them is not read.
        """

    def pointing(self, dns: Sequence[DN], attributes: Sequence[str], *, leaving: bool = False) -> Iterator[Entry]:
        """The entries that have one of these names as a value of one of these attributes, each once.

        With their object classes, and of each of the attributes the values that were asked for and the empty name; with
        `leaving`, of a list that must not become empty another one too, if there is any. Whether the rest comes as well
        is left to the directory. Of very many names, all entries may come that have such an attribute.
        """

    def identifiers(self, dns: Collection[DN]) -> dict[str, str]:
        """The directory's own identifiers of objects (`Entry.identifier`), by the keys of their names.

        What is not there is left out; what was made by this very connection need not be asked for again.
        """

    def versions(self, dns: Iterable[DN]) -> dict[str, str]:
        """Which versions of objects this connection saw last, by the keys of their names, where there are versions."""

    def remember(self, dn: DN, identifier: str, version: str = "") -> None:
        """Take note of the identifier that an object of this name had, so that it need not be looked for."""

    def execute(
        self, operations: Sequence[Operation], *, atomic: bool, most_refused: int | None = None
    ) -> list[DirectoryError | None]:  # fmt: skip
        """Make the operations in order; for each, None or why it was refused.

        With `atomic`, where the directory can, a refusal undoes the whole sequence: the operations that would
        have passed are reported with code ``done-in-part``. An error that concerns the directory as a whole
        (disk full, busy, out of reach) is raised instead. Without `atomic`, after more than `most_refused` refusals
        no more are begun: the list is shorter then, and tells of the first operations, all that were tried.
        """

    def naming_turn(self) -> NamingTurn | None:
        """Wait for the turn to give unique names; None where the directory itself keeps them unique.

        Raises `DirectoryError` ``busy`` where others do not let go of it.
        """

    def verify_password(self, dn: DN, secret: Secret) -> bool:
        """Whether this is the password of the entry."""

    def try_logon(self, dn: DN, secret: Secret) -> str:
        """Log on with a password, as a proof; an empty string, or why it failed.

        ``wrong`` (the name or the password, or a cause that the server keeps to itself), ``hours``, ``machine``,
        ``expired`` (the password), ``disabled``, ``ended``, ``change`` (right, and to be changed first), ``locked``.
        """

    def password_used(self, dn: DN, secret: Secret, last: int) -> bool:
        """Whether it is the current password or one of the `last` before it, as far as the directory tells."""

    def changes(self, base: DN, since: str, identifiers_before: Collection[str]) -> Changes:
        """What has become of the entries within a name since a stamp that this gave before, or since the beginning.

        Args:
            base: the name.
            since: the stamp; empty for none.
            identifiers_before: the identifiers of the entries that were there then; whoever can do without going
                through all of them does.

        """

    def deleted(self) -> Iterator[Entry]:
        """What is left of deleted objects, under the names that they have now; nothing where nothing is kept."""

    def forget(self, identifier: str) -> None:
        """End what is left of a deleted object for good; asked only of a directory that can."""

    def allowed(self, dn: DN) -> EffectiveRights | None:
        """What the identity may do on an object; None where the directory does not tell before it is tried."""

    def ahead(self, *, again: bool = False) -> Directory | None:
        """A stand-in that takes the same questions, sends them on their way, and answers that there is nothing.

        Whoever asks the directory itself the same within two seconds gets the answers that have come meanwhile; with
        `again`, for a check of what was worked out just now, the answers too that were given for that. None where
        nothing is to be gained.
        """

    def close(self) -> None:
        """Close what is open."""
