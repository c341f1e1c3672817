"""Holding warm launches to the truth: a sample of cases is launched both ways before a run trusts
them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple, TypeVar

from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.warm.keepers import WarmPlan
from keen_matrix.core.launch.workers.engine import Manner, WorkerPool
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.lines import decode_record
from keen_matrix.core.model.record import Record
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.structs import Struct
from keen_matrix.core.vectors.ids import shard_of

#: Cases that are checked at least.
LEAST = 5
#: How often a case that came otherwise warm is launched cold again, to see whether it varies by
#: itself: a set of two words comes out in the same order every other time.
MOST_AGAIN = 3
ASPECTS = ("verdict", "exit", "signal", "stdout", "stderr", "files")


Key = TypeVar("Key")


class WarmCheck(Struct, frozen=True):
    """The result of a check: how many cases agreed, or the first that did not and in what."""

    cases: int
    id: str = ""
    aspect: str = ""


def sample_of(cases: Iterable[Case], percent: float, known: Collection[str] = ()) -> Sequence[Case]:
    """Return about so many percent of the cases: those that are known, where they are too few some
    more by their ids alone, and the first ones where all that is less than five."""
    every = max(1, round(100 / percent))
    first, found, count = list[Case](), list[Case](), 0
    for case in cases:
        if case.id in known or shard_of(case.id, every) == 1:
            found.append(case)
        elif len(first) < LEAST:
            first.append(case)
        count += 1
    if len(known) >= LEAST and len(known) * 100 >= percent * count:
        return [case for case in found if case.id in known]
    return [*first[: max(0, LEAST - len(found))], *found]


class Launched(NamedTuple):
    """What is launched, and by whom."""

    pool: WorkerPool
    spec: Spec
    launch: ResolvedLaunch


def check_warm(
    what: Launched,
    warm: WarmPlan,
    cases: Iterable[Case],
    percent: float,
    known: Mapping[str, Record] = MappingProxyType({}),
) -> WarmCheck:
    """Launch a sample of cases warm and cold and return how they compare; what two cold launches
    differ in does not count. Those whose cold results are known are not launched cold once more."""
    sample = sample_of(cases, percent, known) if percent else []
    if not sample:
        return WarmCheck(0)
    cold = dict(known)
    fresh = [case for case in sample if case.id not in known]
    if fresh:
        cold |= _run(what, fresh, None)
    # Behind the cold ones: the keepers that are up now go on in the run.
    first = _run(what, sample, warm)
    cases_of = {case.id: case for case in sample}
    unlike = otherwise_warm(first, cold, lambda ids: _run(what, [cases_of[id] for id in ids], None))
    for id in unlike:
        return WarmCheck(len(sample), id, warm_difference(first[id], cold[id]))
    return WarmCheck(len(sample))


def otherwise_warm(
    warm: Mapping[Key, Record],
    cold: Mapping[Key, Record],
    again: Callable[[Sequence[Key]], Mapping[Key, Record]],
) -> Sequence[Key]:
    """Return what came otherwise when it was launched warm, and does not vary on its own: `again`
    launches some cold once more, and each time they come as they came cold."""
    unlike = [key for key, record in warm.items() if warm_difference(record, cold[key])]
    for _ in range(MOST_AGAIN):
        if not unlike:
            break
        came = again(unlike)
        unlike = [key for key in unlike if not warm_difference(came[key], cold[key])]
    return unlike


def _run(what: Launched, cases: Sequence[Case], warm: WarmPlan | None) -> dict[str, Record]:
    what.pool.plan(what.spec, what.launch, Manner(warm=warm))
    found = (decode_record(result.line) for result in what.pool.results(iter(cases)))
    return {fields.id: fields for fields in found}


def warm_difference(left: Record, right: Record) -> str:
    """Return the first aspect in which two records of a case differ, or nothing."""
    for name in ASPECTS:
        streams = name in ("stdout", "stderr")
        one, other = (
            each.compared_stream(name) if streams else getattr(each, name) for each in (left, right)
        )
        if one != other:
            return name
    return ""
