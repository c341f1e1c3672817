"""JUnit XML: a suite a matrix. Passed cases pass; crashed, timed out and not started ones are
errors, all others failures. Of the cases that one control left blocked the first is a failure, the
others are skipped with the reason, as those are that a spec skips or knows to differ."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import BinaryIO
from xml.sax.saxutils import XMLGenerator
from xml.sax.xmlreader import AttributesImpl

from keen_matrix.core.model.record import BROKEN, Record
from keen_matrix.core.results.remarks import SpecRemark
from keen_matrix.core.results.summary import Cause, MatrixSummary
from keen_matrix.reports.report import Report
from keen_matrix.wording.cases import PASSED_OVER, message_of, output_of, passed_line, reached_lines, title_of
from keen_matrix.wording.remarks import remark_line, remark_sentence
from keen_matrix.wording.safe import shell_line

_ILLEGAL = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
#: Characters of a stream of a case that failed.
OUTPUT_KEPT = 4_000


def _properties(xml: XMLGenerator, remarks: Iterable[SpecRemark]) -> None:
    """Write what is remarked beside the counts of the whole: it is no failure, and green alone
    would hide it."""
    xml.startElement("properties", AttributesImpl({}))
    for spec, remark in remarks:
        label, _ = remark_sentence(remark)
        text = remark_line(remark).removeprefix(f"{label}: ")
        about = {"name": legal(f"{spec}: {label}"), "value": legal(text)}
        xml.startElement("property", AttributesImpl(about))
        xml.endElement("property")
    xml.endElement("properties")


def write(report: Report, stream: BinaryIO) -> None:
    """Write the report, case by case."""
    xml = XMLGenerator(stream, encoding="utf-8", short_empty_elements=True)
    summary, faults, missing = report.summary, report.faults, report.missing
    # A spec that could not be run is an error of the run, and so is a case without a result; left
    # out, a server would show all green.
    counts = summary.counts + Counter({"not-started": len(faults) + len(missing)})
    xml.startDocument()
    xml.startElement(
        "testsuites", _numbers(counts, summary.seconds, {"name": "keen-matrix"}, summary.blocked)
    )
    for spec, fault in faults.items():
        _error_of_spec(xml, spec, "the whole spec", "it could not be run", fault)
    for each in missing:
        _error_of_spec(xml, each.spec, "cases without a result", each.sentence, each.sentence)
    if remarks := report.remarks:
        _properties(xml, remarks)
    for matrix in summary.matrices.values():
        xml.ignorableWhitespace("\n")
        started = f"{summary.headers[0].started[:19]}Z" if summary.headers else ""
        name = f"{matrix.spec}: {matrix.name}"
        xml.startElement(
            "testsuite",
            _numbers(
                matrix.counts,
                matrix.seconds,
                {"name": name, "timestamp": started},
                [each for each in summary.blocked if matrix.is_of(each)],
            ),
        )
        for fields in report.cases_in(matrix.spec, matrix.name):
            _case(xml, matrix, fields, summary.is_told_elsewhere(matrix.spec, fields))
        xml.endElement("testsuite")
    xml.endElement("testsuites")
    xml.ignorableWhitespace("\n")
    xml.endDocument()


def _error_of_spec(xml: XMLGenerator, spec: str, name: str, message: str, text: str) -> None:
    xml.ignorableWhitespace("\n")
    xml.startElement("testsuite", _numbers(Counter({"not-started": 1}), 0.0, {"name": spec}))
    about = {"classname": legal(spec), "name": name, "time": "0.000"}
    xml.startElement("testcase", AttributesImpl(about))
    _element(xml, "error", message, "not-started", text)
    xml.endElement("testcase")
    xml.endElement("testsuite")


def _numbers(
    counts: Mapping[str, int], seconds: float, more: dict[str, str], told: Sequence[Cause] = ()
) -> AttributesImpl:
    errors = sum(counts[verdict] for verdict in BROKEN)
    failures = sum(counts[verdict] for verdict in ("failed", "flaky", "unchecked"))
    # Of all that stand on one control one is a failure: a hundred failures for one cause hide the
    # other causes.
    skipped = counts["blocked"] - len(told) + counts["known"] + counts["skipped"]
    failures += len(told)
    return AttributesImpl(
        {
            **{name: legal(text) for name, text in more.items()},
            "tests": str(sum(counts.values())),
            "failures": str(failures),
            "errors": str(errors),
            "skipped": str(skipped),
            "time": f"{seconds:.3f}",
        }
    )


def legal(text: str) -> str:
    """Return a text with what XML 1.0 cannot contain written as an escape."""
    return _ILLEGAL.sub(lambda match: f"\\x{ord(match[0]):02x}", text)


def _case(xml: XMLGenerator, matrix: MatrixSummary, fields: Record, is_told: bool) -> None:
    verdict = fields.verdict
    xml.ignorableWhitespace("\n  ")
    attributes = {
        "classname": legal(f"{matrix.spec}.{matrix.name}"),
        "name": legal(f"{fields.id[:6]} {title_of(fields)}"[:500]),
        "time": f"{fields.seconds:.3f}",
    }
    xml.startElement("testcase", AttributesImpl(attributes))
    passed = PASSED_OVER.format(shell_line(fields.control)) if is_told else passed_line(fields)
    if passed:
        xml.startElement("skipped", AttributesImpl({"message": legal(passed)}))
        xml.endElement("skipped")
    elif verdict != "passed":
        _element(
            xml,
            "error" if verdict in BROKEN else "failure",
            message_of(fields),
            verdict,
            "\n".join(reached_lines(fields)),
        )
        for name, tag in (("stdout", "system-out"), ("stderr", "system-err")):
            text = output_of(fields, name, OUTPUT_KEPT)
            if text:
                xml.startElement(tag, AttributesImpl({}))
                xml.characters(legal(text))
                xml.endElement(tag)
    xml.endElement("testcase")


def _element(xml: XMLGenerator, tag: str, message: str, kind: str = "", text: str = "") -> None:
    about = {"message": legal(message)} | ({"type": kind} if kind else {})
    xml.startElement(tag, AttributesImpl(about))
    xml.characters(legal(text))
    xml.endElement(tag)
