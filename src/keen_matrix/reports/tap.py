"""TAP, the Test Anything Protocol, version 14: a line a case, with a YAML block for what did not hold."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any, BinaryIO

from keen_matrix.reports import Report
from keen_matrix.reports.wording import first_rule, lines_of, title_of


def write(report: Report, stream: BinaryIO) -> None:
    """Write the report, case by case."""
    total = report.summary.counts.total()
    stream.write(b"TAP version 14\n" + f"1..{total}{' # SKIP nothing was run' if not total else ''}\n".encode())
    for number, (_, fields) in enumerate(report.cases(), 1):
        stream.write("".join(f"{line}\n" for line in _lines(number, fields)).encode("utf-8", "backslashreplace"))


def _lines(number: int, fields: Mapping[str, Any]) -> Iterator[str]:
    verdict = fields["verdict"]
    name = f"{fields['matrix']}: {title_of(fields)}"[:500].replace("\\", "\\\\").replace("#", "\\#")
    skip = " # SKIP no expectation looks at this vector" if verdict == "unchecked" else ""
    yield f"{'ok' if verdict in ('held', 'unchecked') else 'not ok'} {number} - {name}{skip}"
    if verdict in ("held", "unchecked"):
        return
    yield "  ---"
    for key, value in (("id", fields["id"]), ("verdict", verdict), ("at", first_rule(fields))):
        if value:
            yield f"  {key}: {json.dumps(value)}"
    yield f"  duration_ms: {fields['seconds'] * 1000:.3f}"
    yield "  difference: |2"
    yield from (f"    {line}" for line in lines_of(fields))
    yield "  ..."
