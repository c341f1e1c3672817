"""What a report is made of: the journals of a run, read once for the summary and once more for the
cases, so that a million of them take no more memory than a thousand. Each format has a module with
one function `write(report, stream)`."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from keen_matrix.core.insight.places.kept import KeptPlaces, kept_places
from keen_matrix.core.model.record import Header, Record
from keen_matrix.core.results.missing import Missing, missing_results
from keen_matrix.core.results.reading import CaseRecord, cases_of, spec_faults
from keen_matrix.core.results.remarks import SpecRemark, remarks_in
from keen_matrix.core.results.summary import RunSummary, summarize
from keen_matrix.core.structs import Struct, field


class Report(Struct):
    """What a report is made of."""

    paths: Sequence[str]
    #: The file it goes to, for formats that depend on its ending.
    name: str = ""
    #: Whether the oracle files of specs may be run for it: in a run, which runs them anyway.
    may_run: bool = False
    #: Axes that grids are asked to show.
    by: Sequence[str] = ()
    _summary: RunSummary | None = None
    _places: dict[str, KeptPlaces | None] = field(default_factory=dict)

    @property
    def summary(self) -> RunSummary:
        """The summary of the run. Raises RunFault when a journal cannot be read."""
        if self._summary is None:
            self._summary = summarize(self.cases())
        return self._summary

    def cases(self) -> Iterator[CaseRecord]:
        """Yield the cases, again each time."""
        return cases_of(self.paths)

    def place_of(self, header: Header, id: str) -> str:
        """Return the most suspicious line that a case runs, `fare.py:32` from the directory of the
        spec; empty where `places` was not asked of the run, or has found none."""
        if header.spec not in self._places:
            found = (kept_places(path, header.spec, header.started) for path in self.paths)
            self._places[header.spec] = next((each for each in found if each is not None), None)
        kept = self._places[header.spec]
        place = kept.by_case.get(id) if kept is not None else None
        return "" if place is None else f"{place.file}:{place.line}"

    @property
    def missing(self) -> list[Missing]:
        """The cases that have no result, spec by spec. Raises RunFault."""
        return missing_results(self.paths)

    @property
    def remarks(self) -> list[SpecRemark]:
        """What is worth a word though it is no failure, each with its spec."""
        return remarks_in(self.paths)

    @property
    def faults(self) -> dict[str, str]:
        """The specs that could not be run at all, each with the reason."""
        return spec_faults(self.paths)

    def cases_in(self, spec: str, matrix: str) -> Iterator[Record]:
        """Yield the records of one matrix."""
        return (fields for header, fields in cases_of(self.paths, matrix) if header.spec == spec)
