"""From the options of a command line to the charter, the directory and the journal that it works with."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel import file_names, user_folders
from vandrel.cli.terminal import Terminal
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError

if TYPE_CHECKING:
    from vandrel.charter.charter import Charter
    from vandrel.connections.config import Target
    from vandrel.connections.document import Connection, Mail
    from vandrel.directory.embedded.store import EmbeddedDirectory
    from vandrel.directory.ldap.store import LdapDirectory
    from vandrel.directory.port import Directory
    from vandrel.directory.service.store import ServiceDirectory
    from vandrel.objects.context import Context
    from vandrel.record.attic import Attic
    from vandrel.record.journal import Journal
    from vandrel.record.snapshots import Snapshots
    from vandrel.secret import Secret
    from vandrel.steps.runner import Runner


#: What was asked in this process: the tour of the demo runs many commands in one.
_asked: dict[str, Secret] = {}
#: The servers of which it was said in this process that their certificates are not checked.
_told = set[str]()


class OutdatedError(Exception):
    """A server is not what it was taken to be: the command is to begin anew, and to take nothing on trust."""


class Session:
    """One run of a command. Everything is opened when it is first asked for."""

    def __init__(self, args: argparse.Namespace, words: Sequence[str], *, trusting: bool = False) -> None:
        self.args = args
        #: Whether servers are taken to be what they were a short while ago: whoever does so calls `must_be_current`.
        self.trusting = trusting
        self._servers: list[LdapDirectory | ServiceDirectory] = []
        self.terminal = Terminal(
            as_json=getattr(args, "json", False),
            quiet=getattr(args, "quiet", False),
            color=not getattr(args, "no_color", False),
        )
        self._words = words
        #: Whether somebody gave a command; otherwise a word of one is being completed, which asks and runs nothing.
        self.is_by_hand = True
        self._before: Context | None = None
        #: The file of a directory that this command has made.
        self.new_directory: Path | None = None

    @property
    def command(self) -> str:
        """The command as it was typed, for the journal. Passwords never stand in it."""
        import shlex

        return shlex.join(["vandrel", *self._words])

    def must_be_current(self) -> None:
        """See to it that servers are what they were taken to be, as far as that can be seen by now.

        Raises:
            OutdatedError: one is not; all are closed.

        """
        if not self._servers:
            return
        from vandrel.directory.port import DescriptionChangedError

        try:
            for server in self._servers:
                with suppress(VandrelError):  # whoever goes on with it is told
                    server.confirm()
        except DescriptionChangedError:
            for server in self._servers:
                server.close()
            raise OutdatedError from None

    # --- files

    @cached_property
    def charter_path(self) -> Path:
        """The charter: named, in the environment, here or in a folder above, or the user's own.

        Raises:
            VandrelError: code ``not-found``.

        """
        named = getattr(self.args, "charter", None) or os.environ.get("VANDREL_CHARTER")
        if named:
            return Path(named)
        if Path(file_names.CHARTER).is_file():
            return Path(file_names.CHARTER)
        here = Path.cwd()
        for folder in here.parents:
            if (folder / file_names.CHARTER).is_file():
                return folder / file_names.CHARTER
        own = user_folders.settings() / file_names.CHARTER
        if own.is_file():
            return own
        raise VandrelError(
            Code.NOT_FOUND,
            f"there is no {file_names.CHARTER} in this folder or above it",
            where=Location(file=str(here)),
            remedy="vandrel charter draft writes that of a directory, charter new one to start from; "
            "vandrel demo DIR makes a folder to try things in",
        )

    @property
    def folder(self) -> Path:
        """The folder of the charter."""
        return self.charter_path.parent

    @property
    def _which(self) -> str:
        """What was named: a file, a connection, a URL; empty for the file beside the charter."""
        return getattr(self.args, "directory", None) or os.environ.get("VANDREL_DIRECTORY") or ""

    @cached_property
    def target(self) -> Target | None:
        """The connection and identity that were named; None where the directory is a file."""
        which = self._which
        if not which and not getattr(self.args, "who", None):
            return None
        if not which:
            raise VandrelError(
                Code.USAGE, "an identity is of a connection, and none is named", where=Location(option="--who"),
                remedy="add --directory NAME, or set VANDREL_DIRECTORY",
            )  # fmt: skip
        from vandrel.connections import config

        connections = self.connections
        looks_like_a_file = os.sep in which or bool(Path(which).suffix) or Path(which).exists()
        usual = os.environ.get("VANDREL_WHO") or "" if self._before is None else ""  # that of the directory before
        who = getattr(self.args, "who", None) or usual
        if not config.is_url(which) and which not in connections and looks_like_a_file:
            if getattr(self.args, "who", None):
                raise VandrelError(
                    Code.USAGE, "a directory in a file has no identities", where=Location(option="--who")
                )
            return None
        return config.choose(which, connections, who)

    @cached_property
    def connections(self) -> dict[str, Connection]:
        """The connections of the file in the environment; or the user's, and those beside the charter, here, above."""
        from vandrel.connections import config

        if os.environ.get("VANDREL_CONNECTIONS"):
            return config.load(self._connection_files)
        skipped: list[Finding] = []
        connections = config.load(self._connection_files, skipped)
        if self.is_by_hand:
            self.terminal.findings(skipped)
        return connections

    @property
    def _connection_files(self) -> list[Path]:
        if named := os.environ.get("VANDREL_CONNECTIONS"):
            return [Path(named)]
        here = Path.cwd()
        places = [here, *here.parents]
        with suppress(VandrelError):  # without a charter, a server can be looked at all the same
            places.insert(0, self.folder)
        # The user's own come first: a folder that one works in cannot take their names.
        places.insert(0, user_folders.settings())
        return [place / file_names.CONNECTIONS for place in dict.fromkeys(places)]

    @cached_property
    def mail(self) -> Mail:
        """How messages are sent.

        Raises:
            VandrelError: ``not-found`` where no file of connections says it.

        """
        from vandrel.connections import config

        mail = config.load_mail(self._connection_files)
        if mail is None:
            what = f"no {file_names.CONNECTIONS} says how messages are sent"
            remedy = "mail: {sender: accounts@example.org, server: smtps://HOST}; or command: sendmail -t -i"
            raise VandrelError(Code.NOT_FOUND, what, remedy=remedy)
        return mail

    @cached_property
    def directory_path(self) -> Path:
        """The file of an embedded directory."""
        if self._which:
            return Path(self._which)
        with suppress(VandrelError):  # without a charter, the file in this folder
            return self.folder / file_names.DIRECTORY
        return Path(file_names.DIRECTORY)

    @property
    def is_missing(self) -> bool:
        """Whether the directory is a file that is still to be made."""
        return self.target is None and "directory" not in self.__dict__ and not self.directory_path.exists()

    @property
    def journal_path(self) -> Path:
        """The file of the journal: beside the file of an embedded directory, beside the charter for a server.

        Where the journal is in a database, what else is kept of the directory still stands beside this.
        """
        return self.folder / file_names.JOURNAL if self.target else self.directory_path.with_name(file_names.JOURNAL)

    def rehearse(self) -> None:
        """Work on an empty directory that is gone with the program, where the real one is still to be made."""
        import tempfile

        from vandrel.directory.embedded.store import EmbeddedDirectory

        self._rehearsal = tempfile.TemporaryDirectory(prefix="vandrel-")
        path = Path(self._rehearsal.name) / file_names.DIRECTORY
        self.__dict__["directory"] = EmbeddedDirectory.create(path, [self.charter.base])

    @cached_property
    def charter(self) -> Charter:
        """The charter, read and checked; of a connection with a base of its own, as if it were for that."""
        from vandrel.charter.load import load

        charter = load(self.charter_path)
        if self.target is None:
            return charter
        base, is_service = self.target.connection.base, self.target.is_service
        if is_service:
            from vandrel.connections.connect import service_base

            base = base or service_base(self.target)
        return charter.at(base, named_by="login" if is_service else "") if base else charter

    @cached_property
    def directory(self) -> Directory:
        """The directory, which must be one for the charter."""
        charter = self.charter
        directory = self.server if self.target else self._file()
        if not any(charter.base.is_within(context) for context in directory.contexts):
            contexts = " and ".join(map(str, directory.contexts))
            raise VandrelError(
                Code.FOREIGN,
                f"the directory holds {contexts}, and the charter is for {charter.base}",
                where=Location(server=directory.location),
                remedy="name the directory that belongs to this charter with --directory",
            )
        return directory

    def turn_to(self, which: str, who: str = "") -> Context:
        """Act on another directory from here on, by its own charter if it is a file beside one.

        Returns:
            The context that was the session's before, whose directory stays open to be read.

        """
        if self._before is None:
            self._before = self.context
            self.args.directory, self.args.who = which, who
            for name in ("target", "directory_path", "charter", "directory", "server", "context"):
                self.__dict__.pop(name, None)
            beside = Path(which).with_name(file_names.CHARTER)
            if self.target is None and beside.is_file():
                self.__dict__["charter_path"] = beside
        return self._before

    @property
    def any_directory(self) -> Directory:
        """The directory that was named, or the file in this folder; no charter is needed."""
        return self.server if self.target else self._file()

    @cached_property
    def server(self) -> LdapDirectory | ServiceDirectory:
        """The server that was named, connected to and bound; needs no charter."""
        from vandrel.errors import Code, Location

        assert self.target is not None
        if not self.is_by_hand:
            what = "a word is completed without connecting to a server"
            raise VandrelError(Code.OUT_OF_REACH, what, where=Location(server=self.target.name))
        from vandrel.connections.connect import connect, not_checked

        directory = connect(self.target, self.ask, trusting=self.trusting)
        self._servers.append(directory)
        if self.target.connection.unchecked and directory.location not in _told:
            _told.add(directory.location)
            self.terminal.findings([not_checked(directory.location)])
        return directory

    def ask(self, question: str) -> Secret:
        """Ask for a password that is not shown.

        Raises:
            VandrelError: ``usage`` where nobody can be asked.

        """
        import getpass

        from vandrel.secret import Secret

        if not sys.stdin.isatty() or not self.is_by_hand:
            raise VandrelError(
                Code.USAGE, "nobody can be asked for a password here", where=Location(server=self._which),
                remedy="give the identity a password-file, a password-command or the keyring, in the connections",
            )  # fmt: skip
        if question not in _asked:
            _asked[question] = Secret(getpass.getpass(f"{question} (not shown): "))
        return _asked[question]

    def _file(self) -> EmbeddedDirectory:
        from vandrel.directory.embedded.store import EmbeddedDirectory

        try:
            return EmbeddedDirectory(self.directory_path)
        except VandrelError as error:
            if error.code == Code.OUT_OF_REACH and not self.directory_path.exists():
                raise VandrelError(
                    Code.OUT_OF_REACH, "there is no directory here yet", where=Location(file=str(self.directory_path)),
                    remedy="vandrel hierarchy build makes one, with the units of the charter",
                ) from None  # fmt: skip
            raise

    @cached_property
    def context(self) -> Context:
        """The charter and the directory."""
        from vandrel.dialects import dialect_for
        from vandrel.objects.context import Context

        directory = self.directory
        return Context(self.charter, directory, dialect_for(directory, self.charter))

    def journal(self, *, create: bool = False) -> Journal:
        """The journal of the directory, in the same folder.

        Raises:
            VandrelError: ``not-found`` where nothing was ever changed and `create` is false.

        """
        if not create and not self.has_journal:
            where = Location(file=str(self.journal_path))
            raise VandrelError(Code.NOT_FOUND, "nothing has been changed yet, so there is no journal", where=where)
        return self._opened

    @property
    def has_journal(self) -> bool:
        """Whether there is a journal yet; one in a database is made when it is first looked for."""
        return bool(self.journal_url) or self.journal_path.exists()

    @property
    def journal_url(self) -> str:
        """The database in which the journal is; empty for a file."""
        return self.target.connection.journal if self.target else ""

    def must_have_journal(self) -> None:
        """See to it that something was ever changed.

        Raises:
            VandrelError: ``not-found``.

        """
        self.journal()

    @cached_property
    def _opened(self) -> Journal:
        from vandrel.record.journal import Journal

        return Journal(self.journal_path, create=True, url=self.journal_url)

    @cached_property
    def runner(self) -> Runner:
        """The runner for the directory and its journal."""
        from vandrel.steps.runner import Runner

        context = self.context
        return Runner(context.directory, context.dialect, lambda: self.journal(create=True))

    @property
    def attic(self) -> Attic:
        """What was deleted from the directory."""
        return self.runner.attic

    @cached_property
    def snapshots(self) -> Snapshots:
        """What the directory held at certain moments."""
        from vandrel.record.snapshots import Snapshots

        return Snapshots(self.journal_path.with_name(file_names.SNAPSHOTS), self.directory.identity)

    def tell_damage(self, code: int) -> int:
        """Tell of entries that were found damaged and left out; return the exit code, which they change."""
        directory = self.__dict__.get("directory")  # only if it was opened
        damage = getattr(directory, "damage", None)
        if not damage or getattr(self.args, "command", "") == "verify":
            return code
        from vandrel.jobs.inspect.verify import left_out

        self.terminal.findings(left_out(damage))
        return code or Code.DAMAGED.exit_code

    @property
    def who(self) -> str:
        """The user of this machine, and the identity on the server."""
        from vandrel.record.journal import user_name

        bound = self.directory.bound_as
        return f"{user_name()} as {bound}" if bound else user_name()

    @property
    def begun(self) -> int:
        """The number of the job that this command began last; 0: it has begun none."""
        return self.runner.job if "runner" in self.__dict__ else 0

    def withdraw_new_directory(self) -> None:
        """Take back the empty file of a directory that was made for a job that did not begin."""
        if self.new_directory is None:
            return
        if "directory" in self.__dict__:
            self.directory.close()
        for suffix in ("", "-wal", "-shm"):
            Path(f"{self.new_directory}{suffix}").unlink(missing_ok=True)

    def warn_of_broken_jobs(self) -> None:
        """Say which jobs were broken off and not finished."""
        if self.terminal.as_json or not self.has_journal:
            return
        from vandrel.errors import Code

        self.terminal.findings(
            Finding(
                Code.INTERRUPTED,
                f"job {job.number} of {job.begun[:16].replace('T', ' ')} UTC was broken off: {job.title}",
                self.journal().where,
                f"vandrel resume {job.number} finishes it",
                severity=NOTE,
            )
            for job in self.journal().broken()
            if self.runner.is_own(job) and job.number != getattr(self.args, "job", 0)
        )
