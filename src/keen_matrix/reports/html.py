"""One self-contained HTML page: no request leaves it, and nothing that a program printed can run
in it."""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, BinaryIO, TypeAlias

from keen_matrix.core.model.record import AspectRecord, Record
from keen_matrix.core.results.grid import Grid, chosen_axes, grids_of
from keen_matrix.core.results.reading import CaseRecord
from keen_matrix.core.results.remarks import SpecRemark
from keen_matrix.core.results.summary import Cause, axis_values_of
from keen_matrix.core.vectors.ids import SHOWN_ID
from keen_matrix.reports.heat import heats
from keen_matrix.reports.report import Report
from keen_matrix.wording.cases import OUTPUT_SHOWN, output_of, reached_lines, title_of
from keen_matrix.wording.counts import duration
from keen_matrix.wording.remarks import remark_sentence
from keen_matrix.wording.safe import escape, shell_line
from keen_matrix.wording.signs import VERDICT_SIGNS, grid_legend, sign_of, verdict_text

if TYPE_CHECKING:
    import jinja2


#: What the script of the page reads, as JSON.
PageData: TypeAlias = "dict[str, object]"
#: Cases in the table. Those that failed come first; the page says how many passed ones it
#: leaves out.
MOST_CASES = 20_000
#: Cases that failed with everything that they printed.
MOST_DETAILED = 3_000
#: Characters of each stream of a case that passed.
PASSED_OUTPUT = 400
BINS = 24
MOST_GRID_CELLS = 4_000
#: Causes at the head of the page.
MOST_CAUSES = 40
LINE_SHOWN = 200


def environment_of_pages() -> jinja2.Environment:
    """Return what makes our pages of their templates: whatever stands in a place of one is text."""
    import jinja2

    return jinja2.Environment(
        loader=jinja2.PackageLoader("keen_matrix.reports", "."),
        autoescape=True,
        undefined=jinja2.StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )


def _remark(found: SpecRemark) -> dict[str, str]:
    label, text = remark_sentence(found.remark)
    ids = " ".join(id[:SHOWN_ID] for id in found.remark.ids)
    about = " ".join(filter(None, (ids, found.remark.place)))
    return {"spec": found.spec, "label": label, "text": text, "edit": found.remark.edit, "about": about}


def write(report: Report, stream: BinaryIO) -> None:
    """Write the page."""
    environment = environment_of_pages()
    summary = report.summary
    signs = {name: sign_of(name) for name in VERDICT_SIGNS}
    data, left_out = _cases(report)
    grids = [grid for matrix in summary.matrices.values() for grid in _grids(report, matrix)]
    causes = summary.causes
    # In parts: the page of a large run is not made as one text first.
    page = environment.get_template("page.html.j2").stream(
        counts=dict(summary.counts),
        total=summary.counts.total(),
        seconds=summary.seconds,
        matrices=list(summary.matrices.values()),
        headers=summary.headers,
        grids=grids,
        left_out=left_out,
        histogram=_histogram(report),
        slowest=summary.slowest,
        shell=shell_line,
        escape=escape,
        sections=list(heats(report)),
        data=_embedded({**data, "signs": signs}),
        signs=signs,
        duration=duration,
        legend=grid_legend(),
        causes=[_cause(each) for each in causes[:MOST_CAUSES]],
        more_causes=max(0, len(causes) - MOST_CAUSES),
        faults=report.faults,
        missing=report.missing,
        remarks=list(map(_remark, report.remarks)),
        script_hash=script_hash(environment, "page.html.j2"),
    )
    for part in page:
        stream.write(part.encode("utf-8", "backslashreplace"))


def _cause(cause: Cause) -> PageData:
    """Return what the page says of a cause."""
    fields = cause.fields
    told = fields.argv if fields.verdict != "blocked" else fields.control
    return {
        "count": cause.count,
        "verdict": verdict_text(fields.verdict),
        "sign": sign_of(fields.verdict),
        "where": ", ".join(
            f"{name} {count:,}" if len(cause.where) > 1 else name for name, count in cause.where.items()
        ),
        "line": (shell_line(told) or "(no words)")[:LINE_SHOWN],
        "text": "\n".join(reached_lines(fields)),
    }


def script_hash(environment: Any, page: str) -> str:
    """Return what the policy of a page calls its one script by: nothing else that may be in the
    page runs (CSP 3, 2.3.1)."""
    # Of the template's own text, so that no edit of the script needs a second one.
    source, *_ = environment.loader.get_source(environment, page)
    script = source.rpartition("<script>\n")[2].partition("</script>")[0]
    digest = hashlib.sha256(f"\n{script}".encode()).digest()
    return f"sha256-{base64.b64encode(digest).decode()}"


def _embedded(data: object) -> str:
    """Return JSON that can stand inside a script element: no < that could end it, no separators of
    lines."""
    text = json.dumps(data, ensure_ascii=False, separators=(",", ":"))
    for character, code in (
        ("<", "\\u003c"),
        (">", "\\u003e"),
        ("&", "\\u0026"),
        ("\u2028", "\\u2028"),
        ("\u2029", "\\u2029"),
    ):
        # Escapes of JSON itself: the script reads back what was there.
        text = text.replace(character, code)
    return text


def _grids(report: Report, matrix: Any) -> list[Grid]:
    axes = chosen_axes(matrix, [name for name in report.by if name in matrix.axes])
    if not axes:
        return []
    grids = grids_of(matrix, report.cases_in(matrix.spec, matrix.name), axes)
    return [grid for grid in grids if len(grid.columns) * len(grid.rows) <= MOST_GRID_CELLS]


def _cases(report: Report) -> tuple[PageData, int]:
    """Return the cases of the page: those that failed, then those that passed, and how many
    are left out."""
    order = {key: number for number, key in enumerate(report.summary.matrices)}
    failed: list[object] = []
    passed: list[object] = []
    left_out = 0
    for record in report.cases():
        if record.fields.verdict != "passed":
            if len(failed) < MOST_CASES:
                place = report.place_of(record.header, record.fields.id)
                detailed = len(failed) < MOST_DETAILED
                failed.append(_case(record, order, detailed=detailed, place=place))
            else:
                left_out += 1
        elif len(passed) < MOST_CASES:
            passed.append(_case(record, order, detailed=False))
        else:
            left_out += 1
    # What failed has the first claim on the room.
    kept = passed[: max(0, MOST_CASES - len(failed))]
    return {
        "cases": failed + kept,
        "matrices": [{"name": each.name, "spec": each.spec} for each in report.summary.matrices.values()],
    }, left_out + len(passed) - len(kept)


def _case(
    record: CaseRecord, order: Mapping[tuple[str, str], int], *, detailed: bool, place: str = ""
) -> PageData:
    header, fields = record
    passed = fields.verdict == "passed"
    launch = shell_line(header.launch)
    most = PASSED_OUTPUT if passed else OUTPUT_SHOWN
    case = {
        "id": fields.id,
        "m": order[header.spec, fields.matrix],
        "v": fields.verdict,
        "w": escape(title_of(fields))[:2_000],
        "s": round(fields.seconds, 4),
        "x": axis_values_of(fields),
        "k": fields.kind or "",
        "exit": fields.exit,
        "signal": fields.signal,
        "line": f"{launch} {shell_line(fields.argv)}".strip()[:20_000],
    }
    if passed or detailed:
        case["out"], case["err"] = (output_of(fields, "stdout", most), output_of(fields, "stderr", most))
    said = [
        ("row", fields.row),
        ("note", fields.note),
        ("known", fields.known),
        ("skipped", fields.skipped),
        ("most suspicious line", place),
    ]
    case["n"] = [[name, escape(text)] for name, text in said if text]
    if not passed:
        case["a"] = [_aspect(each, fields) for each in fields.aspects if not each.met]
    return case


def _aspect(aspect: AspectRecord, fields: Record) -> dict[str, str]:
    expected, actual = _lines(aspect.expected or ""), _lines(aspect.actual or "")
    if aspect.difference:
        kept = aspect.difference
        expected, actual = (
            "\n".join(
                f"{number}  {escape(text)}" for kind, number, text in kept.lines if kind in ("same", side)
            )
            for side in ("expected", "found")
        )
    return {"a": str(aspect.aspect), "f": str(aspect.form), "e": expected, "c": actual, "r": str(aspect.rule)}


def _lines(text: str) -> str:
    return "\n".join(map(escape, text.split("\n")))


def _histogram(report: Report) -> PageData:
    """Return how many cases took how long, in bins of equal width on a logarithmic scale."""
    from math import log10

    low, high = -4.0, 3.0
    bins = [[0, 0] for _ in range(BINS)]
    for _, fields in report.cases():
        at = min(BINS - 1, max(0, int((log10(max(fields.seconds, 1e-9)) - low) / (high - low) * BINS)))
        bins[at][fields.verdict != "passed"] += 1
    used = [number for number, pair in enumerate(bins) if any(pair)]
    first, last = (used[0], used[-1] + 1) if used else (0, 1)
    edges = [10 ** (low + number * (high - low) / BINS) for number in range(first, last + 1)]
    return {
        "bins": bins[first:last],
        "edges": edges,
        "most": max((sum(pair) for pair in bins), default=1) or 1,
    }
