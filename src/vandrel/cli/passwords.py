"""First and new passwords: asked for unseen, generated, read from standard input; shown once or handed out."""

from __future__ import annotations

import getpass
import io
import sys
from collections.abc import Callable, Collection, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from vandrel.charter.passwords import PasswordRules, generate
from vandrel.cli.session import Session, read_secret_line
from vandrel.errors import Code, Finding, Location, Refused, VandrelError, are_fatal
from vandrel.secret import Secret

if TYPE_CHECKING:
    from vandrel.directory.dn import DN
    from vandrel.intake.hand_out import Slip
    from vandrel.steps.runner import Plan, Report

CHOICES = ("ask", "generate", "none", "-")

Check = Callable[[Secret], list[Finding]]


def choice_of(typed: str) -> str:
    """The choice that ``password=...`` makes.

    Raises:
        VandrelError: ``usage`` for anything else: it may be a password, which must never stand in a command line.

    """
    if typed not in CHOICES:
        raise VandrelError(
            Code.USAGE,
            "a password is never given on the command line, where other people can see it",
            where=Location(field="password"),
            remedy="write password=ask, password=generate, password=none, or password=- to read it from standard input",
        )
    return typed


def show_rules(session: Session, rules: PasswordRules) -> None:
    """The rules in force, each with where it comes from."""
    session.out.heading("Password rules in force")
    session.out.table(("rule", "from"), [(f"  {rule}", rule.source) for rule in rules.shown()], header=False)
    session.out.line()


def obtain(session: Session, choice: str, rules: PasswordRules, check: Check, avoid: Sequence[str]) -> Secret | None:
    """A password by one of the choices, checked against the rules; None for ``none``.

    Who is asked is told every rule that the password breaks and asked again; nothing else typed is lost.

    Raises:
        Refused: a password from standard input that breaks rules.
        VandrelError: ``usage`` where nobody can be asked.

    """
    if choice == "none":
        return None
    if choice == "generate":
        return generate(rules, avoid)
    if choice == "-":
        secret = Secret(read_secret_line())
        findings = check(secret)
        session.out.findings(finding for finding in findings if not finding.is_fatal)
        if are_fatal(findings):
            raise Refused(findings)
        return secret
    if not sys.stdin.isatty():
        raise VandrelError(
            Code.USAGE, "nobody can be asked for a password here", where=Location(field="password"),
            remedy="write password=generate with --hand-out FILE, password=- to read it from standard input, "
            "or password=none",
        )  # fmt: skip
    while True:
        first = getpass.getpass("Password (not shown): ")
        if getpass.getpass("The same again: ") != first:
            print("The two differ.", file=sys.stderr)
            continue
        secret = Secret(first)
        findings = check(secret)
        session.out.findings(findings)
        if not are_fatal(findings):
            return secret


class HandOut:
    """Where generated passwords go: a file for its owner alone, or one look at the terminal's other screen."""

    def __init__(self, session: Session, file: str | None, recipient: str = "") -> None:
        self._session = session
        self._path = Path(file) if file else None
        self._recipient = recipient
        self._slips: dict[DN, Slip] = {}

    @property
    def name(self) -> str:
        """The full path of the file; empty where there is none."""
        return str(self._path.resolve()) if self._path else ""

    def add(self, dn: DN, value: Callable[[str], str], secret: Secret) -> None:
        """Put an account on the sheet; `value` gives its fields."""
        from vandrel.intake.hand_out import Slip

        self._slips[dn] = Slip(value("full"), value("login"), value("principal"), value("mail"), secret)

    def carry_out(self, plan: Plan, question: str, **more: Any) -> Report | None:
        """Carry a plan out, with the file written before and taken back where the plan comes to nothing."""
        return self.around(lambda: self._session.carry_out(plan, question, **more))

    def around(self, run: Callable[[], Report | None]) -> Report | None:
        """Run what sets these passwords, with the file written before and taken back where that comes to nothing."""
        if not self._session.args.dry_run:
            self._prepare()
        try:
            report = run()
        except BaseException:
            # A job that was begun can be finished, and then these are the only passwords there are.
            if not self._session.runner.job:
                self._withdraw()
            raise
        if report is not None and not report.made and not report.stopped:
            self._withdraw()
        elif report is not None:
            self._leave_out(report.lost | report.unset)
        return report

    def _prepare(self) -> None:
        """Write the file before the directory is changed, so that no password is lost.

        Raises:
            VandrelError: ``usage`` where there is neither a file nor a terminal; ``taken`` where the file exists.

        """
        if not self._slips:
            return
        if self._path is None:
            if not self._session.out.interactive:
                raise VandrelError(
                    Code.USAGE,
                    "a generated password must go somewhere, and this is no terminal",
                    where=Location(field="password"),
                    remedy="add --hand-out FILE; or do it without a password",
                )
            return
        self._write(again=False)

    def _write(self, *, again: bool) -> None:
        from vandrel.intake.hand_out import write

        assert self._path is not None
        organization = self._session.charter.document.organization
        write(self._path, list(self._slips.values()), organization, self._recipient, again=again)

    def _leave_out(self, dns: Collection[DN]) -> None:
        """Take out the lines of accounts that were not made, and of passwords that were not set."""
        kept = {dn: slip for dn, slip in self._slips.items() if dn not in dns}
        if not kept:
            self._withdraw()
        elif len(kept) < len(self._slips):
            self._slips = kept
            if self._path is not None:
                self._write(again=True)

    def _withdraw(self) -> None:
        """Take the file back: the accounts were not made."""
        if self._path is not None and self._slips:
            self._path.unlink(missing_ok=True)
        self._slips = {}

    def deliver(self) -> None:
        """Say where the passwords are, or show them on the other screen until a key is pressed."""
        if not self._slips:
            return
        if self._path is not None:
            self._session.out.note(f"First passwords: {self._path} (for you alone; mode 0600)")
            return
        text = io.StringIO()
        width = max(len(slip.login) for slip in self._slips.values())
        for slip in self._slips.values():
            text.write(f"  {slip.login.ljust(width)}   {slip.secret.reveal()}\n")
        # The other screen has no scroll-back: what is shown here is gone with the key.
        sys.stdout.write("\x1b[?1049h\x1b[H" + "\n  First password, shown once:\n\n" + text.getvalue() + "\n")
        sys.stdout.flush()
        try:
            getpass.getpass("  Enter when you have it ")
        finally:
            sys.stdout.write("\x1b[2J\x1b[?1049l")
            sys.stdout.flush()
