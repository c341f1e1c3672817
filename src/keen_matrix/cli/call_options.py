"""The options of `keen-matrix try` that say which calls are made, what they get and how they are
shown. Read before anything is loaded, so this module imports little."""

from __future__ import annotations

import argparse
import os

from keen_matrix.cli.shared import output_file
from keen_matrix.core.errors import Misuse
from keen_matrix.reports.formats import CALL_FORMATS


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
    given.add_argument("--terminal", action="store_true", help="a terminal, 80 columns wide")


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


#: Options that say which calls are made, and what these get.
WHICH, GIVEN = ("--calls", "--line", "--matrix"), ("--input", "--input-file", "--env", "--file", "--terminal")
#: Option → those of which it needs one, and how that looks.
PARTNERS = {
    "--axis": (("--line",), "--line '{port}' --axis port=Holm,Voe"),
    "--full": (WHICH, "--calls calls.txt --full"),
    "--group": (WHICH, "--calls calls.txt --group"),
    "--words": (WHICH, "--calls calls.txt --words"),
    "--format": (WHICH, "--calls calls.txt --format csv"),
    "-o": (("--format",), "--format html -o calls.html"),
}
#: Options of which only one can be given.
APART = (
    WHICH,
    ("--input", "--input-file"),
    ("--new", "--write"),
    *(("--matrix", each) for each in GIVEN),
    *(("--by-hand", each) for each in (*WHICH, "--input", "--input-file", "--terminal", "--format")),
)


def is_given(options: argparse.Namespace, name: str) -> bool:
    """Tell whether an option is on the command line, whatever its value."""
    places = {"-o": "output", "--words": "words_shown"}
    value = getattr(options, places.get(name) or name.lstrip("-").replace("-", "_"))
    return value is not None and value is not False and value != []


def refuse_without_partner(options: argparse.Namespace) -> None:
    """Raise Misuse for options that need another one, or exclude it."""
    for several in APART:
        first, *more = [name for name in several if is_given(options, name)] or [""]
        if more:
            raise Misuse(f"{first} does not go with {more[0]}; give one of them")
    for name, (partners, example) in PARTNERS.items():
        if is_given(options, name) and not any(is_given(options, each) for each in partners):
            raise Misuse(f"{name} needs {' or '.join(partners)}: {example}")
    if options.matrix and not options.specs:
        raise Misuse("--matrix needs the spec that has it: keen-matrix try fare.matrix.toml --matrix fares")
    if options.by_hand and options.words is None:
        raise Misuse(
            "--by-hand needs the words of a call after --: keen-matrix try fare.matrix.toml --by-hand -- Skerry"
        )
    _refuse_in_place(options)


def _refuse_in_place(options: argparse.Namespace) -> None:
    if options.in_place and options.specs:
        raise Misuse('--in-place is for a program without a spec; directory = "spec" says it in one')
    if options.in_place and options.new and os.path.dirname(os.path.abspath(options.new)) != os.getcwd():
        raise Misuse("--in-place runs in this directory, so --new begins a spec in it and in no other")
