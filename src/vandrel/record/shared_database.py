"""A journal in a PostgreSQL database, which several machines share.

The lock of a job is an advisory lock of the session: the server frees it when the session ends, however that comes
about, so a process that was killed, or a machine that is gone, holds none. The connection is never opened anew, for
that would leave the job without its lock: whoever loses it stops.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any
from urllib.parse import parse_qs, urlsplit

from vandrel.errors import Code, DirectoryError, Finding, Location, VandrelError
from vandrel.record.database import TABLES, Locks, Rows

if TYPE_CHECKING:
    import psycopg

#: The schema in which the tables stand, and the version of them.
_SCHEMA, _VERSION = "vandrel", 1
#: Held by whoever makes the tables, so that two do not make them at once. "Vanj".
MAKING = 0x56616E6A
_SECONDS = 10
#: Seconds until a connection on which nothing comes back counts as lost, on either side.
_ALIVE = {"keepalives_idle": 20, "keepalives_interval": 5, "keepalives_count": 4}
_OF_SERVER = ("tcp_keepalives_idle=20", "tcp_keepalives_interval=5", "tcp_keepalives_count=4", "lock_timeout=10s")
_NEAR = ("", "localhost", "127.0.0.1", "::1")
#: The beginning of an SQLSTATE, and what it means. The longer ones first.
_MEANING = (
    ("53100", Code.DISK_FULL, "no room left on the disk of the database", "free some room and give the command again"),
    ("42501", Code.NOT_PERMITTED, "the role may not do that", "grant it the rights on the schema vandrel"),
    ("25006", Code.NOT_PERMITTED, "the database takes no changes", "is it a copy that only reads?"),
    ("28", Code.NOT_PERMITTED, "the database does not accept the role or its password", "see ~/.pgpass"),
    ("3D", Code.OUT_OF_REACH, "there is no such database", "createdb makes one"),
    ("40", Code.BUSY, "others write at the same moment", "give the command again"),
    ("55P03", Code.BUSY, "others write at the same moment", "give the command again"),
    ("53", Code.BUSY, "the database has no room for one more connection", "give the command again later"),
    ("57", Code.OUT_OF_REACH, "the database was shut down", "give the command again once it is back"),
    ("42", Code.FOREIGN, "the tables are not those of a journal", "name another database"),
)


def fault_of(url: str) -> str:
    """What is wrong with the URL of a journal; empty for nothing."""
    try:
        parts = urlsplit(url)
        _ = parts.port
    except ValueError:
        return f"{url!r} is no URL"
    if parts.scheme not in ("postgresql", "postgres") or not parts.path.strip("/"):
        return f"{url!r} is no database: write postgresql://HOST/NAME"
    if parts.password is not None or "password" in parse_qs(parts.query):
        return "a password does not stand here: it comes from ~/.pgpass (mode 0600), or from a service file of libpq"
    return ""


class SharedDatabase:
    """A database behind a URL of libpq; see `vandrel.record.database.Database`."""

    new_names = ""

    def __init__(self, url: str) -> None:
        """Connect, and make the tables where there are none.

        Raises:
            DirectoryError: ``out-of-reach``, ``not-permitted``, ``foreign``, ``busy``.

        """
        self.where = Location(server=url)
        try:
            import psycopg
        except ImportError:
            what = "a journal in a database needs a library that is not installed: psycopg"
            raise DirectoryError(
                Code.OUT_OF_REACH, what, where=self.where, remedy="pip install vandrel[postgresql]"
            ) from None
        self._errors = psycopg.Error
        parts = urlsplit(url)
        settings: dict[str, Any] = {
            **_ALIVE, "connect_timeout": _SECONDS, "application_name": "vandrel",
            "options": " ".join(f"-c {each}" for each in (f"search_path={_SCHEMA}", *_OF_SERVER)),
        }  # fmt: skip
        # Without a word on it, libpq would speak to whatever answers, in the clear if need be.
        if (parts.hostname or "") not in _NEAR and "sslmode" not in parse_qs(parts.query):
            settings |= {"sslmode": "verify-full", "sslrootcert": "system"}
        with self.plain_errors():
            self._db: psycopg.Connection[Any] = psycopg.connect(url, autocommit=True, **settings)
            self._make_tables()
            self.locks: Locks = AdvisoryLocks(self)

    def _make_tables(self) -> None:
        """Make the tables where there are none; of another version they are not touched."""
        if not self._is_there():
            # A name can be longer than an ordered index takes.
            tables = TABLES.format(
                number="INTEGER PRIMARY KEY GENERATED ALWAYS AS IDENTITY", octets="BYTEA", without_rowid="",
                hashed="USING hash ",
            )  # fmt: skip
            with self._db.transaction():
                self.execute("SELECT pg_advisory_xact_lock(?)", (MAKING,))
                if not self._is_there():
                    if not self.execute("SELECT 1 FROM pg_namespace WHERE nspname = ?", (_SCHEMA,)).fetchone():
                        self.execute(f"CREATE SCHEMA {_SCHEMA}")
                    for statement in filter(str.strip, tables.split(";")):
                        self.execute(statement)
                    self.execute("CREATE TABLE journal_version(version INTEGER NOT NULL)")
                    self.execute("INSERT INTO journal_version VALUES(?)", (_VERSION,))
        (version,) = self.execute("SELECT version FROM journal_version").fetchone()
        if version != _VERSION:
            what = f"the journal has format {version}, and this program reads format {_VERSION}"
            remedy = "use the version of Vandrel that wrote it"
            raise DirectoryError(Code.FOREIGN, what, where=self.where, remedy=remedy)

    def _is_there(self) -> bool:
        # By the catalogs as they are now: what `to_regclass` says can be from before a lock that was waited for.
        sql = "SELECT 1 FROM pg_class JOIN pg_namespace n ON n.oid = relnamespace WHERE nspname = ? AND relname = ?"
        return self.execute(sql, (_SCHEMA, "journal_version")).fetchone() is not None

    def must_be_writable(self) -> None:
        """See to it that the role may write. Raises `DirectoryError` ``not-permitted``."""
        with self.plain_errors():
            may = self.execute(
                "SELECT has_table_privilege('job', 'INSERT') AND has_table_privilege('step', 'INSERT') "
                "AND has_table_privilege('job', 'UPDATE') AND NOT pg_is_in_recovery()"
            ).fetchone()
        if not may[0]:
            what, remedy = "the journal cannot be written, so nothing is changed", "grant the role the rights on it"
            raise DirectoryError(Code.NOT_PERMITTED, what, where=self.where, remedy=remedy)

    def execute(self, sql: str, values: Sequence[object] = ()) -> Rows:
        """Carry out a statement."""
        return self._db.execute(sql.replace("?", "%s"), _storable(values))

    def executemany(self, sql: str, rows: Iterable[Sequence[object]]) -> None:
        """Carry out a statement for each of these, several of them on their way at once."""
        with self._db.cursor() as cursor:
            cursor.executemany(sql.replace("?", "%s"), list(map(_storable, rows)))

    @contextmanager
    def plain_errors(self) -> Iterator[None]:
        """Name the database in errors."""
        try:
            yield
        except self._errors as error:
            raise self._plain(error) from None

    def _plain(self, error: Exception) -> VandrelError:
        state = str(getattr(error, "sqlstate", None) or "")
        for beginning, code, what, remedy in _MEANING:
            if state.startswith(beginning):
                return DirectoryError(code, f"{what}: {_first_line(error)}", where=self.where, remedy=remedy)
        if not state and "FATAL" in str(error):  # no state comes with a refusal to connect
            what = f"the database does not let us in: {_first_line(error)}"
            remedy = "are the role and the database in the URL right, and the password in ~/.pgpass?"
            return DirectoryError(Code.NOT_PERMITTED, what, where=self.where, remedy=remedy)
        what = f"the journal cannot be reached: {_first_line(error)}"
        return DirectoryError(Code.OUT_OF_REACH, what, where=self.where, remedy="is the database running?")

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """Write in one go."""
        with self.plain_errors(), self._db.transaction():
            yield

    def overwriting(self) -> Any:
        """As `transaction`: what a database has deleted, it overwrites in its own time."""
        return self.transaction()

    def integrity(self) -> list[Finding]:
        """Nothing: a database server looks after its files itself."""
        return []

    def close(self) -> None:
        """Close the connection, and with it the locks."""
        self._db.close()


class AdvisoryLocks:
    """The locks of jobs, held by the session."""

    def __init__(self, database: SharedDatabase) -> None:
        self._database = database
        self._own: set[int] = set()
        (self._table,) = database.execute("SELECT 'job'::regclass::oid::bigint").fetchone()

    def take(self, job: int) -> bool:
        """Take the lock of a job; False where another session holds it."""
        if job in self._own:
            return True
        if is_free := self._ask("SELECT pg_try_advisory_lock(?::bigint::bit(32)::int, ?)", job):
            self._own.add(job)
        return is_free

    def vouch(self, job: int) -> None:
        """Count a job as locked by this process, on the word of somebody who knows that no other is."""
        self._own.add(job)

    def free(self, job: int) -> None:
        """Give the lock of a job back."""
        if job in self._own:
            self._own.discard(job)
            self._ask("SELECT pg_advisory_unlock(?::bigint::bit(32)::int, ?)", job)

    def is_taken(self, job: int) -> bool | None:
        """Whether a session holds the lock of a job, this one included."""
        return job in self._own or self._ask(
            "SELECT EXISTS(SELECT 1 FROM pg_locks WHERE locktype = 'advisory' AND granted "
            "AND classid = ?::bigint::oid AND objid = ?::bigint::oid "
            "AND database = (SELECT oid FROM pg_database WHERE datname = current_database()))",
            job,
        )

    def close(self) -> None:
        """They go with the session."""

    def _ask(self, sql: str, job: int) -> bool:
        with self._database.plain_errors():
            return bool(self._database.execute(sql, (self._table, job)).fetchone()[0])


def _storable(values: Sequence[object]) -> list[object]:
    """Values as a database takes them: it has no text with the character 0 in it."""
    return [value.replace("\0", "\N{REPLACEMENT CHARACTER}") if isinstance(value, str) else value for value in values]


def _first_line(error: Exception) -> str:
    return next(iter(str(error).strip().splitlines()), "") or type(error).__name__
