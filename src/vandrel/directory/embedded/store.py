"""The embedded directory behind the port: one SQLite file, several processes, safe against a kill."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from pathlib import Path

import msgspec

from vandrel.directory import dn as names
from vandrel.directory.by_search import FEW_NAMES, search_pointing, some_of
from vandrel.directory.dn import DN
from vandrel.directory.embedded import hashing, sqlite_file
from vandrel.directory.embedded.derived import DERIVED, with_derived
from vandrel.directory.embedded.row_codec import Index, damaged, indexed_attributes, read, read_packed
from vandrel.directory.embedded.sql_filter import Compiler
from vandrel.directory.entry import Entry, Value
from vandrel.directory.filter import EVERYTHING, Filter, asks_all, attributes_of, matches
from vandrel.directory.operations import TAKEN_BACK, AddEntry, Operation
from vandrel.directory.packing import Packed
from vandrel.directory.port import Capabilities, Changes, Form, Scope
from vandrel.directory.schema import Schema, shipped_definitions
from vandrel.errors import Code, DirectoryError, Finding, Location, not_made_with_the_rest
from vandrel.secret import Secret

#: Attributes whose values must differ over the whole directory; those of one group share their values.
UNIQUE = {
    "standard": (("uid",), ("vandrelPrincipalName",), ("mail", "vandrelMailAlias")),
    "ad": (("sAMAccountName",), ("userPrincipalName",), ("mail",)),
}

_ENTRY = "SELECT id, key, dn, data FROM entry"
#: Names that one statement takes (sqlite.org/limits.html, 9, allows a little more).
_MOST_KEYS = 30_000
_ID = "(SELECT id FROM entry WHERE key = ?)"


class EmbeddedDirectory:
    """A directory in one file; see `vandrel.directory.port.Directory` for what its methods promise."""

    def __init__(self, path: Path) -> None:
        """Open the file.

        Raises:
            DirectoryError: ``out-of-reach``, ``not-permitted``, ``foreign`` or ``damaged``.

        """
        self.path = path
        #: The entries that were found damaged and left out: their keys and names, as they stand there.
        self.damage: dict[str, str] = {}
        self._db, self.writable = sqlite_file.connect(path, sqlite_file.APPLICATION, "directory")
        with sqlite_file.plain_errors(path):
            self._db.execute("PRAGMA cache_size = -65536")  # in KiB: indexes are gone through in no order
            meta = dict(self._db.execute("SELECT name, value FROM meta").fetchall())
            definitions = self._db.execute("SELECT kind, text FROM definition ORDER BY number").fetchall()
            numbers = dict(self._db.execute("SELECT name, number FROM attribute").fetchall())
        try:
            self._contexts = tuple(names.parse(text) for text in msgspec.json.decode(meta["contexts"], type=list[str]))
            self._unique = msgspec.json.decode(meta["unique"], type=list[list[str]])
            self._identity: str = meta["identity"]
            self._schema = Schema(definitions, bounds_bind=_do_bounds_bind(definitions))
        except (KeyError, ValueError, msgspec.MsgspecError) as error:
            raise DirectoryError(
                Code.DAMAGED, f"the directory file is damaged: {error!r}", where=Location(file=str(path))
            ) from None
        self._index = Index(self._schema, numbers)
        self._compiler = Compiler(self._schema, numbers.get, self._index.table_of)

    @classmethod
    def create(cls, path: Path, contexts: Sequence[DN], more: Sequence[tuple[str, str]] = ()) -> EmbeddedDirectory:
        """Make a directory without entries for these naming contexts, and open it.

        It has the shipped schema, and over it the definitions in `more`: those of a server that it is a copy of.
        """
        definitions = (*shipped_definitions(), *more)
        schema = Schema(definitions)
        unique = UNIQUE[_kind_of(schema)]
        quoted = [(number, kind, text) for number, (kind, text) in enumerate(definitions)]
        tables = sqlite_file.TABLES + "".join(
            f"INSERT INTO {table} VALUES({', '.join(map(_literal, row))});\n"
            for table, rows in (
                ("definition", quoted),
                ("attribute", list(enumerate(indexed_attributes(schema), 1))),
                (
                    "meta",
                    [
                        ("contexts", _json([str(dn) for dn in contexts])),
                        ("unique", _json(unique)),
                        ("identity", os.urandom(16).hex()),
                        ("change", "0"),
                    ],
                ),
            )
            for row in rows
        )
        sqlite_file.create(path, sqlite_file.APPLICATION, f"BEGIN; {tables} COMMIT;", "directory")
        return cls(path)

    @property
    def location(self) -> str:
        """The full path of the file."""
        return str(self.path.absolute())

    @property
    def identity(self) -> str:
        """The identifier that the file got when it was made."""
        return self._identity

    @property
    def bound_as(self) -> str:
        """Nobody: the rights on the file count."""
        return ""

    @cached_property
    def capabilities(self) -> Capabilities:
        """What an embedded directory does by itself."""
        return Capabilities(
            _kind_of(self._schema), mends_references=True, disables=True, embedded=True, taken_back=TAKEN_BACK
        )

    @property
    def schema(self) -> Schema:
        """The schema that is kept in the file."""
        return self._schema

    @property
    def contexts(self) -> tuple[DN, ...]:
        """The naming contexts, the default first."""
        return self._contexts

    def changes(self, base: DN, since: str, identifiers_before: Collection[str]) -> Changes:
        """By the number that each change has; one that this file has not seen was made in another copy of it."""
        with sqlite_file.plain_errors(self.path):
            (now,) = self._db.execute("SELECT value FROM meta WHERE name = 'change'").fetchone()
            is_past = since.isdecimal() and self._db.execute("SELECT 1 FROM past WHERE change = ?", (since,)).fetchone()
            if not is_past or self.capabilities.schema != "standard":
                return Changes(now)
            is_all = (base,) == self._contexts
            within, place = ("1", list[str]()) if is_all else _within(base, Scope.SUBTREE, "+key")
            rows = self._db.execute(f"{_ENTRY} WHERE change > ? AND {within}", (since, *place))
            damaged_names: list[str] = []
            packed = read_packed(self._db, self._index, rows, lambda key, dn: damaged_names.append(str(dn)))
            changed = {identifier: dn for identifier, dn, _ in packed}
            dns = [DN.read(dn) for dn in (*changed.values(), *damaged_names)]
            new = sum(identifier not in identifiers_before for identifier in changed)
            (now_there,) = self._db.execute(f"SELECT count(*) FROM entry WHERE {within}", place).fetchone()
            if now_there == len(identifiers_before) + new:
                return Changes(now, dns, has_references=True)
            there = "SELECT value FROM value"
            parameters: tuple[str | int, ...] = (self._index.numbers["entryUUID"],)
            if not is_all:
                there, parameters = f"{there} JOIN entry ON id = entry AND {within}", (*place, *parameters)
            identifiers = (value for (value,) in self._db.execute(f"{there} WHERE attribute = ?", parameters))
            return Changes(now, dns, frozenset(identifiers_before).difference(identifiers), has_references=True)

    def deleted(self) -> Iterator[Entry]:
        """Nothing is kept of what is deleted here."""
        yield from ()

    def forget(self, identifier: str) -> None:
        """Nothing is kept."""

    def allowed(self, dn: DN) -> None:
        """Whoever may write the file may write every object in it."""

    def naming_turn(self) -> None:
        """Names are compared in the transaction that gives them."""

    def ahead(self, *, again: bool = False) -> None:
        """A file answers at once."""

    def close(self) -> None:
        """Close the file."""
        self._db.close()

    # --- reading

    def get(self, dn: DN) -> Entry | None:
        """The entry of this name; None where there is none."""
        with sqlite_file.plain_errors(self.path):
            rows = self._db.execute(f"{_ENTRY} WHERE key = ?", (dn.key,)).fetchall()
            entry = next(read(self._db, self._index, rows, self._tell_damage), None)
        if rows and entry is None:
            raise damaged(dn)
        return entry

    def _tell_damage(self, key: object, dn: object) -> None:
        self.damage[str(key)] = str(dn)

    def search(
        self, base: DN, scope: Scope = Scope.SUBTREE, where: Filter = EVERYTHING, only: Collection[str] = ()
    ) -> Iterator[Entry]:
        """The entries that a filter finds."""
        condition = self._compiler.compile(where)
        # A selective condition finds the entries by the index of values; '+' keeps SQLite from walking the tree.
        key = "+key" if condition.selective else "key"
        place, values = _within(base, scope, key)
        compared = set[str]() if condition.exact else self._names_compared(where)
        if not condition.exact and asks_all(where):
            only = ()
        sql = f"{_ENTRY} WHERE {place} AND ({condition.sql}) ORDER BY {key}"
        with sqlite_file.plain_errors(self.path):
            rows = self._db.execute(sql, (*values, *condition.values))
            attributes = {*map(self._schema.attribute_name, only), *compared} if only else ()
            derived = DERIVED & (compared | set(attributes))
            for stored in read(self._db, self._index, rows, self._tell_damage, attributes):
                entry = with_derived(self._db, stored, derived) if derived else stored
                if condition.exact or matches(where, entry, self._schema):
                    yield entry

    def packed(self, base: DN, scope: Scope = Scope.SUBTREE) -> Iterator[Packed]:
        """The entries within a name, packed as they stand in the file."""
        is_all = (base,) == self._contexts and scope is Scope.SUBTREE
        place, values = _within(base, scope, "+key" if is_all else "key")  # all are read as they lie in the file
        with sqlite_file.plain_errors(self.path):
            rows = self._db.execute(f"{_ENTRY} WHERE {place}", values)
            yield from read_packed(self._db, self._index, rows, self._tell_damage)

    def _names_compared(self, where: Filter) -> set[str]:
        """The attributes that a filter compares, with their subtypes."""
        names = map(self._schema.attribute_name, attributes_of(where))
        return {subtype for name in names for subtype in self._schema.subtypes(name)}

    def find_owners(self, forms: Mapping[str, Collection[str]]) -> dict[Form, DN]:
        """Which entries have these values of these attributes."""
        return {(attribute, value): dn for attribute, values in forms.items()
                for value, dn in self._owners(attribute, values).items()}  # fmt: skip

    def _owners(self, attribute: str, values: Collection[str]) -> dict[str, DN]:
        name = self._schema.attribute_name(attribute)
        number = self._index.numbers.get(name)
        if number is None:
            raise ValueError(f"{attribute} has no index")
        table, column = self._index.table_of(name)
        by_key: dict[object, list[str]] = {}
        for value in values:
            by_key.setdefault(self._schema.key(name, value), []).append(value)
        keys, owners = list(by_key), {}
        with sqlite_file.plain_errors(self.path):
            for start in range(0, len(keys), 500):
                chunk = keys[start : start + 500]
                marks = ",".join("?" * len(chunk))
                for key, dn, entry_key in self._db.execute(
                    f"SELECT t.{column}, e.dn, e.key FROM {table} t JOIN entry e ON e.id = t.entry "
                    f"WHERE t.attribute = ? AND t.{column} IN ({marks})",
                    (number, *chunk),
                ):
                    for value in by_key[key] if entry_key not in self.damage else ():
                        owners[value] = DN.stored(dn, entry_key)
        return owners

    def existing(self, dns: Collection[DN]) -> set[DN]:
        """Which of these names exist."""
        keys, present = [dn.key for dn in dns], set()
        with sqlite_file.plain_errors(self.path):
            for start in range(0, len(keys), 500):
                chunk = keys[start : start + 500]
                marks = ",".join("?" * len(chunk))
                present |= {key for (key,) in self._db.execute(f"SELECT key FROM entry WHERE key IN ({marks})", chunk)}
        # What was found damaged is as good as gone: a new entry takes its place.
        return {dn for dn in dns if dn.key in present and dn.key not in self.damage}

    def versions(self, dns: Iterable[DN]) -> dict[str, str]:
        """None: a change finds out by itself whether the object is as it was."""
        return {}

    def remember(self, dn: DN, identifier: str, version: str = "") -> None:
        """Objects are found by their names as fast."""

    def some_values(self, dn: DN, attribute: str, values: Collection[str], others: int = 0) -> list[Value]:
        """By the index of references; of an attribute without names, from the entry."""
        if (number := self._index.references.get(attribute)) is None:
            return some_of(self._schema, self.get(dn), attribute, values, others)
        keys = [names.parse(value).key if value else "" for value in values]
        of_entry = f"SELECT key, dn FROM reference INDEXED BY reference_entry WHERE entry = {_ID} AND attribute = ?"
        rows: list[tuple[str, str]] = []
        with sqlite_file.plain_errors(self.path):
            for start in range(0, len(keys), _MOST_KEYS):
                some = keys[start : start + _MOST_KEYS]
                of_key = f"attribute = ? AND key IN ({', '.join('?' * len(some))}) AND entry = {_ID}"
                rows += self._db.execute(f"SELECT key, dn FROM reference WHERE {of_key}", (number, *some, dn.key))
            own_keys, remaining = set(keys), others
            for key, value in self._db.execute(of_entry, (dn.key, number)) if others else ():
                if not remaining:
                    break
                if key not in own_keys:
                    rows.append((key, value))
                    remaining -= 1
        return [value for _, value in rows]

    def pointing(self, dns: Sequence[DN], attributes: Sequence[str], *, leaving: bool = False) -> Iterator[Entry]:
        """By the index of references, of few names; the lists are not read."""
        if len(dns) > FEW_NAMES:
            yield from search_pointing(self, dns, attributes)
            return
        numbers = [self._index.references[name] for name in attributes if name in self._index.references]
        texts = [str(dn) for dn in dns]
        holders: dict[int, set[str]] = {}
        with sqlite_file.plain_errors(self.path):
            for number in numbers:
                marks = ", ".join("?" * len(dns))
                which = f"SELECT DISTINCT entry FROM reference WHERE attribute = ? AND key IN ({marks})"
                for (holder,) in self._db.execute(which, (number, *(dn.key for dn in dns))):
                    holders.setdefault(holder, set()).add(self._index.names[number])
        for holder, pointing in holders.items():
            with sqlite_file.plain_errors(self.path):
                rows = self._db.execute(f"{_ENTRY} WHERE id = ?", (holder,)).fetchall()
                entry = next(read(self._db, self._index, rows, self._tell_damage, ["objectClass"]), None)
            if entry is not None:
                some = {name: self.some_values(entry.dn, name, [*texts, ""], 1) for name in sorted(pointing)}
                yield Entry(entry.dn, {"objectClass": entry.values_of("objectClass"), **some})

    def identifiers(self, dns: Collection[DN]) -> dict[str, str]:
        """One by one, by their names."""
        entries = (entry for dn in dns if (entry := self.get(dn)) is not None)
        return {entry.dn.key: entry.identifier for entry in entries if entry.identifier}

    def verify(self) -> tuple[int, list[Finding]]:
        """Go through the whole file: how many entries there are, and what is damaged, each with the name."""
        from vandrel.directory.embedded.verification import verify

        return verify(self._db, self.path)

    # --- passwords

    def verify_password(self, dn: DN, secret: Secret) -> bool:
        """Whether a password is the right one."""
        entry = self.get(dn)
        return entry is not None and any(hashing.fits(secret, _octets(v)) for v in entry.values_of("userPassword"))

    def try_logon(self, dn: DN, secret: Secret) -> str:
        """Nobody logs on to a file: the password is compared."""
        return "" if self.verify_password(dn, secret) else "wrong"

    def password_used(self, dn: DN, secret: Secret, last: int) -> bool:
        """Whether a password is one of the last so many."""
        entry = self.get(dn)
        if entry is None or last < 1:
            return False
        hashes = [_octets(value).split(b"#", 3)[-1] for value in entry.values_of("pwdHistory")[: last - 1]]
        current = [_octets(value) for value in entry.values_of("userPassword")]
        return any(hashing.fits(secret, value) for value in current + hashes)

    # --- writing

    def execute(
        self, operations: Sequence[Operation], *, atomic: bool, most_refused: int | None = None
    ) -> list[DirectoryError | None]:  # fmt: skip
        """Make operations; see the port."""
        if not self.writable:
            raise DirectoryError(
                Code.NOT_PERMITTED, "the directory can be read, and not written", where=Location(file=str(self.path)),
                remedy="check the rights on the file and its folder",
            )  # fmt: skip
        from vandrel.directory.embedded.writer import Writer

        with sqlite_file.plain_errors(self.path):
            self._db.execute("BEGIN IMMEDIATE")
            try:
                writer = Writer(self._db, self._index, self._contexts, self._unique)
                outcomes = writer.run(operations, None if atomic else most_refused)
                if atomic and any(outcomes):
                    self._db.execute("ROLLBACK")
                    return [error or not_made_with_the_rest() for error in outcomes]
                self._db.execute("COMMIT")
                for operation, outcome in zip(operations, outcomes, strict=False) if self.damage else ():
                    if isinstance(operation, AddEntry) and outcome is None:  # whole again
                        self.damage.pop(operation.dn.key, None)
            except BaseException:
                if self._db.in_transaction:
                    self._rollback()
                raise
        return outcomes

    def _rollback(self) -> None:
        try:
            self._db.execute("ROLLBACK")
        except sqlite3.Error:
            self._db.close()  # SQLite rolls back by itself when the file is opened again


def _within(base: DN, scope: Scope, key: str) -> tuple[str, list[str]]:
    """The condition for entries in a scope, and its values; `key` is how the column of that name is written."""
    if not base:
        return "1", []
    if scope is Scope.BASE:
        return "key = ?", [base.key]
    if scope is Scope.ONE:
        return "parent = (SELECT id FROM entry WHERE key = ?)", [base.key]
    return f"({key} = ? OR {key} >= ? AND {key} < ?)", [base.key, *names.below(base.key)]


def _kind_of(schema: Schema) -> str:
    return "ad" if schema.attribute_name("sAMAccountName") else "standard"


def _do_bounds_bind(definitions: Sequence[tuple[str, str]]) -> bool:
    """Whether the lengths that a schema suggests are kept to: not in a copy of a server that does not."""
    own = len(definitions) == len(shipped_definitions())
    return own or any("'sAMAccountName'" in text for _, text in definitions)


def _octets(value: str | bytes) -> bytes:
    return value if isinstance(value, bytes) else value.encode()


def _json(value: object) -> str:
    return msgspec.json.encode(value).decode()


def _literal(value: object) -> str:
    return str(value) if isinstance(value, int) else "'" + str(value).replace("'", "''") + "'"
