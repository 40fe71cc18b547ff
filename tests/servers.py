"""Real servers for the tests: started on loopback from Debian's packages, stopped by process id."""

from __future__ import annotations

import os
import random
import select
import shutil
import socket
import subprocess
import tempfile
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from vandrel.directory import dn as names
from vandrel.directory.operations import AddEntry
from vandrel.directory.schema import shipped_definitions
from vandrel.errors import DirectoryError
from vandrel.secret import Secret

from .conftest import not_installed

if TYPE_CHECKING:
    from vandrel.directory.ldap.connection import Settings
    from vandrel.directory.ldap.store import LdapDirectory

SLAPD = shutil.which("slapd") or "/usr/sbin/slapd"
SAMBA = shutil.which("samba") or "/usr/sbin/samba"
PYTHON_OF_THE_SYSTEM = "/usr/bin/python3"
SUFFIX = "dc=marrowick,dc=example"

_CONFIGURATION = """\
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
{schema}
modulepath /usr/lib/ldap
moduleload back_mdb
{modules}
pidfile {folder}/slapd.pid
sizelimit unlimited
{general}
authz-regexp "gidNumber=.*,cn=peercred,cn=external,cn=auth" "cn=administrator,{suffix}"
{access}
access to dn.base="" by * read
access to * by dn.exact="cn=administrator,{suffix}" {right} by anonymous auth by users read
{config}
database mdb
suffix "{suffix}"
directory {folder}/data
maxsize {size}
{sync}
index objectClass,cn,ou,uid,mail,entryUUID,entryCSN eq
{database}
rootdn "cn=root,{suffix}"
rootpw the-tests-alone
"""

_OWN_INDEX = "index vandrelMailAlias,vandrelPrincipalName eq"
#: What an administrator of such a server adds, so that the server sees to more by itself.
OVERLAYS = """\
overlay refint
refint_attributes member manager seeAlso owner secretary
refint_nothing "cn=nobody"
overlay unique
unique_uri ldap:///?uid?sub
unique_uri ldap:///?vandrelPrincipalName?sub
unique_uri ldap:///?mail,vandrelMailAlias?sub
overlay ppolicy
overlay syncprov
"""
MODULES = ("refint", "unique", "ppolicy", "syncprov")
_PROTECTION = 'access to filter="(vandrelProtected=TRUE)" attrs=entry by * =arscdx'


#: A connection over the network, by a name and a password in a file beside it.
CONNECTION = """\
connections:
  harbour:
    hosts: ["ldap://127.0.0.1:{port}"]
    unencrypted: true
    identities:
      desk: {{bind: "{who}", password-file: hers}}
"""


class Setup(NamedTuple):
    """How a server is set up. ``bare``: nothing but the standards' schema and no overlay."""

    bare: bool = False
    modules: tuple[str, ...] = MODULES
    overlays: str = OVERLAYS
    general: str = ""
    access: str = _PROTECTION
    database: str = ""
    config: str = ""
    right: str = "manage"  # with it, a server asks for no good password
    size: int = 1 << 30
    durable: bool = False
    scheme: str = "ldap"
    where: str = "/dev/shm"
    schema: str = ""  # more of it


PLAIN = Setup(modules=(), overlays="", access="")
BARE = Setup(bare=True, modules=(), overlays="", access="")


def open_directory(how: Settings) -> LdapDirectory:
    from vandrel.directory.ldap.store import LdapDirectory

    return LdapDirectory(how)


def settings(urls: tuple[str, ...], **more: Any) -> Settings:
    from vandrel.directory.ldap.connection import Settings

    return Settings(urls, **more)


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as server:
        return int(server.getsockname()[1])


class Forgetful:
    """A relay that hands requests on and, once told, loses the next answers and the connection with them."""

    def __init__(self, port: int, address: str = "127.0.0.1") -> None:
        self._target = address, port
        self._server = socket.create_server((address, 0))
        self.port = int(self._server.getsockname()[1])
        self.lose = 0
        self.happened = False
        self._number = 0
        self._then: Callable[[], object] = lambda: None
        self._writing: Callable[[], object] = bool
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            try:
                client, _ = self._server.accept()
            except OSError:
                return
            threading.Thread(target=self._relay, args=(client,), daemon=True).start()

    def _relay(self, client: socket.socket) -> None:
        with suppress(ConnectionError), client, socket.create_connection(self._target) as server:
            while True:
                ready, _, _ = select.select([client, server], [], [])
                data = ready[0].recv(65536)
                if not data:
                    return
                if ready[0] is server and self.lose:
                    self.lose -= 1  # the request was heeded; nobody hears of it
                    return
                if ready[0] is client:
                    self.hand_on(data, server)
                else:
                    client.sendall(data)

    def hand_on(self, data: bytes, server: socket.socket) -> None:
        server.sendall(data)

    def close(self) -> None:
        self._server.close()


class Watching(Forgetful):
    """A relay that does something once, right before a certain request that writes is handed on."""

    #: The requests that write (RFC 4511, 4.6 to 4.9): modify, add, delete, rename; and the extended one for passwords.
    WRITES = frozenset({0x66, 0x68, 0x4A, 0x6C})
    #: How a message of the protocol begins (RFC 4511, 4.1.1).
    MESSAGE = 0x30
    #: The type of a TLS record that carries something (RFC 8446, 5.1).
    ENCRYPTED = 0x17
    PASSWORD = b"1.3.6.1.4.1.4203.1.11.1"

    def before(self, number: int, then: Callable[[], object], writing: Callable[[], object] = bool) -> None:
        """Do it; what is encrypted counts as a request that writes while `writing` says so."""
        self._number, self._then, self._writing, self.happened = number, then, writing, False

    def hand_on(self, data: bytes, server: socket.socket) -> None:
        """Hand on request by request: a message is 30, its length, its number, and what it asks for.

        What is encrypted goes record by record, of which each has one request: type, version, and length in octets.
        """
        while data and data[0] != self.MESSAGE:
            size = 5 + int.from_bytes(data[3:5])
            one, data = data[:size], data[size:]
            self._count(one[0] == self.ENCRYPTED and bool(self._writing()))
            server.sendall(one)
        while data:
            size, most = data[1], 2
            if size & 0x80:
                most += size & 0x7F
                size = int.from_bytes(data[2:most])
            one, data = data[: most + size], data[most + size :]
            self._count(one[most + 2 + one[most + 1]] in self.WRITES or self.PASSWORD in one)
            server.sendall(one)

    def drop(self) -> None:
        """Let what was about to be handed on go no further, nor anything behind it."""
        raise ConnectionAbortedError

    def _count(self, writes: bool) -> None:
        self._number -= writes
        if writes and self._number == 0:
            self.happened = True
            self._then()


def _need_slapd() -> None:
    if find_spec("ldap") is None or not Path(SLAPD).exists():
        not_installed("python-ldap and slapd, for the tests on a standard LDAP server")


@contextmanager
def running(setup: Setup | None = None) -> Iterator[Slapd]:
    """A server with an entry at the top, in memory unless told otherwise, gone afterwards."""
    _need_slapd()
    setup = setup or Setup()
    folder = Path(tempfile.mkdtemp(prefix="vandrel-", dir=setup.where))
    server = Slapd(folder, setup)
    try:
        server.start()
        server.begin()
        yield server
    finally:
        server.stop()
        shutil.rmtree(folder)


class Slapd:
    """One server with a folder of its own, reached through a socket in it."""

    def __init__(self, folder: Path, setup: Setup) -> None:
        self.folder, self.setup = folder, setup
        (folder / "data").mkdir(parents=True)
        own = [f"{kind} {text}" for kind, text in shipped_definitions() if " 2.25." in text]
        (folder / "vandrel.schema").write_text("\n".join(own) + "\n")
        self.url = f"ldapi://{str(folder / 'socket').replace('/', '%2F')}"
        self.port = free_port()
        self._process: subprocess.Popen[bytes] | None = None
        self.configure()

    def configure(self) -> None:
        setup, folder = self.setup, self.folder
        text = _CONFIGURATION.format(
            folder=folder, suffix=SUFFIX, size=setup.size, general=setup.general, access=setup.access, config=setup.config, right=setup.right,
            schema=setup.schema or ("" if setup.bare else f"include {folder}/vandrel.schema"),
            modules="\n".join(f"moduleload {name}" for name in setup.modules),
            sync="" if setup.durable else "envflags nosync writemap",
            database=("" if setup.bare else _OWN_INDEX + "\n") + setup.database,
        )  # fmt: skip
        (folder / "slapd.conf").write_text(text + setup.overlays.format(folder=folder))

    def start(self) -> None:
        log = (self.folder / "log").open("ab")
        words = [
            SLAPD,
            "-f",
            str(self.folder / "slapd.conf"),
            "-h",
            f"{self.url} {self.setup.scheme}://127.0.0.1:{self.port}",
            "-d",
            "0",
        ]
        self._process = subprocess.Popen(words, stdout=log, stderr=log)
        deadline = time.monotonic() + 20
        while True:
            try:
                open_directory(self.settings()).close()
                return
            except DirectoryError:
                if time.monotonic() > deadline or self._process.poll() is not None:
                    raise AssertionError((self.folder / "log").read_text()) from None
                time.sleep(0.05)

    def settings(self) -> Settings:
        return settings((self.url,), sasl="external")

    def as_root(self) -> Settings:
        """As the root identity, which only the tests have: no rule holds for it."""
        return settings((self.url,), bind_dn=f"cn=root,{SUFFIX}", secret=Secret("the-tests-alone"))

    def begin(self) -> None:
        """Make the entry at the top, which only the root identity may; nothing else is done by it."""
        root = open_directory(self.as_root())
        classes = ["top", "organization", "dcObject"]
        top = AddEntry(names.parse(SUFFIX), {"objectClass": list(classes), "o": ["Marrowick"], "dc": ["marrowick"]})
        assert root.execute([top], atomic=True) == [None]
        root.close()

    def kill(self) -> None:
        """End it as a power cut would."""
        assert self._process is not None
        self._process.kill()
        self._process.wait()

    def stop(self) -> None:
        if self._process is not None:
            self._process.terminate()
            self._process.wait()
            self._process = None


class Domain:
    """A domain controller with the Active Directory schema, on an address of its own: its ports are fixed."""

    PASSWORD = "Harbour-Lamp-77"

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.address = _free_address()
        words = [PYTHON_OF_THE_SYSTEM, str(Path(__file__).with_name("provision.py")), str(folder), self.address]
        _certify(folder, self.address)
        made = subprocess.run(words, input=f"{self.PASSWORD}\n", capture_output=True, text=True, check=False)
        assert made.returncode == 0, made.stderr
        self._process: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        log = (self.folder / "output").open("ab")
        words = [SAMBA, "-s", str(self.folder / "smb.conf"), "-i", "-M", "single", "-d", "0"]
        self._process = subprocess.Popen(words, stdout=log, stderr=log, start_new_session=True)
        deadline = time.monotonic() + 60
        while True:
            try:
                open_directory(self.settings()).close()
                return
            except DirectoryError:
                if time.monotonic() > deadline or self._process.poll() is not None:
                    raise AssertionError((self.folder / "output").read_text()) from None
                time.sleep(0.2)

    @property
    def url(self) -> str:
        return f"ldaps://{self.address}"

    def settings(self) -> Settings:
        """As the domain's administrator."""
        return settings(
            (self.url,), bind_dn="Administrator@marrowick.example", secret=Secret(self.PASSWORD), ca_file=self.ca_file
        )

    @property
    def ca_file(self) -> str:
        return str(self.folder / "ca.pem")

    def stop(self) -> None:
        if self._process is not None:
            self._process.terminate()
            self._process.wait()
            self._process = None


def _free_address() -> str:
    """An address of this machine, 127.77.x.y, that nothing listens on."""
    while True:
        address = f"127.77.{random.randint(1, 250)}.{random.randint(1, 250)}"
        with socket.socket() as probe:
            if probe.connect_ex((address, 389)):
                return address


class Again:
    """A server, if any, and folders, kept as they are now: to begin from there again takes less than to make them."""

    def __init__(self, server: Slapd | Domain | None, *folders: Path) -> None:
        self.server = server
        self._folders = [*folders, *([server.folder] if server is not None else [])]
        if server is not None:
            server.stop()
        for folder in self._folders:
            _copy(folder, _beside(folder))
            at_the_end.callback(shutil.rmtree, _beside(folder))

    @contextmanager
    def begun(self) -> Iterator[None]:
        for folder in self._folders:
            shutil.rmtree(folder)
            _copy(_beside(folder), folder)
        if self.server is not None:
            self.server.start()
        try:
            yield
        finally:
            if self.server is not None:
                self.server.stop()


def _beside(folder: Path) -> Path:
    return folder.with_name(f"{folder.name}.kept")


def _copy(folder: Path, target: Path) -> None:
    subprocess.run(["cp", "-a", "--sparse=always", str(folder), str(target)], check=True)  # databases have holes


#: What goes when a worker has run all of its tests.
at_the_end = ExitStack()
_domains: list[tuple[Domain, Again]] = []


def made(kind: str) -> Slapd | Domain:
    """A server, running, whose folder goes at the end."""
    folder = Path(tempfile.mkdtemp(prefix="vandrel-", dir="/dev/shm"))
    at_the_end.callback(shutil.rmtree, folder)
    server: Slapd | Domain
    if kind == "slapd":
        _need_slapd()
        server = Slapd(folder, Setup())
        server.start()
        server.begin()
    else:
        _need_samba()
        server = Domain(folder)
        server.start()
    at_the_end.callback(server.stop)
    return server


def _need_samba() -> None:
    if find_spec("ldap") is None or not Path(SAMBA).exists() or os.getuid():
        not_installed("python-ldap and samba, run as root, for the tests on a server with the Active Directory schema")


@contextmanager
def domain() -> Iterator[Domain]:
    """A domain in memory with nothing in it; one at a time."""
    if not _domains:
        server = made("domain")
        assert isinstance(server, Domain)
        _domains.append((server, Again(server)))
    server, again = _domains[0]
    with again.begun():
        yield server


def with_certificate(folder: Path, name: str = "127.0.0.1") -> tuple[Setup, Path]:
    """A server with a certificate for this name, and the file of the authority that signed it."""
    _certify(folder, name)
    general = f"TLSCertificateFile {folder}/cert.pem\nTLSCertificateKeyFile {folder}/key.pem"
    return Setup(general=general), folder / "ca.pem"


def _certify(folder: Path, name: str) -> None:
    """A certificate for this name in cert.pem, its key in key.pem, who signed it in ca.pem."""
    import trustme

    authority = trustme.CA()
    certificate = authority.issue_cert(name)
    authority.cert_pem.write_to_path(str(folder / "ca.pem"))
    certificate.private_key_pem.write_to_path(str(folder / "key.pem"))
    (folder / "key.pem").chmod(0o600)
    certificate.cert_chain_pems[0].write_to_path(str(folder / "cert.pem"))


@contextmanager
def two_providers() -> Iterator[tuple[Slapd, Slapd]]:
    """Two servers that replicate to each other (RFC 4533)."""
    _need_slapd()
    folders = [Path(tempfile.mkdtemp(prefix="vandrel-", dir="/dev/shm")) for _ in range(2)]
    found = [Slapd(folder, PLAIN) for folder in folders]
    try:
        for number, server in enumerate(found):
            other = found[1 - number]
            provider = (
                f"syncrepl rid=00{number + 1} provider=ldap://127.0.0.1:{other.port} bindmethod=simple "
                f'binddn="cn=root,{SUFFIX}" credentials=the-tests-alone searchbase="{SUFFIX}" '
                'type=refreshAndPersist retry="1 +" keepalive=1:1:1\nmultiprovider on\noverlay syncprov\n'
            )
            server.setup = PLAIN._replace(
                modules=("syncprov",),
                general=f"serverID {number + 1}",
                overlays=provider,
                database="limits * size=unlimited",
            )
            server.configure()
            server.start()
        found[0].begin()
        yield found[0], found[1]
    finally:
        for server in found:
            server.stop()
        for folder in folders:
            shutil.rmtree(folder)


class FarAway:
    """A relay over a long line: each answer comes so many seconds late.

    It counts how often the client waits for one, and the octets that come.
    """

    #: Requests without an answer (RFC 4511, 4.3 and 4.11): unbind, abandon.
    WITHOUT_ANSWER = frozenset({0x42, 0x50})

    def __init__(self, port: int, late: float = 0.02) -> None:
        self._target, self.late = port, late
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port = int(self._server.getsockname()[1])
        self.trips = self.octets = 0
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        with suppress(OSError):
            while True:
                client, _ = self._server.accept()
                threading.Thread(target=self._relay, args=(client,), daemon=True).start()

    def _relay(self, client: socket.socket) -> None:
        waiting: deque[tuple[float, bytes]] = deque()
        # What is sent before an answer has come is on its way together, and what came before the last wait was over
        # was sent during that.
        heard, over = True, 0.0
        with suppress(OSError), client, socket.create_connection(("127.0.0.1", self._target)) as server:
            for end in (client, server):  # no line holds what is short back until the last was acknowledged
                end.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            while True:
                left = max(0.0, waiting[0][0] - time.monotonic()) if waiting else None
                ready, _, _ = select.select([client, server], [], [], left)
                while waiting and waiting[0][0] <= time.monotonic():
                    due, data = waiting.popleft()
                    client.sendall(data)
                    if not heard and due - self.late >= over:
                        self.trips += 1
                        heard, over = True, time.monotonic()
                for side in ready:
                    data = side.recv(65536)
                    if not data:
                        return
                    if side is server:
                        self.octets += len(data)
                        waiting.append((time.monotonic() + self.late, data))
                    else:
                        heard = heard and not self._asks(data)
                        server.sendall(data)

    @classmethod
    def _asks(cls, data: bytes) -> bool:
        """Whether an answer will come to any of these messages: not to who lets go of a question, or goes."""
        while data:
            size, most = data[1], 2
            if size & 0x80:
                most += size & 0x7F
                size = int.from_bytes(data[2:most])
            if data[most + 2 + data[most + 1]] not in cls.WITHOUT_ANSWER:
                return True
            data = data[most + size :]
        return False

    def close(self) -> None:
        self._server.close()
