"""`keen-matrix history`: past runs, flaky cases, slow ones, the trend of a case."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from keen_matrix.cli.shared import JSON, add_color, add_format, whole_number
from keen_matrix.core.errors import RunFault
from keen_matrix.core.results.history import DEFAULT_HISTORY
from keen_matrix.wording.counts import counted, duration
from keen_matrix.wording.signs import STYLE_OF, legend, verdict_text

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.results.history import History

EPILOG = f"""\
examples:
  keen-matrix history              the last runs, flaky cases, the slowest ones
  keen-matrix history k3f9x2       every run of one case
  keen-matrix history --prune 50   keep only the newest 50 runs of each spec

Every run is recorded in {DEFAULT_HISTORY}, whatever its journal is called.
A case is flaky when its verdict changed and neither the spec nor the program did.
exit status: 0, 2 wrong usage, 3 no history, or one that cannot be read
"""
SHOWN_RUNS = 12


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    parser.add_argument(
        "ids", nargs="*", metavar="ID", help="show the trend of these cases: the beginnings of their ids"
    )
    parser.add_argument(
        "--history", metavar="FILE", default=DEFAULT_HISTORY, help=f"the history (default {DEFAULT_HISTORY})"
    )
    parser.add_argument(
        "--prune", type=whole_number, metavar="N", help="drop all but the newest N runs of each spec"
    )
    add_color(parser)
    add_format(parser)


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.results.history import History, WritableHistory

    screen = Screen(sys.stdout, color=options.color)
    if options.prune:
        History(options.history).close()  # where there is none that is told, and none is made
        with WritableHistory(options.history) as kept, kept.faults_told():
            screen.line(f"{counted(kept.prune(options.prune), 'run')} dropped")
        return 0
    with History(options.history) as history, history.faults_told():
        if options.format == JSON:
            from keen_matrix.cli.documents import history_document, write_document

            for id in options.ids:
                _refuse_unknown(id, history.trend(id))
            write_document(history_document(history, options.ids))
        elif options.ids:
            for number, id in enumerate(options.ids):
                if number:
                    screen.line()
                write_trend(screen, history, id)
        else:
            write_runs(screen, history)
            write_cases(screen, history)
    return 0


def write_runs(screen: Screen, history: History) -> None:
    """Write the last runs."""
    runs = list(history.runs())
    for run in runs[:SHOWN_RUNS]:
        total, passed = sum(run.counts.values()), run.counts.get("passed", 0)
        apart = {name: count for name in ("known", "skipped") if (count := run.counts.get(name, 0))}
        style = "good" if total == passed + sum(apart.values()) else "bad"
        told = ", ".join(f"{count:,} {name}" for name, count in apart.items())
        what = (f"  {told}" if told else "") + ("  part" if run.part else "")
        screen.line(
            (f"{run.started[:19].replace('T', ' ')} UTC", "dim"),
            "  ",
            (f"{f'{passed:,} of {total:,} passed':>20}", style),
            f"  {duration(run.seconds):>9}   {os.path.basename(run.spec)}",
            (what, "dim"),
        )
    if len(runs) > SHOWN_RUNS:
        screen.line((f"and {counted(len(runs) - SHOWN_RUNS, 'earlier run')}", "dim"))


def write_cases(screen: Screen, history: History) -> None:
    """Write flaky and slow cases."""
    from keen_matrix.wording.safe import cut, pad

    flaky = sorted(history.flaky(), key=lambda each: -each[3])
    screen.line()
    screen.line(
        ("flaky", "strong"),
        "  none: no verdict changed while spec and program were the same" if not flaky else "",
    )
    seen: set[str] = set()
    for id, matrix, spec, changes, verdicts in flaky[:10]:
        seen |= set(verdicts[-30:])
        signs = " ".join(screen.sign(verdict) for verdict in verdicts[-30:])
        screen.line(
            "  ",
            (id[:6], "place"),
            f"  {matrix}  {counted(changes, 'change')}   {signs}  ",
            (os.path.basename(spec), "dim"),
        )
    if seen:
        screen.line("  ", *legend(screen, seen))
    screen.line()
    screen.line(("slowest", "strong"))
    slowest = list(history.slowest(most=6))
    width = min(40, max((len(matrix) for _, _, matrix, _, _ in slowest), default=0))
    for spec, id, matrix, took, count in slowest:
        screen.line(
            f"  {duration(took):>9}  ",
            (id[:6], "place"),
            f"  {pad(cut(matrix, width), width)}  ",
            (f"{counted(count, 'run')}  {os.path.basename(spec)}", "dim"),
        )


def _refuse_unknown(id: str, rows: Sequence[object]) -> None:
    """Raise RunFault where a case is in no run."""
    if not rows:
        raise RunFault(f"no case whose id begins with {id!r} is in the history")


def write_trend(screen: Screen, history: History, id: str) -> None:
    """Write every run of one case. Raises RunFault when there is none."""
    rows = history.trend(id)
    _refuse_unknown(id, rows)
    most = max(row[5] for row in rows) or 1.0
    last = owner = ""
    several = len({row[0] for row in rows}) > 1
    for spec, started, full, matrix, verdict, took, digest in rows:
        if several and spec != owner:
            screen.line((os.path.relpath(spec), "strong"))
            owner, last = spec, ""
        bar = screen.sign("bar") * max(1, round(took / most * 30))
        changed = "  spec or program changed" if last and digest != last else ""
        last = digest
        screen.line(
            (f"{started[:19].replace('T', ' ')} UTC", "dim"),
            "  ",
            (full[:6], "place"),
            f"  {matrix}  ",
            (screen.sign(verdict), STYLE_OF[verdict]),
            f" {verdict_text(verdict):11} {duration(took):>9}  ",
            (bar, "dim"),
            (changed, "warn"),
        )
