"""Calls and their results for other programs and other people: JSON, CSV, Markdown and one HTML
page."""

from __future__ import annotations

import base64
import csv
import hashlib
import html
import io
import json
from collections.abc import Callable, Mapping, Sequence
from typing import Any, Literal

from keen_matrix.core import structs
from keen_matrix.core.model.record import Record, kept_bytes
from keen_matrix.core.structs import Struct
from keen_matrix.wording.safe import escape_lines


class CallResultDocument(Struct):
    """A call and its result."""

    #: As it was typed, with what was put around it.
    call: str
    argv: list[str]
    #: How it ended, in words.
    end: str
    exit: int | None
    signal: str | None
    stdout: str
    stderr: str
    #: Files that it created, changed or deleted.
    files: dict[str, str]
    seconds: float


class CallsDocument(Struct):
    """Calls side by side."""

    program: str
    calls: list[CallResultDocument]
    kind: Literal["calls"] = "calls"
    version: Literal[1] = 1


#: A call as it was typed, and its result.
Row = tuple[str, Record]
STYLE = """\
body{font:15px/1.45 system-ui,sans-serif;margin:1.5rem auto;max-width:72rem;padding:0 1rem;color:#1c2733;background:#fff}
h1{font-size:1.25rem}input{font:inherit;width:100%;padding:.45rem;margin:.5rem 0 1rem;box-sizing:border-box}
details{border:1px solid #d5dce3;border-radius:6px;margin:.4rem 0;padding:.4rem .7rem}
summary{cursor:pointer;display:flex;gap:1rem;align-items:baseline}summary code{flex:1;font-weight:600;overflow-wrap:anywhere}
pre{margin:.5rem 0;padding:.5rem .7rem;background:#f4f6f8;overflow-x:auto;white-space:pre-wrap;overflow-wrap:anywhere}
.err{background:#fbeceb}.ok{color:#1f6f43}.no{color:#b3261e}.quiet{color:#5c6b7a;font-size:.9em}
@media(prefers-color-scheme:dark){body{background:#11171d;color:#dfe6ec}details{border-color:#33404c}pre{background:#1a232c}
.err{background:#3a2020}.ok{color:#6fcf97}.no{color:#ff8a7a}.quiet{color:#93a3b3}}
@media print{input{display:none}details{break-inside:avoid}}
"""
SCRIPT = """\
const box=document.getElementById("search");
box.addEventListener("input",()=>{for(const each of document.querySelectorAll("details"))
each.hidden=!each.textContent.toLowerCase().includes(box.value.toLowerCase())});
addEventListener("beforeprint",()=>document.querySelectorAll("details").forEach(each=>each.open=true));
"""


def end_of(record: Record) -> str:
    """Return how a call ended: its exit, its signal, or that it did not."""
    if record.verdict in ("timed-out", "not-started"):
        return record.verdict.replace("-", " ")
    return f"signal {record.signal}" if record.signal else f"exit {record.exit}"


def _text(record: Record, stream: str) -> str:
    return kept_bytes(record, stream).decode("utf-8", "backslashreplace")


def as_json(title: str, rows: Sequence[Row]) -> str:
    """Return calls as an array of objects."""
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
        for line, record in rows
    ]
    fields: dict[str, Any] = structs.to_builtins(CallsDocument(title, found))
    fields = {name: fields.pop(name) for name in ("kind", "version")} | fields
    return json.dumps(fields, indent=2, ensure_ascii=False) + "\n"


def as_csv(title: str, rows: Sequence[Row]) -> str:
    """Return calls as CSV with a header."""
    stream = io.StringIO()
    table = csv.writer(stream, lineterminator="\n")
    table.writerow(["call", "exit", "signal", "stdout", "stderr", "seconds"])
    for line, record in rows:
        cells = [
            line,
            record.exit,
            record.signal,
            _text(record, "stdout"),
            _text(record, "stderr"),
            record.seconds,
        ]
        # what a spreadsheet would take for a formula gets a quote in front
        table.writerow(
            [
                f"'{each}" if isinstance(each, str) and each[:1] in "=+-@\t\r" and each else each
                for each in cells
            ]
        )
    return stream.getvalue()


def as_markdown(title: str, rows: Sequence[Row]) -> str:
    """Return calls as blocks, each foldable."""
    parts = [f"### {len(rows)} calls of `{title}`\n"]
    for line, record in rows:
        output = escape_lines(_text(record, "stdout") + _text(record, "stderr")).rstrip("\n")
        fence = "`" * max(
            3, 1 + max((len(run) for run in output.split("\n") if set(run) == {"`"}), default=0)
        )
        body = f"{fence}text\n{output}\n{fence}" if output else "prints nothing"
        shown = html.escape(line) or "(no words)"
        parts.append(
            f"<details><summary><code>{shown}</code> {end_of(record)}</summary>\n\n{body}\n\n</details>\n"
        )
    return "\n".join(parts)


def as_html(title: str, rows: Sequence[Row]) -> str:
    """Return calls as one page that asks for nothing else: folded, searchable, printable."""
    parts = []
    for number, (line, record) in enumerate(rows, 1):
        end = end_of(record)
        streams = "".join(
            f'<pre class="{"err" if stream == "stderr" else "out"}">{html.escape(escape_lines(text))}</pre>'
            for stream in ("stdout", "stderr")
            if (text := _text(record, stream))
        )
        files = ", ".join(f"{name} {change.state}" for name, change in record.files.items())
        about = f'<p class="quiet">files: {html.escape(escape_lines(files))}</p>' if files else ""
        parts.append(
            f'<details id="c{number}" open><summary><a class="quiet" href="#c{number}">{number}</a>'
            f"<code>{html.escape(line) or '(no words)'}</code>"
            f'<span class="{"ok" if record.exit == 0 else "no"}">{html.escape(end)}</span>'
            f'<span class="quiet">{record.seconds:.3f} s</span></summary>'
            f"{streams or '<p class=quiet>prints nothing</p>'}{about}</details>"
        )
    name = html.escape(title)
    # only our own script may run, whatever a program printed
    digest = base64.b64encode(hashlib.sha256(SCRIPT.encode()).digest()).decode()
    return (
        '<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><meta name="generator" content="Keen Matrix">'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'; "
        f"script-src 'sha256-{digest}'\">"
        f"<title>{len(rows)} calls of {name}</title><style>{STYLE}</style></head><body>"
        f"<h1>{len(rows)} calls of <code>{name}</code></h1>"
        '<input id="search" type="search" placeholder="search words and output" aria-label="search words and output">'
        f"{''.join(parts)}<script>{SCRIPT}</script></body></html>\n"
    )


#: Name of a format → what makes it.
CALL_FORMATS: Mapping[str, Callable[[str, Sequence[Row]], str]] = {
    "json": as_json, "csv": as_csv, "markdown": as_markdown, "html": as_html,
}  # fmt: skip
