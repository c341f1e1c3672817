"""`keen-matrix draft`: a first spec from what a program says of itself."""

from __future__ import annotations

import argparse
import os
import shlex
import sys
from typing import TYPE_CHECKING

from keen_matrix.cli.as_user import become_user, warn_of_root
from keen_matrix.cli.launching import pool_if
from keen_matrix.cli.settle import add_as_user, add_example, add_launches
from keen_matrix.cli.shared import output_file, remark
from keen_matrix.cli.statuses import EXIT_INTERRUPTED, EXIT_OK
from keen_matrix.core.errors import Misuse

if TYPE_CHECKING:
    from collections.abc import Sequence

    from keen_matrix.core.launch.runners import FoundProgram
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.runs.grounding.asking import AskedProgram, HelpAnswer
    from keen_matrix.core.runs.keeping.calls import Call
    from keen_matrix.core.signature.drafting import Draft
    from keen_matrix.core.signature.helptext import HelpText

EPILOG = """\
examples:
  keen-matrix draft -- python3 fare.py              a first spec on standard output
  keen-matrix draft -o fare.matrix.toml -- ./fare   the same in a new file; an existing one is never overwritten
  keen-matrix draft --calls calls.txt -- sh fare.sh with rows for calls of your own
  keen-matrix draft --from fare.json -- ./fare      from a description of its parser, without running it

A Python program that uses argparse, optparse, click or typer is started once under its own interpreter and ended
before it parses: its parser is read directly. Any other program is only asked for help: with --help, -h, -help,
help, and with no words, in an empty directory and with empty standard input, until one answer has a usage line or
a list of options. Subcommands that it lists are asked in the same way. It is launched with no words and with an
option that there is not, to see where it prints its refusals. A program that prints no help is tried with
words that its source suggests, in empty directories, and the draft says what it did. Nothing else is run without
--settle. A program that is started through a runner (go run, npm start, make run) is built once and started directly.
exit status: 0 a spec was drafted, 2 wrong usage, or a file that cannot be read or written,
3 the program cannot be started, 130 interrupted: the spec has what was found so far
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
    parser.add_argument(
        "--calls",
        metavar="FILE",
        help="a file with a call on each line, quoted as in a shell; their results are rows of the draft",
    )
    source.add_argument(
        "--help-only", action="store_true", help="read the help, also where the parser could be"
    )
    parser.add_argument(
        "--settle", action="store_true", help="run experiments to fill the gaps, as keen-matrix settle does"
    )
    parser.add_argument(
        "--in-place",
        action="store_true",
        help="run it in this directory, on the files themselves, and not on copies",
    )
    add_example(parser)
    add_launches(parser)
    add_as_user(parser)
    parser.add_argument(
        "program", nargs="+", metavar="WORD", help="the words that start the program, after --"
    )


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    options.program = _apart(options.program)
    become_user(options.as_user)
    if options.settle:
        warn_of_root()
    if options.output is not None and os.path.lexists(options.output):
        # told before anything is launched: what was found out would be lost
        raise Misuse(f"{options.output} cannot be written: it exists already")
    with pool_if(options.source is None or options.settle) as pool:
        from keen_matrix.cli.calls import tell_runner
        from keen_matrix.core.spec.program_text import program_lines, started_for

        directory = os.path.dirname(options.output or "") or "."
        started = started_for(options.program, directory)
        tell_runner(started)
        lines = program_lines(started, directory)
        lines += ['directory = "spec"'] if options.in_place else []
        text = _with_examples(_drafted(options, started, lines, pool), options)
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


def _with_examples(text: str, options: argparse.Namespace) -> str:
    """Return the text of a draft with the examples that were given; those that its synopsis refuses
    are in a comment."""
    from keen_matrix.core.insight.settling.examples import with_given

    for example in options.example if "[signature]" in text.splitlines() else ():
        try:
            text = with_given(options.output or SPEC_NAME, text, example)
        except Misuse as error:
            text += f"# doubt: left out: {' '.join(str(error).split())}\n"
    return text


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


def _drafted(
    options: argparse.Namespace, started: FoundProgram, lines: Sequence[str], pool: WorkerPool | None
) -> str:
    """Return the text of a draft: from a description, from the program's parser, from its help, or
    from what it was seen to do."""
    from keen_matrix.core.runs.grounding.asking import AskedProgram, parser_of
    from keen_matrix.core.runs.starting.directly import built
    from keen_matrix.core.signature.parsers.described import read_description
    from keen_matrix.core.signature.parsers.translated import translated
    from keen_matrix.core.spec.drafted import spec_text

    if options.source is not None or pool is None:
        described = read_description(_read(options.source), options.source)
        return spec_text(translated(described, options.program), lines, options.source)
    asked = AskedProgram.of(built(started, remark), in_place=options.in_place)
    calls = _calls(options)
    parser = None if options.help_only else parser_of(pool, asked)
    if parser is not None:
        text = spec_text(translated(parser, asked.words), lines, f"the program's own {parser.reader} parser")
        return text + (_rows_of(options, asked, started.root, calls, pool, "")[0] if calls else "")
    return _of_what_it_prints(options, asked, started.root, lines, calls, pool)


def _of_what_it_prints(
    options: argparse.Namespace,
    asked: AskedProgram,
    root: str,
    lines: Sequence[str],
    calls: Sequence[Call],
    pool: WorkerPool,
) -> str:
    """Return the text of a draft of a program's help, or of its manual page, or of what it was seen
    to do."""
    from keen_matrix.core.insight.observing.refused import with_streams
    from keen_matrix.core.runs.grounding.asking import NoHelp, help_of
    from keen_matrix.core.signature.sources.beside import manual_page
    from keen_matrix.core.spec.drafted import spec_text

    answer = help_of(pool, asked)
    if isinstance(answer, NoHelp):
        manual = manual_page(asked.words)
        if manual is not None:
            return _of_manual(options, asked, manual, lines, pool)
        return _observed(options, asked, root, lines, calls, pool, answer.told)
    draft, source = _of_help(options, asked, answer, pool)
    text = with_streams(options.output or SPEC_NAME, spec_text(draft, lines, source), pool)
    if answer.words and not answer.on_mistake:
        return text + (_rows_of(options, asked, root, calls, pool, "")[0] if calls else "")
    # A usage line that is only printed with a mistake says little: it is believed where all that
    # follows from it is so.
    from keen_matrix.core.insight.observing.verified import signature_explains

    path = options.output or SPEC_NAME
    usage = "\n".join(answer.page.usages)
    if signature_explains(path, text, pool):
        return text + _rows_of(options, asked, root, calls, pool, "")[0]
    told = f"its usage line does not say all that it does: {usage}"
    return _observed(options, asked, root, lines, calls, pool, told)


def _of_manual(
    options: argparse.Namespace, asked: AskedProgram, page: HelpText, lines: Sequence[str], pool: WorkerPool
) -> str:
    """Return the text of a draft of a program's manual page, where it prints no help."""
    from keen_matrix.core.insight.observing.refused import with_streams
    from keen_matrix.core.signature.drafting import draft_signature
    from keen_matrix.core.spec.drafted import spec_text

    draft = _with_reader(draft_signature(page, [*options.program, *asked.words]), asked, page)
    draft.help = []
    text = spec_text(draft, lines, "its manual page, since it prints no help")
    return with_streams(options.output or SPEC_NAME, text, pool)


def _with_reader(draft: Draft, asked: AskedProgram, page: HelpText) -> Draft:
    """Return a draft with the reader that the program's script names, where its text tells of
    none."""
    from keen_matrix.core.runs.grounding.asking import reader_of
    from keen_matrix.core.signature.drafting import BY_SCRIPT

    if not draft.reader:
        draft.reader = reader_of(asked.words, page)
        draft.reader_told_by = BY_SCRIPT if draft.reader else ""
    return draft


def _calls(options: argparse.Namespace) -> list[Call]:
    """Return the calls that somebody typed, with --calls."""
    from keen_matrix.cli.calls import calls_of

    return calls_of(options) or []


def _examples(options: argparse.Namespace) -> list[Call]:
    """Return the examples that were given, as calls."""
    from keen_matrix.core.runs.keeping.calls import Call
    from keen_matrix.core.signature.examples import example_words

    try:
        return [Call(words=example_words(each)) for each in options.example]
    except ValueError as error:
        raise Misuse(f"--example: {error}") from None


def _observed(
    options: argparse.Namespace,
    asked: AskedProgram,
    root: str,
    lines: Sequence[str],
    calls: Sequence[Call],
    pool: WorkerPool,
    why: str,
) -> str:
    """Return the text of a draft of what a program was seen to do."""
    calls = [*calls, *_examples(options)]
    rows, head = _rows_of(options, asked, root, calls, pool, why)
    comments = [f"# {each}" for each in head]
    return "\n".join([*comments, "[program]", *lines]) + "\n" + rows


def _rows_of(
    options: argparse.Namespace,
    asked: AskedProgram,
    root: str,
    calls: Sequence[Call],
    pool: WorkerPool,
    why: str,
) -> tuple[str, list[str]]:
    """Return what a program was seen to do as matrices, and what is to be said of it."""
    from keen_matrix.core.insight.observing.observe import observe_program
    from keen_matrix.core.insight.observing.search import SAMPLE
    from keen_matrix.core.runs.keeping.call_rows import matrices_of
    from keen_matrix.core.spec.editing import toml_text
    from keen_matrix.wording.counts import counted
    from keen_matrix.wording.safe import escape, shell_line

    here = os.path.dirname(os.path.abspath(options.output or SPEC_NAME))
    seen = observe_program(pool, asked, root, here, calls)
    given = [each for each in seen.results if SAMPLE in each.call.words]
    plain, _, names = matrices_of([e for e in seen.results if e not in given], here, (), whole=True)
    around = [f"files.{toml_text(SAMPLE)} = {toml_text(seen.sample)}"]
    with_file, _, _ = matrices_of(given, here, names, around=around, whole=True)
    more = "\n".join(filter(None, (plain, with_file))).replace("[[matrix]]\n", "[[matrix]]   # observed\n")
    count = counted(len(seen.results), "call")
    head = [
        f"Observed, not documented: {count} of {seen.launches}. Read them, and correct what is wrong.",
        *([escape(each) for each in why.splitlines()]),
        *(
            f"doubt: it crashed or did not end: {escape(shell_line(each.words))[:80]}"
            for each in seen.crashed[:6]
        ),
        *(
            f"doubt: prints something else each time: {escape(shell_line(each.words))[:80]}"
            for each in seen.varying[:6]
        ),
    ]
    remark(f"{counted(seen.launches, 'call')} tried; {count} written down, marked observed")
    return f"\n{more}" if more else "", head


def _of_help(
    options: argparse.Namespace, asked: AskedProgram, answer: HelpAnswer, pool: WorkerPool
) -> tuple[Draft, str]:
    """Return the draft of a help text, and what it was made of in words."""
    from keen_matrix.core.runs.grounding.asking import with_commands
    from keen_matrix.core.signature.drafting import draft_signature
    from keen_matrix.core.signature.sources.beside import completed

    answer = with_commands(pool, asked, answer)
    page = completed(answer.page, asked.words)
    draft = draft_signature(page, [*options.program, *asked.words], answer.commands)
    draft.doubts += answer.doubts
    draft = _with_reader(draft, asked, answer.page)
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
