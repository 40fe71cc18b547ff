"""The journal: who did what, when, by which command, step by step with the state before; never a password.

The steps of a job are written down before the first is made. ``reached`` is the number of the last step that is
known to be over, and ``going`` that of the last that was begun; after a kill, the directory tells which of those
between them were made. What it has of those behind, somebody else has made. ``seen`` is the last sign of life.
"""

from __future__ import annotations

import getpass
import os
import socket
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct, structs

from vandrel.errors import NOTE, Code, DirectoryError, Finding, Location, VandrelError
from vandrel.record.database import Database, JournalFile

#: What a step puts down of itself: ``step``, ``dn``, and what it changes.
Record = dict[str, Any]

RUNNING, DONE, PART, BROKEN = "running", "done", "in part", "broken off"
AHEAD, BEGUN, MADE, REFUSED = "not begun", "begun", "made", "refused"

_encode = msgspec.msgpack.Encoder().encode
_decode = msgspec.msgpack.Decoder().decode


class Job(Struct, frozen=True):
    """One change as a whole.

    Times are UTC in ISO 8601. ``seen`` is the last sign of life; ``ended`` is empty while the job runs or was killed.
    ``who`` is the user of this machine, ``bound_as`` the identity on the server, empty for a file.
    ``directory`` is where the directory was, ``identity`` which it is (`vandrel.directory.port.Directory.identity`).
    ``results`` is the path of the file that tells what became of each row of a file.
    """

    number: int
    begun: str
    seen: str
    ended: str
    who: str
    bound_as: str
    host: str
    command: str
    title: str
    directory: str
    identity: str
    planned: int
    made: int
    refused: int
    undoes: int
    results: str
    state: str


class JobQuery(Struct, frozen=True):
    """Which jobs: all conditions count together.

    Attributes:
        about: names in full of objects, of which one was changed; empty for any.
        by: a part of the name of the user, or of the identity on the server.
        since: the first moment.
        until: the last moment.
        attributes: attributes of which one was changed; empty for any.

    """

    about: tuple[str, ...] = ()
    by: str = ""
    since: datetime | None = None
    until: datetime | None = None
    attributes: tuple[str, ...] = ()


class NewJob(Struct, frozen=True):
    """A job that is to be opened: its steps up to the number ``going`` are begun first."""

    command: str
    title: str
    directory: str
    identity: str
    planned: int
    going: int
    undoes: int = 0
    bound_as: str = ""
    results: str = ""


class JournalStep(Struct, frozen=True):
    """One step of a job: ``not begun``, ``begun`` (may or may not have been made), ``made`` or ``refused``."""

    number: int
    state: str
    record: Record
    why: str


def _attributes_of(record: Record) -> set[str]:
    """The attributes that a step changes, in lower case."""
    if record["step"] == "set":
        return {name.lower() for name, *_ in record["changes"]}
    if record["step"] == "password":
        return {"userpassword", "unicodepwd"}
    return {name.lower() for name in record.get("attributes", ())}


def _containing(text: str) -> str:
    """The pattern of LIKE, with ``!`` before what is meant as it stands, for texts in lower case that contain one."""
    escaped = "".join(f"!{char}" if char in "!%_" else char for char in text.lower())
    return f"%{escaped}%"


def _now() -> str:
    return _in_text(datetime.now(UTC))


def _in_text(moment: datetime) -> str:
    """A moment as it stands in the file, where text sorts as time does."""
    return moment.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def user_name() -> str:
    """The name of the user of this machine."""
    try:
        return getpass.getuser()
    except (KeyError, OSError):
        return f"uid {os.getuid()}"


class Journal:
    """A journal, made on first use: a file, or a database that several machines share.

    Attributes:
        path: the file; of a shared one, where it would be. What else is kept of a directory stands beside it.

    """

    def __init__(self, path: Path, *, create: bool = False, url: str = "") -> None:
        """Open the journal: the file, or with `url` that database.

        Raises:
            DirectoryError: as opening a directory does.

        """
        self.path = path
        self._db: Database
        if url:
            from vandrel.record.shared_database import SharedDatabase

            self._db = SharedDatabase(url)
        else:
            self._db = JournalFile(path, create=create)
        self._locks = self._db.locks

    @property
    def where(self) -> Location:
        """Where it is kept."""
        return self._db.where

    def close(self) -> None:
        """Close it, and have no more to do with its locks."""
        self._db.close()

    # --- writing

    def begin(self, job: NewJob) -> int:
        """Open a job, take its lock, and return its number."""
        self._db.must_be_writable()
        now = _now()
        values = {
            "begun": now, "seen": now, "who": user_name(), "host": socket.gethostname(), "pid": os.getpid(),
            "state": RUNNING, **structs.asdict(job),
        }  # fmt: skip
        marks = ", ".join("?" * len(values))
        # Within the transaction: nobody sees a running job without its lock.
        with self._db.transaction():
            (number,) = self._db.execute(
                f"INSERT INTO job({', '.join(values)}) VALUES({marks}) RETURNING number", list(values.values())
            ).fetchone()
            self._locks.take(number)
        return int(number)

    def write(self, job: int, first: int, records: Sequence[Record]) -> None:
        """Write steps down, before they are made; `first` is the number of the first in the job."""
        rows = [(job, first + i, record["dn"], record.get("new"), _encode(record)) for i, record in enumerate(records)]
        with self._db.transaction():
            self._db.executemany("INSERT INTO step(job, number, dn, new_dn, record) VALUES(?, ?, ?, ?, ?)", rows)

    def mark(
        self, job: int, first: int, outcomes: Sequence[VandrelError | None], going: int, *, is_known: bool = True
    ) -> None:
        """Say what became of the steps from `first` on: made, or refused and why; those up to `going` come next.

        With `is_known`, nothing behind `going` was begun. Otherwise a step that was begun once stays in doubt.
        """
        refused = [(REFUSED, str(error), job, first + i) for i, error in enumerate(outcomes) if error is not None]
        with self._db.transaction():
            self._db.executemany("UPDATE step SET state = ?, why = ? WHERE job = ? AND number = ?", refused)
            self._db.execute(
                "UPDATE job SET made = made + ?, refused = refused + ?, reached = ?, seen = ?, "
                "going = CASE WHEN ? OR going < ? THEN ? ELSE going END WHERE number = ?",
                (
                    len(outcomes) - len(refused),
                    len(refused),
                    first + len(outcomes) - 1,
                    _now(),
                    is_known,
                    going,
                    going,
                    job,
                ),
            )

    def end(self, job: int, state: str) -> None:
        """Take note that a job is over, and give its lock back."""
        with self._db.plain_errors():
            now = _now()
            self._db.execute("UPDATE job SET ended = ?, seen = ?, state = ? WHERE number = ?", (now, now, state, job))
        self._locks.free(job)

    def over(self, identity: str, before: datetime) -> list[int]:
        """The numbers of the jobs on a directory that ended before a moment; never that of the last job of all."""
        moment = _in_text(before)
        with self._db.plain_errors():
            rows = self._db.execute(
                "SELECT number FROM job WHERE identity = ? AND state IN (?, ?) AND ended < ? "
                "AND number < (SELECT max(number) FROM job) ORDER BY number",
                (identity, DONE, PART, moment),
            ).fetchall()
        return [number for (number,) in rows]

    def forget(self, numbers: Sequence[int]) -> None:
        """Forget jobs for good. What was written is overwritten."""
        with self._db.overwriting():
            for table, column in (("step", "job"), ("job", "number")):
                self._db.executemany(f"DELETE FROM {table} WHERE {column} = ?", [(number,) for number in numbers])

    def first(self) -> int:
        """The number of the first job that is in it; 0 where there is none."""
        with self._db.plain_errors():
            return int(self._db.execute("SELECT coalesce(min(number), 0) FROM job").fetchone()[0])

    def claim(self, number: int, *, is_dead: bool = False) -> Job:
        """Take the lock of a job that was begun before, to finish it or to take it back.

        With `is_dead`, somebody vouches that no process is at work on it, whatever its lock says.

        Raises:
            VandrelError: ``busy`` where a process is at work on it, ``not-found``.

        """
        job = self.job(number)
        if not self._locks.take(number):
            if not is_dead:
                raise self._busy(job)
            self._locks.vouch(number)
        if job.state == RUNNING and not is_dead:  # without locks, the process number tells
            self._locks.free(number)
            raise self._busy(job)
        if job.state in (RUNNING, BROKEN):
            with self._db.plain_errors():
                self._db.execute("UPDATE job SET state = ? WHERE number = ? AND state = ?", (BROKEN, number, RUNNING))
        return self.job(number)

    def release(self, number: int) -> None:
        """Give back the lock of a claimed job."""
        self._locks.free(number)

    def _busy(self, job: Job) -> VandrelError:
        what = f"a process is at work on job {job.number}: it was begun by {job.who} on {job.host}"
        remedy = "wait until it is over; --not-running where you know that there is no such process"
        return VandrelError(Code.BUSY, what, where=Location(job=job.number), remedy=remedy)

    # --- reading

    _JOB = (
        "SELECT number, begun, seen, coalesce(ended, ''), who, bound_as, host, command, title, directory, identity, "
        "planned, made, refused, undoes, results, state, pid FROM job"
    )

    def jobs(self, last: int = 0, query: JobQuery = JobQuery()) -> Iterator[Job]:  # noqa: B008
        """The jobs that fit, newest first: all or the `last` so many."""
        conditions, values = ["1 = 1"], list[object]()
        if query.about:
            marks = ", ".join("?" * len(query.about))
            conditions.append(f"number IN (SELECT job FROM step WHERE dn IN ({marks}))")
            values += query.about
        if query.by:
            conditions.append("(lower(who) LIKE ? ESCAPE '!' OR lower(bound_as) LIKE ? ESCAPE '!')")
            values += [_containing(query.by)] * 2
        for sign, moment in ((">=", query.since), ("<=", query.until)):
            if moment is not None:
                conditions.append(f"begun {sign} ?")
                values.append(_in_text(moment))
        with self._db.plain_errors():
            rows = self._db.execute(f"{self._JOB} WHERE {' AND '.join(conditions)} ORDER BY number DESC", values)
            fitting = (self._job(row) for row in rows if not query.attributes or self._touches(row[0], query))
            yield from islice(fitting, last or None)

    def _touches(self, job: int, query: JobQuery) -> bool:
        """Whether a step of a job changes one of the attributes, on one of the objects."""
        about, attributes = set(query.about), {name.lower() for name in query.attributes}
        rows = self._db.execute("SELECT dn, record FROM step WHERE job = ?", (job,)).fetchall()
        return any(attributes & _attributes_of(_decode(record)) for dn, record in rows if not about or dn in about)

    def names_of(self, dn: str) -> tuple[str, ...]:
        """A name in full, and those that the object had before and after it, by what was renamed here."""
        dns, fresh = {dn}, [dn]
        with self._db.plain_errors():
            while fresh:
                one = fresh.pop()
                rows = self._db.execute(
                    "SELECT dn FROM step WHERE new_dn = ? "
                    "UNION SELECT new_dn FROM step WHERE dn = ? AND new_dn IS NOT NULL",
                    (one, one),
                ).fetchall()
                fresh += [name for (name,) in rows if name not in dns]
                dns |= set(fresh)
        return tuple(sorted(dns))

    def renames(self, identity: str) -> Iterator[tuple[int, int, str, str]]:
        """The renames that were made on a directory, in their order: job, step, old name and new."""
        with self._db.plain_errors():
            yield from self._db.execute(
                f"SELECT s.job, s.number, s.dn, s.new_dn FROM step s {self._db.new_names} "
                "JOIN job j ON j.number = s.job "
                "WHERE j.identity = ? AND s.new_dn IS NOT NULL AND s.number <= j.reached AND coalesce(s.state, ?) = ? "
                "ORDER BY s.job, s.number",
                (identity, MADE, MADE),
            ).fetchall()

    def names_with(self, word: str) -> list[str]:
        """The names in full of objects that steps were about, and that have a word in the first part of them."""
        with self._db.plain_errors():
            rows = self._db.execute(
                "SELECT DISTINCT dn FROM step WHERE lower(dn) LIKE ? ESCAPE '!'", (_containing(word),)
            ).fetchall()
        return [name for (name,) in rows if word.lower() in name.partition(",")[0].lower()]

    def job(self, number: int) -> Job:
        """One job.

        Raises:
            VandrelError: code ``not-found``.

        """
        with self._db.plain_errors():
            row = self._db.execute(f"{self._JOB} WHERE number = ?", (number,)).fetchone()
        if row is None:
            raise VandrelError(Code.NOT_FOUND, f"the journal has no job {number}", remedy="vandrel journal lists them")
        return self._job(row)

    def undone_by(self, number: int) -> int:
        """The number of the job that took this one back and was not taken back itself; 0 if there is none."""
        with self._db.plain_errors():
            rows = self._db.execute(
                "SELECT number FROM job WHERE undoes = ? AND state = ? ORDER BY number", (number, DONE)
            ).fetchall()
        return next((other for (other,) in rows if not self.undone_by(other)), 0)

    def steps(self, job: int) -> Iterator[JournalStep]:
        """The steps of a job, in order."""
        with self._db.plain_errors():
            for number, state, record, why in self._db.execute(
                "SELECT s.number, coalesce(s.state, CASE WHEN s.number <= j.reached THEN ? WHEN s.number <= j.going "
                "THEN ? ELSE ? END), s.record, coalesce(s.why, '') "
                "FROM step s JOIN job j ON j.number = s.job WHERE job = ? ORDER BY s.number",
                (MADE, BEGUN, AHEAD, job),
            ):
                yield JournalStep(number, state, self._read(record, job, number), why)

    def _read(self, record: bytes, job: int, step: int) -> Record:
        try:
            decoded: Record = _decode(record)
        except (TypeError, ValueError):  # msgspec's errors are of ValueError
            what, where = f"the record of step {step} is damaged", structs.replace(self.where, job=job)
            remedy = "vandrel verify tells what else is; vandrel unpack takes a copy"
            raise DirectoryError(Code.DAMAGED, what, where=where, remedy=remedy) from None
        return decoded

    def verify(self) -> tuple[int, list[Finding]]:
        """Go through the whole file: how many steps there are, and what is damaged."""
        findings, steps = self._db.integrity(), 0
        try:
            with self._db.plain_errors():
                for job, number, record in self._db.execute("SELECT job, number, record FROM step"):
                    steps += 1
                    try:
                        self._read(record, job, number)
                    except DirectoryError as error:
                        findings += [structs.replace(finding, severity=NOTE) for finding in error.findings]
        except DirectoryError as error:
            what = f"reading stopped after {steps} steps: {error}"
            findings.append(Finding(Code.DAMAGED, what, self.where, "take it from a copy", NOTE))
        return steps, findings

    def broken(self) -> list[Job]:
        """Jobs that were begun and never ended, by a process that is gone."""
        with self._db.plain_errors():
            rows = self._db.execute(f"{self._JOB} WHERE state IN (?, ?)", (RUNNING, BROKEN)).fetchall()
        return [job for job in map(self._job, rows) if job.state == BROKEN]

    def _job(self, row: tuple[object, ...]) -> Job:
        *values, pid = row
        job = Job(*values)  # type: ignore[arg-type]
        if job.state != RUNNING:
            return job
        is_taken = self._locks.is_taken(job.number)
        runs = _alive(job.host, int(str(pid))) if is_taken is None else is_taken
        return job if runs else structs.replace(job, state=BROKEN)


def _alive(host: str, pid: int) -> bool:
    """Whether the process still runs; one on another machine is given the benefit of the doubt."""
    if host != socket.gethostname():
        return True
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
