"""Whose files count: nobody else decides what is run as this user, and where passwords go."""

from __future__ import annotations

import os
import stat
from pathlib import Path

import pytest

from vandrel import safe_file, trusted_file
from vandrel.connections.config import choose, load
from vandrel.connections.passwords import key_of
from vandrel.errors import Code, VandrelError

from .test_program import complete

as_root = pytest.mark.skipif(os.geteuid() != 0, reason="only root can give files away")
SOMEBODY = 54321
BOOK = """\
connections:
  harbour:
    hosts: ["ldaps://{host}.example"]
    identities:
      desk: {{bind: "cn=desk", password-command: "touch {proof}"}}
"""


@pytest.mark.parametrize(
    ("spoil", "why"),
    [
        (lambda file: file.chmod(0o666), "everybody may write it"),
        (lambda file: file.parent.chmod(0o777), "everybody may write its folder"),
        pytest.param(lambda file: (os.chown(file, 0, SOMEBODY), file.chmod(0o664)), "others of its group", marks=as_root),
        pytest.param(lambda file: os.chown(file, SOMEBODY, -1), f"it belongs to user {SOMEBODY}", marks=as_root),
        pytest.param(lambda file: os.chown(file.parent, SOMEBODY, -1), f"its folder belongs to user {SOMEBODY}", marks=as_root),
    ],
)  # fmt: skip
def test_what_somebody_else_could_have_written_does_not_count(demo, spoil, why):
    charter = demo.path / "charter.yaml"
    spoil(charter)
    with pytest.raises(VandrelError, match=why) as caught:
        trusted_file.read_text(charter, "charter")
    assert caught.value.code is Code.NOT_PERMITTED
    done = demo.run("show", "alund")
    assert (done.code, why in done.err) == (Code.NOT_PERMITTED.exit_code, True), done.err


def test_a_folder_in_which_only_owners_replace_files_will_do(tmp_path):
    (tmp_path / "charter.yaml").write_text("x")
    tmp_path.chmod(0o1777)
    assert trusted_file.read_text(tmp_path / "charter.yaml", "charter") == "x"


def test_a_planted_connection_runs_nothing_and_takes_no_password(demo):
    proof = demo.path / "proof"
    book = demo.path / "connections.yaml"
    book.write_text(BOOK.format(host="127.0.0.1", proof=proof))
    book.chmod(0o666)
    done = demo.run("show", "alund", "--directory", "harbour")
    assert done.code == Code.NOT_FOUND.exit_code
    assert "everybody may write it" in done.err
    assert not proof.exists()
    book.chmod(0o600)
    assert complete(demo, "vandrel show --directory harbour alu") == []  # completing a word runs nothing either
    assert not proof.exists()


def test_the_users_own_connection_wins_over_one_found_on_the_way(demo):
    own = demo.path / ".config" / "vandrel"
    own.mkdir(parents=True)
    for folder, word in ((own, "mine"), (demo.path, "theirs")):
        (folder / "connections.yaml").write_text(BOOK.format(host=word, proof="x").replace("desk", word))
    assert complete(demo, "vandrel show --directory harbour --who ") == ["mine"]


def test_the_keyring_knows_an_identity_by_its_hosts_and_its_name(tmp_path):
    keys = set()
    for host in ("a", "b"):
        (tmp_path / host).write_text(BOOK.format(host=host, proof="x"))
        keys.add(key_of(choose("harbour", load([tmp_path / host]), "desk")))
    assert keys == {"cn=desk at ldaps://a.example", "cn=desk at ldaps://b.example"}


# --- files that are written


def names(folder: Path) -> set[str]:
    return {path.name for path in folder.iterdir()}


def test_a_file_is_there_whole_or_not_at_all(tmp_path):
    target = tmp_path / "slips.csv"
    with pytest.raises(KeyboardInterrupt), safe_file.writing(target) as file:
        file.write(b"half")
        raise KeyboardInterrupt
    assert names(tmp_path) == set()
    old = os.umask(0)
    try:
        safe_file.write(target, b"whole")
    finally:
        os.umask(old)
    assert (target.read_bytes(), stat.S_IMODE(target.stat().st_mode)) == (b"whole", 0o600)
    with pytest.raises(VandrelError, match="is not overwritten"):
        safe_file.write(target, b"other")
    target.chmod(0o666)
    safe_file.write(target, b"again", replace=True)
    assert (target.read_bytes(), stat.S_IMODE(target.stat().st_mode)) == (b"again", 0o600)
    assert names(tmp_path) == {"slips.csv"}


def test_a_link_that_waits_at_the_name_is_not_followed(tmp_path):
    victim = tmp_path / "victim"
    victim.write_text("mine")
    (tmp_path / "slips.csv").symlink_to(victim)
    (tmp_path / "to-be").symlink_to(tmp_path / "nowhere")
    for name in ("slips.csv", "to-be"):
        with pytest.raises(VandrelError, match="is not overwritten"):
            safe_file.write(tmp_path / name, b"secret")
    safe_file.write(tmp_path / "slips.csv", b"secret", replace=True)
    assert (victim.read_text(), names(tmp_path)) == ("mine", {"victim", "slips.csv", "to-be"})


@pytest.mark.parametrize("words", [
    ("find", "--columns", "name,login", "--to", "out.csv"), ("find", "--columns", "name", "--to", "out.xlsx"),
    ("find", "--columns", "name", "--to", "out.ods"), ("export", "--to", "out.ldif"),
    ("import", "summer.xlsx", "-n", "--findings", "out.xlsx"),
])  # fmt: skip
def test_what_comes_from_a_directory_is_for_its_owner_alone(demo, words):
    demo.run(*words)
    assert stat.S_IMODE((demo.path / words[-1]).stat().st_mode) == 0o600


def test_the_copy_of_a_file_that_is_sent_back_has_no_passwords(demo):
    (demo.path / "new.csv").write_text(
        "number,given,surname,site,department,category,password\n2503,Cy,Berg,Nowhere,Deck,Hands,Kv9-fjord-lamp\n"
    )
    demo.run("import", "new.csv", "--propose", "--kind", "crew")
    done = demo.run("import", "new.csv", "-n", "--findings", "back.csv")
    text = (demo.path / "back.csv").read_text("utf-8")
    assert "Nowhere" in text, done.err
    assert "Kv9" not in text + done.out + done.err
    assert "the passwords are left out" in done.out
