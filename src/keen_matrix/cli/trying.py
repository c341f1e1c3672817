"""`keen-matrix try`: one vector now."""

from __future__ import annotations

import argparse
import os
import shlex
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from keen_matrix.cli.call_options import GIVEN, add_call_options, are_many, is_given, refuse_without_partner
from keen_matrix.cli.faults import tell_interruption
from keen_matrix.cli.launching import early_pool
from keen_matrix.cli.shared import add_color, remark, spec_paths, text_of_spec
from keen_matrix.core.errors import Misuse
from keen_matrix.core.launch.workers.links import default_jobs

if TYPE_CHECKING:
    from keen_matrix.cli.calls import Asked
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.launch.runners import FoundProgram
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.model.record import Record
    from keen_matrix.core.runs.keeping.trying import TriedCase

EPILOG = """\
examples:
  keen-matrix try fare.matrix.toml -- Skerry Holm -n 2         as the spec starts the program
  keen-matrix try fare.matrix.toml --write -- Skerry Holm -n 2  and write it and its result into the spec
  keen-matrix try fare.matrix.toml                             a prompt: one call after another
  keen-matrix try -- python3 fare.py Skerry Holm               without any spec

At the prompt Tab completes options and values, the line below shows what the signature says, and :help lists the
commands. From a pipe each line is a call. A call is run once, as `run` would run it. Nothing is written without
--write, which first shows the change.
exit status: 0 its expectations are met, or there are none, 1 they are not, 2 wrong usage or a wrong spec,
3 it could not be started, or what it gave could not be written
"""


#: Options of try that a program is seldom given.
OWN_OPTIONS = ("--write", "--new", "--calls", "--full", "--group", "--in-place", "--axis")


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command; the words after -- are taken before."""
    parser.add_argument(
        "specs", nargs="*", metavar="SPEC -- WORD", help="the spec, and after -- the words of the call"
    )
    parser.add_argument(
        "--write",
        nargs="?",
        const="",
        metavar="NAME",
        help="write into the spec: the call and its result, as a row of a matrix of that shape, "
        "else as a new matrix (called NAME)",
    )
    parser.add_argument("--new", metavar="FILE", help="begin a spec with the calls and their results")
    parser.add_argument(
        "--broken",
        action="store_true",
        help="also record the results of calls that crashed, with --write or --new",
    )
    add_call_options(parser)
    parser.add_argument(
        "--by-hand",
        action="store_true",
        help="connect the program to this terminal, in the case's directory and environment",
    )
    parser.add_argument(
        "--in-place",
        action="store_true",
        help="run it in this directory, on the files themselves, and not on copies; without a spec",
    )
    add_color(parser)


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    words: Sequence[str] | None = options.words
    if options.write and options.write.endswith(".toml") and os.path.exists(options.write):
        options.specs.insert(0, options.write)  # --write takes the word after it, which is the spec here
        options.write = ""
    is_many = are_many(options)
    paths = _checked_paths(options, words, is_many=is_many)
    _say_options_of_program(words or ())
    with early_pool(default_jobs() if is_many else 1) as pool:
        from keen_matrix.cli.calls import asked_of
        from keen_matrix.cli.console.screen import Screen

        screen = Screen(sys.stdout, color=options.color)
        if not options.by_hand and (is_many or _has_more(options)):
            return _try_asked(screen, options, asked_of(options, paths, words), pool)
        if words is None:
            from keen_matrix.cli.prompt import prompt

            return prompt(screen, paths[0], pool)
        if options.by_hand:
            return _by_hand(screen, options, paths, words, pool)
        if not paths and words and sys.stdin.isatty() and _is_bare(words):
            from keen_matrix.cli.prompt import prompt_for_program

            return prompt_for_program(screen, words, pool, in_place=options.in_place)
        if not paths:
            return _try_program(screen, words, pool, in_place=options.in_place)
        return _try_vector(screen, paths[0], words, options.write, pool)


def _checked_paths(options: argparse.Namespace, words: Sequence[str] | None, *, is_many: bool) -> list[str]:
    """Return the specs of a command line, before anything is launched. Raises Misuse."""
    refuse_without_partner(options)
    paths = spec_paths(options.specs) if options.specs or (words is None and not is_many) else []
    if len(paths) > 1 and (words is not None or is_many):
        raise Misuse(f"try takes one spec, but {len(paths)} were given: {' '.join(paths[:4])}")
    if words is None and not is_many and (options.write is not None or options.new or len(paths) > 1):
        raise Misuse(
            "try needs the words of a call after --: keen-matrix try fare.matrix.toml -- Skerry Holm"
        )
    if options.new is not None:
        from keen_matrix.cli.kept import refuse_existing

        refuse_existing(options.new)  # before anything is launched
    if options.output is not None:
        from keen_matrix.cli.outputs import refuse_other_file

        refuse_other_file(options.output)  # before anything is launched
    return paths


def _is_bare(words: Sequence[str]) -> bool:
    """Tell whether words start a program and give it none."""
    from keen_matrix.core.runs.keeping.trying import typed_program

    return not typed_program(words).given


def _by_hand(
    screen: Screen, options: argparse.Namespace, paths: Sequence[str], words: Sequence[str], pool: WorkerPool
) -> int:
    """Run one call on this terminal, and write what was answered into a spec if that is asked
    for."""
    from keen_matrix.cli.calls import asked_of, with_calls
    from keen_matrix.cli.replay import run_by_hand, tell_recording
    from keen_matrix.core.runs.keeping.calls import Call
    from keen_matrix.core.runs.keeping.trying import tried_case

    asked = asked_of(options, paths, words)
    if paths and not (options.env or options.file):
        tried = tried_case(paths[0], asked.text, words)
        spec, matrix, case = tried.spec, tried.matrix, tried.case
    else:
        spec, (case,), _ = with_calls(asked, options)
        matrix = next(each for each in spec.matrices if each.index == case.matrix)
    recording = run_by_hand(screen, spec, matrix, case)
    if options.write is None and options.new is None:
        tell_recording(screen, recording)
        return 0
    if recording is None:
        raise Misuse("what is answered can only be recorded on a terminal; nothing is written")
    if recording.why_not:
        raise Misuse(f"{recording.why_not}, which no dialogue can say; nothing is written")
    if recording.has_hidden:
        remark("a reply that the terminal did not show is written too: look at it before you share the spec")
    prompts = {prompt for prompt, _ in recording.replies}
    if recording.has_ended and len(prompts) != 1:
        raise Misuse(
            "the input was ended by Ctrl-D at a prompt that no reply was given to, which no dialogue can "
            "say; nothing is written"
        )
    replies = tuple(recording.replies)
    single = Call(words=tuple(case.argv), terminal=True, replies=replies, asks_on=recording.has_ended)
    return _try_asked(screen, options, asked._replace(single=single), pool)


def _has_more(options: argparse.Namespace) -> bool:
    """Tell whether a single call gets something, or begins a spec."""
    no_spec = not options.specs and options.words is not None and options.write is not None
    return no_spec or any(is_given(options, each) for each in (*GIVEN, "--new"))


def _say_options_of_program(words: Sequence[str]) -> None:
    """Say that an option of ours after -- belongs to the program."""
    ours = [each for each in words if each.partition("=")[0] in OWN_OPTIONS]
    if ours:
        remark(f"{ours[0]} after -- is a word of the program; an option of try goes before --")


def _try_asked(screen: Screen, options: argparse.Namespace, asked: Asked, pool: WorkerPool) -> int:
    """Run calls and show them side by side."""
    from keen_matrix.cli.calls import (
        call_results,
        common_of,
        run_calls,
        typed_lines,
        with_calls,
        write_results,
    )

    spec, cases, calls = with_calls(asked, options)
    records = run_calls(spec, cases, pool)
    lines = typed_lines(cases, calls, len(asked.leading))
    rows = [(_with_replies(lines[number], record), record) for number, record in records.items()]
    is_whole = len(rows) == len(cases)
    if options.format and is_whole:
        _write_as(options, asked.program, rows)
    if options.format:
        screen = type(screen)(sys.stderr, color=options.color)
    if not options.format or not is_whole:
        _show(screen, options, rows, asked)
    is_saved = options.write is not None or options.new is not None
    again = run_calls(spec, cases, pool) if is_saved and is_whole else records
    if len(again) < len(cases):
        return _tell_left(len(cases) - len(rows), is_saved=is_saved or bool(options.format))
    if is_saved:
        typed, pairs = calls or [common_of(options)] * len(cases), (records.values(), again.values())
        write_results(screen, options, call_results(spec, cases, typed, *map(list, pairs)), asked)
    elif not options.specs and not options.format:
        screen.line()
        screen.line("next: ", ("--new FILE", "strong"), (" before -- begins a spec with these calls", "dim"))
    return max((_status(record) for record in records.values()), default=0)


def _with_replies(line: str, record: Record) -> str:
    """Return the line of a call with what was typed at its prompts."""
    from keen_matrix.wording.repeating import answering

    replies = [reply for _, reply in record.dialogue]
    said = f"# {answering(replies)}"
    return f"{line or '(no words)'}   {said}" if replies and said not in line else line


def _show(
    screen: Screen, options: argparse.Namespace, rows: Sequence[tuple[str, Record]], asked: Asked
) -> None:
    from keen_matrix.cli.console.calls import shown_calls, write_calls

    shown = shown_calls(rows, grouped=options.group)
    full = options.full or asked.single is not None
    # of one call the whole line was just typed
    program = asked.program if options.full else ""
    write_calls(screen, shown, full=full, words=options.words_shown, program=program)


def _tell_left(left: int, *, is_saved: bool) -> int:
    """Say what an interruption left out, and return the exit status."""
    from keen_matrix.wording.counts import counted

    status = tell_interruption()
    if left:
        remark(f"{counted(left, 'call')} had not finished and {'are' if left > 1 else 'is'} not shown")
    if is_saved:
        remark("nothing is written")
    return status


def _write_as(options: argparse.Namespace, program: str, rows: Sequence[tuple[str, Record]]) -> None:
    """Write calls in a form for others."""
    from keen_matrix.cli.outputs import write_to
    from keen_matrix.reports.call_tables import CallTable
    from keen_matrix.reports.formats import CALL_FORMATS

    write_to(CALL_FORMATS[options.format], CallTable(program, rows), options.output)


def _try_vector(screen: Screen, path: str, words: Sequence[str], keep: str | None, pool: WorkerPool) -> int:
    from keen_matrix.core.runs.keeping.trying import tried_case, with_vector

    text = text_of_spec(path)
    tried = tried_case(path, text, words)
    _write_tried(screen, tried)
    record, is_shown = _launched(screen, tried, pool)
    screen.line()
    _write_outcome(screen, tried, record, is_shown=is_shown)
    if keep is not None:
        from keen_matrix.cli.kept import write_kept

        kept = with_vector(text, tried, record, keep)
        write_kept(screen, path, text, kept)
    return _status(record)


def _try_program(screen: Screen, words: Sequence[str], pool: WorkerPool, *, in_place: bool) -> int:
    """Launch a program without any spec, and say how to go on."""
    from keen_matrix.cli.calls import tell_runner
    from keen_matrix.core.runs.keeping.trying import bare_call, tried_case, typed_program
    from keen_matrix.wording.safe import shell_line

    if not words:
        raise Misuse(
            "try needs the words that start a program after --: keen-matrix try -- python3 fare.py Skerry"
        )
    started = typed_program(words)
    bare = bare_call(started, started.given, in_place=in_place)
    tell_runner(started)
    tried = tried_case("try.matrix.toml", bare.text, started.given)
    if in_place:
        remark("it runs in this directory, on your own files")
    if bare.copied:
        remark(
            f"copied into its directory: {shell_line(bare.copied)}; --in-place works on the files themselves"
        )
    if bare.outside:
        remark(
            f"not copied, since elsewhere: {shell_line(bare.outside)}; the program works on "
            f"the files themselves"
        )
    record, is_shown = _launched(screen, tried, pool)
    screen.line()
    said = "not checked: there is no spec yet" if record.verdict == "unchecked" else ""
    _write_outcome(screen, tried, record, is_shown=is_shown, verdict=said)
    _tell_where(record, started, in_place=in_place)
    screen.line()
    draft = f"keen-matrix draft -- {shlex.join(started.words)}"
    screen.line("next: ", (draft, "strong"), ("   a first spec of it", "dim"))
    return _status(record)


def _tell_where(record: Record, started: FoundProgram, *, in_place: bool) -> None:
    """Say what of the result is the place's doing, or the runner's, and not the program's."""
    from keen_matrix.core.launch.runners import hidden_status

    hidden = hidden_status(started, record.stdout or "", record.stderr or "")
    if hidden is not None and hidden != record.exit:
        remark(f"{started.runner} hides the program's exit: it was {hidden}")
    if record.exit != 0 and not (in_place or started.is_through):
        remark("it ran in an empty directory, with an empty HOME; --in-place runs it in this directory")


def _launched(screen: Screen, tried: TriedCase, pool: WorkerPool) -> tuple[Record, bool]:
    """Launch a case, its output shown as it comes; return its record, and whether any was shown."""
    from keen_matrix.cli.live import LiveStreams
    from keen_matrix.core.launch.launchers import resolved_launch
    from keen_matrix.core.runs.starting.directly import made_ready
    from keen_matrix.core.runs.starting.once import used_by

    live = LiveStreams(screen)
    screen.flush()
    spec = made_ready(tried.spec, remark)
    with used_by(spec, pool, remark):
        pool.plan(spec, resolved_launch(spec), live=live.show)
        (result,) = pool.results([tried.case])
        record = result.record
    # prompts and replies, and launches one after another, are told apart once they have ended
    return record, live.has_shown and not record.dialogue and not record.steps


def _write_tried(screen: Screen, tried: TriedCase) -> None:
    """Write what the spec says of the vector."""
    from keen_matrix.cli.console.why import write_why
    from keen_matrix.wording.safe import shell_line

    if not tried.is_there:
        line = shell_line(tried.case.argv) or "no words"
        screen.line((tried.spec.path, "strong"), "   ", line)
    else:
        screen.line(("this is ", "dim"), (tried.case.id[:6], "place"), (f" of {tried.matrix.name}", "dim"))
    write_why(screen, tried.spec, tried.matrix, tried.case, brief=not tried.is_there)
    screen.line()
    screen.line(("output", "strong"))


def _write_outcome(
    screen: Screen, tried: TriedCase, record: Record, *, is_shown: bool, verdict: str = ""
) -> None:
    from keen_matrix.cli.replay import write_outcome

    write_outcome(screen, tried.spec, tried.matrix, record, is_shown=is_shown, verdict=verdict)


def _status(record: Record) -> int:
    from keen_matrix.core.model.record import PASSING

    if record.verdict == "not-started":
        return 3
    return 0 if record.verdict in (*PASSING, "unchecked") else 1
