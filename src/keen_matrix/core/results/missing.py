"""Results that a run should have and has not: it was interrupted, cut off, stopped early, or never
reached a spec. A case without a result is no good result, so every reader of a journal asks for
them."""

from __future__ import annotations

import os
from collections.abc import Sequence

from keen_matrix.core.model.record import Finished, Header
from keen_matrix.core.results.reading import notes_and_records
from keen_matrix.core.structs import Struct, field

RESUME = "keen-matrix run --resume goes on with it"


class Missing(Struct, frozen=True):
    """Cases of a spec that have no result, and why."""

    spec: str
    #: None where the run did not count its cases.
    count: int | None
    why: str
    journal: str

    @property
    def sentence(self) -> str:
        """What a report says: `7 cases of fare.matrix.toml have no result: the run was cut off`."""
        number = "some" if self.count is None else f"{self.count:,}"
        noun, verb = ("case", "has") if self.count == 1 else ("cases", "have")
        return f"{number} {noun} of {self.spec} {verb} no result: {self.why}"


class _RunOfSpec(Struct):
    """What a journal says of the run of one spec, while it is read."""

    header: Header
    records: int = 0
    end: Finished | None = None

    def missing(self, journal: str) -> Missing | None:
        """Return what it lacks; None where it is whole, or could not be run at all."""
        spec, end, cases = self.header.spec, self.end, self.header.cases
        if self.header.fault:
            return None
        # At least one: a run without its closing line did not end, whatever was counted.
        counted = None if cases is None else max(1, cases - self.records)
        if end is None:
            return Missing(spec, counted, f"the run was cut off; {RESUME}", journal)
        if end.interrupted:
            return Missing(spec, end.left or counted, f"the run was interrupted; {RESUME}", journal)
        if end.left != 0:
            return Missing(spec, end.left, f"the run stopped before its end; {RESUME}", journal)
        return None


class _JournalRun(Struct):
    """What a journal says of a whole run."""

    by_spec: dict[str, _RunOfSpec] = field(default_factory=dict)
    #: Specs that the run was to come to.
    named: dict[str, None] = field(default_factory=dict)


def missing_results(paths: Sequence[str]) -> list[Missing]:
    """Return the cases that have no result in some journals, spec by spec in the order of the
    journals.

    Memory does not grow with the number of cases. What is no journal has none: whoever reads its
    cases is reported."""
    found: list[Missing] = []
    for path in paths:
        run = _read(path)
        found += filter(None, (each.missing(path) for each in run.by_spec.values()))
        found += [
            Missing(spec, None, f"the run ended before it reached this spec; {RESUME}", path)
            for spec in run.named
            if os.path.normpath(spec) not in map(os.path.normpath, run.by_spec)
        ]
    return found


def _read(path: str) -> _JournalRun:
    run = _JournalRun()
    current: _RunOfSpec | None = None
    for line in notes_and_records(path):
        if isinstance(line, Header):
            run.named |= dict.fromkeys(line.specs)
            # A run that was resumed goes on under the header that is there, or under a new one.
            kept = run.by_spec.get(line.spec)
            current = run.by_spec[line.spec] = _RunOfSpec(line, kept.records if kept else 0)
        elif isinstance(line, Finished):
            if current is not None:
                current.end = line
        elif current is not None:
            current.records, current.end = current.records + 1, None
    return run
