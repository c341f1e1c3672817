"""The options of `keen-matrix try` that say which calls are made, what they get and how they are
shown. Read before anything is loaded, so this module imports little."""

from __future__ import annotations

import argparse

from keen_matrix.cli.shared import output_file
from keen_matrix.core.errors import Misuse

#: Forms in which calls are shown to others; `reports.call_tables` makes them.
CALL_FORMATS = ("json", "csv", "markdown", "html")


def add_call_options(parser: argparse.ArgumentParser) -> None:
    """Add the options that say which calls are made, what they get and how they are shown."""
    _add_which(parser.add_argument_group("many calls"))
    _add_given(parser.add_argument_group("what a call gets"))
    _add_shown(parser.add_argument_group("how they are shown"))


def _add_which(which: argparse._ArgumentGroup) -> None:
    which.add_argument(
        "--calls",
        metavar="FILE",
        help="a file with a call on each line, quoted as in a shell; - reads standard input",
    )
    which.add_argument(
        "--line", metavar="PATTERN", help="a pattern of calls, as in a spec: '{port} [-n {n}]'"
    )
    which.add_argument(
        "--axis",
        action="append",
        default=[],
        metavar="NAME=VALUE,VALUE",
        help="the values of a name in --line; repeatable",
    )
    which.add_argument("--matrix", metavar="NAME", help="the calls of a matrix of the spec")


def _add_given(given: argparse._ArgumentGroup) -> None:
    given.add_argument("--input", metavar="TEXT", help="text of standard input")
    given.add_argument("--input-file", metavar="FILE", help="a file that is standard input")
    given.add_argument(
        "--env",
        action="append",
        default=[],
        metavar="NAME=VALUE",
        help="a variable of the environment; repeatable",
    )
    given.add_argument(
        "--file",
        action="append",
        default=[],
        metavar="NAME=SOURCE",
        help="a copy of a file in the case's directory; repeatable",
    )


def _add_shown(shown: argparse._ArgumentGroup) -> None:
    shown.add_argument(
        "--format",
        choices=CALL_FORMATS,
        metavar="FORMAT",
        help=f"output format: {', '.join(CALL_FORMATS)}; without it, a table on the terminal",
    )
    shown.add_argument(
        "-o", "--output", metavar="FILE", type=output_file, help="write it to FILE instead of standard output"
    )
    shown.add_argument("--full", action="store_true", help="each call as a block with its whole output")
    shown.add_argument("--group", action="store_true", help="calls with equal results together")
    shown.add_argument(
        "--words",
        action="store_true",
        dest="words_shown",
        help="the words as the program gets them, numbered",
    )


def are_many(options: argparse.Namespace) -> bool:
    """Tell whether a command line asks for calls side by side."""
    return bool(options.calls or options.line or options.matrix)


def refuse_without_partner(options: argparse.Namespace) -> None:
    """Raise Misuse for options that need another one, or exclude it."""
    ways = [name for name in ("calls", "line", "matrix") if getattr(options, name)]
    if len(ways) > 1:
        raise Misuse(f"--{ways[0]} does not go with --{ways[1]}; give one of them")
    if options.axis and not options.line:
        raise Misuse("--axis goes with --line only: --line '{port}' --axis port=Holm,Voe")
    if options.matrix and not options.specs:
        raise Misuse("--matrix needs the spec that has it: keen-matrix try fare.matrix.toml --matrix fares")
    if options.input is not None and options.input_file is not None:
        raise Misuse("--input does not go with --input-file; give one of them")
    for name in ("full", "group", "words"):
        if getattr(options, "words_shown" if name == "words" else name) and not are_many(options):
            raise Misuse(f"--{name} shows many calls; it needs --calls, --line or --matrix")
    if options.output is not None and not options.format:
        raise Misuse("-o goes with --format only: --format html -o calls.html")
    if options.format and not are_many(options):
        raise Misuse("--format shows many calls; it needs --calls, --line or --matrix")
    if options.new is not None and options.write is not None:
        raise Misuse("--new begins a spec, --write adds to one; give one of them")
