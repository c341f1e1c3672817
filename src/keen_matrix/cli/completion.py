"""`keen-matrix completion`: the script that has a shell complete commands, options, matrices and
ids."""

from __future__ import annotations

import argparse
import sys

SHELLS = ("bash", "zsh", "fish")
EPILOG = """\
examples:
  eval "$(keen-matrix completion bash)"                                          in ~/.bashrc
  eval "$(keen-matrix completion zsh)"                                           in ~/.zshrc, after compinit
  keen-matrix completion fish > ~/.config/fish/completions/keen-matrix.fish      once

exit status: 0, 2 wrong usage
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    parser.add_argument("shell", choices=SHELLS, metavar="SHELL", help="bash, zsh or fish")


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from argcomplete.shell_integration import shellcode

    script = shellcode(["keen-matrix"], shell=options.shell)
    sys.stdout.write(script.rstrip("\n") + "\n")
    return 0
