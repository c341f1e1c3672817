"""What a run comes to, from its journal in one pass and bounded memory: counts, axis values,
causes, the slowest cases."""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from math import log2
from typing import TypeAlias

from keen_matrix.core.model.record import PASSING, Header, Record
from keen_matrix.core.results.axis_values import ABSENT, MOST_VALUES, shown_value
from keen_matrix.core.results.causes import cause_key, telling
from keen_matrix.core.results.reading import CaseRecord
from keen_matrix.core.signature.kinds import FAMILIES
from keen_matrix.core.structs import Struct, field

#: Different causes kept with a case each.
MOST_CAUSES = 200
SLOWEST = 10
#: Cases that passed, and cases that did not.
Counts: TypeAlias = list[int]


class Cause(Struct):
    """Cases that failed for one reason; `fields` is the record of the one with the shortest
    vector."""

    spec: str
    fields: Record
    #: Its place among the causes as they were met.
    number: int
    count: int = 0
    #: How many of them each matrix has.
    where: Counter[str] = field(default_factory=Counter)
    ids: list[str] = field(default_factory=list)


class MatrixSummary(Struct):
    """One matrix, or derived family, of a run."""

    spec: str
    name: str
    family: str
    counts: Counter[str] = field(default_factory=Counter)
    seconds: float = 0.0
    #: Axis → value → passed and not passed.
    axes: dict[str, dict[str, Counts]] = field(default_factory=dict)

    @property
    def total(self) -> int:
        """How many cases it has."""
        return self.counts.total()

    @property
    def passed(self) -> int:
        """How many of them passed."""
        return self.counts["passed"]

    @property
    def state(self) -> str:
        """The verdict whose sign stands for it: failed where anything fails a run, else what
        is beside the cases that passed."""
        if any(count for verdict, count in self.counts.items() if verdict not in PASSING):
            return "failed"
        return next((each for each in ("known", "skipped") if self.counts[each]), "passed")

    def is_of(self, cause: Cause) -> bool:
        """Tell whether the case that stands for a cause is of this matrix."""
        return (cause.spec, cause.fields.matrix) == (self.spec, self.name)

    def axes_by_gain(self) -> list[str]:
        """Return the axes by how well their values tell failing cases from passing ones, best
        first."""
        wide = {name: values for name, values in self.axes.items() if 1 < len(values) <= MOST_VALUES}
        return sorted(wide, key=lambda name: (-self._gain(wide[name]), len(wide[name]), name))

    def _gain(self, values: Mapping[str, Counts]) -> float:
        """Return the information, in bits, that an axis gives on whether a case holds (Shannon)."""
        total = sum(map(sum, values.values()))
        left = sum(sum(counts) / total * _entropy(counts) for counts in values.values())
        whole = [sum(counts[at] for counts in values.values()) for at in (0, 1)]
        return round(_entropy(whole) - left, 9)


def _entropy(counts: Counts) -> float:
    total = sum(counts)
    return -sum(each / total * log2(each / total) for each in counts if each)


class RunSummary(Struct):
    """A whole run."""

    headers: list[Header] = field(default_factory=list)
    matrices: dict[tuple[str, str], MatrixSummary] = field(default_factory=dict)
    by_cause: dict[tuple[object, ...], Cause] = field(default_factory=dict)
    #: Seconds, id, matrix, words; the slowest first.
    slowest: list[tuple[float, str, str, tuple[str, ...]]] = field(default_factory=list)
    #: Names of axes and columns, in order of appearance.
    value_names: dict[str, None] = field(default_factory=dict)

    @property
    def counts(self) -> Counter[str]:
        """How many cases came to each verdict."""
        return sum((each.counts for each in self.matrices.values()), Counter[str]())

    @property
    def seconds(self) -> float:
        """Seconds of all launches together."""
        return sum(each.seconds for each in self.matrices.values())

    @property
    def causes(self) -> list[Cause]:
        """The causes of everything that failed, spec by spec, the most telling first."""
        specs = {header.spec: number for number, header in enumerate(self.headers)}
        return sorted(
            self.by_cause.values(),
            key=lambda each: (specs[each.spec], *telling(each.fields)[:2], each.number),
        )

    def is_told_elsewhere(self, spec: str, fields: Record) -> bool:
        """Tell whether a case is blocked and another one stands for it: of all that have one
        control one is reported as a failure."""
        return fields.verdict == "blocked" and not any(
            cause.spec == spec and cause.fields.id == fields.id for cause in self.blocked
        )

    @property
    def blocked(self) -> list[Cause]:
        """The controls that did not work, each with the case that stands for it."""
        found = self.by_cause.values()
        return [each for each in found if each.fields.verdict == "blocked"]


#: Columns that say something of their row.
OF_A_ROW = ("note", "known")
#: Families whose vectors are told apart by their kind and what they are about, not by what was
#: given.
BY_KIND = frozenset(name for name, kind in FAMILIES.items() if kind.by_kind)


def axis_values_of(fields: Record) -> dict[str, str]:
    """Return what a case is in each axis; a derived vector's are its kind and what it is about, or
    what it was bound to."""
    if fields.family in BY_KIND:
        about = str(fields.detail or fields.culprit or ABSENT)
        about = about.rpartition(" for ")[2] if fields.kind == "unknown-option" else about.split(" ", 1)[0]
        return {"kind": fields.kind or ABSENT, "about": about.rstrip(",")}
    told = OF_A_ROW if fields.row else ()  # what a row says of itself tells its case from no other
    return {name: shown_value(value) for name, value in fields.values.items() if name not in told}


def summarize(cases: Iterable[CaseRecord]) -> RunSummary:
    """Return the summary of a run."""
    run = RunSummary()
    heap: list[tuple[float, str, str, tuple[str, ...]]] = []
    last: Header | None = None
    for header, fields in cases:
        if header is not last:
            last = header
            run.headers.append(header)
        spec = header.spec
        matrix = run.matrices.get((spec, fields.matrix))
        if matrix is None:
            matrix = MatrixSummary(spec, fields.matrix, fields.family or "")
            run.matrices[spec, fields.matrix] = matrix
        _count(run, matrix, fields)
        entry = (fields.seconds, fields.id, fields.matrix)
        # A heap of a few: of a million cases no list is made.
        if len(heap) < SLOWEST:
            heapq.heappush(heap, (*entry, fields.argv))
        # By id too where times are equal, so that the list does not depend on which ended first.
        elif entry > heap[0][:3]:
            heapq.heapreplace(heap, (*entry, fields.argv))
    orders = {header.spec: header.axes for header in run.headers}
    for matrix in run.matrices.values():
        _fill_absent(matrix)
        _put_in_order(matrix, orders[matrix.spec].get(matrix.name, {}))
    places = {
        (header.spec, name): (number, place)
        for number, header in enumerate(run.headers)
        for place, name in enumerate(header.matrices)
    }
    last_place = (len(run.headers), 0)
    run.matrices = dict(sorted(run.matrices.items(), key=lambda item: places.get(item[0], last_place)))
    run.slowest = sorted(heap, key=lambda each: each[:3], reverse=True)
    return run


def _fill_absent(matrix: MatrixSummary) -> None:
    """Count the cases that an axis does not stand in."""
    for values in matrix.axes.values():
        passed, failed = (sum(counts[at] for counts in values.values()) for at in (0, 1))
        # Cases in which the axis has no value are those that no value was counted for.
        left = [matrix.passed - passed, matrix.total - matrix.passed - failed]
        if any(left) and len(values) <= MOST_VALUES:
            values[ABSENT] = [old + new for old, new in zip(values.get(ABSENT, [0, 0]), left, strict=True)]


def _put_in_order(matrix: MatrixSummary, orders: Mapping[str, Sequence[str]]) -> None:
    """Put values in the order of the spec, others in that of the alphabet, whichever case finished
    first; absence last."""
    for name, values in matrix.axes.items():
        order = {value: number for number, value in enumerate(orders.get(name, ()))}
        told = sorted(values, key=lambda each: (each == ABSENT, order.get(each, len(order)), each))
        matrix.axes[name] = {value: values[value] for value in told}


def _count(run: RunSummary, matrix: MatrixSummary, fields: Record) -> None:
    passed = fields.verdict == "passed"
    passes = fields.verdict in PASSING
    matrix.counts[fields.verdict] += 1
    matrix.seconds += fields.seconds
    for name in fields.values:
        run.value_names.setdefault(name)
    for name, value in axis_values_of(fields).items() if fields.verdict != "skipped" else ():
        values = matrix.axes.setdefault(name, {})
        # An axis with more values than that is no heading of a grid; it is cut, and its cases stay
        # in the totals.
        if value in values or len(values) <= MOST_VALUES:
            values.setdefault(value, [0, 0])[0 if passed else 1] += 1
    if passes:
        return
    key = (matrix.spec, *cause_key(fields))
    cause = run.by_cause.get(key)
    if cause is None:
        if len(run.by_cause) >= MOST_CAUSES:
            return
        cause = run.by_cause[key] = Cause(matrix.spec, fields, len(run.by_cause))
    # One case stands for all of its cause: the one that shows it best, however many came before.
    elif telling(fields) < telling(cause.fields):
        cause.fields = fields
    cause.count += 1
    cause.where[matrix.name] += 1
    if len(cause.ids) < 12:
        cause.ids.append(fields.id)
