"""The order in which cases are run, by what is known of them from before."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import TypeAlias

from keen_matrix.core.model.case import Case
from keen_matrix.core.model.record import PASSING

#: Id → last verdict and seconds.
Known: TypeAlias = Mapping[str, tuple[str, float]]
#: The part of the known cases, by time, that counts as slow.
SLOW_SHARE = 0.1


def failed_first(unfold: Callable[[], Iterable[Case]], known: Known) -> Iterator[Case]:
    """Yield the cases that failed last time, then the others; `unfold` is called twice, so
    nothing is kept."""
    failed = {id for id, (verdict, _) in known.items() if verdict not in PASSING}
    if failed:
        yield from (case for case in unfold() if case.id in failed)
    yield from (case for case in unfold() if case.id not in failed)


def slow_last(unfold: Callable[[], Iterable[Case]], known: Known) -> Iterator[Case]:
    """Yield the cases that are known to be slow last, the slowest at the very end."""
    times = sorted(seconds for _, seconds in known.values())
    limit = times[int(len(times) * (1 - SLOW_SHARE))] if times else 0.0
    slow = {id for id, (_, seconds) in known.items() if seconds >= limit}
    kept: list[Case] = []
    for case in unfold():
        if case.id in slow:
            kept.append(case)
        else:
            yield case
    yield from sorted(kept, key=lambda case: known[case.id][1])
