"""A case that is launched several times: because it was asked for, or because what it is compared
with must be seen to be the same twice."""

from __future__ import annotations

from keen_matrix.core.expect.cascade import worst_of
from keen_matrix.core.model.record import AspectRecord, Record, Repeats, Verdict
from keen_matrix.core.structs import Struct, field


class Repetition(Struct):
    """The launches of one case so far."""

    #: How many launches there are to be.
    wanted: int
    #: Of each, what must be the same in all of them.
    _essences: list[bytes] = field(default_factory=list)
    _seconds: list[float] = field(default_factory=list)
    _shown: Record | None = None

    def add(self, record: Record, essence: bytes) -> Record | None:
        """Take the record of a launch; return the one that stands for the case once all are done,
        else None.

        It is the first that failed, or the first of all, and flaky when the launches
        disagree. A case that cannot be launched is not tried again.
        """
        self._essences.append(essence)
        self._seconds.append(record.seconds)
        if self._shown is None or (self._shown.verdict == "passed" and record.verdict != "passed"):
            self._shown = record
        # What could not be launched once cannot be launched ten times.
        if len(self._essences) < self.wanted and record.verdict != "not-started":
            return None
        return self._steadied(self._shown)

    def _steadied(self, record: Record) -> Record:
        kinds = len(set(self._essences))
        record.repeats = Repeats(len(self._essences), kinds, self._seconds)
        if kinds > 1 and record.verdict != "known":
            _call_unsteady(record, worst_of([record.verdict, "flaky"]), kinds)
        return record


#: How often launches that are compared are made at most, until each of them does the same twice.
MOST_ROUNDS = 3


def with_unsteady_launches(record: Record, seconds: tuple[float, float]) -> Record:
    """Return the record of a case whose launches differ, and of which one differs from itself as
    well: no difference is earned then. `seconds` are those of its two launches."""
    # An expectation that is not met stands on its own, whatever the control does.
    others = {each.aspect for each in record.unmet} - {ALIKE}
    if record.verdict == "failed" and not others:
        record.repeats = Repeats(2, 2, list(seconds))
        record.aspects = [each for each in record.aspects if each.aspect != ALIKE]
        _call_unsteady(record, "flaky", 2)
    return record


#: The aspect that tells that launches of one case do the same.
ALIKE = "alike"


def _call_unsteady(record: Record, verdict: Verdict, kinds: int) -> None:
    record.verdict = verdict
    record.aspects.append(AspectRecord("repeats", False, form="steady", expected="1", actual=str(kinds)))
