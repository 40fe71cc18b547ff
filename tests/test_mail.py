"""Reports and first passwords by mail: through a real server over TLS, by a command, and where it cannot be."""

from __future__ import annotations

import csv
import ssl
from collections.abc import Iterator
from dataclasses import dataclass, field
from email import message_from_bytes, policy
from email.message import EmailMessage
from pathlib import Path

import pytest
from aiosmtpd.controller import Controller

from vandrel.errors import Code

from .conftest import Folder
from .servers import _certify, free_port

HIRED = ("create", "crew", "Ada Nygård", "number=4801", "site=Northquay", "department=Deck", "category=Hands",
         "language=nb", "manager=hbrekke", "password=generate", "--hand-out", "ada.csv", "-y")  # fmt: skip


@dataclass
class Post:
    """A mail server that keeps what it is given, and refuses whom it is told to."""

    folder: Path
    port: int = 0
    refuses: str = ""
    kept: list[EmailMessage] = field(default_factory=list)

    async def handle_RCPT(self, server, session, envelope, address, options):  # noqa: N802
        if address == self.refuses:
            return "550 5.1.1 nobody of this name\x1b[2J"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server, session, envelope):  # noqa: N802
        self.kept.append(message_from_bytes(envelope.content, policy=policy.default))
        return "250 OK"

    def settings(self, scheme: str = "smtp", **more: str) -> str:
        told = {"server": f"{scheme}://127.0.0.1:{self.port}", "ca-file": f"{self.folder}/ca.pem"} | more
        lines = "".join(f"  {name}: {value}\n" for name, value in told.items() if value)
        return f"mail:\n  sender: accounts@marrowick.example\n{lines}"


@pytest.fixture(params=["smtp", "smtps"])
def post(request, tmp_path: Path) -> Iterator[tuple[Post, str]]:
    """A server that encrypts from the first octet, and one that is asked to (RFC 8314, RFC 3207)."""
    _certify(tmp_path, "127.0.0.1")
    trusted = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    trusted.load_cert_chain(tmp_path / "cert.pem", tmp_path / "key.pem")
    keeper = Post(tmp_path, free_port())
    more = {"ssl_context": trusted} if request.param == "smtps" else {"tls_context": trusted, "require_starttls": True}
    controller = Controller(keeper, hostname="127.0.0.1", port=keeper.port, **more)
    controller.start()
    yield keeper, request.param
    controller.stop()


def password_in(folder: Folder, name: str = "ada.csv") -> str:
    (row,) = csv.DictReader((folder.path / name).read_text().splitlines())
    return row["password"]


def test_a_first_password_goes_to_the_recovery_address_without_the_name_to_log_on_with(demo, post):
    keeper, scheme = post
    (demo.path / "connections.yaml").write_text(keeper.settings(scheme))
    told = demo.run(*HIRED, "recovery-mail=ada@home.example", "--mail-passwords")
    assert told.code == 0, told.err
    assert "Sent by mail: 1 of 1." in told.out
    (letter,) = keeper.kept
    text, secret = letter.get_content(), password_in(demo)
    assert (letter["To"], letter["From"]) == ("ada@home.example", "accounts@marrowick.example")
    assert f"    {secret}" in text.splitlines() and "Ada Nygård" in text
    assert "anygaard" not in letter.as_string() and secret not in letter["Subject"]
    assert secret not in told.out + told.err + demo.run("journal", "--json", "--last", "0").out
    # Another template, to whoever is the manager; and a person who cannot be reached.
    with (demo.path / "charter.yaml").open("a") as charter:
        charter.write(
            'password-mail: {to: manager, subject: "For {given}", text: "{login}: {password}", together: true}'
        )
    words = [*HIRED[:1], "crew", "Eva Moe", "number=4802", *HIRED[4:7], "language=nb", "password=generate",
             "--hand-out", "eva.csv", "-y", "--mail-passwords"]  # fmt: skip
    assert demo.run(*words, "manager=hbrekke").code == 0
    assert keeper.kept[-1]["To"] == "halvard.brekke@marrowick.example"
    assert keeper.kept[-1].get_content().strip() == f"emoe: {password_in(demo, 'eva.csv')}"
    words[2:4] = ["Ida Moe", "number=4803"]
    words[words.index("eva.csv")] = "ida.csv"
    told = demo.run(*words)
    assert (told.code, "Ida Moe has no manager with an address" in told.err) == (0, True), told.err
    assert "Sent by mail: 0 of 1." in told.out and password_in(demo, "ida.csv")


def test_what_cannot_be_sent_is_told_and_stands_on_the_hand_out(demo, post):
    keeper, scheme = post
    faults = {
        "nobody of this name": keeper.settings(scheme),
        "not trusted": keeper.settings(scheme, **{"ca-file": ""}),
        "cannot be used": keeper.settings(scheme).replace(str(keeper.port), "1"),
    }
    keeper.refuses = "ada@home.example"
    for number, (said, settings) in enumerate(faults.items()):
        (demo.path / "connections.yaml").write_text(settings)
        words = [word.replace("4801", f"481{number}").replace("ada.csv", f"{number}.csv") for word in HIRED]
        told = demo.run(*words, "recovery-mail=ada@home.example", "--mail-passwords")
        assert (told.code, said in told.err) == (0, True), told.err
        assert "Sent by mail: 0 of 1." in told.out and "\x1b" not in told.err
        assert password_in(demo, f"{number}.csv")
    assert keeper.kept == []


def test_nothing_is_made_where_it_could_not_be_delivered_or_kept(demo):
    before = demo.state()
    assert demo.run(*[word for word in HIRED if word not in ("--hand-out", "ada.csv")], "--mail-passwords").code == (
        Code.USAGE.exit_code
    )
    told = demo.run(*HIRED, "--mail-passwords")
    assert told.code == Code.NOT_FOUND.exit_code and "how messages are sent" in told.err
    assert demo.state() == before and not (demo.path / "ada.csv").exists()


def test_a_report_is_sent_as_it_is_said_by_a_command(demo):
    (demo.path / "keep").write_text("#!/bin/sh\ncat > sent.eml\n")
    (demo.path / "keep").chmod(0o755)
    (demo.path / "connections.yaml").write_text("mail: {sender: accounts@marrowick.example, command: ./keep}\n")
    demo.run("disable", "hbrekke", "-y")
    told = demo.run("audit", "--mail-to", "ops@marrowick.example")
    letter = message_from_bytes((demo.path / "sent.eml").read_bytes(), policy=policy.default)
    assert told.code == Code.FAULTS_FOUND.exit_code
    assert letter["Subject"] == "Marrowick Ferries: vandrel audit, exit code 5"
    assert letter.get_content() == told.out and "hbrekke" in told.out
    told = demo.run("audit", "--since", "2999-01-01", "--mail-to", "ops@marrowick.example")
    assert told.code == 0 and "hbrekke" not in told.out
    assert demo.run("due", "--mail-to", "ops@marrowick.example").code == 0
    (demo.path / "keep").write_text("#!/bin/sh\nexit 3\n")
    told = demo.run("due", "--mail-to", "ops@marrowick.example")
    assert told.code == Code.REFUSED.exit_code and "exit code 3" in told.err
    assert demo.run("due", "--mail-to", "a@b.example, c@d.example").code == Code.BAD_VALUE.exit_code
    (demo.path / "connections.yaml").write_text("mail: {sender: a@b.example, command: x, server: 'smtp://h'}\n")
    told = demo.run("due", "--mail-to", "ops@marrowick.example")
    assert told.code == Code.CONNECTIONS.exit_code and "by a server or by a command" in told.err


@pytest.mark.parametrize(
    ("rules", "said"),
    [
        ('{text: "{login} {password}"}', "login and password stand in one message"),
        ('{subject: "For {mail}", text: "{password}"}', "mail and password stand in one message"),
        ('{subject: "{password}"}', "no password stands in it"),
        ('{text: "Hello"}', "the text has no password in it"),
        ('{text: "{pasword}"}', "pasword"),
    ],
)
def test_a_charter_does_not_send_name_and_password_together_unless_it_says_so(demo, rules, said):
    with (demo.path / "charter.yaml").open("a") as charter:
        charter.write(f"password-mail: {rules}\n")
    told = demo.run("charter", "check")
    assert told.code == Code.CHARTER.exit_code and said in told.err, told.err
