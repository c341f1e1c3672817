"""Calls and their results for other programs and other people: JSON, CSV, Markdown and one HTML
page."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from typing import BinaryIO

from keen_matrix.core.model.record import Record, end_of, kept_bytes
from keen_matrix.core.structs import Struct
from keen_matrix.reports.call_documents import CallResultDocument, CallsDocument
from keen_matrix.wording.counts import counted, duration
from keen_matrix.wording.safe import escape_lines

STREAMS = ("stdout", "stderr")


class CallTable(Struct, frozen=True):
    """Calls of a program side by side."""

    program: str
    #: Each call as it was typed, and its result.
    rows: Sequence[tuple[str, Record]]

    @property
    def title(self) -> str:
        """What a report of them is called."""
        return f"{counted(len(self.rows), 'call')} of {self.program}"


def _text(record: Record, stream: str) -> str:
    return kept_bytes(record, stream).decode("utf-8", "backslashreplace")


def write_calls_json(table: CallTable, stream: BinaryIO) -> None:
    """Write calls as a document."""
    from keen_matrix.core.structs import document_text

    found = [
        CallResultDocument(
            line,
            list(record.argv),
            end_of(record),
            record.exit,
            record.signal,
            _text(record, "stdout"),
            _text(record, "stderr"),
            {name: change.state for name, change in record.files.items()},
            record.seconds,
        )
        for line, record in table.rows
    ]
    stream.write(document_text(CallsDocument(table.program, found)))


def write_calls_csv(table: CallTable, stream: BinaryIO) -> None:
    """Write calls as CSV with a header."""
    from keen_matrix.reports.tables import table_cell

    text = io.TextIOWrapper(
        stream, encoding="utf-8", errors="backslashreplace", newline="", write_through=True
    )
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["call", "exit", "signal", "stdout", "stderr", "seconds"])
    for line, record in table.rows:
        streams = [_text(record, each) for each in STREAMS]
        cells = [line, record.exit, record.signal, *streams, record.seconds]
        writer.writerow(map(table_cell, cells))
    text.detach()


def write_calls_markdown(table: CallTable, stream: BinaryIO) -> None:
    """Write calls as blocks, each foldable."""
    from keen_matrix.reports.markdown import cell, fenced, summary_text

    lines = [f"### {cell(table.title)}", ""]
    for line, record in table.rows:
        output = escape_lines("".join(_text(record, each) for each in STREAMS)).rstrip("\n")
        shown = summary_text(line) or "(no words)"
        lines.append(f"<details><summary><code>{shown}</code> {end_of(record)}</summary>")
        lines.append("")
        lines += fenced(output.split("\n")) if output else ["prints nothing"]
        lines += ["", "</details>", ""]
    stream.write(("\n".join(lines) + "\n").encode("utf-8", "backslashreplace"))


def write_calls_html(table: CallTable, stream: BinaryIO) -> None:
    """Write calls as one page that asks for nothing else: folded, searchable, printable."""
    from keen_matrix.reports.html import environment_of_pages, script_hash

    environment = environment_of_pages()
    page = environment.get_template("calls.html.j2").stream(
        title=table.title,
        sections=[{"calls": [_shown(number, *row) for number, row in enumerate(table.rows, 1)]}],
        remarks=[],
        opened=True,
        script_hash=script_hash(environment, "calls.html.j2"),
    )
    for part in page:
        stream.write(part.encode("utf-8", "backslashreplace"))


def _shown(number: int, line: str, record: Record) -> dict[str, object]:
    """Return what the page says of a call."""
    streams = [(each, escape_lines(text)) for each in STREAMS if (text := _text(record, each))]
    files = escape_lines(", ".join(f"{name} {change.state}" for name, change in record.files.items()))
    return {
        "id": number,
        "label": number,
        "line": line,
        "tone": "ok" if record.exit == 0 else "no",
        "note": "",
        "end": end_of(record),
        "took": duration(record.seconds),
        "streams": streams,
        "files": files,
    }
