"""Every case of a run with what it printed, passed ones too, matrix by matrix: for showing to
others what a program does."""

from __future__ import annotations

from collections.abc import Iterator
from typing import BinaryIO

from keen_matrix.core.model.record import PASSING, Record, end_of
from keen_matrix.core.results.summary import MatrixSummary
from keen_matrix.core.vectors.ids import SHOWN_ID
from keen_matrix.reports.report import Report
from keen_matrix.wording.cases import output_of, title_of
from keen_matrix.wording.counts import counted, duration
from keen_matrix.wording.repeating import answering
from keen_matrix.wording.safe import escape, escape_lines
from keen_matrix.wording.signs import sign_of, verdict_text

STREAMS = ("stdout", "stderr")


def title_of_run(report: Report) -> str:
    """Return the heading of a page of results: how many cases, of which verdicts."""
    counts = report.summary.counts
    parts = ", ".join(f"{count:,} {verdict_text(verdict)}" for verdict, count in counts.items())
    return f"{counted(counts.total(), 'case')} with their output: {parts or 'none'}"


def write_html(report: Report, stream: BinaryIO) -> None:
    """Write one page that asks for nothing else: folded, searchable, printable."""
    from keen_matrix.reports.html import environment_of_pages, script_hash

    environment = environment_of_pages()
    page = environment.get_template("calls.html.j2").stream(
        title=title_of_run(report),
        sections=_sections(report),
        remarks=[each.sentence for each in report.missing],
        opened=report.summary.counts.total() <= MOST_OPENED,
        script_hash=script_hash(environment, "calls.html.j2"),
    )
    for part in page:
        stream.write(part.encode("utf-8", "backslashreplace"))


#: Cases that a page shows unfolded.
MOST_OPENED = 200


def _sections(report: Report) -> Iterator[dict[str, object]]:
    """Yield a section for each matrix, its cases read as the page is written."""
    for matrix in report.summary.matrices.values():
        yield {"name": matrix.name, "about": _about(matrix), "calls": _calls(report, matrix)}


def _about(matrix: MatrixSummary) -> str:
    parts = ", ".join(f"{count:,} {verdict_text(verdict)}" for verdict, count in matrix.counts.items())
    return f"{matrix.spec}   {parts}"


def _calls(report: Report, matrix: MatrixSummary) -> Iterator[dict[str, object]]:
    for record in report.cases_in(matrix.spec, matrix.name):
        yield _shown(record)


def _line(record: Record) -> str:
    replies = [reply for _, reply in record.dialogue]
    return escape(title_of(record)) + (f"   # {answering(replies)}" if replies else "")


def _shown(record: Record) -> dict[str, object]:
    """Return what the page says of a case."""
    streams = [(each, text) for each in STREAMS if (text := output_of(record, each))]
    files = escape_lines(", ".join(f"{name} {change.state}" for name, change in record.files.items()))
    is_fine = record.verdict in PASSING
    said = [record.note, record.row, record.known or record.skipped]
    return {
        "id": record.id,
        "label": record.id[:SHOWN_ID],
        "line": _line(record),
        "end": f"{sign_of(record.verdict)} {verdict_text(record.verdict)}, {end_of(record)}",
        "tone": "ok" if is_fine else "no",
        "took": duration(record.seconds),
        "note": escape("   ".join(filter(None, said))),
        "streams": streams,
        "files": files,
    }


def write_markdown(report: Report, stream: BinaryIO) -> None:
    """Write a heading for each matrix, and a foldable block for each case."""
    from keen_matrix.reports.markdown import cell, fenced, summary_text

    def write(*lines: str) -> None:
        stream.write(("\n".join(lines) + "\n").encode("utf-8", "backslashreplace"))

    write(f"### {cell(title_of_run(report))}", "")
    for matrix in report.summary.matrices.values():
        write(f"#### {cell(matrix.name)}", "", cell(_about(matrix)), "")
        for record in report.cases_in(matrix.spec, matrix.name):
            shown = _shown(record)
            output = "".join(
                f"{text}\n" for each in STREAMS if (text := output_of(record, each).rstrip("\n"))
            )
            head = f"<code>{summary_text(str(shown['line']))}</code> {cell(str(shown['end']))}"
            write(f"<details><summary>{head}</summary>", "")
            write(*([cell(str(shown["note"])), ""] if shown["note"] else []))
            write(*(fenced(output.split("\n")[:-1]) if output else ["prints nothing"]), "", "</details>", "")
