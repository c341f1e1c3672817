"""`keen-matrix report`: a journal, or several shards of a run, in another format or as grids on
the terminal."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from keen_matrix.cli.outputs import write_to
from keen_matrix.cli.shared import add_color, output_file, tell_newer_run, tell_run
from keen_matrix.cli.statuses import EXIT_FAILED, EXIT_OK
from keen_matrix.core.errors import Misuse, nearest
from keen_matrix.core.results.journal import DEFAULT_JOURNAL
from keen_matrix.reports.formats import FORMATS, RESULT_FORMATS
from keen_matrix.wording.counts import duration
from keen_matrix.wording.remarks import remark_sentence
from keen_matrix.wording.safe import escape

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.results.summary import Cause
    from keen_matrix.reports.report import Report

EPILOG = f"""\
examples:
  keen-matrix report                                    the last run on the terminal, with a grid of each matrix
  keen-matrix report --by origin,riders                 grids by these axes
  keen-matrix report --format html -o run.html          one self-contained page
  keen-matrix report shard1.jsonl shard2.jsonl --format junit -o run.xml
  keen-matrix report --format html --results -o results.html    every case with what it printed
  keen-matrix report --format picture -o run.png

formats: {", ".join(FORMATS)}; a picture is .png or .svg. RUN is a journal, by default the last
one ({DEFAULT_JOURNAL}); several are read as one run. An existing file is only replaced if it is an earlier report.
exit status: 0, 1 a result is missing: a run was interrupted, a spec could not be run, or a shard is missing,
2 wrong usage, 3 no journal
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    parser.add_argument("runs", nargs="*", metavar="RUN", help="journals of the run (default: the last one)")
    parser.add_argument(
        "--format",
        choices=FORMATS,
        metavar="FORMAT",
        help=f"output format: {', '.join(FORMATS)}; without it, grids on the terminal",
    )
    parser.add_argument(
        "-o", "--output", metavar="FILE", type=output_file, help="write it to FILE instead of standard output"
    )
    parser.add_argument(
        "--by", metavar="AXIS,AXIS", help="the axes of the grids: across, down, and perhaps a third one"
    )
    parser.add_argument(
        "--results",
        action="store_true",
        help="with --format html or markdown: every case with what it printed, passed ones too",
    )
    add_color(parser)


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.core.results.reading import merge_faults
    from keen_matrix.reports.report import Report

    runs = options.runs or [DEFAULT_JOURNAL]
    if options.results and options.format not in RESULT_FORMATS:
        raise Misuse(f"--results needs --format {' or '.join(RESULT_FORMATS)}")
    if options.format is None:
        if options.output is not None:
            raise Misuse("-o needs a format: --format junit, for instance")
        report = Report(runs, by=axes_of(options.by))
        write_terminal(report, options)
    else:
        report = Report(runs, options.output or "", by=axes_of(options.by))
        kinds = RESULT_FORMATS if options.results else FORMATS
        write_to(kinds[options.format], report, options.output)
        tell_newer_run(runs)
    missing, faults = report.missing, merge_faults(runs)
    # The terminal's own lines have said what is missing.
    told = [] if options.format is None else [each.sentence for each in missing]
    for fault in [*told, *faults]:
        print(f"keen-matrix: {escape(fault)}", file=sys.stderr)
    is_whole = not (missing or report.faults or (faults and len(runs) > 1))
    return EXIT_OK if is_whole else EXIT_FAILED


def axes_of(text: str | None) -> list[str]:
    """Return the axes that --by names."""
    return [each.strip() for each in text.split(",") if each.strip()] if text else []


def report_target(text: str) -> tuple[str, str]:
    """Read FORMAT=FILE."""
    format, equals, file = text.partition("=")
    if not equals or not file:
        raise argparse.ArgumentTypeError(f"expected FORMAT=FILE, found {text!r}")
    if format not in FORMATS:
        hint = nearest(format, FORMATS)
        more = f"; did you mean {hint}?" if hint else f"; expected one of {', '.join(FORMATS)}"
        raise argparse.ArgumentTypeError(f"unknown format {format!r}{more}")
    return format, file


#: Causes listed on the terminal.
CAUSES_SHOWN = 12


def write_terminal(report: Report, options: argparse.Namespace) -> None:
    """Write the run on the terminal: counts, grids, causes, the slowest cases."""
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.cli.console.summary import write_counts_row, write_legend

    screen = Screen(sys.stdout, color=options.color)
    summary = report.summary
    tell_run(screen, report.paths)
    width = min(NAME_WIDTH, max((len(each.name) for each in summary.matrices.values()), default=0))
    spec = ""
    for matrix in summary.matrices.values():
        if matrix.spec != spec:
            spec = matrix.spec
            screen.line((spec, "strong"))
        write_counts_row(screen, matrix.name, width, matrix.counts)
    write_legend(screen, (each.counts for each in summary.matrices.values()))
    for path, fault in report.faults.items():
        screen.line((path, "strong"), "   ", ("could not be run", "bad"), f"   {fault.splitlines()[0]}")
    for each in report.missing:
        screen.line((each.sentence, "bad"))
    for spec, remark in report.remarks:
        label, text = remark_sentence(remark)
        screen.line((label, "warn"), f"   {escape(spec)}: {escape(text)}")
        if remark.edit:
            screen.line("  ", (escape(remark.edit), "strong"))
    if summary.causes:
        screen.line()
        screen.line(("causes", "strong"))
        _write_causes(screen, summary.causes)
    write_grids(screen, report)
    screen.line()
    _write_slowest(screen, summary.slowest[:SLOWEST_SHOWN])


#: Cases of those that took longest that are listed, and cells of the widest name of a matrix.
SLOWEST_SHOWN, NAME_WIDTH = 5, 40


def _write_causes(screen: Screen, causes: Sequence[Cause]) -> None:
    from keen_matrix.wording.signs import STYLE_OF, verdict_text

    for cause in causes[:CAUSES_SHOWN]:
        failed = list(dict.fromkeys(each.aspect for each in cause.fields.aspects if not each.met))
        screen.line(
            f"  {cause.count:>5,}  ",
            (f"{verdict_text(cause.fields.verdict):8}", STYLE_OF[cause.fields.verdict]),
            f"  {', '.join(cause.where)}: {', '.join(failed)}   ",
            (cause.fields.id[:6], "place"),
        )
    if len(causes) > CAUSES_SHOWN:
        screen.line(("  more causes: ", "dim"), f"{len(causes) - CAUSES_SHOWN:,}")


def _write_slowest(screen: Screen, slowest: Sequence[tuple[float, str, str, Sequence[str]]]) -> None:
    from keen_matrix.wording.safe import cut, pad, shell_line

    screen.line(("slowest", "strong"))
    width = min(NAME_WIDTH, max((len(name) for _, _, name, _ in slowest), default=0))
    for seconds, id, name, words in slowest:
        screen.line(
            f"  {duration(seconds):>9}  ",
            (id[:6], "place"),
            f"  {pad(cut(name, width), width)}  ",
            (shell_line(words)[:80], "dim"),
        )


def write_grids(screen: Screen, report: Report) -> None:
    """Write the grids of every matrix that has two axes, or those that have the axes asked for."""
    from keen_matrix.cli.console.grid import write_grid
    from keen_matrix.cli.console.grid import write_grid_legend as write_grid_legend
    from keen_matrix.core.results.grid import chosen_axes, grids_of

    matrices = list(report.summary.matrices.values())
    if report.by:
        fitting = [each for each in matrices if all(name in each.axes for name in report.by)]
        if not fitting:
            known = list(dict.fromkeys(name for each in matrices for name in each.axes))
            wrong = next((name for name in report.by if name not in known), None)
            if wrong is None:
                raise Misuse(f"no matrix has all of the axes {', '.join(report.by)}")
            hint = nearest(wrong, known)
            more = f"; did you mean {hint!r}?" if hint else f"; there are {', '.join(known) or 'none'}"
            raise Misuse(f"no matrix has an axis {wrong!r}{more}")
        matrices = fitting
    drawn = False
    for matrix in matrices:
        axes = chosen_axes(matrix, report.by)
        if len(axes) < (1 if report.by else 2):
            continue
        for grid in grids_of(
            matrix, report.cases_in(matrix.spec, matrix.name), axes, always_split=bool(report.by)
        ):
            screen.line()
            write_grid(screen, grid)
            drawn = True
    if drawn:
        screen.line()
        write_grid_legend(screen)
