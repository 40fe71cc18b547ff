"""``vandrel completion``: what a shell needs to complete commands, fields and names."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from vandrel.cli.session import Session

if TYPE_CHECKING:
    from vandrel.jobs.common.report import Report

NAME = "completion"
HELP = "put out the completion for bash, zsh or fish"
DESCRIPTION = """\
Put out the lines that let a shell complete commands, options, fields, kinds, places, and the names of objects in the
directory at hand."""
EXAMPLES = """\
  eval "$(vandrel completion bash)"                                    in ~/.bashrc
  eval "$(vandrel completion zsh)"                                     in ~/.zshrc, after compinit
  vandrel completion fish > ~/.config/fish/completions/vandrel.fish
"""
WRITES = False


def configure(parser: argparse.ArgumentParser) -> None:
    """Add its options."""
    parser.add_argument("shell", choices=("bash", "zsh", "fish"), help="the shell")


def run(session: Session) -> Report:
    """Put out what the shell is to read."""
    from argcomplete.shell_integration import shellcode

    from vandrel.jobs.common.report import Report

    return Report("completion", text=shellcode(["vandrel"], shell=session.args.shell))
