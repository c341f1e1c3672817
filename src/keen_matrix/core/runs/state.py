"""One run while it goes, as the parts of it share it: what is asked for, what it uses, what it came
to."""

from __future__ import annotations

import time
from collections import Counter
from typing import TYPE_CHECKING

from keen_matrix.core.errors import KeenMatrixError
from keen_matrix.core.launch.workers.engine import WorkerPool
from keen_matrix.core.model.record import PASSING, Remark
from keen_matrix.core.results.budget import Reached
from keen_matrix.core.results.journal import Journal
from keen_matrix.core.results.tally import Tally, total_counts
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.options import RunOptions
from keen_matrix.core.runs.spent import Spent
from keen_matrix.core.runs.watching.unchanged import Unchanged
from keen_matrix.core.structs import Struct, field

if TYPE_CHECKING:
    from keen_matrix.core.launch.warm.keepers import WarmPlan
    from keen_matrix.core.runs.cluster import ClusterPool


class Budgeted(Struct):
    """What a spec's run reached within its budget."""

    reached: Reached
    #: Cases that were not run.
    left: int


class RunResult(Struct):
    """What a run came to."""

    #: One for each spec of which a case was run, or had been.
    tallies: list[Tally] = field(default_factory=list)
    budgets: list[Budgeted] = field(default_factory=list)
    #: Why specs could not be run.
    faults: list[KeenMatrixError] = field(default_factory=list)
    spent: Spent = field(default_factory=Spent)
    is_interrupted: bool = False
    #: Whether there was nothing to do: only what failed was asked for, and everything did.
    nothing_failed: bool = False
    #: Specs, then, that the last run did not have.
    not_in_last_run: list[str] = field(default_factory=list)
    #: Whether the part that was asked for has no case, though the specs have some.
    empty_shard: bool = False
    seconds: float = 0.0
    #: Path of a spec → what its run remarks.
    remarks: dict[str, list[Remark]] = field(default_factory=dict)

    @property
    def counts(self) -> Counter[str]:
        """How many cases came to each verdict."""
        return total_counts(self.tallies)

    @property
    def warm(self) -> int:
        """How many of them were launched warm."""
        return sum(each.warm for each in self.tallies)

    @property
    def taken(self) -> int:
        """How many of them were not launched, since nothing had changed."""
        return sum(each.taken for each in self.tallies)


class RunState:
    """One run, while it goes."""

    def __init__(self, options: RunOptions, pool: WorkerPool, journal: Journal, watch: RunWatch) -> None:
        self.options, self.pool, self.journal, self.watch = options, pool, journal, watch
        self.result = RunResult()
        self.started = time.monotonic()
        self.cluster: ClusterPool | None = None
        #: Specs that are to be run, until a header has named them.
        self.specs: list[str] = []
        #: How many cases the spec that is run has; None where they were not counted.
        self.planned: int | None = None
        #: What may be taken over from the run before; None where nothing is to be.
        self.unchanged: Unchanged | None = None
        #: How controls of the spec that is run came to the same warm; None where that was not
        #: tried.
        self.warm_plan: WarmPlan | None = None

    @property
    def is_over(self) -> bool:
        """Whether no further case is to be started."""
        asked = self.options.ordering
        # a budget is for cases, not for what is tried before them
        until = self.started + self.result.spent.controls + (asked.budget or 0.0)
        if asked.budget is not None and time.monotonic() >= until:
            return True
        if not asked.stop_after:
            return False
        counts = self.result.counts
        failing = sum(count for verdict, count in counts.items() if verdict not in PASSING)
        return failing >= asked.stop_after
