"""Where the time of a run went, in parts that somebody can do something about."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, TypeAlias

from keen_matrix.core.launch.through import Through
from keen_matrix.core.results.tally import Tally
from keen_matrix.core.structs import Struct, replace

Kind: TypeAlias = Literal[
    "timed-out", "slowest", "launcher", "launches", "build", "controls", "combining", "warm-check"
]
#: Part of a run's time from which something is worth a word.
LEAST_PART = 0.1
#: How many times as long as the quickest case of its spec the slowest ones took.
SLOW = 5.0


class Share(Struct, frozen=True, kw_only=True):
    """A part of a run's time."""

    kind: Kind
    #: Of the run, not of one launch.
    seconds: float
    #: Launches that it is about.
    count: int = 0
    #: Seconds of one of them.
    each: float = 0.0
    ids: tuple[str, ...] = ()
    through: Through | None = None
    is_cold_python: bool = False


class Spent(Struct):
    """What a run was measured by while it went, in seconds."""

    build: float = 0.0
    #: Trying what derived vectors stand on.
    controls: float = 0.0
    warm_check: float = 0.0


def time_shares(
    tallies: Sequence[Tally], spent: Spent, combining: float, seconds: float, jobs: int
) -> list[Share]:
    """Return what took at least a tenth of a run, the largest part first."""
    found = [
        Share(kind="build", seconds=spent.build),
        Share(kind="controls", seconds=spent.controls),
        Share(kind="combining", seconds=combining),
        Share(kind="warm-check", seconds=spent.warm_check),
    ]
    launches = [each for tally in tallies for each in _of_launches(tally, jobs)]
    # How many of them went at a time is not known where matrices have limits of their own: together
    # they never took longer than what is left of the run.
    total = sum(each.seconds for each in launches)
    left = max(0.0, seconds - sum(each.seconds for each in found))
    if total > left:
        launches = [replace(each, seconds=each.seconds * left / total) for each in launches]
    found += launches
    parts = [each for each in found if each.seconds >= seconds * LEAST_PART]
    return sorted(parts, key=lambda each: -each.seconds)


def _of_launches(tally: Tally, jobs: int) -> list[Share]:
    """Return what the launches of one spec took: those that hung, the slowest, and the others, with
    what a launcher adds to each."""
    jobs = min(jobs, tally.spec.least_jobs or jobs)
    pace = tally.pace
    slow = [(took, id) for took, id in pace.slowest if took > SLOW * pace.quickest and took > 1.0]
    took = sum(each for each, _ in slow)
    rest = pace.ended - pace.hung - len(slow)
    through = tally.started_through
    wasted = through.seconds * (rest - tally.warm) if through is not None else 0.0
    wasted = min(wasted, pace.seconds - took)
    others = pace.seconds - took - wasted
    return [
        Share(kind="timed-out", seconds=pace.hung_seconds / jobs, count=pace.hung),
        Share(
            kind="slowest",
            # one alone is waited for by nobody else; several share the jobs
            seconds=max(took / jobs, max((each for each, _ in slow), default=0.0)),
            ids=tuple(id[:6] for _, id in slow),
        ),
        Share(kind="launcher", seconds=wasted / jobs, through=through),
        Share(
            kind="launches",
            seconds=others / jobs,
            count=rest,
            each=others / rest if rest else 0.0,
            is_cold_python=tally.is_cold_python and not tally.warm,
        ),
    ]
