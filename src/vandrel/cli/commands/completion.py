"""``vandrel completion``: what a shell needs to complete commands, fields and names."""

from __future__ import annotations

import argparse
import sys

from vandrel.cli.session import Session

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
    parser.add_argument("shell", choices=("bash", "zsh", "fish"), help="the shell")


def run(session: Session) -> int:
    from argcomplete.shell_integration import shellcode

    sys.stdout.write(shellcode(["vandrel"], shell=session.args.shell))
    return 0
