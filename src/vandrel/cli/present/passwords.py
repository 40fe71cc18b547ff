"""First and new passwords: asked for unseen, generated, read from standard input; shown once or handed out."""

from __future__ import annotations

import getpass
import io
import sys
from collections.abc import Callable, Collection, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import structs

from vandrel.charter.passwords import PasswordRules, generate
from vandrel.cli.terminal import input_lines
from vandrel.errors import NOTE, Code, Finding, Location, Refused, VandrelError, are_fatal
from vandrel.secret import Secret

if TYPE_CHECKING:
    from vandrel.cli.session import Session
    from vandrel.directory.dn import DN
    from vandrel.intake.hand_out import Slip
    from vandrel.jobs.common.proposal import Credential
    from vandrel.steps.plan import RunResult

#: Finds what is wrong with a password.
Check = Callable[[Secret], list[Finding]]

#: What generated passwords avoid: parts of these fields.
_OWN_NAMES = ("given", "surname", "login")


def show_rules(session: Session, rules: PasswordRules) -> None:
    """Print the rules in force, each with where it comes from."""
    out = session.terminal
    if out.as_json or out.quiet:
        return
    out.heading("Password rules in force")
    out.table(("rule", "from"), [(f"  {rule}", rule.source) for rule in rules.shown()], header=False)
    out.line()


def obtain(session: Session, credential: Credential) -> Secret | None:
    """The password of one account, checked against its rules; None where it gets none."""
    rules, source = credential.rules, credential.source
    if credential.secret is not None:
        return credential.secret
    if session.args.dry_run and source in ("ask", "-", "generate"):
        if source != "-" and credential.is_first:
            show_rules(session, rules)
            words = "asked for" if source == "ask" else "generated"
            session.terminal.note(f"The password would be {words} now.")
        return generate(rules)  # stands in for the one to come; it is neither shown nor set
    if source == "ask":
        show_rules(session, rules)
    if source == "generate":
        return generate(rules, [credential.value(name) for name in _OWN_NAMES])
    return None if source == "none" else ask_or_read(session, source, credential.check)


def ask_or_read(session: Session, source: str, check: Check) -> Secret:
    """A password that is asked for (``ask``), or the next line of standard input (``-``).

    Who is asked is told every rule that the password breaks and asked again; nothing else typed is lost.

    Raises:
        Refused: a password from standard input that breaks rules.
        VandrelError: ``usage`` where nobody can be asked.

    """
    if source == "-":
        secret = Secret(next(input_lines(), "").rstrip("\r\n"))
        findings = check(secret)
        if are_fatal(findings):
            raise Refused(findings)
        session.terminal.findings(findings)
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
        session.terminal.findings(findings)
        if not are_fatal(findings):
            return secret


class HandOut:
    """Where generated passwords go: a file for its owner alone, or one look at the terminal's other screen."""

    def __init__(self, session: Session, file: str | None, recipient: str = "") -> None:
        """Begin; `recipient` is an age public key to encrypt to."""
        self._session = session
        self._path = Path(file) if file else None
        self._recipient = recipient
        self._slips: dict[DN, Slip] = {}
        self._values: dict[DN, Callable[[str], str]] = {}
        self._is_mailed = bool(getattr(session.args, "mail_passwords", False))

    @property
    def name(self) -> str:
        """The full path of the file; empty where there is none."""
        return str(self._path.resolve()) if self._path else ""

    def add(self, dn: DN, value: Callable[[str], str], secret: Secret) -> None:
        """Put an account on the sheet; `value` gives its fields."""
        from vandrel.intake.hand_out import Slip

        self._values[dn] = value
        self._slips[dn] = Slip(value("full"), value("login"), value("principal"), value("mail"), secret)

    def around(self, run: Callable[[], RunResult | None]) -> RunResult | None:
        """Run what sets these passwords, with the file written before and taken back where that comes to nothing."""
        if not self._session.args.dry_run:
            self._prepare()
        try:
            result = run()
        except BaseException:
            # A job that was begun can be finished, and then these are the only passwords there are.
            if not self._session.runner.job:
                self._withdraw()
            raise
        if result is None or not (result.made or result.stopped or result.half_set):
            self._withdraw()
        else:
            self._leave_out(result.not_created | result.unset)
        return result

    def _prepare(self) -> None:
        """Write the file before the directory is changed, so that no password is lost.

        Raises:
            VandrelError: ``usage`` where there is neither a file nor a terminal; ``taken`` where the file exists.

        """
        if not self._slips:
            return
        if self._is_mailed:
            if self._path is None:
                what, remedy = "what cannot be delivered must stand somewhere as well", "add --hand-out FILE"
                raise VandrelError(Code.USAGE, what, where=Location(option="--mail-passwords"), remedy=remedy)
            _ = self._session.mail  # before anything is made
        if self._path is None:
            if not self._session.terminal.is_interactive:
                raise VandrelError(
                    Code.USAGE, "a generated password must go somewhere, and this is no terminal",
                    where=Location(field="password"), remedy="add --hand-out FILE; or do it without a password",
                )  # fmt: skip
            if not has_second_screen():
                what = "this terminal has no second screen: the password will stay in view until it is cleared"
                remedy = "answer no, and add --hand-out FILE"
                self._session.terminal.findings([Finding(Code.PASSWORD, what, remedy=remedy, severity=NOTE)])
            return
        self._write(again=False)

    def _write(self, *, again: bool) -> None:
        from vandrel.intake.hand_out import write

        assert self._path is not None
        organization = self._session.charter.document.organization
        write(self._path, list(self._slips.values()), organization, self._recipient, again=again)

    def _leave_out(self, dns: Collection[DN]) -> None:
        """Take out the lines of accounts that were not made, and of passwords that were refused."""
        remaining = {dn: slip for dn, slip in self._slips.items() if dn not in dns}
        if not remaining:
            self._withdraw()
        elif len(remaining) < len(self._slips):
            self._slips = remaining
            if self._path is not None:
                self._write(again=True)

    def _withdraw(self) -> None:
        """Take the file back: the accounts were not made."""
        if self._path is not None and self._slips and not self._session.args.dry_run:
            self._path.unlink(missing_ok=True)
        self._slips = {}

    def deliver(self) -> None:
        """Say where the passwords are, or show them on the other screen until a key is pressed."""
        if not self._slips:
            return
        if self._path is not None:
            self._session.terminal.note(f"First passwords: {self._path} (for you alone; mode 0600)")
            if self._is_mailed:
                self._send()
            return
        show_once([(slip.login, slip.secret) for slip in self._slips.values()])

    def _send(self) -> None:
        """Send each password as the charter says; who gets none is told of, and stands on the hand-out."""
        from vandrel.connections.mail import message, send
        from vandrel.jobs.common.password_mail import password_message

        out, mail = self._session.terminal, self._session.mail
        letters, findings = [], list[Finding]()
        for dn, slip in self._slips.items():
            try:
                letter = password_message(self._session.context, self._values[dn], slip.secret)
                letters.append(message(mail, letter.to, letter.subject, letter.text))
            except VandrelError as error:
                findings += error.findings
        try:
            outcomes = send(mail, letters)
        except VandrelError as error:
            outcomes = [error] * len(letters)
        findings += (finding for error in outcomes if error is not None for finding in error.findings)
        out.findings(structs.replace(finding, severity=NOTE) for finding in dict.fromkeys(findings))
        delivered = outcomes.count(None)
        out.note(f"Sent by mail: {delivered} of {len(self._slips)}.")


def has_second_screen() -> bool:
    """Whether the terminal can show something apart from what stands on it (terminfo: enter_ca_mode)."""
    try:
        import curses
    except ImportError:  # a system without terminfo
        return False
    try:
        curses.setupterm()
        return bool(curses.tigetstr("smcup"))
    except curses.error:
        return False


def show_once(passwords: Sequence[tuple[str, Secret]]) -> None:
    """Show passwords on the terminal's other screen, which has no scroll-back, until Enter is pressed."""
    text = io.StringIO()
    width = max(len(login) for login, _ in passwords)
    for login, secret in passwords:
        text.write(f"  {login.ljust(width)}   {secret.reveal()}\n")
    sys.stdout.write("\x1b[?1049h\x1b[H" + "\n  First password, shown once:\n\n" + text.getvalue() + "\n")
    sys.stdout.flush()
    try:
        getpass.getpass("  Enter when you have it ")
    finally:
        sys.stdout.write("\x1b[2J\x1b[?1049l")
        sys.stdout.flush()
