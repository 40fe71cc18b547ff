"""The write operations of the embedded directory, inside a transaction that somebody else opens and ends."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Iterable, Iterator, Sequence
from itertools import groupby

from vandrel.directory import dn as names
from vandrel.directory import gentime
from vandrel.directory.dn import DN
from vandrel.directory.embedded import hashing
from vandrel.directory.embedded.password_state import with_password
from vandrel.directory.embedded.reference_table import ReferenceTable, changed_meanwhile
from vandrel.directory.embedded.row_codec import DamagedRowError, Data, Index, damaged, decode, encode, sealed_anew
from vandrel.directory.entry import Value, new_identifier
from vandrel.directory.operations import (
    TAKEN_BACK,
    AddEntry,
    Change,
    DeleteEntry,
    ModifyEntry,
    Operation,
    RenameEntry,
    SetPassword,
)
from vandrel.directory.schema import Schema, shorten
from vandrel.directory.schema.matching import Key
from vandrel.errors import Code, DirectoryError, Location, VandrelError
from vandrel.secret import Secret

Outcome = DirectoryError | None


def _chunks(values: Sequence[str], size: int = 500) -> Iterator[Sequence[str]]:
    for start in range(0, len(values), size):
        yield values[start : start + size]


class Writer:
    """Makes operations on one connection; each is made whole or refused whole."""

    def __init__(
        self, connection: sqlite3.Connection, index: Index, contexts: Iterable[DN], unique: Sequence[Sequence[str]]
    ) -> None:
        self._db = connection
        self._index = index
        self._schema: Schema = index.schema
        self._change = self._next_change()
        self._references = ReferenceTable(connection, index, self._change)
        self._contexts = {context.key for context in contexts}
        self._unique = {name: group for group in unique for name in group}
        #: For the classes that an entry is given, their superiors that are not among them.
        self._implied: dict[tuple[str, ...], list[str]] = {}
        #: Of passwords that were typed, what is kept: one that many get in one go is hashed once, for that is slow.
        self._hashed: dict[int, tuple[Secret, bytes]] = {}

    def _next_change(self) -> int:
        """The number of this change, in all entries that it touches: later than any, in copies of the file too."""
        (last,) = self._db.execute("SELECT value FROM meta WHERE name = 'change'").fetchone()
        number = max(int(last) + 1, time.time_ns() // 1000)
        self._db.execute("UPDATE meta SET value = ? WHERE name = 'change'", (str(number),))
        self._db.execute("INSERT INTO past VALUES(?)", (number,))
        return number

    def run(self, operations: Sequence[Operation], most_refused: int | None = None) -> list[Outcome]:
        """For each operation None or why it was refused; no more are begun after more than `most_refused` refusals."""
        outcomes: list[Outcome] = []
        refusals_left = len(operations) if most_refused is None else most_refused
        for are_adds, run in groupby(operations, lambda operation: isinstance(operation, AddEntry)):
            some = list(run)
            for outcome in self._add(some, refusals_left) if are_adds else map(self._single, some):  # type: ignore[arg-type]
                outcomes.append(outcome)
                refusals_left -= outcome is not None
                if refusals_left < 0:
                    return outcomes
        return outcomes

    def _single(self, operation: Operation) -> Outcome:
        self._db.execute("SAVEPOINT one")
        try:
            match operation:
                case ModifyEntry():
                    self._modify(operation)
                case RenameEntry():
                    self._rename(operation)
                case DeleteEntry():
                    self._delete(operation)
                case SetPassword():
                    self._password(operation)
                case AddEntry():
                    raise AssertionError("additions go by _add")
        except DirectoryError as error:
            self._db.execute("ROLLBACK TO one")
            self._db.execute("RELEASE one")
            return error
        self._db.execute("RELEASE one")
        return None

    # --- adding

    def _ids(self, keys: Iterable[str]) -> dict[str, tuple[int, str]]:
        ids = {}
        for chunk in _chunks(sorted(set(keys))):
            marks = ",".join("?" * len(chunk))
            for key, entry, dn in self._db.execute(f"SELECT key, id, dn FROM entry WHERE key IN ({marks})", chunk):
                ids[key] = (entry, dn)
        return ids

    def _unique_keys(self, data: Data) -> Iterator[tuple[str, str, Value]]:
        """(name of the group of attributes, key, value) for each value that must be unique."""
        for name, group in self._unique.items():
            for value in data.get(name, ()):
                yield group[0], str(self._schema.key(name, value)), value

    def _owners(self, claimed_keys: set[tuple[str, str]]) -> dict[tuple[str, str], str]:
        """Which of (group, key) are in use, with the name of the holder."""
        owners = {}
        by_group: dict[str, list[str]] = {}
        for group, key in claimed_keys:
            by_group.setdefault(group, []).append(key)
        for group, keys in by_group.items():
            for attribute in self._unique[group]:
                for chunk in _chunks(sorted(keys)):
                    marks = ",".join("?" * len(chunk))
                    for key, dn in self._db.execute(
                        "SELECT value, dn FROM value JOIN entry ON entry.id = value.entry "
                        f"WHERE attribute = ? AND value IN ({marks})",
                        (self._index.numbers[attribute], *chunk),
                    ):
                        owners[group, key] = dn
        return owners

    def _add(self, operations: Sequence[AddEntry], most_refused: int) -> list[Outcome]:
        ids = self._ids(key for op in operations for key in (op.dn.key, op.dn.parent.key))
        uniques = [list(self._unique_keys(self._with_name(op))) for op in operations]
        owners = self._owners({(group, key) for claimed in uniques for group, key, _ in claimed})
        now = gentime.now()
        row = self._db.execute("SELECT coalesce(max(id), 0) FROM entry").fetchone()
        number = int(row[0])
        entries: list[tuple[object, ...]] = []
        values: list[tuple[int, Key, int]] = []
        links: list[tuple[object, ...]] = []
        outcomes: list[Outcome] = []
        for operation, unique in zip(operations, uniques, strict=True):
            dn = operation.dn
            try:
                above = self._parent(dn, ids)
                if dn.key in ids and not self._is_damaged(ids[dn.key][0]):
                    raise DirectoryError(
                        Code.TAKEN, "there is an object of this name already", where=Location(dn=str(dn))
                    )
                data, references = self._new_data(operation, now)
                for group, key, value in unique:
                    holder = owners.get((group, key))
                    if holder is not None and names.parse(holder) != dn:  # itself, where it was damaged
                        raise _not_unique(value, holder, dn)
            except DirectoryError as error:
                outcomes.append(error)
                most_refused -= 1
                if most_refused < 0:
                    break
                continue
            if dn.key in ids:  # what is left of it makes room; what stands below it stays there
                identity = ids[dn.key][0]
                self._sweep(identity)
            else:
                identity = number = number + 1
            text = f"{dn.rdn_text},{above[1]}" if above else str(dn)
            ids[dn.key] = (identity, text)
            owners.update({(group, key): text for group, key, _ in unique})
            entries.append((identity, above[0] if above else None, dn.key, text, encode(data, text), self._change))
            values += self._index.values(identity, data)
            for name, targets in references.items():
                links += [(self._index.numbers[name], target.key, identity, str(target)) for target in targets]
            outcomes.append(None)
        self._db.executemany("INSERT INTO entry(id, parent, key, dn, data, change) VALUES(?, ?, ?, ?, ?, ?)", entries)
        # In the order of the index: neighbours on a page are written together.
        values.sort()
        self._db.executemany("INSERT OR IGNORE INTO value(attribute, value, entry) VALUES(?, ?, ?)", values)
        self._db.executemany("INSERT OR IGNORE INTO reference(attribute, key, entry, dn) VALUES(?, ?, ?, ?)", links)
        return outcomes

    def _is_damaged(self, entry: int) -> bool:
        row = self._db.execute("SELECT data, dn FROM entry WHERE id = ?", (entry,)).fetchone()
        if row is None:  # made in the same go
            return False
        try:
            decode(*row)
        except DamagedRowError:
            return True
        return False

    def _sweep(self, entry: int) -> None:
        """Take away what is left of a damaged entry."""
        self._db.execute("DELETE FROM value WHERE entry = ?", (entry,))
        self._db.execute("DELETE FROM reference WHERE entry = ?", (entry,))
        self._db.execute("DELETE FROM entry WHERE id = ?", (entry,))

    def _parent(self, dn: DN, ids: dict[str, tuple[int, str]]) -> tuple[int, str] | None:
        if dn.key in self._contexts:
            return None
        parent = dn.parent
        if parent.key not in ids:
            if not any(dn.key.startswith(context + names.LEVEL) for context in self._contexts):
                raise DirectoryError(
                    Code.NO_PARENT, "the name is outside of this directory", where=Location(dn=str(dn))
                )
            raise DirectoryError(Code.NO_PARENT, f"there is no {parent} to hold it", where=Location(dn=str(dn)))
        return ids[parent.key]

    def _with_name(self, operation: AddEntry) -> Data:
        """The attributes of a new entry, those in its name among them."""
        data: Data = {name: list(values) for name, values in operation.attributes.items() if values}
        for kind, value in operation.dn.rdn:
            name = self._schema.attribute_name(kind) or kind
            present = {self._schema.key(name, one) for one in data.get(name, ())}
            if self._schema.key(name, value) not in present:
                data.setdefault(name, []).insert(0, value)
        return data

    def _new_data(self, operation: AddEntry, now: str) -> tuple[Data, dict[str, list[DN]]]:
        data = self._with_name(operation)
        for name in data:
            if not (operation.was and name in TAKEN_BACK):
                self._refuse_read_only(name, operation.dn)
        if not operation.as_held:
            self._check(operation.dn, data)
        references = {name: self._names_in(data, name) for name in self._schema.references_in(data)}
        self._hide_passwords(data)
        self._imply_superiors(data)
        data["entryUUID"] = [operation.was or new_identifier()]
        data["createTimestamp"] = data["modifyTimestamp"] = [now]
        return data, references

    @staticmethod
    def _names_in(data: Data, attribute: str) -> list[DN]:
        """Take the names out of the values of an attribute; what is none stays, as another directory held it."""
        parsed, broken = [], []
        for value in data.pop(attribute):
            try:
                parsed.append(names.parse(str(value)))
            except VandrelError:
                broken.append(value)
        data |= {attribute: broken} if broken else {}
        return parsed

    @staticmethod
    def _hide_passwords(data: Data) -> None:
        """Hash what is no hash yet (RFC 2307, 5.3: those begin with their scheme in braces)."""
        if "userPassword" in data:
            data["userPassword"] = [
                value if hashing.is_hash(value) else hashing.protect(Secret(_text(value)))
                for value in data["userPassword"]
            ]

    def _imply_superiors(self, data: Data) -> None:
        """Whatever is of a class is of its superiors (RFC 4512, 3.3): they are kept, so that filters find them."""
        named = tuple(map(str, data.get("objectClass", ())))
        if named not in self._implied:
            have = {name.lower() for name in named}
            above = self._schema.lineage(named)
            self._implied[named] = [c.name for c in above if c.kind != "ABSTRACT" and c.name.lower() not in have]
        if self._implied[named]:
            data["objectClass"] = [*named, *self._implied[named]]

    def _refuse_read_only(self, name: str, dn: DN) -> None:
        attribute = self._schema.attribute(name)
        if attribute is not None and attribute.read_only:
            raise DirectoryError(Code.SCHEMA, f"{name} is set by the directory alone", where=Location(dn=str(dn)))

    def _check(self, dn: DN, data: Data, before: Data | None = None) -> None:
        """Refuse data that the schema has something against that it had not against the data before."""
        where = Location(dn=str(dn))
        findings = self._schema.check_entry(data, where)
        if findings and before is not None:
            earlier = self._schema.check_entry(before, where)
            findings = [finding for finding in findings if finding not in earlier]
        if findings:
            error = DirectoryError(
                findings[0].code, findings[0].what, where=Location(dn=str(dn)), remedy=findings[0].remedy
            )
            error.findings = tuple(findings)
            raise error

    # --- changing

    def _row(self, dn: DN) -> tuple[int, str, Data]:
        row = self._db.execute("SELECT id, dn, data FROM entry WHERE key = ?", (dn.key,)).fetchone()
        if row is None:
            raise DirectoryError(Code.NOT_FOUND, "there is no such object any more", where=Location(dn=str(dn)))
        try:
            return row[0], row[1], decode(row[2], row[1])
        except DamagedRowError:
            raise damaged(dn) from None

    def _store(self, entry: int, name: str, before: Data, after: Data) -> None:
        """Write the data of an entry, whose name is kept so, and bring the index of values up to date."""
        old, new = set(self._index.values(entry, before)), set(self._index.values(entry, after))
        self._db.executemany("DELETE FROM value WHERE attribute = ? AND value = ? AND entry = ?", list(old - new))
        self._db.executemany("INSERT OR IGNORE INTO value(attribute, value, entry) VALUES(?, ?, ?)", list(new - old))
        after["modifyTimestamp"] = [gentime.now()]
        self._db.execute(
            "UPDATE entry SET data = ?, change = ? WHERE id = ?", (encode(after, name), self._change, entry)
        )

    def _modify(self, operation: ModifyEntry) -> None:
        entry, text, before = self._row(operation.dn)
        after = {name: list(values) for name, values in before.items()}
        current = before | self._references.some(entry)
        for change in operation.changes:
            self._refuse_read_only(change.attribute, operation.dn)
            if change.attribute in self._index.references:
                self._references.change(entry, change, operation.dn)
            else:
                self._change_values(after, change, operation.dn)
        self._hide_passwords(after)
        self._imply_superiors(after)
        self._check(operation.dn, after | self._references.some(entry), current)
        self._keep_structure(operation.dn, before, after)
        for kind, value in operation.dn.rdn:
            name = self._schema.attribute_name(kind)
            if self._schema.key(name, value) not in {self._schema.key(name, one) for one in after.get(name, ())}:
                raise DirectoryError(
                    Code.SCHEMA,
                    f"{name}={shorten(value)} is the object's name and cannot go",
                    where=Location(dn=str(operation.dn)),
                )
        fresh = set(self._unique_keys(after)) - set(self._unique_keys(before))
        owners = self._owners({(group, key) for group, key, _ in fresh})
        for group, key, value in fresh:
            holder = owners.get((group, key))
            if holder is not None and names.parse(holder) != operation.dn:
                raise _not_unique(value, holder, operation.dn)
        self._store(entry, text, before, after)

    def _keep_structure(self, dn: DN, before: Data, after: Data) -> None:
        """RFC 4512, section 2.4.2: the structural class of an entry does not change."""
        if before.get("objectClass") != after.get("objectClass"):
            old, new = (self._schema.structural_class(map(str, each["objectClass"])) for each in (before, after))
            if old != new:
                what = f"the structural object class of an entry stays: {old} cannot become {new}"
                raise DirectoryError(Code.SCHEMA, what, where=Location(dn=str(dn)))

    def _change_values(self, data: Data, change: Change, dn: DN) -> None:
        name = change.attribute
        by_key = {self._schema.key(name, value): value for value in data.get(name, ())}
        named = {self._schema.key(name, value) for value in (*change.removed, *change.added)}
        if change.is_exclusive and not by_key.keys() <= named:
            raise changed_meanwhile(f"{name} has got another value", dn)
        added, removed = ({self._schema.key(name, value) for value in each} for each in (change.added, change.removed))
        is_there = set(change.added) <= set(data.get(name, ())) if added & removed else added <= by_key.keys()
        if added and is_there and not (removed - added) & by_key.keys():
            return  # somebody has made it so already
        for value in change.removed:
            if by_key.pop(self._schema.key(name, value), None) is None and change.added:
                raise changed_meanwhile(f"{name} no longer has the value {shorten(value)}", dn)
        for value in change.added:
            by_key.setdefault(self._schema.key(name, value), value)
        data[name] = list(by_key.values())
        if not data[name]:
            del data[name]

    def _refuse_protected(self, data: Data, dn: DN) -> None:
        if data.get("vandrelProtected") == ["TRUE"]:
            raise DirectoryError(
                Code.PROTECTED,
                "the object is protected",
                where=Location(dn=str(dn)),
                remedy="release first, on purpose",
            )

    def _rename(self, operation: RenameEntry) -> None:
        old, new = operation.dn, operation.new
        entry, old_text, before = self._row(old)
        self._refuse_protected(before, old)
        ids = self._ids([new.key, new.parent.key])
        above = self._parent(new, ids)
        if new.is_below(old):
            raise DirectoryError(Code.REFUSED, "an object cannot be moved below itself", where=Location(dn=str(old)))
        if new != old and new.key in ids:
            raise DirectoryError(Code.TAKEN, "there is an object of this name already", where=Location(dn=str(new)))
        after = {name: list(values) for name, values in before.items()}
        for kind, value in old.rdn:
            self._change_values(after, Change(self._schema.attribute_name(kind), removed=(value,)), old)
        for kind, value in new.rdn:
            self._change_values(after, Change(self._schema.attribute_name(kind) or kind, added=(value,)), new)
        references = self._references.some(entry)
        self._check(new, after | references, before | references)
        text = f"{new.rdn_text},{above[1]}" if above else str(new)
        self._db.execute(
            "UPDATE entry SET key = ?, dn = ?, parent = ? WHERE id = ?",
            (new.key, text, above[0] if above else None, entry),
        )
        low, high = names.below(old.key)
        self._db.execute(
            "UPDATE entry SET key = ? || substr(key, ?), dn = substr(dn, 1, length(dn) - ?) || ?, change = ? "
            "WHERE key >= ? AND key < ?",
            (new.key, len(old.key) + 1, len(old_text), text, self._change, low, high),
        )
        # The sum of each goes over its name.
        self._db.create_function("sealed_anew", 2, sealed_anew, deterministic=True)
        below = names.below(new.key)
        self._db.execute("UPDATE entry SET data = sealed_anew(data, dn) WHERE key >= ? AND key < ?", below)
        self._store(entry, text, before, after)
        self._references.follow(old, new)

    def _delete(self, operation: DeleteEntry) -> None:
        entry, _, data = self._row(operation.dn)
        self._refuse_protected(data, operation.dn)
        children = self._db.execute("SELECT count(*) FROM entry WHERE parent = ?", (entry,)).fetchone()[0]
        if children:
            raise DirectoryError(
                Code.REFUSED, f"{children} objects stand below it", where=Location(dn=str(operation.dn))
            )
        self._db.executemany(
            "DELETE FROM value WHERE attribute = ? AND value = ? AND entry = ?", list(self._index.values(entry, data))
        )
        self._db.execute("DELETE FROM reference WHERE entry = ?", (entry,))
        self._db.execute("DELETE FROM entry WHERE id = ?", (entry,))
        self._references.drop(operation.dn)

    def _protected(self, secret: Secret) -> bytes:
        if secret.generated:
            return hashing.protect(secret)
        if id(secret) not in self._hashed:
            self._hashed[id(secret)] = secret, hashing.protect(secret)
        return self._hashed[id(secret)][1]

    def _password(self, operation: SetPassword) -> None:
        entry, text, before = self._row(operation.dn)
        after = with_password(
            before, self._protected(operation.secret) if operation.secret is not None else None,
            must_change=operation.must_change, as_filetime=self._schema.attribute("pwdLastSet") is not None,
        )  # fmt: skip
        references = self._references.some(entry)
        self._check(operation.dn, after | references, before | references)
        self._store(entry, text, before, after)


def _not_unique(value: Value, holder: str, dn: DN) -> DirectoryError:
    return DirectoryError(Code.TAKEN, f"{value!s} is taken by {holder}", where=Location(dn=str(dn)))


def _text(value: Value) -> str:
    return value if isinstance(value, str) else value.decode("utf-8", "replace")
