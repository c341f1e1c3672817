"""The cases of a run, in their order, for as long as it lasts."""

from __future__ import annotations

import itertools
import os
import time
from collections.abc import Callable, Iterable, Iterator

from keen_matrix.core.errors import RunFault
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.results.budget import Order, ordered
from keen_matrix.core.results.order import Known, failed_first, slow_last
from keen_matrix.core.runs.options import Ordering

#: Time that is taken to count what a run leaves; beyond, it is only told that there is more.
COUNT_SECONDS = 1.0


def in_order(spec: Spec, cases: Iterable[Case], asked: Ordering) -> Iterable[Case]:
    """Return cases in the order asked for; an Order when it is by gain, which knows how far it
    came.

    `cases` may be gone through several times.
    """
    if asked.by is None:
        return cases
    known = _known(spec)
    if asked.by == "new":
        return ordered(cases, known or {})
    if known is None:
        return cases
    return (failed_first if asked.by == "failed" else slow_last)(lambda: cases, known)


def _known(spec: Spec) -> Known | None:
    """Return what the history has of a spec's cases; None when it cannot be read."""
    from keen_matrix.core.results.history import DEFAULT_HISTORY, History

    try:
        with History(DEFAULT_HISTORY) as history, history.faults_told():
            return history.last_of(os.path.abspath(spec.path))
    except RunFault:
        return None


class Supply:
    """Hands out cases until the run is to stop."""

    def __init__(self, cases: Iterable[Case], is_over: Callable[[], bool]) -> None:
        self.order = cases if isinstance(cases, Order) else None
        self._cases = iter(cases)
        self._is_over = is_over
        self._rest: Iterator[Case] = iter(())

    def __iter__(self) -> Iterator[Case]:
        while (case := next(self._cases, None)) is not None:
            if self._is_over():
                # the one that was about to go is left, too
                self._rest = itertools.chain([case], self._cases)
                return
            yield case

    def bring_forward(self, count: int, among: int) -> None:
        """Hand out so many cases first that stand apart among as many of the next: those that come
        first are alike."""
        some = list(itertools.islice(self._cases, among))
        first = {number * len(some) // count for number in range(count)}
        spread = [case for number, case in enumerate(some) if number in first]
        rest = [case for number, case in enumerate(some) if number not in first]
        self._cases = itertools.chain(spread, rest, self._cases)

    def ahead(self, most: int) -> int:
        """Return how many cases are still to come, counted up to so many."""
        some = list(itertools.islice(self._cases, most))
        self._cases = itertools.chain(some, self._cases)
        return len(some)

    def left(self) -> int | None:
        """Return how many cases a run that was stopped has not launched; None when they are too
        many to be counted quickly."""
        count, until = 0, time.monotonic() + COUNT_SECONDS
        for _ in self._rest:
            count += 1
            if count % 1_000 == 0 and time.monotonic() > until:
                return None
        return count
