"""Markdown for a merge request: the summary, a grid of each matrix that failed, the failures
folded."""

from __future__ import annotations

import html
import re
from collections.abc import Iterator, Sequence
from typing import BinaryIO

from keen_matrix.core.model.record import PASSING
from keen_matrix.core.results.grid import Grid, chosen_axes, grids_of
from keen_matrix.core.results.summary import Cause, RunSummary
from keen_matrix.reports.report import Report
from keen_matrix.wording.cases import message_of, reached_lines, title_of
from keen_matrix.wording.counts import duration
from keen_matrix.wording.remarks import remark_line, remark_sentence
from keen_matrix.wording.safe import escape
from keen_matrix.wording.signs import STATE_SIGNS, grid_legend, sign_of, verdict_text

MOST_CAUSES = 40
MOST_COLUMNS = 16
MOST_ROWS = 40


def write(report: Report, stream: BinaryIO) -> None:
    """Write the report."""
    summary = report.summary
    missing = report.missing
    lines = [*_head(summary, is_whole=not (missing or report.faults))]
    for each in missing:
        lines += [f"**{cell(each.sentence)}**", ""]
    for spec, remark in report.remarks:
        label, _ = remark_sentence(remark)
        text = remark_line(remark).removeprefix(f"{label}: ")
        lines += [f"**{label.capitalize()}** in {cell(spec)}: {cell(text)}", ""]
    for spec, fault in report.faults.items():
        lines += [f"**{cell(spec)} could not be run:** {cell(fault.splitlines()[0] if fault else '')}", ""]
    lines += _table(summary)
    lines += _failures(summary)
    for matrix in summary.matrices.values():
        if matrix.passed < matrix.total:
            axes = chosen_axes(matrix, report.by)
            if axes:
                for grid in grids_of(matrix, report.cases_in(matrix.spec, matrix.name), axes):
                    lines += _grid(grid)
    stream.write(("\n".join(lines) + "\n").encode("utf-8", "backslashreplace"))


def _head(summary: RunSummary, *, is_whole: bool) -> Iterator[str]:
    counts = summary.counts
    parts = [f"{count:,} {verdict_text(verdict)}" for verdict, count in counts.items()]
    passing = sum(counts[verdict] for verdict in PASSING)
    sign = sign_of("passed" if is_whole and passing == counts.total() else "failed")
    yield f"### {sign} {counts.total():,} cases: {', '.join(parts)}"
    yield ""


def _table(summary: RunSummary) -> Iterator[str]:
    passed = any(summary.counts[verdict] for verdict in ("known", "skipped"))
    yield f"| spec | matrix | passed | failed |{' known or skipped |' if passed else ''} time |"
    yield f"|---|---|--:|--:|{'--:|' if passed else ''}--:|"
    for matrix in summary.matrices.values():
        others = matrix.counts["known"] + matrix.counts["skipped"]
        left = matrix.total - matrix.passed - others
        apart = f" {others or ''} |" if passed else ""
        name = f"**{cell(matrix.name)}**" if left else cell(matrix.name)
        yield (
            f"| {cell(matrix.spec)} | {name} | {matrix.passed:,} | {left or ''} |{apart} "
            f"{duration(matrix.seconds)} |"
        )
    yield ""


def cell(text: str) -> str:
    """Return a text that Markdown takes for nothing but a text, also in a table."""
    return re.sub(r"([\\`*_{}\[\]<>#|~!])", r"\\\1", escape(text))


def summary_text(text: str) -> str:
    """Return a text for a <summary> element, in which HTML is live and Markdown is not."""
    return html.escape(escape(text))


def fenced(lines: Sequence[str]) -> Iterator[str]:
    """Yield lines as a block of text, whatever backticks are in them."""
    fence = "`" * max(3, 1 + max((len(run) for line in lines for run in re.findall("`+", line)), default=0))
    yield f"{fence}text"
    yield from lines
    yield fence


def _grid(grid: Grid) -> Iterator[str]:
    third = f", {grid.third[0]} = {grid.third[1]}" if grid.third else ""
    named = f"{grid.matrix} by {grid.across}{f' and {grid.down}' if grid.down else ''}{third}"
    yield f"<details><summary>{summary_text(named)}</summary>"
    yield ""
    columns, rows = grid.columns[:MOST_COLUMNS], grid.rows[:MOST_ROWS]
    yield f"| {cell(grid.down)} \\\\ {cell(grid.across)} | " + " | ".join(map(cell, columns)) + " |"
    yield "|---|" + ":-:|" * len(columns)
    for row in rows:
        yield (
            f"| {cell(row)} | "
            + " | ".join(sign_of(STATE_SIGNS[grid.state(row, column)]) for column in columns)
            + " |"
        )
    left = (len(grid.columns) - len(columns), len(grid.rows) - len(rows))
    if any(left):
        yield f"\n{left[0]} columns and {left[1]} rows are not shown."
    yield f"\n{grid_legend()}\n\n</details>\n"


def _failures(summary: RunSummary) -> Iterator[str]:
    causes = summary.causes
    for cause in causes[:MOST_CAUSES]:
        yield from _failure(cause)
    if len(causes) > MOST_CAUSES:
        yield f"{len(causes) - MOST_CAUSES} more causes are not shown."


def _failure(cause: Cause) -> Iterator[str]:
    count = f" × {cause.count}" if cause.count > 1 else ""
    yield f"<details><summary>{summary_text(f'{cause.fields.matrix}: {message_of(cause.fields)}')}{count}</summary>"
    yield ""
    body = [title_of(cause.fields), *reached_lines(cause.fields)]
    yield from fenced(body)
    yield f"`{' '.join(each[:6] for each in cause.ids)}`\n\n</details>\n"
