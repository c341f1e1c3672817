"""Heat tables for reports: how closely expectations look (doubt), and what the vectors reach
(coverage)."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from typing import NamedTuple

from keen_matrix.core.errors import KeenMatrixError
from keen_matrix.core.insight.coverage import Coverage, coverage_of
from keen_matrix.core.insight.doubt import Doubts, doubts_of
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.oracle import OracleNotRun, asking, forbidden
from keen_matrix.core.results.kept_grounds import load_grounds
from keen_matrix.core.runs.grounding.controls import grounded
from keen_matrix.core.spec.load import load_spec
from keen_matrix.core.structs import Struct
from keen_matrix.core.vectors.unfold import unfold
from keen_matrix.reports.report import Report

#: Cases of a spec up to which a report works these tables out: they ask every expectation some
#: twenty times.
MOST_CASES = 5_000


class Cell(NamedTuple):
    """A cell: a share from 0 to 100, and what is written in it. No text: the cell is empty."""

    share: float
    text: str


class Row(Struct, frozen=True):
    """A row with its name."""

    name: str
    cells: tuple[Cell, ...]


class Heat(Struct, frozen=True):
    """A table whose cells are coloured by their share."""

    title: str
    text: str
    heads: tuple[str, ...]
    rows: tuple[Row, ...]


def heats(report: Report) -> list[Heat]:
    """Return the tables of each spec that still is as it was in the run; none for larger runs.

    A report on its own runs nothing: specs below this directory alone are read, and none whose
    tables need its oracle to be run."""
    found: list[Heat] = []
    if report.summary.counts.total() > MOST_CASES:
        return found
    for path, header in {each.spec: each for each in report.summary.headers}.items():
        if not os.path.isfile(path) or os.path.relpath(path).startswith(os.pardir):
            continue
        hook = (lambda _: None) if report.may_run else forbidden
        with contextlib.suppress(KeenMatrixError, OracleNotRun), asking(hook):
            spec = load_spec(path)
            spec = grounded(spec, load_grounds(report.paths[0], spec))
            if spec.digest == header.spec_digest:
                found += _of_spec(report, spec, path)
    return found


def _of_spec(report: Report, spec: Spec, path: str) -> Iterator[Heat]:
    records = {fields.id: fields for owner, fields in report.cases() if owner.spec == path}
    doubts = doubts_of(spec, records)
    if doubts.scores:
        yield _doubt_heat(spec, doubts)
    tried = (case for case in unfold(spec) if case.id in records and records[case.id].verdict != "blocked")
    found = coverage_of(spec, tried)
    if any(part.total for part in found.parts):
        yield _coverage_heat(spec, found)


def _doubt_heat(spec: Spec, doubts: Doubts) -> Heat:
    aspects = list(dict.fromkeys(aspect for parts in doubts.scores.values() for aspect in parts))
    rows = []
    for name, parts in doubts.scores.items():
        cells = [_cell(parts[aspect].percent if aspect in parts else None) for aspect in aspects]
        rows.append(Row(name, (*cells, _cell(doubts.of(name).percent))))
    whole = doubts.whole
    text = f"{whole.noticed:,} of {whole.tried:,} altered results are noticed, {whole.percent or 0.0:.1f} %"
    return Heat(f"Doubt, {spec.name}", text, ("", *aspects, "all"), tuple(rows))


def _coverage_heat(spec: Spec, found: Coverage) -> Heat:
    rows = [
        Row(part.name, (_cell(part.percent), Cell(part.percent, f"{part.reached:,} of {part.total:,}")))
        for part in found.parts
        if part.percent is not None
    ]
    text = f"what the run reached, {found.percent or 0.0:.1f} % on average"
    return Heat(f"Coverage, {spec.name}", text, ("", "reached", "of"), tuple(rows))


def _cell(percent: float | None) -> Cell:
    return Cell(0, "") if percent is None else Cell(percent, f"{percent:.0f} %")


def as_rows(heat: Heat) -> list[list[object]]:
    """Return the shares of a table, None where a cell is empty."""
    return [[cell.share if cell.text else None for cell in row.cells] for row in heat.rows]
