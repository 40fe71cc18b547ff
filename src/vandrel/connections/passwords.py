"""Where the password of an identity comes from: a prompt, the keyring, a file, a command. Never an argument."""

from __future__ import annotations

import os
import shlex
import stat
import subprocess
from collections.abc import Callable
from pathlib import Path

from vandrel.connections.config import Target
from vandrel.errors import Code, Location, VandrelError
from vandrel.secret import Secret

#: Under this name the keyring keeps our passwords.
SERVICE = "vandrel"
_SECONDS = 60

Ask = Callable[[str], Secret]


def obtain(target: Target, ask: Ask) -> Secret | None:
    """The password of the chosen identity; None where it needs none.

    Raises:
        VandrelError: ``not-permitted`` for a file that others can read, ``not-found`` where there is no password.

    """
    identity = target.identity
    if identity is None or identity.sasl:
        return None
    if identity.password_file:
        return from_file(Path(identity.password_file))
    if identity.password_command:
        return _from_command(identity.password_command)
    if identity.password == "keyring":
        return _from_keyring(target)
    return ask(f"Token for {target.name}" if target.is_service else f"Password of {identity.bind}")


def key_of(target: Target) -> str:
    """The name under which the keyring keeps the password of an identity.

    It has the hosts and the name to bind with: another file that calls its connection the same gets no password.
    """
    assert target.identity is not None
    return f"{target.identity.bind or target.identity.sasl or target.word} at {' '.join(target.connection.hosts)}"


def keep(target: Target, secret: Secret) -> None:
    """Put a password into the keyring.

    Raises:
        VandrelError: ``not-found`` where there is no keyring.

    """
    keyring = _keyring()
    try:
        keyring.set_password(SERVICE, key_of(target), secret.reveal())  # type: ignore[attr-defined]
    except Exception as error:
        raise _no_keyring(error) from None


def from_file(path: Path) -> Secret:
    """The first line of a file that nobody else can read.

    Raises:
        VandrelError: ``not-permitted`` where others can, ``not-found``, ``bad-value``.

    """
    try:
        with path.open(encoding="utf-8") as file:
            state = os.fstat(file.fileno())
            if state.st_mode & (stat.S_IRWXG | stat.S_IRWXO):
                raise VandrelError(
                    Code.NOT_PERMITTED, "others than you can read the password file", where=Location(file=str(path)),
                    remedy=f"chmod 600 {shlex.quote(str(path))}",
                )  # fmt: skip
            text = file.readline().rstrip("\r\n")
    except OSError as error:
        raise VandrelError(
            Code.NOT_FOUND, f"the password file cannot be read: {error.strerror}", where=Location(file=str(path))
        ) from None
    except UnicodeDecodeError:
        raise VandrelError(Code.BAD_VALUE, "the password file is not UTF-8", where=Location(file=str(path))) from None
    return _some(text, Location(file=str(path)))


def _from_command(command: str) -> Secret:
    try:
        words = shlex.split(command)
        process = subprocess.run(words, stdout=subprocess.PIPE, timeout=_SECONDS, check=False, stdin=subprocess.DEVNULL)
    except (OSError, ValueError) as error:
        why = error.strerror if isinstance(error, OSError) else error
        raise VandrelError(
            Code.NOT_FOUND, f"the password command cannot be run: {why}", where=Location(text=command)
        ) from None
    except subprocess.TimeoutExpired:
        raise VandrelError(
            Code.NOT_FOUND, f"the password command took over {_SECONDS} seconds", where=Location(text=command)
        ) from None
    if process.returncode:
        what = f"the password command ended with exit code {process.returncode}"
        raise VandrelError(Code.NOT_FOUND, what, where=Location(text=command), remedy="run it by hand to see why")
    return _some(process.stdout.decode("utf-8", "replace").split("\n", 1)[0].rstrip("\r"), Location(text=command))


def _from_keyring(target: Target) -> Secret:
    keyring = _keyring()
    try:
        password = keyring.get_password(SERVICE, key_of(target))  # type: ignore[attr-defined]
    except Exception as error:
        raise _no_keyring(error) from None
    if password is None:
        raise VandrelError(
            Code.NOT_FOUND, f"the keyring has no password for {key_of(target)}", where=Location(server=target.name),
            remedy=f"vandrel probe --directory {target.name} --who {target.word} --keep-password asks for it once",
        )  # fmt: skip
    return Secret(password)


def _keyring() -> object:
    try:
        import keyring
    except ImportError:
        raise VandrelError(
            Code.NOT_FOUND, "the keyring library is not installed", where=Location(text='keyring'),
            remedy="pip install vandrel[keyring], or name a password-file or password-command",
        ) from None  # fmt: skip
    return keyring


def _no_keyring(error: Exception) -> VandrelError:
    """What the keyring says, by its class alone: its text could hold anything."""
    return VandrelError(
        Code.NOT_FOUND, f"the system's keyring cannot be used ({type(error).__name__})", where=Location(text='keyring'),
        remedy="is it unlocked? else name a password-file or password-command",
    )  # fmt: skip


def _some(text: str, where: Location) -> Secret:
    if not text:
        raise VandrelError(Code.NOT_FOUND, "there is no password", where=where)
    return Secret(text)
