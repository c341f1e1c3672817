"""A row a case, axis values as columns: CSV (RFC 4180) and JSON, ready for pandas.

In CSV a text that begins with `= + - @` or a tab follows a quote, or a spreadsheet would run
it; JSON has it as it is.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator
from typing import BinaryIO, TypeAlias

from keen_matrix.core.model.record import Record, kept_bytes
from keen_matrix.core.results.axis_values import shown_value
from keen_matrix.core.results.reading import CaseRecord
from keen_matrix.reports.report import Report
from keen_matrix.wording.cases import first_rule, title_of
from keen_matrix.wording.safe import escape

#: A case: column → value.
Row: TypeAlias = "dict[str, object]"
#: Columns of every case; axes and columns of the spec follow, as `axis.NAME`.
PLAIN = (
    "spec",
    "id",
    "matrix",
    "family",
    "kind",
    "culprit",
    "call",
    "verdict",
    "failed",
    "rule",
    "place",
    "row",
    "note",
    "known",
    "skipped",
    "exit",
    "signal",
    "seconds",
    "user_seconds",
    "system_seconds",
    "peak_bytes",
    "stdout_bytes",
    "stderr_bytes",
)


def rows(report: Report) -> Iterator[Row]:
    """Yield a row for each case, all with the same keys."""
    names = list(report.summary.value_names)
    for record in report.cases():
        yield row_of(record, names, report.place_of(record.header, record.fields.id))
    # A table that ends here would look whole: what was not run has rows too.
    for spec, fault in report.faults.items():
        yield _row_of_spec(spec, "not-started", fault, names)
    for each in report.missing:
        yield _row_of_spec(each.spec, "no result", each.sentence, names)


def _row_of_spec(spec: str, verdict: str, note: str, names: list[str]) -> Row:
    """Return a row that speaks of no case but of a spec: what of it could not be run, or has no
    result."""
    row: Row = dict.fromkeys([*PLAIN, *(f"axis.{name}" for name in names)])
    return row | {"spec": spec, "id": "", "matrix": "", "verdict": verdict, "note": note}


def row_of(record: CaseRecord, names: list[str], place: str) -> Row:
    """Return the row of one case; `place` is the most suspicious line that it runs, where that is
    known."""
    header, fields = record
    failed = list(dict.fromkeys(each.aspect for each in fields.aspects if not each.met))
    row: Row = {name: getattr(fields, name, None) for name in PLAIN}
    row |= {
        **{name: getattr(fields, name) or None for name in ("culprit", "row", "note", "known", "skipped")},
        "spec": header.spec,
        "call": title_of(fields),
        "failed": " ".join(failed),
        "rule": first_rule(fields),
        "place": place,
        "stdout_bytes": _size(fields, "stdout"),
        "stderr_bytes": _size(fields, "stderr"),
    }
    values = fields.values
    return row | {f"axis.{name}": values.get(name) for name in names}


def _size(fields: Record, name: str) -> int:
    return getattr(fields, f"{name}_bytes") or len(kept_bytes(fields, name))


def write_csv(report: Report, stream: BinaryIO) -> None:
    """Write the rows as CSV with a header."""
    text = io.TextIOWrapper(
        stream, encoding="utf-8", errors="backslashreplace", newline="", write_through=True
    )
    names = [*PLAIN, *(f"axis.{name}" for name in report.summary.value_names)]
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(map(_safe, names))
    for row in rows(report):
        writer.writerow([table_cell(row[name]) for name in names])
    text.detach()


def table_cell(value: object) -> object:
    """Return a value for a cell. A text that a spreadsheet would take for a formula gets a quote
    before it (CWE-1236)."""
    shown = shown_value(value) if isinstance(value, list) else "" if value is None else value
    if not isinstance(shown, str):
        return shown
    is_formula = shown.startswith(("=", "+", "-", "@", "\t", "\r"))
    return _safe(f"'{shown}" if is_formula else shown)


def _safe(text: str) -> str:
    """Return a text that a terminal shows as it is: CSV is looked at there as well. Lines and tabs
    stay."""
    return "\n".join("\t".join(map(escape, line.split("\t"))) for line in text.split("\n"))


def write_json(report: Report, stream: BinaryIO) -> None:
    """Write the rows as one JSON array, a row a line."""
    stream.write(b"[")
    for number, row in enumerate(rows(report)):
        text = json.dumps(row, ensure_ascii=False)
        stream.write((",\n" if number else "\n").encode() + text.encode("utf-8", "backslashreplace"))
    stream.write(b"\n]\n")
