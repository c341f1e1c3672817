"""TAP, the Test Anything Protocol, version 14: a line a case, with a YAML block for what failed."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import BinaryIO

from keen_matrix.core.model.record import Record
from keen_matrix.reports.report import Report
from keen_matrix.wording.cases import PASSED_OVER, first_rule, message_of, reached_lines, title_of
from keen_matrix.wording.remarks import remark_line
from keen_matrix.wording.safe import escape, shell_line


def write(report: Report, stream: BinaryIO) -> None:
    """Write the report, case by case."""
    faults, missing = report.faults, report.missing
    total = report.summary.counts.total() + len(faults)
    stream.write(
        b"TAP version 14\n" + f"1..{total}{' # SKIP nothing was run' if not total else ''}\n".encode()
    )
    for number, (spec, fault) in enumerate(faults.items(), 1):
        text = "".join(f"    {line}\n" for line in map(escape, fault.splitlines()))
        block = (
            f'not ok {number} - {_plain(spec)}\n  ---\n  verdict: "not-started"\n  reason: |2\n{text}  ...\n'
        )
        stream.write(block.encode("utf-8", "backslashreplace"))
    for number, (header, fields) in enumerate(report.cases(), len(faults) + 1):
        is_told = report.summary.is_told_elsewhere(header.spec, fields)
        if is_told:
            lines = _skipped(number, fields, PASSED_OVER.format(shell_line(fields.control)))
        elif fields.verdict == "skipped":
            lines = _skipped(number, fields, fields.skipped)
        else:
            lines = _lines(number, fields)
        stream.write("".join(f"{line}\n" for line in lines).encode("utf-8", "backslashreplace"))
    for spec, remark in report.remarks:
        line = f"# {_plain(spec)}: {_plain(remark_line(remark))}\n"
        stream.write(line.encode("utf-8", "backslashreplace"))
    if missing:
        # A consumer takes the run for failed whatever stands above (TAP 14, bail out).
        text = "; ".join(_plain(each.sentence) for each in missing)
        stream.write(f"Bail out! {text}\n".encode("utf-8", "backslashreplace"))


def _plain(text: str) -> str:
    """Return a text that is a description and nothing else: one line, with no sign that TAP reads
    (TAP 14, escaping)."""
    return escape(text).replace("\\", "\\\\").replace("#", "\\#")


def _skipped(number: int, fields: Record, reason: str) -> Iterator[str]:
    """Yield the line of a case that was not launched (TAP 14, directives)."""
    title = f"{_plain(fields.matrix)}: {_plain(title_of(fields))}"[:500]
    yield f"ok {number} - {title} # SKIP {_plain(reason)}"


def _lines(number: int, fields: Record) -> Iterator[str]:
    verdict = fields.verdict
    title = f"{_plain(fields.matrix)}: {_plain(title_of(fields))}"[:500]
    # a consumer takes a test that is to do for no failure (TAP 14, directives)
    known = f" # TODO {_plain(fields.known)}" if verdict == "known" else ""
    yield f"{'ok' if verdict == 'passed' else 'not ok'} {number} - {title}{known}"
    if verdict == "passed":
        return
    yield "  ---"
    for key, value in (("id", fields.id), ("verdict", verdict), ("at", first_rule(fields))):
        if value:
            yield f"  {key}: {json.dumps(value)}"
    yield f"  seconds: {fields.seconds:.6f}"
    yield "  difference: |2"
    yield from (f"    {line}" for line in (message_of(fields), *reached_lines(fields)))
    yield "  ..."
