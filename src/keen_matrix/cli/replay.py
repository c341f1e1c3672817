"""`keen-matrix replay`: one case once more, with everything about it."""

from __future__ import annotations

import argparse
import os
import shlex
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Sequence
from itertools import pairwise
from typing import TYPE_CHECKING

from keen_matrix.cli.launching import pool_if
from keen_matrix.cli.shared import adaptation_of, add_spec_options, find_case, remark, spec_paths, split_ids
from keen_matrix.cli.statuses import worst_status
from keen_matrix.core import interruption
from keen_matrix.core.errors import Misuse, RunFault
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.model.lines import decode_record
from keen_matrix.core.model.record import PASSING, Record, StepRecord, end_of
from keen_matrix.core.model.signals import status_text
from keen_matrix.core.runs.starting.directly import made_ready
from keen_matrix.core.runs.starting.once import used_by
from keen_matrix.wording.counts import counted, duration, size
from keen_matrix.wording.safe import escape

if TYPE_CHECKING:
    from keen_matrix.cli.by_hand import Recording
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.model.spec import Matrix, Spec

EPILOG = """\
examples:
  keen-matrix replay k3f9x2                         run the case again and show everything
  keen-matrix replay k3f9x2 --script again.sh       a shell script that does it without Keen Matrix

exit status: 0 it passed, 1 it failed, 2 wrong usage or a wrong spec, 3 no such case, or the program could not be launched
"""

MOST_FILES = 30


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_spec_options(parser, ids="the beginnings of the ids of cases")
    parser.add_argument(
        "--launcher", metavar="NAME", help="start the program in another way that the spec names"
    )
    parser.add_argument(
        "--program",
        metavar="WORDS",
        help="start another build of the program (default: that of the last run)",
    )
    parser.add_argument(
        "--script", metavar="FILE", help="write a shell script that runs the case without Keen Matrix"
    )
    parser.add_argument(
        "--by-hand",
        action="store_true",
        help="connect the program to this terminal, in the case's directory and environment",
    )
    parser.add_argument(
        "--under",
        metavar="WORDS",
        help="as --by-hand, started by another program: 'gdb --args', 'python3 -m pdb', strace",
    )


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    if options.script and (options.by_hand or options.under):
        raise Misuse("--script does not go with --by-hand and --under; give one of them")
    with pool_if(not (options.script or options.by_hand or options.under)) as pool:
        return _replay(options, pool)


def _replay(options: argparse.Namespace, pool: WorkerPool | None) -> int:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.cli.specs import load_all, with_kept_grounds
    from keen_matrix.core.results.journal import DEFAULT_JOURNAL
    from keen_matrix.core.runs.starting.adapting import adapted

    screen = Screen(sys.stdout, color=options.color)
    options.seed = None
    ids, names = split_ids(options.specs)
    if not ids:
        raise Misuse(
            "replay needs the id of a case; keen-matrix run and keen-matrix unfold show them"
            if not names
            else f"{spec_paths(names)[0]} is a spec; replay also needs the id of a case in it"
        )
    if options.script and len(ids) > 1:
        raise Misuse(f"a script runs one case, but {counted(len(ids), 'id')} were given")
    asked = adaptation_of(options)
    specs = [adapted(spec, asked) for spec in load_all(spec_paths(names), None)]
    if options.launcher is None and options.program is None:
        specs = as_last_run(specs)
    specs = [with_kept_grounds(spec, DEFAULT_JOURNAL) for spec in specs]
    statuses = []
    for number, found in enumerate([find_case(specs, id) for id in ids]):
        if number:
            screen.line()
        if options.by_hand or options.under:
            recording = run_by_hand(screen, *found, options.under)
            tell_recording(screen, recording if not options.under else None)
            statuses.append(0)
        elif pool is None:
            statuses.append(_scripted(screen, *found, options.script))
        else:
            statuses.append(_replayed(screen, *found, pool))
    return worst_status(statuses)


def run_by_hand(
    screen: Screen, spec: Spec, matrix: Matrix, case: Case, under: str | None = None
) -> Recording | None:
    """Run a case with our own standard streams, under another program if one is named; return what
    was answered, where they are a terminal."""
    from keen_matrix.cli.by_hand import run_on_terminal
    from keen_matrix.cli.script import ByHand, pasted_script

    try:
        words = tuple(shlex.split(under or ""))
    except ValueError as error:
        raise Misuse(f"--under {under}: cannot split this into words: {str(error).lower()}") from None
    if words and shutil.which(words[0]) is None:
        raise Misuse(f"--under {under}: there is no program {words[0]} in PATH")
    screen.flush()
    with tempfile.TemporaryDirectory(prefix="keen-matrix-") as directory, interruption.not_now():
        path = os.path.join(directory, "case.sh")
        with open(path, "w", encoding="utf-8", errors="surrogateescape") as file:
            file.write(pasted_script(spec, matrix, case, ByHand(words)))
        # a debugger needs the terminal for itself
        status, recording = (subprocess.call(["sh", path]), None) if words else run_on_terminal(["sh", path])
    screen.line((status_text(status), "strong"), ("   run by hand, so nothing was checked", "dim"))
    return recording


def tell_recording(screen: Screen, recording: Recording | None) -> None:
    """Say what was answered at which prompts, as a spec says it."""
    from keen_matrix.core.runs.keeping.call_rows import dialogue_line
    from keen_matrix.wording.safe import escape

    if recording is None or not recording.replies:
        return
    if recording.why_not:
        remark(f"what was answered is no dialogue: {recording.why_not}")
        return
    screen.line("  what you answered, for a matrix of a spec:")
    same = len({prompt for prompt, _ in recording.replies}) == 1
    line = dialogue_line(recording.replies, asks_on=recording.has_ended and same)
    screen.line("  ", (escape("terminal = { columns = 80, rows = 24 }"), "strong"))
    screen.line("  ", (escape(line), "strong"))


def _scripted(screen: Screen, spec: Spec, matrix: Matrix, case: Case, script: str) -> int:
    """Write the script that launches a case, and return the status."""
    from keen_matrix.cli.script import pasted_script
    from keen_matrix.wording.safe import shell_word

    write_script(script, pasted_script(spec, matrix, case))
    screen.line("written: ", (script, "place"), f"   run it with: sh {shell_word(script)}")
    return 0


def _replayed(screen: Screen, spec: Spec, matrix: Matrix, case: Case, pool: WorkerPool) -> int:
    """Launch a case, and show everything about it; return the status."""
    from keen_matrix.cli.console.why import write_why

    write_why(screen, spec, matrix, case)
    spec = made_ready(spec, remark)
    with used_by(spec, pool, remark):
        pool.plan(spec, resolved_launch(spec))
        fields = decode_record(next(iter(pool.results([case]))).line)
    screen.line()
    write_outcome(screen, spec, matrix, fields)
    return 0 if fields.verdict in PASSING else 3 if fields.verdict == "not-started" else 1


def as_last_run(specs: list[Spec]) -> list[Spec]:
    """Return specs with the launcher or the other build that the last run of each was made with,
    if it lies here."""
    from keen_matrix.cli.insight import as_run
    from keen_matrix.core.results.journal import DEFAULT_JOURNAL
    from keen_matrix.core.results.reading import headers_of

    headers = {os.path.abspath(header.spec): header for header in headers_of(DEFAULT_JOURNAL)}
    return [as_run(spec, headers.get(os.path.abspath(spec.path))) for spec in specs]


def write_script(path: str, text: str) -> None:
    """Write a script that can be run, instead of an earlier one but of no other file. Raises
    RunFault."""
    from keen_matrix.cli.script import MARK
    from keen_matrix.core.files import open_stream_of, written

    try:
        regular = os.path.isfile(path) and open_stream_of(path) is None
        if regular:
            with open(path, "rb") as file:
                start = file.read(4_000)
            if start and MARK not in start:
                raise RunFault(
                    f"{path} exists and is not an earlier script of a case; it is left as it is: "
                    f"give another name"
                )
        with written(path) as stream:
            stream.write(text.encode("utf-8", "surrogateescape"))
        if os.path.isfile(path) and open_stream_of(path) is None:
            os.chmod(path, 0o755)
    except OSError as error:
        raise RunFault(f"{path} cannot be written: {error.strerror}") from None


def write_outcome(
    screen: Screen, spec: Spec, matrix: Matrix, fields: Record, *, is_shown: bool = False, verdict: str = ""
) -> None:
    """Write what a case came to: its launches one after another, then every aspect. What they
    printed is left out where it `is_shown` already. `verdict` is said instead of the verdict."""
    from keen_matrix.cli.shown import shown_launch, surroundings_shown
    from keen_matrix.wording.failures import aspects_rows, pasted
    from keen_matrix.wording.repeating import repeat_line
    from keen_matrix.wording.signs import STYLE_OF, verdict_text

    screen.line(
        ("verdict", "strong"),
        "  ",
        (screen.sign(fields.verdict), STYLE_OF[fields.verdict]),
        " ",
        (verdict or verdict_text(fields.verdict), STYLE_OF[fields.verdict]),
    )
    screen.rows(
        pasted("  ", repeat_line(shown_launch(spec), fields, surroundings_shown(spec, matrix, fields)))
    )
    steps: Sequence[StepRecord | Record] = fields.steps or [fields]
    for number, step in enumerate(steps, 1):
        if len(steps) > 1:
            screen.line()
            screen.line((f"launch {number}", "strong"), "  ", " ".join(step.argv))
        _write_launch(screen, step, is_shown=is_shown)
    if fields.aspects:
        screen.line()
        screen.line(("checked", "strong"), "   ", (screen.sign("passed"), "good"), (" met", "dim"))
    for aspect in fields.aspects:
        if aspect.met:
            screen.line(
                "  ", (screen.sign("passed"), "good"), f" {aspect.aspect:12}", ("  " + aspect.rule, "dim")
            )
    screen.rows(aspects_rows(screen, fields, everything=True))
    for each in fields.remarks:
        screen.line("  ", ("remark  ", "warn"), each)


def _write_launch(screen: Screen, step: StepRecord | Record, *, is_shown: bool) -> None:
    peak = f", {size(step.peak_bytes)}" if step.peak_bytes else ""
    used = (
        f"{duration(step.seconds)} (user {duration(step.user_seconds)}, system "
        f"{duration(step.system_seconds)}){peak}"
    )
    screen.line("  ", (end_of(step), "strong"), f"   {used}")
    if step.dialogue:
        _write_dialogue(screen, step)
    elif not is_shown:
        _write_streams(screen, step)
    files = list(step.files.items())
    for name, change in files[:MOST_FILES]:
        about = f"{size(change.size)}, mode {change.mode}" if change.size else ""
        screen.line("  ", (f"{change.state:8}", "dim"), f"  {name}   ", (about, "dim"))
    if len(files) > MOST_FILES:
        screen.line("  ", (f"and {len(files) - MOST_FILES} more files", "dim"))


def _write_dialogue(screen: Screen, step: StepRecord | Record) -> None:
    """Write what the program printed, with every reply after its prompt: a terminal of ours echoes
    nothing that is typed."""
    from keen_matrix.core.model.record import kept_bytes
    from keen_matrix.wording.safe import visible_line

    def write(text: str) -> None:
        for line in text.removesuffix("\n").split("\n"):
            screen.line("    ", (f"{screen.sign('bar')} ", "dim"), visible_line(line[:2_000]))

    left = kept_bytes(step, "stdout").decode("utf-8", "surrogateescape")
    screen.line("  ", ("complete stdout, and what was typed", "dim"))
    for prompt, reply in step.dialogue:
        before, found, behind = left.partition(prompt)
        # a prompt on standard error has no place here; its reply is reported all the same
        if found:
            space = behind[: len(behind) - len(behind.lstrip(" "))]
            write(before.lstrip("\n") + prompt + space)
            left = behind[len(space) :]
        screen.line("    ", ("typed  ", "dim"), (escape(reply), "strong"))
    if left.strip("\n"):
        write(left.lstrip("\n"))
    err = kept_bytes(step, "stderr").decode("utf-8", "surrogateescape")
    if err:
        screen.line("  ", ("complete stderr", "dim"))
        write(err)


def _write_streams(screen: Screen, step: StepRecord | Record) -> None:
    """Write both streams, interleaved with times where the order is known."""
    from keen_matrix.core.model.record import kept_bytes
    from keen_matrix.wording.differences import stream_rows
    from keen_matrix.wording.safe import visible_line

    arrivals = step.arrivals
    if not arrivals:
        screen.rows(stream_rows(screen, step, whole=True))
        return
    left = {name: kept_bytes(step, name) for name in ("stdout", "stderr")}
    close = _about_the_same_time(arrivals)
    for number, (name, length, seconds) in enumerate(arrivals):
        mark = MARK if number in close else " "
        piece, left[name] = left[name][:length], left[name][length:]
        for line in piece.decode("utf-8", "surrogateescape").removesuffix("\n").split("\n"):
            style = "found" if name == "stderr" else "dim"
            screen.line(
                "  ",
                (f"{name} {duration(seconds):>9} {mark} ", style),
                (f"{screen.sign('bar')} ", "dim"),
                visible_line(line[:2_000]),
            )
    if close:
        text = f'{MARK} at about the same time: two pipes do not show the order; streams = "joined" does'
        screen.line("  ", (text, "dim"))


CLOSE_SECONDS = 0.001
MARK = "~"


def _about_the_same_time(arrivals: Sequence[tuple[str, int, float]]) -> set[int]:
    """Return the numbers of the pieces of output that came so soon before or after one of the other
    stream that they may have been written in the other order."""
    found: set[int] = set()
    for number, (one, other) in enumerate(pairwise(arrivals)):
        if one[0] != other[0] and other[2] - one[2] < CLOSE_SECONDS:
            found |= {number, number + 1}
    return found
