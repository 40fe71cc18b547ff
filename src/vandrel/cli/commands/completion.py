"""``vandrel completion``: what a shell needs to complete commands, fields and names."""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import TYPE_CHECKING

from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "completion"
HELP = "the completion for bash, zsh or fish: put out, or installed for you"
DESCRIPTION = """\
Put out the lines that let a shell complete commands, options, fields, kinds, places, and the names of objects in the
directory at hand; or write them where the shell looks for them, for you alone."""
EXAMPLES = """\
  vandrel completion bash --install
  vandrel completion zsh --install
  eval "$(vandrel completion bash)"                                    in ~/.bashrc
"""
WRITES = False

#: Where shells look for what is a user's own: the variable of the XDG folders, its default, the file below it.
_FILES = {
    "bash": ("XDG_DATA_HOME", ".local/share", "bash-completion/completions/vandrel"),
    "zsh": ("XDG_DATA_HOME", ".local/share", "zsh/site-functions/_vandrel"),
    "fish": ("XDG_CONFIG_HOME", ".config", "fish/completions/vandrel.fish"),
}


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("shell", choices=tuple(_FILES), help="the shell")
    parser.add_argument("--install", action="store_true", help="write them where the shell looks for them")


def run(session: Session) -> Report:
    """Put out what the shell is to read, or write it."""
    from argcomplete.shell_integration import shellcode

    from vandrel.jobs.common.report import Report

    shell = session.args.shell
    code = shellcode(["vandrel"], shell=shell)
    if not session.args.install:
        return Report("completion", text=code)
    from vandrel import safe_file

    variable, otherwise, name = _FILES[shell]
    path = Path(os.environ.get(variable) or Path.home() / otherwise) / name
    path.parent.mkdir(parents=True, exist_ok=True)
    safe_file.write(path, code.encode(), "completion", replace=True, private=False)
    summary = [f"Written: {path}. It counts from the next shell on."]
    if shell == "zsh":
        summary.append(f"In ~/.zshrc, before compinit: fpath=({path.parent} $fpath)")
    elif shell == "bash":
        summary.append("It is read by the package bash-completion.")
    return Report("completion", summary=summary)
