"""Reports from journals, in formats that other programs and people read.

Each module has one function `write(report, stream)`; a report is read from its journals once for
the summary and once more for the cases, so that a million of them take no more memory than a
thousand.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from importlib import import_module
from typing import BinaryIO

from keen_matrix.core.model.record import Record
from keen_matrix.core.results.reading import CaseRecord, cases_of, spec_faults
from keen_matrix.core.results.summary import RunSummary, summarize
from keen_matrix.core.structs import Struct
from keen_matrix.reports.formats import FORMATS


class Report(Struct):
    """What a report is made of."""

    paths: Sequence[str]
    name: str = ""
    """The file it goes to, for formats that depend on its ending."""
    may_run: bool = False
    """Whether the oracle files of specs may be run for it: in a run, which runs them anyway."""
    by: Sequence[str] = ()
    """Axes that grids are asked to show."""
    _summary: RunSummary | None = None

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
    """Write a report in a format. Raises RunFault when a journal cannot be read, OSError when the
    stream fails."""
    module, _, function = FORMATS[format].writer.partition(":")
    getattr(import_module(f"keen_matrix.reports.{module}"), function)(report, stream)
