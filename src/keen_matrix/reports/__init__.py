"""Reports from journals, in formats that other programs and people read.

Each module has one function `write(report, stream)`; a report is read from its journals once for the summary and once
more for the cases, so that a million of them take no more memory than a thousand.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from importlib import import_module
from typing import BinaryIO

from keen_matrix.core.model.record import Record
from keen_matrix.core.results.reading import CaseRecord, cases_of, spec_faults
from keen_matrix.core.results.summary import RunSummary, summarize

FORMATS = {
    "junit": "XML for CI servers: a suite a matrix",
    "tap": "Test Anything Protocol, version 14",
    "html": "one self-contained page",
    "markdown": "for a merge request",
    "csv": "a row a case, axis values as columns",
    "json": "a row a case, axis values as columns",
    "picture": "PNG or SVG, by the file's ending",
    "annotations": "workflow commands that point CI systems at rules",
}
"""Format → what it is for."""
MARKS: dict[str, bytes] = {
    "junit": rb'<\?xml[^>]*>\s*<testsuites name="keen-matrix"',
    "tap": rb"TAP version 14\n",
    "html": rb'(?s)<!DOCTYPE html>.{0,200}<meta name="generator" content="Keen Matrix">',
    "markdown": rb"### [^\n]* vectors?: ",
    "csv": rb"spec,id,matrix,family,",
    "json": rb'\[\s*(\{"spec":|\])',
    "picture": rb"(?s)(\x89PNG\r\n\x1a\n|<\?xml).{0,2000}Keen Matrix",
    "annotations": rb"::(error|warning) file=",
}
"""Format → how its reports begin: what begins otherwise is no earlier report, and is never replaced by one."""
MODULES = {"csv": "tables", "json": "tables", "picture": "pictures"}


@dataclass(slots=True)
class Report:
    """What a report is made of."""

    paths: Sequence[str]
    name: str = ""
    """The file it goes to, for formats that depend on its ending."""
    may_run: bool = False
    """Whether the oracle files of specs may be run for it: in a run, which runs them anyway."""
    by: Sequence[str] = ()
    """Axes that grids are asked to show."""
    _summary: RunSummary | None = field(default=None, repr=False)

    @property
    def summary(self) -> RunSummary:
        """The summary of the run. Raises RunFault when a journal cannot be read."""
        if self._summary is None:
            self._summary = summarize(self.cases())
        return self._summary

    def cases(self) -> Iterator[CaseRecord]:
        """Yield the cases, anew each time."""
        return cases_of(self.paths)

    @property
    def faults(self) -> dict[str, str]:
        """The specs that could not be run at all, each with the reason."""
        return spec_faults(self.paths)

    def cases_in(self, spec: str, matrix: str) -> Iterator[Record]:
        """Yield the records of one matrix."""
        return (fields for header, fields in cases_of(self.paths, matrix) if header.spec == spec)


def write_report(format: str, report: Report, stream: BinaryIO) -> None:
    """Write a report in a format. Raises RunFault when a journal cannot be read, OSError when the stream fails."""
    module = import_module(f"keen_matrix.reports.{MODULES.get(format, format)}")
    if format in ("csv", "json"):
        getattr(module, f"write_{format}")(report, stream)
    else:
        module.write(report, stream)
