"""`keen-matrix settle`: what a signature leaves open, found out by experiments and written into the
spec."""

from __future__ import annotations

import argparse
import contextlib
import statistics
import sys
from collections.abc import Iterator
from typing import TYPE_CHECKING

from keen_matrix.cli.as_user import become_user, warn_of_root
from keen_matrix.cli.console.progress import Progress
from keen_matrix.cli.faults import one_by_one
from keen_matrix.cli.insight import screen_of
from keen_matrix.cli.launching import early_pool
from keen_matrix.cli.shared import (
    JSON,
    add_color,
    add_format,
    remark,
    spec_paths,
    text_of_spec,
    whole_number,
    write_spec,
)
from keen_matrix.cli.statuses import EXIT_FAILED, EXIT_INTERRUPTED, EXIT_OK, worst_status
from keen_matrix.core import interruption
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.wording.counts import counted
from keen_matrix.wording.safe import escape, shell_line

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.cli.documents import SettleSpec
    from keen_matrix.core.experiments.findings import Finding
    from keen_matrix.core.insight.settling.lab import Lab
    from keen_matrix.core.insight.settling.settle import Settled
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.model.record import Record
    from keen_matrix.wording.signs import Segment

EPILOG = """\
examples:
  keen-matrix settle fare.matrix.toml            what would be written into the spec, and why
  keen-matrix settle fare.matrix.toml --write    the same, and write it
  keen-matrix draft --settle -o fare.matrix.toml -- ./fare    a first spec, settled at once

The program is really run, with made-up arguments, each time in a fresh directory. Likely bugs are reported, not
written into the spec. Facts that were only observed, not documented by the program, are marked "observed".
exit status: 0 nothing is left to write; 1 something is; 2 wrong usage or a wrong spec,
3 the program cannot be launched, 130 interrupted
"""

#: Weight of a finding → the word before it, and its style.
SIGNS = {"change": ("finding", "strong"), "note": ("remark", "warn"), "defect": ("defect", "bad")}
MOST_LAUNCHES = 2_500
#: Seconds that one launch costs → launches where nothing is said of them. In steps, far apart: a
#: cost that varies a little from call to call must not make another spec.
LAUNCHES_BY_COST = ((0.015, MOST_LAUNCHES), (0.04, 1_200), (0.12, 600), (0.4, 300))
#: Launches of a program that costs more: they take a minute or two.
FEW_LAUNCHES = 150
#: Seconds, and times its processor time, from which a launch counts by how long it takes: it waits
#: for something, and a busy machine is not what it waits for.
WAITS_FROM, WAITS_TIMES = 0.2, 5
#: Vectors that are shown with a finding.
MOST_SHOWN = 3


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    parser.add_argument(
        "specs",
        nargs="*",
        metavar="SPEC",
        help="spec files or directories of them (default: every *.matrix.toml below here)",
    )
    parser.add_argument(
        "--write", action="store_true", help="write into the spec: the findings; comments are kept"
    )
    add_example(parser)
    add_launches(parser)
    add_as_user(parser)
    parser.add_argument(
        "--plan", action="store_true", help="only say what would be asked and launched; launch nothing"
    )
    add_format(parser)
    add_color(parser)


def add_example(parser: argparse.ArgumentParser) -> None:
    """Add the calls that somebody says work."""
    parser.add_argument(
        "--example",
        action="append",
        default=[],
        metavar="CALL",
        help="a call that works, quoted as in a shell and without the program, such as 'add Alder'; may be repeated",
    )


def add_as_user(parser: argparse.ArgumentParser) -> None:
    """Add the user as whom everything is done."""
    parser.add_argument(
        "--as-user",
        metavar="NAME",
        help="do everything as this user, if you are root: the program must not be able to harm the machine",
    )


def add_launches(parser: argparse.ArgumentParser) -> None:
    """Add the limit of launches."""
    parser.add_argument(
        "--launches",
        type=whole_number,
        metavar="N",
        help=f"the most launches to spend (default: {FEW_LAUNCHES} to {MOST_LAUNCHES:,}, by the "
        f"processor time of one)",
    )


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.cli.documents import SettleDocument, write_document

    document: list[SettleSpec] = []
    become_user(options.as_user)
    paths = spec_paths(options.specs)
    if options.plan:
        return _write_plan(options, paths)
    warn_of_root()
    with early_pool() as pool:
        statuses = one_by_one(paths, lambda path: _settle(path, options, document, pool), options)
    if options.format == JSON:
        write_document(SettleDocument(document))
    return worst_status(statuses)


def _write_plan(options: argparse.Namespace, paths: list[str]) -> int:
    """Say what settling specs would ask and launch, and what it would touch."""
    from keen_matrix.core.insight.settling.settle import STEPS
    from keen_matrix.core.launch.launchers import resolved_launch
    from keen_matrix.core.runs.starting.directly import directly
    from keen_matrix.core.spec.load import load_spec

    screen = screen_of(options)
    for path in paths:
        spec = directly(load_spec(path, text_of_spec(path)))
        program = escape(" ".join(resolved_launch(spec).words))
        if options.launches is None:
            most = f"{FEW_LAUNCHES} to {counted(MOST_LAUNCHES, 'launch')}, by what one costs"
        else:
            most = counted(options.launches, "launch")
        where = "each in a fresh directory with the files of the spec"
        if not spec.program.fresh_directory:
            where = f"all in the directory of the spec, {escape(spec.here)}, on the files themselves"
        screen.line((path, "place"), f"   {program}")
        screen.line(f"  launches   at most {most}; {where}")
        screen.line(
            "  changes    ",
            "the spec, with --write; nothing else by itself, but what the program does is its own",
        )
        screen.line("  asks       in this order; each question builds on the answers before it:")
        for number, step in enumerate(STEPS, 1):
            screen.line(f"    {number:2}  {step.finds}", (f"   from {step.needs}", "dim"))
    return EXIT_OK


def _settle(path: str, options: argparse.Namespace, document: list[SettleSpec], pool: WorkerPool) -> int:
    """Settle one spec, and return the exit status; what was found is added to a document."""
    from keen_matrix.cli.documents import settle_spec
    from keen_matrix.core.insight.settling.examples import with_given

    text = text_of_spec(path)
    begun = text
    for example in options.example:
        begun = with_given(path, begun, example)
    found = settled_text(path, begun, options.launches, options.color, pool)
    screen = screen_of(options)
    is_json = options.format == JSON
    if not is_json:
        write_settled(screen, path, found, is_written=options.write)
    is_written = options.write and found.after != text
    document.append(settle_spec(path, found, is_written=is_written))
    if is_written:
        write_spec(path, text, found.after)
    if is_written and not is_json:
        screen.line((path, "place"), " written; next: ", (f"keen-matrix run {path}", "strong"))
    if found.is_interrupted:
        return EXIT_INTERRUPTED
    return EXIT_OK if options.write or found.after == text else EXIT_FAILED


def settled_text(path: str, text: str, launches: int | None, color: str, pool: WorkerPool) -> Settled:
    """Return what experiments find out of the text of a spec, with so many launches at most; None
    leaves that to how long one takes."""
    from keen_matrix.core.experiments.ask import OutOfLaunches
    from keen_matrix.core.insight.settling.lab import Lab
    from keen_matrix.core.insight.settling.launching import pass_launcher_by
    from keen_matrix.core.insight.settling.settle import settled
    from keen_matrix.core.launch.launchers import resolved_launch
    from keen_matrix.core.runs.starting.building import build
    from keen_matrix.core.runs.starting.directly import directly
    from keen_matrix.core.runs.starting.once import used_by
    from keen_matrix.core.spec.load import load_spec

    most = MOST_LAUNCHES if launches is None else launches
    bar = Progress(most, enabled=True, color=color, doing="settling")
    watch = Watching(bar)
    first = directly(load_spec(path, text))
    if first.program.build:
        build(first, watch)  # before anything is looked for that it makes
    lab = Lab(path, text, pool, watch, most)
    with used_by(lab.spec, pool, remark):
        with contextlib.suppress(OutOfLaunches):
            pass_launcher_by(lab)
        cost = _cost_of_one(lab)
        if launches is None:
            most = next((each for least, each in LAUNCHES_BY_COST if cost <= least), FEW_LAUNCHES)
            lab.most, lab.is_given, bar.total = most, False, most
        # as the spec has it, whatever it is started by in the end
        program = escape(" ".join(resolved_launch(lab.spec).words))
        limit = f"at most {counted(most, 'launch')} of {program}"
        print(f"{escape(lab.path)}: {limit}", file=sys.stderr, flush=True)
        with bar:
            found = settled(lab)
    if found.is_interrupted:
        interruption.begin_ending()
    return found


def _cost_of_one(lab: Lab) -> float:
    """Return what a launch costs, in seconds of the processor, by those that settling begins with;
    of a program that waits, how long it takes."""
    from keen_matrix.core.experiments.ask import OutOfLaunches
    from keen_matrix.core.runs.starting.warmth import turn_warm

    with contextlib.suppress(OutOfLaunches):
        vectors = [made.words() for each in lab.forms.builders(grounded=False) if (made := each.smallest())]
        records = [each.record for each in lab.answers([(), *vectors, ("--help",)])]
        records = turn_warm(lab.experiments) or records
        # one that waits for input, or hangs, is none that tells how long the others take
        costs = [_cost(each) for each in records if each.exit is not None]
        return statistics.median(costs) if costs else 0.0
    return 0.0


def _cost(record: Record) -> float:
    worked = record.user_seconds + record.system_seconds
    waits = record.seconds > max(WAITS_FROM, WAITS_TIMES * worked)
    return record.seconds if waits else worked


class Watching(RunWatch):
    """Draws how many launches were made."""

    def __init__(self, bar: Progress) -> None:
        self._bar = bar

    def remarks(self, text: str) -> None:
        """Tell how the program is started."""
        remark(text)

    def asking(self, question: str, number: int, total: int) -> None:
        """Show what is asked."""
        self._bar.doing = f"{number} of {total}: {question}"

    def grounding(self, launches: int | None) -> None:
        """Count the launches."""
        if launches is not None:
            self._bar.done = launches
            self._bar.total = max(self._bar.total or 0, launches)  # there may be time for more


# --- the text ---


def write_settled(screen: Screen, path: str, found: Settled, *, is_written: bool) -> None:
    """Write what was found, each with its evidence, and the change of the spec."""
    told = {each.text: each for each in reversed(found.findings)}  # of several forms one stands for all
    for finding in [each for each in found.findings if told[each.text] is each]:
        screen.rows(_finding_rows(finding))
    difference = found.difference(path)
    if found.findings:
        screen.line()
    if difference and not is_written:
        for line in difference:
            screen.line((line, _style_of(line)))
        screen.line()
    settled = sum(each.weight == "change" for each in found.findings)
    defects = sum(each.weight == "defect" for each in found.findings)
    summary = counted(settled, "finding") if settled else "nothing to write"
    summary += f", {counted(defects, 'likely defect')}" if defects else ""
    screen.line((f"{path}: {summary}, after {counted(found.launches, 'launch')}", "strong"))
    for sentence in found.hollow:
        screen.line(("not much checked  ", "warn"), escape(sentence))
    if found.is_stopped:
        screen.line(("the launches did not suffice for everything; --launches raises the limit", "warn"))
        if found.open_questions:
            screen.line(("still open: ", "warn"), "; ".join(found.open_questions))
    if found.is_interrupted:
        screen.line(("interrupted: this was found so far", "warn"))
    if difference and not is_written:
        screen.line("to write it: ", (f"keen-matrix settle {shell_line([path])} --write", "strong"))


def _finding_rows(finding: Finding) -> Iterator[tuple[Segment, ...]]:
    word, style = SIGNS[finding.weight]
    yield ((f"{word:8}", style), "  ", finding.text)
    for each in finding.shown[:MOST_SHOWN]:
        yield ("          ", (shell_line(each.words) or "no words", "dim"), "   ", (each.came, "dim"))


def _style_of(line: str) -> str:
    if line.startswith(("+++", "---", "@@")):
        return "dim"
    return "good" if line.startswith("+") else "bad" if line.startswith("-") else ""
