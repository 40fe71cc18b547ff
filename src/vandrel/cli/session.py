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

from vandrel import file_names
from vandrel.cli.terminal import Output
from vandrel.errors import NOTE, Code, Finding, Location, VandrelError

if TYPE_CHECKING:
    from vandrel.charter.charter import Charter
    from vandrel.connections.config import Target
    from vandrel.connections.document import Connection
    from vandrel.directory.embedded.store import EmbeddedDirectory
    from vandrel.directory.ldap.store import LdapDirectory
    from vandrel.directory.port import Directory
    from vandrel.objects.context import Context
    from vandrel.record.journal import Job, Journal
    from vandrel.secret import Secret
    from vandrel.steps.runner import Plan, Progress, Report, Runner


#: What was asked in this process: the tour of the demo runs many commands in one.
_asked: dict[str, Secret] = {}
#: Beyond, the journal must do.
_REFUSALS_SHOWN = 20


class Session:
    """One run of a command. Everything is opened when it is first asked for."""

    def __init__(self, args: argparse.Namespace, words: Sequence[str]) -> None:
        self.args = args
        self.out = Output(
            as_json=getattr(args, "json", False),
            quiet=getattr(args, "quiet", False),
            verbose=getattr(args, "verbose", False),
            color=not getattr(args, "no_color", False),
        )
        self._words = words
        #: Whether a password may be asked for: not while a shell completes a word.
        self.may_ask = True

    @property
    def command(self) -> str:
        """The command as it was typed, for the journal. Passwords never stand in it."""
        import shlex

        return shlex.join(["vandrel", *self._words])

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
        from platformdirs import user_config_path

        own = user_config_path("vandrel") / file_names.CHARTER
        if own.is_file():
            return own
        raise VandrelError(
            Code.NOT_FOUND,
            f"there is no {file_names.CHARTER} in this folder or above it",
            where=Location(file=str(here)),
            remedy="vandrel charter new writes one; vandrel demo DIR makes a folder to try things in",
        )

    @property
    def folder(self) -> Path:
        return self.charter_path.parent

    @property
    def _target(self) -> str:
        """What was named: a file, a connection, a URL; empty for the file beside the charter."""
        return getattr(self.args, "directory", None) or os.environ.get("VANDREL_DIRECTORY") or ""

    @cached_property
    def way(self) -> Target | None:
        """The connection and identity that were named; None where the directory is a file."""
        target = self._target
        if not target and not getattr(self.args, "who", None):
            return None
        if not target:
            raise VandrelError(
                Code.USAGE, "an identity is of a connection, and none is named", where=Location(option="--who"),
                remedy="add --directory NAME, or set VANDREL_DIRECTORY",
            )  # fmt: skip
        from vandrel.connections import config

        connections = self.connections
        looks_like_a_file = os.sep in target or bool(Path(target).suffix) or Path(target).exists()
        who = getattr(self.args, "who", None) or os.environ.get("VANDREL_WHO") or ""
        if not config.is_url(target) and target not in connections and looks_like_a_file:
            if getattr(self.args, "who", None):
                raise VandrelError(
                    Code.USAGE, "a directory in a file has no identities", where=Location(option="--who")
                )
            return None
        return config.choose(target, connections, who)

    @cached_property
    def connections(self) -> dict[str, Connection]:
        """The connections of the file in the environment; or of those beside the charter, here, above, the user's."""
        from platformdirs import user_config_path

        from vandrel.connections import config

        named = os.environ.get("VANDREL_CONNECTIONS")
        if named:
            return config.load([Path(named)])
        here = Path.cwd()
        places = [here, *here.parents, user_config_path("vandrel")]
        with suppress(VandrelError):  # without a charter, a server can be looked at all the same
            places.insert(0, self.folder)
        return config.load(place / file_names.CONNECTIONS for place in dict.fromkeys(places))

    @cached_property
    def directory_path(self) -> Path:
        """The file of an embedded directory."""
        return Path(self._target) if self._target else self.folder / file_names.DIRECTORY

    @property
    def is_missing(self) -> bool:
        """Whether the directory is a file that is still to be made."""
        return self.way is None and not self.directory_path.exists()

    @property
    def journal_path(self) -> Path:
        """The journal: beside the file of an embedded directory, beside the charter for a server."""
        return self.folder / file_names.JOURNAL if self.way else self.directory_path.with_name(file_names.JOURNAL)

    @cached_property
    def charter(self) -> Charter:
        from vandrel.charter.load import load

        return load(self.charter_path)

    @cached_property
    def directory(self) -> Directory:
        charter = self.charter
        found = self.server if self.way else self._file()
        if not any(charter.base.is_within(context) for context in found.contexts):
            held = " and ".join(map(str, found.contexts))
            raise VandrelError(
                Code.FOREIGN,
                f"the directory holds {held}, and the charter is for {charter.base}",
                where=Location(server=found.location),
                remedy="name the directory that belongs to this charter with --directory",
            )
        return found

    @cached_property
    def server(self) -> LdapDirectory:
        """The server that was named, connected to and bound; needs no charter."""
        from vandrel.errors import Code, Location

        assert self.way is not None
        directory = connect(self.way, self.ask)
        if self.way.connection.unchecked and not self.out.as_json:
            what = "the certificate of the server is not checked: it could be another server"
            remedy = "name the file of the authority that signed it: ca-file"
            self.out.findings(
                [Finding(Code.CERTIFICATE, what, Location(server=directory.location), remedy, severity=NOTE)]
            )
        return directory

    def ask(self, question: str) -> Secret:
        """Ask for a password that is not shown.

        Raises:
            VandrelError: ``usage`` where nobody can be asked.

        """
        import getpass

        from vandrel.secret import Secret

        if not sys.stdin.isatty() or not self.may_ask:
            raise VandrelError(
                Code.USAGE, "nobody can be asked for a password here", where=Location(server=self._target),
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
        from vandrel.dialects import dialect_for
        from vandrel.objects.context import Context

        directory = self.directory
        return Context(self.charter, directory, dialect_for(directory, self.charter))

    def journal(self, *, create: bool = False) -> Journal:
        """The journal of the directory, in the same folder.

        Raises:
            VandrelError: ``not-found`` where nothing was ever changed and `create` is false.

        """
        path = self.journal_path
        if not create and not path.exists():
            raise VandrelError(
                Code.NOT_FOUND, "nothing has been changed yet, so there is no journal", where=Location(file=str(path))
            )
        return self._opened

    @cached_property
    def _opened(self) -> Journal:
        from vandrel.record.journal import Journal

        return Journal(self.journal_path, create=True)

    def must_be_of_this_directory(self, job: Job) -> None:
        """See to it that a job was at work on the directory that is open.

        Raises:
            VandrelError: code ``foreign``.

        """
        here = self.directory.location
        if job.directory != here:
            raise VandrelError(
                Code.FOREIGN, f"job {job.number} was at work on {job.directory}, and this is {here}",
                where=Location(job=job.number), remedy=f"name that one: --directory {job.directory}",
            )  # fmt: skip

    @cached_property
    def runner(self) -> Runner:
        from vandrel.steps.runner import Runner

        context = self.context
        return Runner(context.directory, context.dialect, lambda: self.journal(create=True))

    @property
    def begun(self) -> int:
        """The number of the job that this command began last; 0: it has begun none."""
        return self.runner.job if "runner" in self.__dict__ else 0

    # --- the one way through

    def carry_out(self, plan: Plan, question: str, progress: Progress | None = None) -> Report | None:
        """Check a plan whose preview is on the screen, ask, run it, report; None after a dry run.

        Raises:
            Refused: the checks do not let it through.
            VandrelError: ``declined``, or whatever stopped it.

        """
        from vandrel.errors import Refused

        findings = self.runner.check(plan)
        notes = [finding for finding in findings if not finding.is_fatal]
        if notes and not self.out.as_json:
            self.out.findings(notes)
        if len(notes) < len(findings):
            raise Refused(findings)
        if self.args.dry_run:
            self.out.note("Dry run: nothing was changed.")
            return None
        if not plan.steps:
            self.out.note("Nothing to change.")
            return None
        self.warn_of_broken_jobs()
        self.out.confirm(question, yes=self.args.yes)
        # While somebody thought about the question, somebody else may have been at work: then it is checked again.
        report = self.runner.run(plan, self.command, progress or (lambda made, planned: None), checked=self.args.yes)
        self.report(report)
        return report

    def report(self, report: Report) -> None:
        from vandrel.errors import Code, Location

        if self.out.as_json:
            return
        # Of a change that was not made at all, its cause.
        told = [(dn, error) for dn, error in report.refused if error.code != Code.DONE_IN_PART or report.made]
        self.out.findings(
            Finding(error.code, error.findings[0].what, Location(dn=dn), error.findings[0].remedy)
            for dn, error in told[:_REFUSALS_SHOWN]
        )
        if len(told) > _REFUSALS_SHOWN:
            self.out.line(f"and {len(told) - _REFUSALS_SHOWN} more refusals: vandrel journal {report.job} tells all")
        if report.made == report.planned:
            self.out.note(f"Done: {count(report.made, 'step')}, job {report.job} in the journal.")
        else:
            self.out.line(f"{report.made} of {count(report.planned, 'step')} made, job {report.job} in the journal.")

    def warn_of_broken_jobs(self) -> None:
        if self.out.as_json or not self.journal_path.exists():
            return
        from vandrel.errors import Code, Location

        self.out.findings(
            Finding(
                Code.INTERRUPTED,
                f"job {job.number} of {job.begun[:16].replace('T', ' ')} UTC was broken off: {job.title}",
                Location(file=str(self.journal_path)),
                f"vandrel resume {job.number} finishes it",
                severity=NOTE,
            )
            for job in self.journal().broken()
            if job.directory == self.directory.location and job.number != getattr(self.args, "job", 0)
        )


def count(number: int, noun: str) -> str:
    """``1 step``, ``3 steps``."""
    return f"{number} {noun}{'' if number == 1 else 's'}"


def steps_as_json(plan: Plan) -> list[dict[str, object]]:
    """The steps of a plan for --json; octets are given by their number."""

    def plain(value: object) -> object:
        if isinstance(value, bytes):
            return f"{len(value)} octets"
        if isinstance(value, dict):
            return {key: plain(item) for key, item in value.items()}
        return [plain(item) for item in value] if isinstance(value, list) else value

    return [{key: plain(item) for key, item in step.record().items()} for step in plan.steps]


def exit_code(report: Report | None) -> int:
    """Done; done in part; or, where nothing was made at all, the code of the refusal."""
    from vandrel.errors import DONE, DONE_IN_PART

    if report is None or not report.in_part:
        return DONE
    causes = [error.exit_code for _, error in report.refused if error.exit_code != DONE_IN_PART]
    return causes[0] if causes and not report.made else DONE_IN_PART


def read_secret_line() -> str:
    """One line of standard input, without its end."""
    return sys.stdin.readline().rstrip("\r\n")
