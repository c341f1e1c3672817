"""`keen-matrix draft`: a first spec from what a program says of itself."""

from __future__ import annotations

import argparse
import os
import shlex
import sys
from typing import TYPE_CHECKING

from keen_matrix.cli.launching import pool_if
from keen_matrix.cli.settle import add_launches
from keen_matrix.cli.shared import output_file, remark
from keen_matrix.cli.statuses import EXIT_INTERRUPTED, EXIT_OK
from keen_matrix.core.errors import Misuse

if TYPE_CHECKING:
    from keen_matrix.core.launch.runners import FoundProgram
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.signature.drafting import Draft

EPILOG = """\
examples:
  keen-matrix draft -- python3 fare.py              a first spec on standard output
  keen-matrix draft -o fare.matrix.toml -- ./fare   the same in a new file; an existing one is never overwritten
  keen-matrix draft --from fare.json -- ./fare      from a description of its parser, without running it

A Python program that uses argparse, optparse, click or typer is started once under its own interpreter and ended
before it parses: its parser is read directly. Any other program is only asked for help: with --help, -h, -help,
help, and with no words, in an empty directory and with empty standard input, until one answer has a usage line or
a list of options. Subcommands that it lists are asked in the same way. Nothing else is run without --settle.
exit status: 0 a spec was drafted, 2 wrong usage, or a file that cannot be read or written,
3 the program cannot be started or prints no help text, 130 interrupted: the spec has what was found so far
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    parser.add_argument(
        "-o", "--output", metavar="FILE", type=output_file, help="write it to FILE instead of standard output"
    )
    source = parser.add_mutually_exclusive_group()
    source.add_argument(
        "--from",
        dest="source",
        metavar="FILE",
        help="a description of the program's parser in JSON (its shape: keen-matrix schema --of "
        "parser); - reads standard input",
    )
    source.add_argument(
        "--help-only", action="store_true", help="read the help, also where the parser could be"
    )
    parser.add_argument(
        "--settle", action="store_true", help="run experiments to fill the gaps, as keen-matrix settle does"
    )
    parser.add_argument(
        "--in-place", action="store_true", help="run the program in this directory, on the files themselves"
    )
    add_launches(parser)
    parser.add_argument(
        "program", nargs="+", metavar="WORD", help="the words that start the program, after --"
    )


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    options.program = _apart(options.program)
    if options.output is not None and os.path.lexists(options.output):
        # told before anything is launched: what was found out would be lost
        raise Misuse(f"{options.output} cannot be written: it exists already")
    with pool_if(options.source is None or options.settle) as pool:
        from keen_matrix.cli.calls import tell_runner
        from keen_matrix.core.spec.drafted import spec_text
        from keen_matrix.core.spec.program_text import program_lines, started_for

        directory = os.path.dirname(options.output or "") or "."
        started = started_for(options.program, directory)
        tell_runner(started)
        draft, source = _draft(options, started, pool)
        lines = program_lines(started, directory)
        lines += ['directory = "spec"'] if options.in_place else []
        text = spec_text(draft, lines, source)
        status = EXIT_OK
        if options.settle and pool is not None:
            text, status = _settled(options.output or SPEC_NAME, text, options.launches, pool)
    if options.output is None:
        sys.stdout.write(text)
        return status
    try:
        with open(options.output, "x", encoding="utf-8") as file:
            file.write(text)
    except OSError as error:
        raise Misuse(f"{options.output} cannot be written: {error.strerror}") from None
    print(f"{options.output} written; next: keen-matrix run {options.output}")
    return status


#: What a spec on standard output is called while it is settled.
SPEC_NAME = "draft.matrix.toml"


def _settled(path: str, text: str, launches: int | None, pool: WorkerPool) -> tuple[str, int]:
    """Return the text of a draft with what experiments found out, until they were interrupted
    perhaps, and the exit status; what they found is reported on standard error."""
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.cli.settle import settled_text, write_settled

    if "[signature]" not in text.splitlines():
        return text, EXIT_OK  # there is none to settle, and a comment in the draft says why
    found = settled_text(path, text, launches, "auto", pool)
    write_settled(Screen(sys.stderr), path, found, is_written=True)
    return found.after, EXIT_INTERRUPTED if found.is_interrupted else EXIT_OK


def _draft(options: argparse.Namespace, started: FoundProgram, pool: WorkerPool | None) -> tuple[Draft, str]:
    """Return the draft, and what it was made of in words."""
    from keen_matrix.core.runs.grounding.asking import (
        AskedProgram,
        help_of,
        parser_of,
        reader_of,
        with_commands,
    )
    from keen_matrix.core.runs.starting.directly import built
    from keen_matrix.core.signature.drafting import BY_SCRIPT, draft_signature
    from keen_matrix.core.signature.parsers.described import read_description
    from keen_matrix.core.signature.parsers.translated import translated

    if options.source is not None or pool is None:
        described = read_description(_read(options.source), options.source)
        return translated(described, options.program), options.source
    asked = AskedProgram.of(built(started, remark), in_place=options.in_place)
    words = asked.words
    parser = None if options.help_only else parser_of(pool, asked)
    if parser is not None:
        return translated(parser, words), f"the program's own {parser.reader} parser"
    answer = with_commands(pool, asked, help_of(pool, asked))
    draft = draft_signature(answer.page, [*options.program, *words], answer.commands)
    draft.doubts += answer.doubts
    if not draft.reader:
        draft.reader = reader_of(words, answer.page)
        draft.reader_told_by = BY_SCRIPT if draft.reader else ""
    draft.help = draft.help or [each for each in answer.words if each and not answer.on_mistake]
    told = " ".join(answer.words)
    told = "a word that it does not know" if answer.on_mistake else told or "no words"
    return draft, f"what the program prints for {told}"


def _read(name: str) -> bytes:
    """Return the bytes of a description."""
    try:
        if name == "-":
            return sys.stdin.buffer.read()
        with open(name, "rb") as file:
            return file.read()
    except OSError as error:
        raise Misuse(f"{name} cannot be read: {error.strerror}") from None


def _apart(program: list[str]) -> list[str]:
    """Return the words of a program that was given as one quoted text, as `run --program` takes
    it."""
    if len(program) != 1 or not any(each.isspace() for each in program[0]) or os.path.exists(program[0]):
        return program
    try:
        return shlex.split(program[0])
    except ValueError as error:
        raise Misuse(f"the program cannot be read as words: {error}") from None
