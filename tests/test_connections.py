"""The file of connections, the identities in it, and where their passwords come from."""

from __future__ import annotations

import pytest

from vandrel.connections import config
from vandrel.connections.config import ConnectionFaults, choose, load
from vandrel.connections.passwords import obtain
from vandrel.errors import VandrelError
from vandrel.secret import Secret

GOOD = """\
connections:
  harbour:
    hosts: [ldaps://dc1.marrowick.example, ldaps://dc2.marrowick.example]
    ca-file: ca.pem
    identities:
      everyday: {bind: "cn=Ida,dc=marrowick,dc=example"}
      admin: {bind: adm-ida@marrowick.example, password-file: secret}
  local:
    hosts: ["ldapi://%2Frun%2Fslapd"]
    identities: {me: {sasl: external}}
  open: {hosts: [ldap://x.example]}
"""


@pytest.fixture
def connections(tmp_path):
    (tmp_path / "connections.yaml").write_text(GOOD)
    return load([tmp_path / "connections.yaml", tmp_path / "none.yaml"])


def never(question: str) -> Secret:
    raise AssertionError(f"asked: {question}")


def test_the_first_identity_is_the_everyday_one_and_a_word_takes_another(connections, tmp_path):
    way = choose("harbour", connections, "")
    assert (way.word, way.identity.bind, way.others) == ("everyday", "cn=Ida,dc=marrowick,dc=example", ("admin",))
    way = choose("harbour", connections, "admin")
    assert (way.identity.bind, way.others) == ("adm-ida@marrowick.example", ("everyday",))
    assert way.connection.ca_file == str(tmp_path / "ca.pem")  # as seen from the file that names it
    assert choose("harbour", connections, "cn=Other,dc=x").identity.bind == "cn=Other,dc=x"
    assert choose("local", connections, "").identity.sasl == "external"
    assert choose("open", connections, "").identity is None


def test_a_url_is_a_connection_too():
    way = choose("ldaps://dc1.marrowick.example/dc=marrowick,dc=example", {}, "adm@marrowick.example")
    assert way.connection.hosts == ["ldaps://dc1.marrowick.example"]
    assert way.identity.bind == "adm@marrowick.example"
    assert choose("ldapi://%2Frun%2Fslapd", {}, "").identity.sasl == "external"
    assert choose("ldap://x", {}, "gssapi").identity.sasl == "gssapi"
    assert choose("ldap://x", {}, "").identity is None


@pytest.mark.parametrize(
    ("target", "who", "code", "remedy"),
    [
        ("harbor", "", "not-found", "harbour"), ("harbour", "amdin", "not-found", "admin"),
        ("open", "x", "not-found", "it names none"), ("http://x", "", "bad-value", "ldaps://"),
        ("ldap://[", "", "bad-value", "ldaps://"), ("ldap://x:ssl", "", "bad-value", "ldaps://"),
        ("ldap://", "", "bad-value", "ldaps://"), ("ldaps://a b", "", "bad-value", "ldaps://"),
        ("ldaps://x:99999", "", "bad-value", "ldaps://"),
    ],
)  # fmt: skip
def test_what_is_not_there_is_told_with_what_is(connections, target, who, code, remedy):
    with pytest.raises(VandrelError) as caught:
        choose(target, connections, who)
    assert caught.value.code == code
    assert remedy in caught.value.findings[0].remedy


@pytest.mark.parametrize(
    ("text", "line", "what"),
    [
        ("connections:\n  a: {hosts: []}\n", "2:14", "must not be empty"),
        ("connections:\n  a: {host: [ldap://x]}\n", "2:7", "unknown key 'host'"),
        ("connections:\n  a: {hosts: [x.example]}\n", "2:15", "no LDAP URL"),
        ("connections:\n  a:\n    hosts: [ldap://x]\n    identities:\n      i: {}\n", "5:7", "either bind or sasl"),
        (
            "connections:\n  a:\n    hosts: [ldap://x]\n    identities: {i: {bind: x, password: secret}}\n",
            "4:41",
            "'secret' stands here",
        ),
        ("connections: [\n", "2:1", "not YAML"),
        (
            "connections:\n  a:\n    hosts: [ldap://x]\n    identities: {i: {bind: x, password-file: f, password-command: c}}\n",
            "4:18",
            "not both",
        ),
        ("conections: {}\n", "1:1", "unknown key"),
    ],
)
def test_faults_of_the_file_stand_with_line_and_column(tmp_path, text, line, what):
    (tmp_path / "connections.yaml").write_text(text)
    with pytest.raises(ConnectionFaults) as caught:
        load([tmp_path / "connections.yaml"])
    assert caught.value.code == "connections"
    assert any(str(f.where).endswith(f"connections.yaml:{line}") and what in f.what for f in caught.value.findings), [
        (f.where, f.what) for f in caught.value.findings
    ]


def identity_of(tmp_path, words: str) -> config.Target:
    (tmp_path / "connections.yaml").write_text(
        f"connections:\n  a:\n    hosts: [ldaps://x]\n    identities: {{i: {{bind: cn=x, {words}}}}}\n"
    )
    return choose("a", load([tmp_path / "connections.yaml"]), "")


def test_a_password_from_a_file_for_its_owner_alone(tmp_path):
    way = identity_of(tmp_path, "password-file: secret")
    with pytest.raises(VandrelError) as caught:
        obtain(way, never)
    assert caught.value.code == "not-found"
    (tmp_path / "secret").write_text("Kv9-fjord\n")
    (tmp_path / "secret").chmod(0o640)
    with pytest.raises(VandrelError, match="others than you") as caught:
        obtain(way, never)
    assert caught.value.code == "not-permitted"
    assert "chmod 600" in caught.value.findings[0].remedy
    (tmp_path / "secret").chmod(0o600)
    assert obtain(way, never).reveal() == "Kv9-fjord"
    (tmp_path / "secret").write_text("\n")
    with pytest.raises(VandrelError, match="no password"):
        obtain(way, never)


def test_a_password_from_a_command(tmp_path):
    assert obtain(identity_of(tmp_path, "password-command: printf 'Kv9 fjord\\nmore'"), never).reveal() == "Kv9 fjord"
    for command, what in (
        ("'false'", "exit code 1"),
        ("no-such-command-x", "cannot be run"),
        ("'true'", "no password"),
    ):
        with pytest.raises(VandrelError, match=what):
            obtain(identity_of(tmp_path, f"password-command: {command}"), never)


def test_a_password_from_the_keyring(tmp_path, monkeypatch):
    keyring = pytest.importorskip("keyring")
    from keyrings.alt.file import PlaintextKeyring

    from vandrel.connections.passwords import keep

    ring = PlaintextKeyring()
    ring.file_path = str(tmp_path / "ring")
    monkeypatch.setattr(keyring, "get_password", ring.get_password)
    monkeypatch.setattr(keyring, "set_password", ring.set_password)
    way = identity_of(tmp_path, "password: keyring")
    with pytest.raises(VandrelError, match="no password for cn=x at ldaps://x") as caught:
        obtain(way, never)
    assert "--keep-password" in caught.value.findings[0].remedy
    keep(way, Secret("Kv9-fjord"))
    assert obtain(way, never).reveal() == "Kv9-fjord"


def test_asked_for_where_nothing_else_is_said(tmp_path):
    questions = []

    def ask(question: str) -> Secret:
        questions.append(question)
        return Secret("x")

    assert obtain(identity_of(tmp_path, "password: ask"), ask).reveal() == "x"
    assert questions == ["Password of cn=x"]
