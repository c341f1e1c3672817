"""The run of a part of a spec: cases of which so many may run at a time."""

from __future__ import annotations

import contextlib
import itertools
import os
import time
from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from keen_matrix.core.expect.recording import groundless_record, skipped_record
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.warm.keepers import WarmPlan
from keen_matrix.core.launch.warm.warmcheck import Launched
from keen_matrix.core.launch.workers.engine import Manner
from keen_matrix.core.launch.workers.wire import ResultFrame, result_frame
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.identity import file_stem
from keen_matrix.core.model.record import VERDICTS
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.results.history import HistoryRecorder
from keen_matrix.core.results.tally import Tally
from keen_matrix.core.runs.selecting.selection import Selection
from keen_matrix.core.runs.selecting.supply import Supply, in_order
from keen_matrix.core.runs.starting.program import Started
from keen_matrix.core.runs.starting.warmth import (
    FEW,
    LOOKED_THROUGH,
    MOST_DOUBTED,
    Held,
    asked_warm,
    is_python,
    may_be_warm,
    may_find_out,
    trusted_warm_plan,
    worth_from,
)
from keen_matrix.core.runs.state import Budgeted, RunState


class SpecWork(NamedTuple):
    """What the run of one spec goes on with."""

    started: Started
    tally: Tally
    recorder: HistoryRecorder
    #: Of each matrix.
    digests: Mapping[str, str]

    @property
    def launch(self) -> ResolvedLaunch:
        """How the program is started."""
        return self.started.launch


class PartRun:
    """The run of some cases of a spec, while it goes, at most so many at a time."""

    def __init__(self, run: RunState, spec: Spec, work: SpecWork, most: int | None) -> None:
        self.run, self.spec, self.work, self.most = run, spec, work, most
        self.options, self.pool, self.journal, self.watch = (run.options, run.pool, run.journal, run.watch)
        self.names = {matrix.index: matrix.name for matrix in spec.matrices}
        #: The result of the first launches, which are cold where it is found out whether others can
        #: be warm.
        self._first: dict[str, ResultFrame] = {}

    def go(self, part: Selection) -> int | None:
        """Run the cases; return how many of them are left, None when they are too many to be
        counted."""
        warm = self._found_out() if self._asked_warm() is None else frozenset[int]()
        others = frozenset(self.names) - warm
        # With an order that was asked for, the order counts and not the speed.
        if warm and others and not self.options.ordering.is_own:
            # those that must be launched cold do not keep the others from being warm
            left = [
                self._in_order(part.of_matrices(warm), is_found_out=True),
                self._in_order(part.of_matrices(others), is_found_out=False),
            ]
            return None if None in left else sum(each or 0 for each in left)
        return self._in_order(part, is_found_out=bool(warm) and not others)

    def _in_order(self, part: Selection, *, is_found_out: bool) -> int | None:
        supply = Supply(in_order(self.spec, part, self.options.ordering), lambda: self.run.is_over)
        before = self.work.tally.total
        self._go(supply, part, is_found_out=is_found_out)
        if self.options.ordering.budget is not None and supply.order is not None:
            handed = self.work.tally.total - before
            left = len(supply.order.cases) - handed
            self.run.result.budgets.append(Budgeted(supply.order.reached(handed), left))
        return supply.left()

    def _go(self, supply: Supply, part: Selection, *, is_found_out: bool) -> None:
        asked, cases = self._asked_warm(), iter(supply)
        self.work.tally.is_cold_python = asked is None and is_python(self.work.launch)
        if not (asked or is_found_out):
            self._launch_cold(cases)
            return
        if is_found_out or self.run.unchanged is not None:
            # The first results come at once; what is found out about the rest takes as long as a
            # few of them, and is held to them.
            if not self.options.ordering.is_own and supply.ahead(FEW + 1) > FEW:
                supply.bring_forward(FEW, LOOKED_THROUGH)
            self._launch_cold(itertools.islice(cases, FEW), self._first)
        least = worth_from(self.work.tally.pace.usual) if is_found_out else 1
        # How many are left is seen by taking that many, since nothing counts them beforehand.
        worth = supply.ahead(least) == least
        plan = self._warm_plan(part, is_told=not is_found_out) if worth else None
        if plan is None:
            self._launch_cold(cases)
        else:
            self._launch_warm(cases, plan)

    def _asked_warm(self) -> bool | None:
        """Return whether the program is to be run warm; None when nobody has said."""
        return False if self.run.cluster is not None else asked_warm(self.options, self.spec)

    def _found_out(self) -> frozenset[int]:
        """Return the matrices of which it is found out whether they can be run warm."""
        finds_out = may_find_out(self.options)
        return may_be_warm(self.spec, self.work.launch) if finds_out else frozenset()

    def _warm_plan(self, part: Selection, *, is_told: bool) -> WarmPlan | None:
        """Return how the program is run warm; say so when it cannot be, though it is asked for."""
        asked = self.options.launching
        # a budget is for cases, not for checks
        few = asked.warm_check and self.options.ordering.budget is not None
        percent = 0.01 if few else asked.warm_check
        began = time.monotonic()
        found = trusted_warm_plan(
            Launched(self.pool, self.spec, self.work.launch),
            part,
            percent,
            tried=self.run.warm_plan,
            cold=self._first,
        )
        self.run.result.spent.warm_check += time.monotonic() - began
        if found.reason and is_told:
            self.watch.remarks(f"launched cold: {found.reason}")
        return found.plan

    def _launch_cold(self, cases: Iterable[Case], came: dict[str, ResultFrame] | None = None) -> None:
        self._plan(None)
        self._launch(cases, None, came)

    def _launch_warm(self, cases: Iterable[Case], plan: WarmPlan) -> None:
        def planned(warm: bool) -> None:
            self._plan(plan if warm else None)

        most = min(MOST_DOUBTED, self.options.ordering.stop_after or MOST_DOUBTED)
        held = Held(self.pool, planned, self.watch.remarks, most)
        planned(True)
        before = self.work.tally.total
        try:
            self._launch(cases, held)
        except KeyboardInterrupt:
            # They were computed, and are not to be lost with the run.
            for frame in held.withheld:
                self._came(frame)
            raise
        self.work.tally.warm += self.work.tally.total - before

    def _launch(
        self, cases: Iterable[Case], held: Held | None, came: dict[str, ResultFrame] | None = None
    ) -> None:
        """Launch cases, and write every result to the journal before the next is awaited; `came`
        takes them as well."""
        passed_over: list[ResultFrame] = []
        launched = _worth_a_launch(cases, self.names, passed_over)
        results = (held or self.run.cluster or self.pool).results(launched)
        # A generator that is left half way would keep its workers waiting for its next case.
        with contextlib.closing(results):
            for each in _joined(passed_over, results):
                self._came(each)
                if came is not None and VERDICTS[each.verdict] not in ("skipped", "blocked"):
                    came[each.id] = each

    def _came(self, result: ResultFrame) -> None:
        """Write a result, count it and tell it."""
        # First of all: whatever goes wrong after it, the result is on disk.
        offset = self.journal.write(result.line)
        failing = self.work.tally.add(result, offset)
        name, verdict = self.names[result.matrix], VERDICTS[result.verdict]
        self.work.recorder.add(result.id, name, verdict, result.seconds)
        self.watch.came(self.spec, result, offset)
        self.watch.finished(passed=failing is None)

    def _plan(self, warm: WarmPlan | None) -> None:
        """Tell the workers what they will run."""
        asked = self.options.launching
        directory = os.path.abspath(os.path.dirname(self.options.journal) or ".")
        keep = os.path.join(directory, "kept", file_stem(self.spec.path))
        if self.run.cluster is not None:
            self.run.cluster.plan(self.spec, self.work.launch.words, repeat=asked.repeat)
        self.pool.plan(
            self.spec,
            self.work.launch,
            Manner(
                repeat=asked.repeat,
                keep=keep if asked.keep_directories else "",
                warm=warm,
                most=self.most or self.pool.jobs,
            ),
            live=self.watch.printed if asked.live else None,
        )


def _worth_a_launch(
    cases: Iterable[Case], names: Mapping[int, str], passed_over: list[ResultFrame]
) -> Iterator[Case]:
    """Yield the cases that are worth a launch; the results of those that are skipped, and of those
    whose control did not work, are added to a list."""
    for case in cases:
        if case.said.skipped:
            passed_over.append(result_frame(case, skipped_record(case, names[case.matrix])))
        elif case.blocked is None:
            yield case
        else:
            passed_over.append(result_frame(case, groundless_record(case, names[case.matrix])))


def _joined(passed_over: list[ResultFrame], results: Iterable[ResultFrame]) -> Iterator[ResultFrame]:
    """Yield results as they come, those of cases that are not launched between them."""
    for each in results:
        yield from passed_over
        passed_over.clear()
        yield each
    yield from passed_over
