"""An order in which every beginning covers as much as possible, for runs that may have to stop
before the end.

First what failed last time, then what is new, then each kind of refusal once, then whatever adds
most pairs of values that were not yet run for each second that it is known to take (lazy greedy
choice: "Accelerated greedy algorithms for maximizing submodular set functions", 1978).
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterable, Iterator, Mapping
from itertools import combinations
from statistics import median
from typing import TypeAlias

from keen_matrix.core.expressions import as_text
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.quantities import parse_duration
from keen_matrix.core.model.record import PASSING
from keen_matrix.core.results.order import Known
from keen_matrix.core.structs import Struct, field

Pair: TypeAlias = tuple[tuple[int, str, str], tuple[int, str, str]]
#: What a case is taken to last when nothing like it has been run yet.
UNKNOWN_SECONDS = 0.05
#: Cases that are put in order; those of larger runs follow in the order of the spec.
MOST_ORDERED = 200_000


def parse_budget(text: str) -> float:
    """Return the seconds of a budget such as "30 s", "5 min" or "90". Raises ValueError."""
    seconds = parse_duration(text)
    if seconds <= 0:
        raise ValueError("expected a time above 0")
    return seconds


def pairs_in(case: Case) -> set[Pair]:
    """Return the pairs of values that a case contains; a derived vector's kind and what it is
    about count as values."""
    items = {
        name: "" if value is None else as_text(value)
        for name, value in case.values.items()
        if not isinstance(value, list)
    }
    if case.kind:
        items |= {"its kind": case.kind, "its culprit": case.culprit}
    named = [(case.matrix, name, value) for name, value in sorted(items.items())]
    return set(combinations(named, 2)) if len(named) > 1 else {(each, each) for each in named}


class Reached(Struct):
    """What a run has reached so far, of all that its cases could reach."""

    cases: int = 0
    of_cases: int = 0
    pairs: int = 0
    of_pairs: int = 0
    kinds: int = 0
    of_kinds: int = 0


class Order(Struct):
    """The order of a run's cases, and what its beginnings reach."""

    cases: list[Case]
    pairs: list[set[Pair]]
    rest: Callable[[], Iterator[Case]] | None = None
    _done: int = field(default=0)

    def __iter__(self) -> Iterator[Case]:
        for case in self.cases:
            self._done += 1
            yield case
        if self.rest is not None:
            for case in self.rest():
                self._done += 1
                yield case

    def reached(self, handed: int | None = None) -> Reached:
        """Return what the first cases reach (default: those that were handed out)."""
        count = self._done if handed is None else handed
        every: set[Pair] = set().union(*self.pairs) if self.pairs else set()
        some: set[Pair] = set().union(*self.pairs[:count]) if self.pairs[:count] else set()
        kinds = [_refusal(case) for case in self.cases]
        return Reached(
            min(count, len(self.cases)),
            len(self.cases),
            len(some),
            len(every),
            len(set(kinds[:count]) - {""}),
            len(set(kinds) - {""}),
        )


def _refusal(case: Case) -> str:
    return case.kind if case.standing is not None and case.standing.status == "refused" else ""


def ordered(cases: Iterable[Case], known: Known) -> Order:
    """Return cases in the order that covers most soonest; `known` are verdict and seconds of
    earlier runs, by id."""
    from itertools import islice

    supply = iter(cases)
    every = list(islice(supply, MOST_ORDERED))
    pairs = [pairs_in(case) for case in every]
    order = list(_choose(every, pairs, known))
    made = Order([every[at] for at in order], [pairs[at] for at in order])
    made.rest = lambda: supply
    return made


def _choose(cases: list[Case], pairs: list[set[Pair]], known: Known) -> Iterator[int]:
    usual = median([seconds for _, seconds in known.values()]) if known else UNKNOWN_SECONDS
    seconds = [max(known[case.id][1] if case.id in known else usual, 1e-3) for case in cases]
    covered: set[Pair] = set()
    taken = [False] * len(cases)
    kinds: set[str] = set()

    def take(at: int) -> int:
        taken[at] = True
        covered.update(pairs[at])
        kinds.add(_refusal(cases[at]))
        return at

    for at, case in enumerate(cases):
        if case.id in known and known[case.id][0] not in PASSING:
            yield take(at)
    if known:
        for at, case in enumerate(cases):
            if not taken[at] and case.id not in known:
                yield take(at)
    for at, case in enumerate(cases):
        if not taken[at] and _refusal(case) and _refusal(case) not in kinds:
            yield take(at)
    yield from (take(at) for at in _by_gain(pairs, seconds, taken, covered))


def _by_gain(
    pairs: list[set[Pair]], seconds: list[float], taken: list[bool], covered: set[Pair]
) -> Iterator[int]:
    """Yield what is left by gain a second. A gain only ever shrinks, so the top of the heap is
    looked at again, and no other."""
    heap = [(-len(pairs[at] - covered) / seconds[at], at) for at in range(len(pairs)) if not taken[at]]
    heapq.heapify(heap)
    while heap:
        promised, at = heapq.heappop(heap)
        gain = -len(pairs[at] - covered) / seconds[at]
        if heap and gain > heap[0][0] and gain != promised:
            heapq.heappush(heap, (gain, at))
            continue
        yield at


def shares(reached: Reached) -> Mapping[str, str]:
    """Return what was reached, in words."""
    percent = 100.0 * reached.pairs / reached.of_pairs if reached.of_pairs else 100.0
    found = {"pairs": f"{percent:.1f} % of {reached.of_pairs:,} pairs of values"}
    if reached.of_kinds:
        found["kinds"] = f"{reached.kinds} of {reached.of_kinds} kinds of refusal"
    return found
