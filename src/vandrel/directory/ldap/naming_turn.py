"""The turn to give unique names: an entry in the directory that only one run at a time can make.

LDAP compares names within one superior only (RFC 4511, section 4.7), so nothing stops two runs from giving the same
logon name to two entries. While a run has this entry, no other run of this program checks and gives names. Servers
that replicate to each other see the turns of the others late: there the look after each batch must do.
"""

from __future__ import annotations

import os
import socket
import time
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

import ldap
from ldap.controls import AssertionControl
from ldap.filter import escape_filter_chars

from vandrel.directory.dn import DN
from vandrel.directory.ldap.reconnect import NO_ANSWER, Link
from vandrel.directory.schema import Schema
from vandrel.errors import Code, DirectoryError, Location

#: The name of the entry; it stands below the default naming context.
NAME = "vandrel is giving names"
#: The mark of an entry that stays, while nobody has the turn.
_FREE = b"nobody"
#: Structural classes that the entry may have, the first that the schema knows: [MS-ADSC], RFC 4519 section 3.
_CLASSES = ("container", "applicationProcess")
#: Seconds between two looks, at first and at most; after how many seconds a turn counts as left behind by a run that
#: was killed, though a batch takes about one; and after how many nobody waits any longer.
_SHORT, _LONG, _LEFT_BEHIND, _MOST = 0.02, 0.5, 30.0, 300.0


def _machine() -> str:
    """The machine since its last start, and the host on it; empty where the system does not tell."""
    try:
        boot = Path("/proc/sys/kernel/random/boot_id").read_text(encoding="ascii").strip()
    except OSError:
        return ""
    return f"{boot}/{socket.gethostname()}"


def _is_dead(mark: bytes) -> bool:
    """Whether the run that left this mark was one of this machine, and is not there any more."""
    machine, _, process = mark.decode("utf-8", "replace").rpartition(" ")[0].rpartition(" ")
    if not process.isdecimal() or not machine or machine != _machine():
        return False
    try:
        os.kill(int(process), 0)
    except ProcessLookupError:
        return True
    except OSError:
        return False
    return False


class NamingTurn:
    """One turn: taken when it is made, to be given back.

    Attributes:
        is_held: whether this run has it; without the right to make the entry no run can take turns.

    """

    def __init__(
        self, link: Link, context: DN, schema: Schema, *, stays: bool = False, can_assert: bool = False
    ) -> None:  # fmt: skip
        """Wait for the turn.

        With `stays`, the entry is left there for the next run, since the server keeps what is left of each deletion.
        With `can_assert`, the server deletes it only if it is this run's (RFC 4528), and need not be asked before.

        Raises:
            DirectoryError: ``busy`` where other runs do not let go of it, ``out-of-reach``.

        """
        self._link = link
        self._stays, self._can_assert = stays, can_assert
        self._dn = str(context.child("cn", NAME))
        self._mark = f"{_machine()} {os.getpid()} {os.urandom(8).hex()}".encode()
        classes = [name for name in _CLASSES if schema.object_class(name) is not None]
        self._classes = [b"top", *(name.encode() for name in classes[:1])]
        self.is_held = bool(classes) and self._wait()

    def give_back(self) -> bool:
        """Let the next one in; whether the turn was this run's own to the end."""
        if not self.is_held:
            return False
        self.is_held = False
        try:
            return self._link.persist(self._remove)
        except DirectoryError:  # what was made in the turn is to be told all the same
            return False

    def let_go(self) -> None:
        """Give it back after an interruption, as far as can be: with the connection in use nothing may go any more."""
        if self.is_held:
            self.is_held = False
            with suppress(DirectoryError, ldap.LDAPError):
                self._link.anew()
                self._remove()

    # --- requests

    def _remove(self) -> bool:
        own = [AssertionControl(True, f"(description={escape_filter_chars(self._mark.decode())})")]
        try:
            if self._can_assert and not self._stays:
                self._link.connection.delete_ext_s(self._dn, serverctrls=own)
                return True
            if self._stays:
                parts = [(ldap.MOD_DELETE, "description", [self._mark]), (ldap.MOD_ADD, "description", [_FREE])]
                self._link.connection.modify_s(self._dn, parts)
            elif self._holder() != self._mark:
                return False
            else:
                self._link.connection.delete_s(self._dn)
        except (ldap.NO_SUCH_OBJECT, ldap.NO_SUCH_ATTRIBUTE, ldap.ASSERTION_FAILED):
            return False
        except ldap.INSUFFICIENT_ACCESS:  # a right that ended meanwhile: whoever comes next waits, and takes it over
            pass
        return True

    def _wait(self) -> bool:
        start = last_change = time.monotonic()
        pause, holder = _SHORT, b""
        while (answer := self._link.persist(self._take)) is not True:
            now = time.monotonic()
            if answer is False:
                return False
            if answer != holder:
                holder, last_change = bytes(answer), now
            elif now - last_change > _LEFT_BEHIND or _is_dead(holder):
                taken_over = self._link.persist(partial(self._take_over, holder))
                if taken_over is not False:
                    return bool(taken_over)
            if now - start > _MOST:
                raise DirectoryError(
                    Code.BUSY, "other runs have been giving names all the time", where=Location(dn=self._dn),
                    remedy="try again; nothing more was written",
                )  # fmt: skip
            time.sleep(pause)
            pause = min(2 * pause, _LONG)
        return True

    def _take(self) -> bool | bytes:
        """True where the turn is ours, False where none can be taken, else the mark of whoever has it."""
        attributes: list[tuple[str, list[bytes]]] = [
            ("objectClass", self._classes), ("cn", [NAME.encode()]), ("description", [self._mark]),
        ]  # fmt: skip
        try:
            if self._stays and self._is_free():
                return True
            self._link.connection.add_s(self._dn, attributes)
        except ldap.ALREADY_EXISTS:
            holder = self._holder()
            if holder == _FREE and (answer := self._take_over(_FREE)) is not False:
                return bool(answer)
            return holder == self._mark or holder
        except NO_ANSWER:
            raise
        except ldap.LDAPError:  # no right, no context yet, a schema of its own
            return False
        return True

    def _is_free(self) -> bool:
        """Take the turn where the entry is there and nobody has it: that is one request, and as a rule enough."""
        parts = [(ldap.MOD_DELETE, "description", [_FREE]), (ldap.MOD_ADD, "description", [self._mark])]
        try:
            self._link.connection.modify_s(self._dn, parts)
        except (ldap.NO_SUCH_ATTRIBUTE, ldap.NO_SUCH_OBJECT, ldap.INSUFFICIENT_ACCESS):
            return False
        return True

    def _holder(self) -> bytes | bool:
        """The mark of whoever has the turn; empty where it has just been given back, False where it cannot be seen."""
        try:
            answers: list[Any] = self._link.connection.search_s(
                self._dn, ldap.SCOPE_BASE, "(objectClass=*)", ["description"]
            )
        except ldap.NO_SUCH_OBJECT:
            return b""
        except ldap.INSUFFICIENT_ACCESS:
            return False
        values = next((attributes.get("description") for dn, attributes in answers if dn), None)
        return bytes(values[0]) if values else False

    def _take_over(self, holder: bytes) -> bool | None:
        """Take a turn that was left behind; of two that try, one finds the old mark gone. None: it may not be taken."""
        parts = [(ldap.MOD_DELETE, "description", [holder]), (ldap.MOD_ADD, "description", [self._mark])]
        try:
            self._link.connection.modify_s(self._dn, parts)
        except (ldap.NO_SUCH_ATTRIBUTE, ldap.NO_SUCH_OBJECT, ldap.TYPE_OR_VALUE_EXISTS):
            return self._holder() == self._mark
        except ldap.INSUFFICIENT_ACCESS:
            return None
        return True
