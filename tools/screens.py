"""Makes the pictures of docs/screenshots/ again: the demo's commands in a terminal window on a screen of its own.

Needs Debian's packages xvfb, xterm, imagemagick and fonts-dejavu-core. Nothing is shown but the made-up demo.
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from pathlib import Path

OUT = Path(__file__).parent.parent / "docs" / "screenshots"
PROGRAM = Path(sys.executable).with_name("vandrel")
SIZE = "1280x800"
NEEDED = {"Xvfb": "xvfb", "xterm": "xterm", "import": "imagemagick", "chromium": "chromium"}

CREATE = (
    'vandrel create crew "Asbjørn Lund" language=nb number=2014 site=Northquay department=Deck '
    'category=Officers title="Second mate" manager=hbrekke password=none --yes'
)
#: A roster with a new hand, a new name, another site, somebody who has left, and a number that nobody has.
ROSTER = [
    "vandrel find --type accounts --columns number,kind,given,middle,surname,site,department,category,title --as csv "
    "| grep -E '^(number|[0-9]+,(crew|staff|yard))' > roster.csv",
    "sed -i -e 's/^2004,crew,Anna,,Lund/2004,crew,Anna,,Lund-Moe/' -e '/^2001,/s/Northquay/Kelness/' -e '/^2210,/d' "
    "-e 's/^2209,/3009,/' roster.csv",
    "echo '3001,crew,Ada,,Nygård,Kelness,Deck,Hands,Deckhand' >> roster.csv",
    "vandrel import roster.csv --propose -q",
]
SYNCHRONIZE = "vandrel synchronize school.profile.yaml --into school/directory.db"
EDIT = 'vandrel edit hbrekke office=Bridge phone+="+47 5555 0999" groups+=may-sailing-plan --yes'

#: Pictures of the demo on a domain controller with the Active Directory schema.
ON_A_SERVER = {"probe"}
CONNECTION = """\
connections:
  harbour:
    hosts: ["{url}"]
    ca-file: {authority}
    identities:
      everyday: {{bind: toedegaard@marrowick.example, password-file: hers}}
      admin: {{bind: Administrator@marrowick.example, password-file: his}}
"""
HER_PASSWORD = "Kv9-fjord-lamp"

#: name of the picture -> (commands run unseen before, commands shown)
SCREENS: dict[str, tuple[list[str], list[str]]] = {
    "show": ([], ["vandrel show ødeg", "vandrel show lund"]),
    "find": (
        [],
        [
            'vandrel find site=Northquay title="*mate*" --columns login,full,title,phone,manager',
            "vandrel find --under /Administrators",
            "vandrel find --type groups northquay",
            "vandrel find enabled=no --columns login,full,kind,ends,state",
        ],
    ),
    "audit": (
        [
            "vandrel audit -q --json > /dev/null; true",
            "vandrel edit hbrekke groups+=team-harbour-masters -y -q",
            "vandrel disable hbrekke -y -q",
            "vandrel edit jmeer login=zz9 -y -q",
            "vandrel move zz9 --to /Guests -y -q",
            "vandrel release /Shore/Office -y -q",
        ],
        ["vandrel audit"],
    ),
    "create": ([], [CREATE]),
    "rename": (
        ["vandrel edit alund notes='Keys: locker alund' --yes"],
        [
            "vandrel rename alund surname=Brekke --yes",
            "vandrel move abrekke --to /Ferries/Sandhaven/Engine/Officers -n",
        ],
    ),
    "copy": (
        ["vandrel edit alund groups+=team-harbour-masters --yes"],
        ['vandrel copy alund "Berit Dahl" number=2077 password=none --yes', "vandrel compare alund bdahl"],
    ),
    "restore": ([], ["vandrel delete hbrekke --yes -q", "vandrel attic", "vandrel restore hbrekke --yes"]),
    "leave": ([], ["vandrel leave hbrekke --successor alund -n", "vandrel leave jmeer --on 2026-12-31 -n"]),
    "differences": (
        [
            "vandrel snapshot take -q",
            "vandrel delete ibouzakis -y -q",
            "vandrel edit alund title=Mate phone= -y -q",
            "vandrel rename jmeer surname=Vos -y -q",
        ],
        ["vandrel snapshot differences 1"],
    ),
    "hierarchy": (
        ["vandrel create unit /Shore/Season --yes", "vandrel edit /Shore/Office protected=no --yes"],
        ["vandrel hierarchy --differences", "vandrel hierarchy build --dry-run", "vandrel show /Shore"],
    ),
    "probe": ([], ["vandrel probe /Shore --directory harbour --who admin"]),
    "import-check": ([], ["vandrel import summer.xlsx --dry-run --rows 400"]),
    "draft": (
        ["vandrel move tsahin --to /Guests -y -q", "vandrel charter draft > drafted.yaml"],
        ["head -n 28 drafted.yaml", "tail -n 14 drafted.yaml"],
    ),
    "reconcile": (ROSTER, ["vandrel reconcile roster.csv --dry-run --hand-out first.csv"]),
    "synchronize": (
        [
            "vandrel hierarchy build --charter school/charter.yaml --directory school/directory.db -y -q",
            f"{SYNCHRONIZE} -y -q",
            "vandrel rename arnlund surname=Lundqvist -y -q",
            "vandrel leave hbrekke -y -q",
            "vandrel edit annlund title=Bosun -y -q",
            "vandrel edit mashworth title=Purser -y -q --charter school/charter.yaml --directory school/directory.db",
            'vandrel create crew "Ada Nygård" number=4801 site=Northquay department=Deck category=Hands language=nb '
            "password=generate --hand-out ada.csv -y -q",
        ],
        [f"{SYNCHRONIZE} --dry-run"],
    ),
    "services": (
        [
            "vandrel edit tsahin display= -y -q",
            "vandrel seats give deck-course annlund arnlund mashworth -y -q",
            "vandrel edit annlund ends=2027-03-31 -y -q",
        ],
        [
            "vandrel ready courses.profile.yaml --under /Ferries/Eastmole/Deck",
            "vandrel seats",
            "vandrel seats deck-course",
        ],
    ),
    "journal": ([EDIT, CREATE], ["vandrel journal", "vandrel journal 5", "vandrel undo 5 --dry-run"]),
}


#: name of a picture that is no terminal -> the commands that draw it
DRAWN = {
    "slips": [["import", "summer-mended.xlsx", "--hand-out", "slips.pdf", "-y"]],
    "page": [
        ["edit", "hbrekke", "groups+=team-harbour-masters", "-y"], ["disable", "hbrekke", "-y"],
        ["edit", "jmeer", "login=zz9", "-y"], ["release", "/Shore/Office", "-y"], ["audit", "--page", "audit.html"],
    ],
}  # fmt: skip


def slips(folder: Path, target: Path) -> None:
    """The first page of the slips, as it is printed."""
    import pypdfium2

    page = pypdfium2.PdfDocument(str(folder / "slips.pdf"))[0]
    page.render(scale=1.35).to_pil().save(target)


def page(folder: Path, target: Path) -> None:
    """The page of an audit, as a browser shows it."""
    subprocess.run(
        ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
         "--disable-component-update", "--disable-sync", "--hide-scrollbars", f"--user-data-dir={folder / 'browser'}",
         "--window-size=1280,800", f"--screenshot={target}", (folder / "audit.html").as_uri()],
        check=True, stderr=subprocess.DEVNULL,
    )  # fmt: skip


@contextmanager
def screen() -> Iterator[str]:
    """A virtual screen; the value of DISPLAY for it."""
    read, write = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", f"{SIZE}x24", "-nolisten", "tcp"],
        pass_fds=[write],
        stderr=subprocess.DEVNULL,
    )
    os.close(write)
    try:
        with os.fdopen(read) as pipe:
            yield f":{pipe.readline().strip()}"
    finally:
        server.terminate()
        server.wait()


@contextmanager
def harbour(folder: Path, env: dict[str, str]) -> Iterator[list[str]]:
    """A domain controller, the connection to it, and the options by which the demo goes there."""
    sys.path.insert(0, str(Path(__file__).parent.parent))
    from tests import servers

    with servers.domain() as server:
        (folder / "connections.yaml").write_text(CONNECTION.format(url=server.url, authority=server.ca_file))
        for name, password in (("hers", HER_PASSWORD), ("his", servers.Domain.PASSWORD)):
            (folder / name).write_text(password)
            (folder / name).chmod(0o600)
        yield ["--directory", "harbour", "--who", "admin"]


def give_her_a_password(folder: Path, env: dict[str, str]) -> None:
    """So that she can bind."""
    words = ["edit", "toedegaard", "password=-", "change=no", "-y", "-q", "--directory", "harbour", "--who", "admin"]
    subprocess.run(
        [PROGRAM, *words], input=f"{HER_PASSWORD}\n", text=True, env=env, cwd=folder, check=True, capture_output=True
    )


def take(name: str, folder: Path, before: list[str], shown: list[str], env: dict[str, str]) -> None:
    """Run commands in a terminal window and keep a picture of it."""
    for command in before:
        subprocess.run(["sh", "-c", command], cwd=folder, env=env, check=True, stdout=subprocess.DEVNULL)
    script = folder.parent / "script.sh"
    ready = folder.parent / "ready"
    ready.unlink(missing_ok=True)
    lines = [f"printf '\\033[1m$ %s\\033[0m\\n' {shlex.quote(command)}; {command}; echo" for command in shown]
    script.write_text("\n".join([*lines, f"touch {shlex.quote(str(ready))}", "sleep 60"]), "utf-8")
    terminal = subprocess.Popen(
        ["xterm", "-u8", "-fa", "DejaVu Sans Mono", "-fs", "10", "-geometry", "158x47+0+0", "-b", "8", "-bg", "#14181d",
         "-fg", "#d9dee4", "-cr", "#14181d", "-e", "sh", str(script)],
        cwd=folder, env=env, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        deadline = time.monotonic() + 60
        while not ready.exists() and time.monotonic() < deadline:
            time.sleep(0.05)
        time.sleep(0.6)  # the window is drawn a moment after the text is written
        subprocess.run(["import", "-window", "root", "-strip", str(OUT / f"{name}.png")], env=env, check=True)
    finally:
        terminal.terminate()
        terminal.wait()


def main() -> int:
    """Make all pictures, or those named on the command line."""
    missing = [package for program, package in NEEDED.items() if not shutil.which(program)]
    if missing:
        print(f"Not installed: {' '.join(missing)}", file=sys.stderr)
        return 1
    OUT.mkdir(parents=True, exist_ok=True)
    wanted = sys.argv[1:] or [*SCREENS, *DRAWN]
    for name in [name for name in wanted if name in DRAWN]:
        with tempfile.TemporaryDirectory() as temporary:
            folder = Path(temporary) / "ferry"
            subprocess.run([PROGRAM, "demo", folder, "--no-tour", "-q"], check=True, stderr=subprocess.DEVNULL)
            for words in DRAWN[name]:
                subprocess.run([PROGRAM, *words], cwd=folder, stdout=subprocess.DEVNULL, check=words[0] != "audit")
            {"slips": slips, "page": page}[name](folder, OUT / f"{name}.png")
        print(f"docs/screenshots/{name}.png")
    with screen() as display:
        for name in [name for name in wanted if name in SCREENS]:
            before, shown = SCREENS[name]
            with tempfile.TemporaryDirectory() as temporary:
                folder = Path(temporary) / "ferry"
                env = {
                    **os.environ,
                    "DISPLAY": display,
                    "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}",
                    "LANG": "C.UTF-8",
                }
                env["XDG_CACHE_HOME"] = temporary
                with harbour(folder.parent, env) if name in ON_A_SERVER else nullcontext([]) as options:
                    subprocess.run(
                        [PROGRAM, "demo", folder, "--no-tour", "-q", *options], env=env, check=True, cwd=temporary,
                        stderr=subprocess.DEVNULL,
                    )  # fmt: skip
                    if options:
                        give_her_a_password(folder, env)
                    take(name, folder, before, shown, env)
            print(f"docs/screenshots/{name}.png")
    return 0


if __name__ == "__main__":
    sys.exit(main())
