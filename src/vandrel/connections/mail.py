"""Sending messages: through a server (RFC 5321 over TLS), or by a command of the machine that takes them."""

from __future__ import annotations

import shlex
import smtplib
import ssl
import subprocess
from collections.abc import Iterable
from email.message import EmailMessage
from email.utils import formatdate, make_msgid
from pathlib import Path
from urllib.parse import urlsplit

from vandrel.connections.document import Mail
from vandrel.connections.passwords import from_file
from vandrel.errors import Code, DirectoryError, Location, VandrelError

_SUBMISSION, _SUBMISSION_TLS = 587, 465  # RFC 8314, 3.3


def message(mail: Mail, to: str, subject: str, text: str) -> EmailMessage:
    """A message of plain text.

    Raises:
        VandrelError: ``bad-value`` for an address that is none.

    """
    envelope = EmailMessage()
    try:
        envelope["From"], envelope["To"] = mail.sender, to
        envelope["Subject"] = " ".join(subject.split())
    except ValueError:
        what = f"{to!r} is no mail address"
        raise VandrelError(Code.BAD_VALUE, what, where=Location(field="mail"), remedy="name@example.org") from None
    if "@" not in to or "," in to:
        raise VandrelError(Code.BAD_VALUE, f"{to!r} is no mail address", remedy="name@example.org")
    envelope["Date"], envelope["Message-ID"] = (
        formatdate(localtime=True),
        make_msgid(domain=mail.sender.rpartition("@")[2]),
    )
    envelope["Auto-Submitted"] = "auto-generated"  # RFC 3834: no answering machine answers
    envelope.set_content(text)
    return envelope


def send(mail: Mail, messages: Iterable[EmailMessage]) -> list[VandrelError | None]:
    """Send messages; for each, None or why it was refused.

    Raises:
        DirectoryError: ``out-of-reach``, ``certificate`` or ``not-permitted`` where none can be sent at all.

    """
    return [_by_command(mail, each) for each in messages] if mail.command else _by_server(mail, messages)


def _by_command(mail: Mail, each: EmailMessage) -> VandrelError | None:
    where = Location(text=mail.command)
    try:
        process = subprocess.run(
            shlex.split(mail.command), input=each.as_bytes(), timeout=mail.seconds, check=False,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
    except (OSError, ValueError, subprocess.TimeoutExpired) as error:
        why = error.strerror if isinstance(error, OSError) else type(error).__name__
        raise DirectoryError(Code.OUT_OF_REACH, f"the mail command cannot be run: {why}", where=where) from None
    if process.returncode:
        return VandrelError(Code.REFUSED, f"the mail command ended with exit code {process.returncode}", where=where)
    return None


def _by_server(mail: Mail, messages: Iterable[EmailMessage]) -> list[VandrelError | None]:
    address, where = urlsplit(mail.server), Location(server=mail.server)
    host, is_tls = address.hostname or "", address.scheme == "smtps"
    outcomes: list[VandrelError | None] = []
    try:
        trusted = ssl.create_default_context(cafile=mail.ca_file or None)
        port = address.port or (_SUBMISSION_TLS if is_tls else _SUBMISSION)
        opened = (
            smtplib.SMTP_SSL(host, port, timeout=mail.seconds, context=trusted)
            if is_tls
            else smtplib.SMTP(host, port, timeout=mail.seconds)
        )
        with opened as server:
            if not is_tls:
                server.starttls(context=trusted)
            if mail.user:
                server.login(mail.user, from_file(Path(mail.password_file)).reveal())
            for each in messages:
                try:
                    server.send_message(each)
                    outcomes.append(None)
                except smtplib.SMTPResponseException as error:
                    outcomes.append(_refused(error.smtp_code, error.smtp_error, where))
                except smtplib.SMTPRecipientsRefused as error:
                    code, reply = next(iter(error.recipients.values()))
                    outcomes.append(_refused(code, reply, where))
    except ssl.SSLError:
        what, remedy = "the certificate of the mail server is not trusted", "name who signed it: ca-file"
        raise DirectoryError(Code.CERTIFICATE, what, where=where, remedy=remedy) from None
    except smtplib.SMTPAuthenticationError:
        what, remedy = "the mail server does not accept the user or the password", "see user and password-file"
        raise DirectoryError(Code.NOT_PERMITTED, what, where=where, remedy=remedy) from None
    except (OSError, smtplib.SMTPException) as error:
        why = error.strerror if isinstance(error, OSError) and error.strerror else type(error).__name__
        raise DirectoryError(Code.OUT_OF_REACH, f"the mail server cannot be used: {why}", where=where) from None
    return outcomes


def _refused(code: int, reply: bytes | str, where: Location) -> VandrelError:
    text = reply.decode("utf-8", "replace") if isinstance(reply, bytes) else reply
    return VandrelError(Code.REFUSED, f"the mail server refuses it: {code} {text[:200]}", where=where)
