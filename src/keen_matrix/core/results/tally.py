"""Counting a run as it goes: verdicts by matrix, and failures grouped by what went wrong. Memory
stays bounded."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable

from keen_matrix.core.expect.hollow import WorkSeen
from keen_matrix.core.launch.through import Through
from keen_matrix.core.launch.workers.wire import ResultFrame
from keen_matrix.core.model.lines import decode_record
from keen_matrix.core.model.record import PASSING, VERDICTS, Record
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.results.causes import cause_key, telling
from keen_matrix.core.structs import Struct, field

#: Groups told apart; a run with more different failures than that has one thing wrong, not five
#: thousand.
MOST_GROUPS = 5_000
#: Ids kept of each group, to be named beside the failure that is shown in full.
IDS_KEPT = 12


REMARK_CULPRIT = re.compile(r"(the message does not name) .*", re.DOTALL)
REMARK_IDS = 3


class Several(Struct):
    """Cases of which the same is reported: how many, and the first of them in the order of the
    spec, whatever the order in which they finished."""

    count: int = 0
    #: Sequence numbers and ids.
    first: list[tuple[int, str]] = field(default_factory=list)

    def add(self, sequence: int, id: str) -> None:
        """Count one more."""
        self.count += 1
        # By sequence, since cases end in another order in every run, and what is printed should
        # not.
        self.first = sorted([*self.first, (sequence, id)])[:REMARK_IDS]

    @property
    def ids(self) -> list[str]:
        """Their ids, as far as they are kept."""
        return [id for _, id in self.first]


class FailureGroup(Struct):
    """Cases that went wrong in the same way. The one with the shortest vector stands for all."""

    verdict: str
    matrix: int
    sequence: int
    offset: int
    length: int
    #: What precedes what; see causes.telling.
    order: tuple[int, bool, int, int]
    count: int = 0
    #: How many of them stand on it and were not launched.
    untried: int = 0
    #: How many of them each matrix has.
    where: Counter[int] = field(default_factory=Counter)
    #: Sequence number and id of the cases kept, the first one included.
    ids: list[tuple[int, str]] = field(default_factory=list)


MOST_SLOW = 3


class Pace:
    """How long cases took."""

    def __init__(self) -> None:
        self.ended, self.hung = 0, 0
        self.seconds, self.hung_seconds, self.quickest = 0.0, 0.0, 0.0
        #: Seconds and ids of the slowest that did not hang.
        self.slowest: list[tuple[float, str]] = []

    @property
    def usual(self) -> float:
        """The mean of those that ended by themselves; 0 of none."""
        return self.seconds / max(1, self.ended - self.hung)

    def add(self, result: ResultFrame, verdict: str) -> None:
        """Count a case that was launched."""
        seconds = result.seconds
        self.ended += 1
        if verdict == "timed-out":
            self.hung, self.hung_seconds = self.hung + 1, self.hung_seconds + seconds
            return
        self.seconds += seconds
        if seconds < self.quickest or not self.quickest:
            self.quickest = seconds
        if len(self.slowest) < MOST_SLOW or seconds > self.slowest[-1][0]:
            self.slowest = sorted([*self.slowest, (seconds, result.id)], reverse=True)[:MOST_SLOW]


class Tally:
    """The state of a run of one spec."""

    def __init__(self, spec: Spec) -> None:
        self.spec = spec
        self.by_matrix: dict[int, Counter[str]] = {matrix.index: Counter() for matrix in spec.matrices}
        self._groups: dict[tuple[object, ...], FailureGroup] = {}
        self._masks = _mask_origins(spec)
        #: Places of the masks that found something.
        self.used_masks: set[str] = set()
        #: What is worth a word though it is no failure.
        self.remarks: dict[str, Several] = {}
        #: Verdict (known or skipped) and reason → such cases.
        self.passed: dict[tuple[str, str], Several] = {}
        #: Cases that were not launched, since they passed before and nothing has changed.
        self.taken = 0
        self.pace = Pace()
        #: Cases that were launched warm.
        self.warm = 0
        #: Whether all were launched cold though the program might be run warm.
        self.is_cold_python = False
        #: What its launcher starts, where that is not started directly.
        self.started_through: Through | None = None
        #: What was seen of the program's work in cases that passed.
        self.evidence = WorkSeen(spec)
        self._families = {matrix.index: matrix.family for matrix in spec.matrices}
        #: Failures beyond MOST_GROUPS different ones.
        self.ungrouped = 0

    def stand_on(self, spec: Spec) -> None:
        """Go on with a spec of which more is known: what its derived vectors stand on."""
        self.spec, self._masks = spec, _mask_origins(spec)

    def add(self, result: ResultFrame, offset: int) -> Record | None:
        """Count a result whose line is at `offset` in the journal; return its record when it
        failed."""
        verdict = VERDICTS[result.verdict]
        self.by_matrix[result.matrix][verdict] += 1
        if result.seconds:
            self.pace.add(result, verdict)
        # Its line is not even decoded: of a million cases that pass, this is nearly all that is
        # done.
        looked_at = verdict == "passed" and self.evidence.wants(self._families[result.matrix])
        if verdict == "passed" and not result.noted and not looked_at:
            return None
        fields = decode_record(result.line)
        if looked_at:
            self.evidence.add(fields)
        self._remark(fields, result.sequence)
        # Records name masks by their number in the matrix; one mask of the whole spec is used if
        # any matrix used it.
        masks = self._masks[result.matrix]
        self.used_masks |= {masks[number] for number in fields.masked}
        if verdict in PASSING:
            self._pass(fields, result.sequence)
            return None
        self._group(fields, result, offset)
        return fields

    def _pass(self, fields: Record, sequence: int) -> None:
        """Take note of a case that is known to differ, or was skipped: both are reported with their
        reason."""
        reason = fields.known if fields.verdict == "known" else fields.skipped
        if fields.verdict == "passed":
            return
        self.passed.setdefault((fields.verdict, reason), Several()).add(sequence, fields.id)

    def _remark(self, fields: Record, sequence: int) -> None:
        for text in fields.remarks:
            kind = REMARK_CULPRIT.sub(r"\1 its culprit", text)
            self.remarks.setdefault(kind, Several()).add(sequence, fields.id)

    def add_record(self, fields: Record, matrix: int, offset: int, line: bytes) -> None:
        """Count a case that an earlier run has written to the journal."""
        number = VERDICTS.index(fields.verdict)
        noted = bool(fields.remarks or fields.masked)
        self.add(ResultFrame(offset, matrix, number, fields.seconds, noted, fields.id, line), offset)

    def _group(self, fields: Record, result: ResultFrame, offset: int) -> None:
        key, order = cause_key(fields), telling(fields)
        group = self._groups.get(key)
        if group is None:
            # Counted all the same; only that they are told apart ends here.
            if len(self._groups) >= MOST_GROUPS:
                self.ungrouped += 1
                return
            self._groups[key] = group = FailureGroup(
                fields.verdict, result.matrix, result.sequence, offset, len(result.line), order
            )
        group.count += 1
        group.untried += fields.verdict == "blocked"
        group.where[result.matrix] += 1
        group.ids.append((result.sequence, fields.id))
        if len(group.ids) > IDS_KEPT:
            # The last in the order of the spec goes, whichever finished last.
            group.ids.remove(max(group.ids))
        # The record itself is not kept: its place in the journal is, and what is shown is read from
        # there.
        if (order, result.sequence) < (group.order, group.sequence):
            group.matrix, group.sequence, group.order = result.matrix, result.sequence, order
            group.offset, group.length = offset, len(result.line)
            group.verdict = fields.verdict

    @property
    def aside(self) -> tuple[str, ...]:
        """The options that the spec sets aside, where derived cases were run, which go without
        them."""
        signature = self.spec.signature
        derived = any(each.family and self.by_matrix[each.index] for each in self.spec.matrices)
        return signature.aside if signature is not None and derived else ()

    @property
    def idle_masks(self) -> list[tuple[str, str]]:
        """Pattern and place of the masks of what was run that found nothing anywhere."""
        masks = {
            mask.origin: mask.pattern
            for matrix in self.spec.matrices
            if self.by_matrix[matrix.index]
            for mask in matrix.masks
        }
        return [
            (pattern, origin) for origin, pattern in masks.items() if origin and origin not in self.used_masks
        ]

    @property
    def groups(self) -> list[FailureGroup]:
        """The groups of failures, the most telling first, then in the order of the spec."""
        return sorted(self._groups.values(), key=lambda group: (*group.order[:2], group.sequence))

    @property
    def counts(self) -> Counter[str]:
        """How many cases came to each verdict."""
        return sum(self.by_matrix.values(), Counter[str]())

    @property
    def total(self) -> int:
        """How many cases are counted."""
        return self.counts.total()


def _mask_origins(spec: Spec) -> dict[int, list[str]]:
    return {each.index: [mask.origin for mask in each.masks] for each in spec.matrices}


def total_counts(tallies: Iterable[Tally]) -> Counter[str]:
    """Return the verdicts of several specs together."""
    return sum((tally.counts for tally in tallies), Counter[str]())
