"""The package: what is in it, and that it is installed without a network from a folder of wheels."""

from __future__ import annotations

import subprocess
import sys
import zipfile
from pathlib import Path

import pytest

from .conftest import IS_SOAK, Folder

ROOT = Path(__file__).parents[1]


def python(*words: str, of: Path | None = None, **more: object) -> str:
    executable = str(of / "bin" / "python") if of is not None else sys.executable
    done = subprocess.run([executable, *words], capture_output=True, text=True, check=False, **more)  # type: ignore[call-overload]
    assert done.returncode == 0, done.stdout + done.stderr
    return str(done.stdout)


@pytest.mark.skipif(not IS_SOAK, reason="make soak takes it: it asks the package registry for wheels")
def test_it_is_installed_without_a_network_from_a_folder_of_wheels(tmp_path):
    house, place = tmp_path / "house", tmp_path / "place"
    python("-m", "pip", "wheel", "-q", "--wheel-dir", str(house), f"{ROOT}[figures]")
    (wheel,) = house.glob("vandrel-*.whl")
    with zipfile.ZipFile(wheel) as archive:
        names = archive.namelist()
        (metadata,) = (archive.read(name).decode() for name in names if name.endswith(".dist-info/METADATA"))
    assert not [name for name in names if name.startswith(("tests", "docs", "benchmarks")) or "__pycache__" in name]
    assert any(name.endswith("licenses/LICENSE") for name in names) and "vandrel/demo/charter.yaml" in names
    assert "License-Expression: Apache-2.0" in metadata and "Requires-Python: >=3.11" in metadata
    assert "Provides-Extra: ldap" in metadata

    python("-m", "venv", str(place))
    nowhere = {"PIP_INDEX_URL": "http://127.0.0.1:9/", "PATH": "/usr/bin:/bin"}
    python(
        "-m",
        "pip",
        "install",
        "-q",
        "--no-index",
        "--find-links",
        str(house),
        "vandrel[figures]",
        of=place,
        env=nowhere,
    )
    program = place / "bin" / "vandrel"
    made = subprocess.run([str(program), "demo", "demo"], cwd=tmp_path, capture_output=True, text=True, check=False,
                          env=Folder(tmp_path).environment())  # fmt: skip
    assert made.returncode == 0, made.stderr
    far = subprocess.run([str(program), "probe", "--directory", "ldap://127.0.0.1:9", "--charter", "demo/charter.yaml"],
                         cwd=tmp_path, capture_output=True, text=True, check=False,
                         env=Folder(tmp_path).environment())  # fmt: skip
    assert far.returncode and "Traceback" not in far.stderr and "vandrel[ldap]" in far.stderr, far.stderr

    # As a tool of its own, for one user (pipx).
    python("-m", "venv", str(tmp_path / "tools"))
    python("-m", "pip", "install", "-q", "pipx", of=tmp_path / "tools")
    own = Folder(tmp_path).environment() | {
        "PIPX_HOME": str(tmp_path / "pipx"), "PIPX_BIN_DIR": str(tmp_path / "bin"), "PIPX_MAN_DIR": str(tmp_path / "man"),
    }  # fmt: skip
    python("-m", "pipx", "install", str(wheel), of=tmp_path / "tools", env=own)
    told = subprocess.run([str(tmp_path / "bin" / "vandrel"), "find", "alund"], cwd=tmp_path / "demo", check=False,
                          capture_output=True, text=True, env=own)  # fmt: skip
    assert (told.returncode, "Anna Lund" in told.stdout) == (0, True), told.stderr
