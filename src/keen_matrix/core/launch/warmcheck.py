"""Holding warm launches to the truth: a sample of cases is launched both ways before a run trusts
them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import islice

from keen_matrix.core.launch.engine import Manner, WorkerPool
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.warm import WarmPlan
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.lines import decode_record
from keen_matrix.core.model.record import Record
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.structs import Struct
from keen_matrix.core.vectors.ids import shard_of

LEAST = 5
"""Cases that are checked at least."""
ASPECTS = ("verdict", "exit", "signal", "stdout", "stderr", "files")


class WarmCheck(Struct, frozen=True):
    """What came of a check: how many cases agreed, or the first that did not and in what."""

    cases: int
    id: str = ""
    aspect: str = ""


def sample_of(cases: Iterable[Case], percent: float) -> Iterator[Case]:
    """Yield about so many percent of the cases, by id alone, and the first few in any case."""
    every = max(1, round(100 / percent)) if percent else 0
    for number, case in enumerate(cases):
        if number < LEAST or (every and shard_of(case.id, every) == 1):
            yield case


def check_warm(
    pool: WorkerPool,
    spec: Spec,
    launch: ResolvedLaunch,
    warm: WarmPlan,
    unfold: Callable[[], Iterable[Case]],
    percent: float,
) -> WarmCheck:
    """Launch a sample of cases warm and cold and return how they compare; what two cold launches
    differ in does not count."""
    cases = list(sample_of(unfold(), percent)) if percent else list(islice(unfold(), 0))
    if not cases:
        return WarmCheck(0)
    cold = _run(pool, spec, launch, cases, None)
    # Behind the cold ones: the keepers that are up now go on in the run.
    first = _run(pool, spec, launch, cases, warm)
    unlike = [case for case in cases if difference_of(first[case.id], cold[case.id])]
    if unlike:
        again = _run(pool, spec, launch, unlike, None)
        for case in unlike:
            aspect = difference_of(first[case.id], cold[case.id])
            if not difference_of(again[case.id], cold[case.id]):
                return WarmCheck(len(cases), case.id, aspect)
    return WarmCheck(len(cases))


def _run(
    pool: WorkerPool,
    spec: Spec,
    launch: ResolvedLaunch,
    cases: Sequence[Case],
    warm: WarmPlan | None,
) -> dict[str, Record]:
    pool.plan(spec, launch, Manner(warm=warm))
    found = (decode_record(result.line) for result in pool.results(iter(cases)))
    return {fields.id: fields for fields in found}


def difference_of(left: Record, right: Record) -> str:
    """Return the first aspect in which two records of a case differ, or nothing."""
    for name in ASPECTS:
        streams = name in ("stdout", "stderr")
        one, other = (
            each.compared_stream(name) if streams else getattr(each, name) for each in (left, right)
        )
        if one != other:
            return name
    return ""
