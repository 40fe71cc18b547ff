"""Whether the steps of a job still stand: the directory beside what the whole job should have left."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence

from vandrel.directory import dn as names
from vandrel.directory.dn import DN, LEVEL
from vandrel.directory.entry import Entry, Value
from vandrel.directory.member_lists import BY_NAME
from vandrel.directory.port import Directory, Scope
from vandrel.directory.schema import Schema
from vandrel.directory.schema.matching import Key
from vandrel.steps.step import Add, Remove, Rename, Set, Step

#: Given as a sign, and turned into a time by the server.
_VOLATILE = frozenset({"pwdLastSet"})


class _ExpectedState:
    """What a job should have left of one object: values that are there, values that are not, by their keys."""

    def __init__(self) -> None:
        self.there: dict[str, dict[Key, Value]] = {}
        self.gone: dict[str, dict[Key, Value]] = {}

    def come(self, name: str, values: dict[Key, Value]) -> None:
        """Take note that values are there."""
        self._move(name, values, self.gone, self.there)

    def go(self, name: str, values: dict[Key, Value]) -> None:
        """Take note that values are gone."""
        self._move(name, values, self.there, self.gone)

    @staticmethod
    def _move(
        name: str, values: dict[Key, Value], old: dict[str, dict[Key, Value]], new: dict[str, dict[Key, Value]]
    ) -> None:  # fmt: skip
        for key in old.setdefault(name, {}).keys() & values.keys():
            del old[name][key]
        new.setdefault(name, {}).update(values)


class StateCheck:
    """Works through the steps of one job in their order; then asks the directory."""

    def __init__(self, directory: Directory, steps: Sequence[Step | None]) -> None:
        self._directory = directory
        self._schema: Schema = directory.schema
        self._expected: dict[str, _ExpectedState] = {}
        self._removed: set[str] = set()
        self._entries: dict[str, Entry | None] = {}
        #: Of each step, the name that its object has after the job.
        self.final: list[DN | None] = [None if step is None else step.dn for step in steps]
        for number, step in enumerate(steps):
            self._take(number, step)

    def _take(self, number: int, step: Step | None) -> None:
        match step:
            case Add(dn, attributes):
                self._removed.discard(dn.key)
                state = self._expected[dn.key] = _ExpectedState()
                for name, values in attributes.items():
                    state.come(name, self._keyed(name, values))
            case Set(dn, changes):
                state = self._expected.setdefault(dn.key, _ExpectedState())
                for change in changes:
                    state.go(change.attribute, self._keyed(change.attribute, change.removed))
                    state.come(change.attribute, self._keyed(change.attribute, change.added))
            case Rename():
                self._rename(number, step)
            case Remove(dn):
                self._removed.add(dn.key)

    def _rename(self, number: int, step: Rename) -> None:
        """Everything that was said of the object, of what is below it, and of names that point there, moves along."""

        def moved(key: str) -> str:
            inside = key == step.dn.key or key.startswith(step.dn.key + LEVEL)
            return step.new.key + key[len(step.dn.key) :] if inside else key

        def renamed(value: Value) -> Value:
            dn = names.parse(value) if isinstance(value, str) and value else None
            return str(dn.moved(step.dn, step.new)) if dn is not None and dn.is_within(step.dn) else value

        self._expected = {moved(key): state for key, state in self._expected.items()}
        for state in self._expected.values():
            for values in (state.there, state.gone):
                for name in self._schema.references_in(values):  # type: ignore[arg-type]
                    values[name] = self._keyed(name, [renamed(value) for value in values[name].values()])
        own = self._expected.get(step.new.key)
        for kind, _ in (*step.dn.rdn, *step.new.rdn):
            if own is not None:  # the naming value went with the old name
                own.there.pop(self._schema.attribute_name(kind) or kind, None)
        self.final[number] = step.new
        for earlier, dn in enumerate(self.final[:number]):
            if dn is not None and dn.is_within(step.dn):
                self.final[earlier] = dn.moved(step.dn, step.new)

    def _keyed(self, name: str, values: Sequence[Value]) -> dict[Key, Value]:
        return {self._schema.value_key(name, value): value for value in values}

    # --- asking the directory

    def _entry(self, dn: DN) -> Entry | None:
        """An object with what the steps speak of: a list of members may be as long as the directory."""
        if dn.key not in self._entries:
            state = self._expected.get(dn.key)
            named = {*state.there, *state.gone} if state is not None else set[str]()
            lists = named & {*BY_NAME}
            entry = self._without_lists(dn, named - lists) if lists and dn.key not in self._removed else None
            if entry is None or state is None:
                entry = self._directory.get(dn)
            else:
                for name in lists:
                    texts = [str(v) for each in (state.there, state.gone) for v in each.get(name, {}).values()]
                    entry.attributes[name] = self._directory.some_values(dn, name, texts)
            self._entries[dn.key] = entry
        return self._entries[dn.key]

    def _without_lists(self, dn: DN, attributes: Collection[str]) -> Entry | None:
        return next(iter(self._directory.search(dn, Scope.BASE, only=["objectClass", *attributes])), None)

    def of(self, number: int, step: Step | None) -> bool | None:
        """Whether the step with this number, counted from 0, still stands; None where nothing can be told."""
        dn = self.final[number]
        if dn is None:
            return None
        if dn.key in self._removed:  # by this step, or by a later one of the same job
            return not isinstance(step, Remove) or self._entry(dn) is None
        if isinstance(step, Remove):
            return True  # a later step made an object of this name
        entry = self._entry(dn)
        if entry is None:
            return False
        return isinstance(step, Rename) or all(self._holds(entry, dn, name) for name in _touched(step))

    def _holds(self, entry: Entry, dn: DN, name: str) -> bool:
        state = self._expected.get(dn.key)
        if state is None or name in _VOLATILE:
            return True
        have = self._keyed(name, entry.values_of(name)).keys()
        return state.there.get(name, {}).keys() <= have and not state.gone.get(name, {}).keys() & have


def _touched(step: Step | None) -> Iterator[str]:
    if isinstance(step, Add):
        yield from step.attributes
    elif isinstance(step, Set):
        yield from (change.attribute for change in step.changes)
