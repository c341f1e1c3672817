"""Annotations: workflow commands that make CI systems show a failure beside the rule that it
broke."""

from __future__ import annotations

import os
from typing import BinaryIO

from keen_matrix.core.errors import Problem
from keen_matrix.core.model.record import Record
from keen_matrix.core.results.summary import Cause
from keen_matrix.reports.report import Report
from keen_matrix.wording.cases import first_rule, message_of, reached_lines, title_of
from keen_matrix.wording.remarks import remark_line, remark_sentence
from keen_matrix.wording.safe import escape, escape_lines


def write(report: Report, stream: BinaryIO) -> None:
    """Write one command for each cause: the cases that failed for it are in one annotation."""
    for spec, fault in report.faults.items():
        stream.write(_spec_command(spec, "spec not run", fault))
    for each in report.missing:
        stream.write(_spec_command(each.spec, "no result", each.sentence))
    for spec, remark in report.remarks:
        level = "warning" if remark.kind == "hollow" else "notice"
        label, _ = remark_sentence(remark)
        stream.write(_spec_command(spec, label, remark_line(remark).removeprefix(f"{label}: "), level))
    for cause in report.summary.causes:
        stream.write((_command(cause.spec, cause) + "\n").encode("utf-8", "backslashreplace"))
    told: set[str] = set()
    for header, fields in report.cases():
        place = report.place_of(header, fields.id)
        if place and place not in told:
            told.add(place)
            stream.write(
                (_place_command(header.spec, place, fields) + "\n").encode("utf-8", "backslashreplace")
            )


def _spec_command(spec: str, title: str, text: str, level: str = "error") -> bytes:
    """Return the command that says at the head of a spec what of it was not run."""
    file = _property(os.path.normpath(spec))
    line = f"::{level} file={file},line=1,title={title}::{_data(text)}\n"
    return line.encode("utf-8", "backslashreplace")


def _command(spec: str, cause: Cause) -> str:
    rule = first_rule(cause.fields)
    line = rule.rpartition(":")[2] if rule else "1"
    more = f" (and {cause.count - 1} more with the same cause)" if cause.count > 1 else ""
    text = "\n".join(
        [f"{message_of(cause.fields)}{more}", f"  {title_of(cause.fields)}", *reached_lines(cause.fields)]
    )
    title = f"{cause.fields.matrix} {cause.fields.id[:6]}"
    level = "warning" if cause.fields.verdict == "unchecked" else "error"
    return f"::{level} file={_property(os.path.normpath(spec))},line={line},title={_property(title)}::{_data(text)}"


def _place_command(spec: str, place: str, fields: Record) -> str:
    """Return the command that shows a suspicious line of the program, beside the line itself."""
    file, _, line = place.rpartition(":")
    whole = os.path.normpath(os.path.join(os.path.dirname(spec), file))
    text = f"failed cases run this line, such as\n  {title_of(fields)}"
    return f"::warning file={_property(whole)},line={line},title=suspicious line::{_data(text)}"


def problem_command(problem: Problem) -> str:
    """Return the command that shows a problem of a spec at its place."""
    place = f"file={_property(os.path.normpath(problem.path))}"
    if problem.line:
        place += f",line={problem.line},col={problem.column}"
    text = problem.message + (f"; {problem.wanted}" if problem.expected else "")
    return f"::{problem.severity} {place},title=keen-matrix lint::{_data(text)}"


def _data(text: str) -> str:
    """Return a text as a command carries it; what a terminal would obey, or would show in another
    order, is written as an escape."""
    return escape_lines(text).replace("%", "%25").replace("\r", "%0D").replace("\n", "%0A")


def _property(text: str) -> str:
    return _data(escape(text)).replace(":", "%3A").replace(",", "%2C")
