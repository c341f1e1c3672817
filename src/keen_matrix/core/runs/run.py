"""A run: specs are made ready, their cases launched and checked, and every result is in the journal
before the next is awaited. No terminal here; a RunWatch hears of it.
"""

from __future__ import annotations

import contextlib
import datetime
import itertools
import os
import time
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple

from keen_matrix.core import interruption
from keen_matrix.core.errors import KeenMatrixError, Misuse, OnceFault
from keen_matrix.core.expect.recording import groundless_record, skipped_record
from keen_matrix.core.launch.engine import WorkerPool
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.warm import WarmPlan
from keen_matrix.core.launch.wire import ResultFrame, result_frame
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.identity import CaseKey, file_stem
from keen_matrix.core.model.record import PASSING, VERDICTS, Finished, Header
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.results.budget import Reached
from keen_matrix.core.results.history import DEFAULT_HISTORY, HistoryRun, Recorder, program_digest
from keen_matrix.core.results.journal import Journal, header
from keen_matrix.core.results.tally import Tally, total_counts
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.options import RunOptions
from keen_matrix.core.runs.preparing import Ready, prepare, vector_count
from keen_matrix.core.runs.selection import (
    Recorded,
    Selection,
    count_recorded,
    failed_keys,
    nothing_selected,
    parts_by_jobs,
    selected,
    unknown_tag,
)
from keen_matrix.core.runs.sources import digests_of, too_large
from keen_matrix.core.runs.supply import Supply, in_order
from keen_matrix.core.runs.unchanged import Unchanged, matrix_digests, run_places
from keen_matrix.core.runs.warmth import trusted_warm_plan
from keen_matrix.core.structs import Struct, field, replace

if TYPE_CHECKING:
    from keen_matrix.core.runs.cluster import ClusterPool


FEW = 20
"""Cases that are launched cold where only what has changed is: a check would take as long."""


class Budgeted(Struct):
    """What a spec's run reached within its budget."""

    reached: Reached
    left: int
    """Cases that were not run."""


class RunResult(Struct):
    """What a run came to."""

    tallies: list[Tally] = field(default_factory=list)
    """One for each spec of which a case was run, or had been."""
    budgets: list[Budgeted] = field(default_factory=list)
    faults: list[KeenMatrixError] = field(default_factory=list)
    """Why specs could not be run."""
    is_interrupted: bool = False
    all_held_before: bool = False
    """Whether there was nothing to do: only what did not hold was asked for, and everything did."""
    seconds: float = 0.0

    @property
    def counts(self) -> Counter[str]:
        """How many cases came to each verdict."""
        return total_counts(self.tallies)

    @property
    def taken(self) -> int:
        """How many of them were not launched, since nothing had changed."""
        return sum(each.taken for each in self.tallies)


def run_specs(
    paths: Sequence[str],
    options: RunOptions,
    pool: WorkerPool,
    journal: Journal,
    watch: RunWatch,
) -> RunResult:
    """Run specs.

    An interruption ends the run and is told in the result. Raises Misuse when no case is asked for
    or options exclude each other, RunFault when the journal cannot be written or the workers fail.
    """
    run = Run(options, pool, journal, watch)
    if options.changed:
        run.unchanged = Unchanged(options.journal)
    failed = failed_keys(options.journal) if options.choice.failed else None
    if failed is not None and not failed:
        run.result.all_held_before = True
        return run.result
    ready, run.result.faults = prepare(paths, options, journal, watch)
    wrong = unknown_tag([spec for spec, _ in ready], options.choice.tags) if ready else ""
    if wrong:
        raise Misuse(wrong)
    if ready:
        with run.on_cluster():
            run.run_all(ready, failed)
    run.result.seconds = time.monotonic() - run.started
    return run.result


class Run:
    """One run, while it goes."""

    def __init__(
        self, options: RunOptions, pool: WorkerPool, journal: Journal, watch: RunWatch
    ) -> None:
        self.options, self.pool, self.journal, self.watch = options, pool, journal, watch
        self.result = RunResult()
        self.started = time.monotonic()
        self.grounding = 0.0
        """Seconds that were taken to try what derived vectors stand on."""
        self.cluster: ClusterPool | None = None
        self.unchanged: Unchanged | None = None
        """What may be taken over from the run before; None where nothing is to be."""

    @contextlib.contextmanager
    def on_cluster(self) -> Iterator[None]:
        """Use the cluster that is asked for while the block lasts. Raises Misuse or RunFault."""
        asked = self.options.launching
        if asked.cluster is None:
            yield
            return
        for name, wanted in (
            ("keep-directories", asked.keep_directories),
            ("live", asked.live),
            ("warm", asked.warm),
        ):
            if wanted:
                raise Misuse(f"--{name} does not go with --cluster")
        from keen_matrix.core.runs.cluster import ClusterPool, client_of, close_client

        client = client_of(asked.cluster, asked.jobs)
        try:
            self.cluster = ClusterPool(client, shared=asked.cluster_shared)
            yield
            self.cluster.close()
        finally:
            close_client(client)

    def run_all(self, ready: Sequence[Ready], failed: frozenset[CaseKey] | None) -> None:
        """Run every spec, until the run is to stop. Raises Misuse when there is no case at all."""
        result = self.result
        try:
            for spec, launch in ready:
                if not self.is_over:
                    self._run_with_what_it_uses(spec, launch, failed)
                elif self.options.ordering.budget is not None:
                    left = vector_count(spec) or 1
                    result.budgets.append(Budgeted(Reached(of_cases=left), left))
        except KeyboardInterrupt:
            interruption.begin_ending()
            result.is_interrupted = True
            _write_finished(self.result, self.journal, interrupted=True)
        nothing = not (result.counts or result.is_interrupted or result.budgets or result.faults)
        if nothing:
            raise Misuse(nothing_selected([spec for spec, _ in ready], self.options.choice))

    def _run_with_what_it_uses(
        self, spec: Spec, launch: ResolvedLaunch, failed: frozenset[CaseKey] | None
    ) -> None:
        """Run a spec with what runs beside it; one that cannot be had is told, and the other specs
        are run."""
        if spec.program.once is None:
            SpecRun(self).run_spec(spec, launch, failed)
            return
        from keen_matrix.core.runs.once import used_by

        try:
            with used_by(spec, self.pool, self.watch.remarks):
                SpecRun(self).run_spec(spec, launch, failed)
        except OnceFault as fault:
            self.result.faults.append(fault)
            self.watch.refused(spec.path, fault)
            told = _header(self.options, spec, launch)
            told.fault = str(fault)
            self.journal.write_line(told)

    @property
    def is_over(self) -> bool:
        """Whether no further case is to be started."""
        asked = self.options.ordering
        # a budget is for cases, not for what is tried before them
        until = self.started + self.grounding + (asked.budget or 0.0)
        if asked.budget is not None and time.monotonic() >= until:
            return True
        if not asked.stop_after:
            return False
        counts = self.result.counts
        failing = sum(count for verdict, count in counts.items() if verdict not in PASSING)
        return failing >= asked.stop_after


class SpecRun:
    """The run of one spec, while it goes."""

    def __init__(self, run: Run) -> None:
        self.run, self.options, self.pool, self.journal = run, run.options, run.pool, run.journal
        self.watch, self.result, self.unchanged = run.watch, run.result, run.unchanged

    def run_spec(
        self, spec: Spec, launch: ResolvedLaunch, failed: frozenset[CaseKey] | None
    ) -> None:
        """Run a spec, as long as the run is not over; what comes is in the journal and the result."""
        places = run_places(spec, launch, self.options)
        if places.too_large and self.unchanged is not None:
            self.watch.remarks(too_large(places))
        sources = digests_of(places)
        digests = matrix_digests(spec, launch, self.options, sources)
        own = self._own_first(spec, failed)
        if not own:
            spec = self._grounded(spec, launch, failed, digests)
        tally = Tally(spec)
        recorded = Recorded(frozenset(), False)
        if self.options.resume:
            recorded = count_recorded(spec, tally, self.journal)
        chosen = selected(spec, self.options.choice, failed, recorded.ids)
        if not chosen.is_all and next(iter(chosen), None) is None:
            if recorded.ids:
                self.result.tallies.append(tally)
            return
        self.result.tallies.append(tally)
        if not recorded.is_open:
            told = _header(self.options, spec, launch)
            told.digests = digests
            self.journal.write_line(told)
        recorder = _recorder(
            self.options, spec, launch, part=not chosen.is_all or self.unchanged is not None
        )
        work = _Work(launch, tally, recorder, digests)
        try:
            left = self._run_chosen(spec, work, chosen.of_matrices(own) if own else chosen)
            if own:
                spec = self._grounded(spec, launch, failed, digests)
                tally.stand_on(spec)
                derived = {each.index for each in spec.matrices} - own
                chosen = selected(spec, self.options.choice, failed, recorded.ids)
                some = self._run_chosen(spec, work, chosen.of_matrices(derived))
                left = None if left is None or some is None else left + some
        finally:
            recorder.finish(tally.counts)
            if recorder.trouble:
                self.watch.remarks(recorder.trouble)
        _write_finished(self.result, self.journal, left=left)

    def _own_first(self, spec: Spec, failed: frozenset[CaseKey] | None) -> frozenset[int]:
        """Return the matrices that are run before it is tried what derived vectors stand on: those that
        are written out, where only what has changed is run, unless a derived vector did not hold."""
        if self.unchanged is None:
            return frozenset()
        own = frozenset(each.index for each in spec.matrices if not each.family)
        derived = {each.name for each in spec.matrices if each.family}
        if not derived or self.unchanged.has_failing(spec, derived):
            return frozenset()
        chosen = selected(spec, self.options.choice, failed, frozenset()).of_matrices(own)
        return frozenset() if next(iter(chosen), None) is None else own

    def _run_chosen(self, spec: Spec, work: _Work, chosen: Selection) -> int | None:
        """Run cases of a spec; return how many of them are left, None when they are too many to be
        counted."""
        self.watch.begins(spec, vector_count(spec) if chosen.is_all else None)
        left: int | None = 0
        try:
            rest = self._take_over(spec, work, chosen)
            for most, part in parts_by_jobs(spec, rest):
                if work.tally.taken and next(iter(part), None) is None:
                    continue
                some = self._run_part(spec, work, part, most)
                left = None if left is None or some is None else left + some
        finally:
            self.watch.ends(spec)
        return left

    def _run_part(self, spec: Spec, work: _Work, part: Selection, most: int | None) -> int | None:
        """Run cases, at most so many at a time; return how many of them are left, None when they are
        too many to be counted."""
        supply = Supply(in_order(spec, part, self.options.ordering), lambda: self.run.is_over)
        before = work.tally.total
        cases = iter(supply)
        warm = None
        if self._is_warm(spec):
            if self.unchanged is not None:
                # what was asked for just now is not to wait for a check that takes as long as a few cases
                self._plan(spec, work.launch, most, None)
                self._run_cases(spec, work, itertools.islice(cases, FEW))
            first = next(cases, None)
            if first is not None:
                cases = itertools.chain([first], cases)
                warm = self._warm_plan(spec, work.launch, part)
        self._plan(spec, work.launch, most, warm)
        self._run_cases(spec, work, cases)
        if self.options.ordering.budget is not None and supply.order is not None:
            handed = work.tally.total - before
            left = len(supply.order.cases) - handed
            self.result.budgets.append(Budgeted(supply.order.reached(handed), left))
        return supply.left()

    def _grounded(
        self,
        spec: Spec,
        launch: ResolvedLaunch,
        failed: frozenset[CaseKey] | None,
        digests: Mapping[str, str],
    ) -> Spec:
        """Return a spec whose derived vectors stand on accepted ones; what is kept of them is
        tried again, and found out anew when it has changed."""
        derived = tuple(each for each in spec.matrices if each.family not in ("", "help"))
        if not derived:
            return spec
        # how vectors are derived is not loaded for a spec that derives none
        from keen_matrix.core.results.kept_grounds import keep_grounds, load_grounds
        from keen_matrix.core.runs.experiments import Experiments
        from keen_matrix.core.runs.grounding import are_as_before, grounded, grounds_of

        journal = self.options.journal
        kept = load_grounds(journal, spec)
        known = replace(grounded(spec, kept), matrices=derived)
        chosen = selected(known, self.options.choice, failed, frozenset())
        if next(iter(chosen), None) is None:
            return spec
        unchanged = self.unchanged
        if kept is not None and unchanged is not None and unchanged.covers(spec, digests):
            return grounded(spec, kept)
        begun = time.monotonic()
        experiments = Experiments(spec, launch, self.pool, self.watch)
        controls = {case.control for case in chosen if case.control}
        try:
            if kept is None or not are_as_before(spec, kept, controls, experiments):
                kept = grounds_of(spec, experiments)
                if kept is not None:
                    keep_grounds(journal, spec, kept)
        finally:
            self.watch.grounding(None)
            self.run.grounding += time.monotonic() - begun
        return grounded(spec, kept)

    def _take_over(self, spec: Spec, work: _Work, chosen: Selection) -> Selection:
        """Write the results of cases for which nothing has changed since they held, and return the
        others."""
        if self.unchanged is None:
            return chosen
        taken: set[str] = set()
        for case in chosen:
            found = self.unchanged.result_of(spec, work.digests, case)
            if found is not None:
                offset = self.journal.write(found.line)
                work.tally.add(found, offset)
                taken.add(case.id)
                self.watch.came(spec, found, offset)
                self.watch.finished(held=True)
        work.tally.taken += len(taken)
        return chosen.without(taken)

    def _run_cases(self, spec: Spec, work: _Work, supply: Iterable[Case]) -> None:
        """Launch the cases, and write every result to the journal before the next is awaited."""
        names = {matrix.index: matrix.name for matrix in spec.matrices}
        passed_over: list[ResultFrame] = []
        launched = _worth_a_launch(supply, names, passed_over)
        with contextlib.closing((self.run.cluster or self.pool).results(launched)) as results:
            for each in _joined(passed_over, results):
                offset = self.journal.write(each.line)
                failing = work.tally.add(each, offset)
                work.recorder.add(each.id, names[each.matrix], VERDICTS[each.verdict], each.seconds)
                self.watch.came(spec, each, offset)
                self.watch.finished(held=failing is None)

    def _plan(
        self, spec: Spec, launch: ResolvedLaunch, most: int | None, warm: WarmPlan | None
    ) -> None:
        """Tell the workers what they will run, at most so much at a time."""
        asked = self.options.launching
        folder = os.path.abspath(os.path.dirname(self.options.journal) or ".")
        keep = os.path.join(folder, "kept", file_stem(spec.path))
        if self.run.cluster is not None:
            self.run.cluster.plan(spec, launch.words, repeat=asked.repeat)
        self.pool.plan(
            spec,
            launch,
            keep=keep if asked.keep_directories else "",
            repeat=asked.repeat,
            live=self.watch.printed if asked.live else None,
            warm=warm,
            most=most or self.pool.jobs,
        )

    def _is_warm(self, spec: Spec) -> bool:
        return (self.options.launching.warm or spec.program.warm) and self.run.cluster is None

    def _warm_plan(self, spec: Spec, launch: ResolvedLaunch, chosen: Selection) -> WarmPlan | None:
        """Return how the program is run warm; say so when it cannot be."""
        asked = self.options.launching
        # a budget is for cases, not for checks
        few = asked.warm_check and self.options.ordering.budget is not None
        percent = 0.01 if few else asked.warm_check
        found = trusted_warm_plan(self.pool, spec, launch, chosen, percent)
        if found.reason:
            self.watch.remarks(f"launched cold: {found.reason}")
        return found.plan


def _write_finished(
    result: RunResult, journal: Journal, *, interrupted: bool = False, left: int | None = 0
) -> None:
    """Note that a spec's run has ended, and how many of its cases are left (null: more than
    were counted)."""
    if result.tallies:
        counts = dict(result.tallies[-1].counts)
        finished = Finished(
            finished=_now(),
            counts=counts,
            interrupted=interrupted,
            left=0 if interrupted else left,
        )
        journal.write_line(finished)


class _Work(NamedTuple):
    """What the run of one spec goes on with."""

    launch: ResolvedLaunch
    tally: Tally
    recorder: Recorder
    digests: Mapping[str, str]
    """Of each matrix."""


def _header(options: RunOptions, spec: Spec, launch: ResolvedLaunch) -> Header:
    """Return the header of a spec's run, with what is asked for."""
    found, asked = header(spec, options.launching.jobs), options.adaptation
    found.launch = list(launch.words)
    found.launcher, found.program = asked.launcher or "", asked.program or ""
    found.seed, found.repeat = asked.seed, options.launching.repeat
    shard = options.choice.shard
    found.shard = "{}/{}".format(*shard) if shard else ""
    return found


def _recorder(options: RunOptions, spec: Spec, launch: ResolvedLaunch, *, part: bool) -> Recorder:
    run = HistoryRun(
        spec=os.path.abspath(spec.path),
        spec_digest=spec.digest,
        program=" ".join(launch.words),
        program_digest=program_digest(launch.words),
        jobs=options.launching.jobs,
        started=_now(),
        part=part,
        counts={},
        journal=os.path.abspath(options.journal),
    )
    return Recorder(DEFAULT_HISTORY, run)


def _worth_a_launch(
    cases: Iterable[Case], names: Mapping[int, str], passed_over: list[ResultFrame]
) -> Iterator[Case]:
    """Yield the cases that are worth a launch; the results of those that are skipped, and of those
    whose control did not work, are added to a list."""
    for case in cases:
        if case.said.skipped:
            passed_over.append(result_frame(case, skipped_record(case, names[case.matrix])))
        elif case.groundless is None:
            yield case
        else:
            passed_over.append(result_frame(case, groundless_record(case, names[case.matrix])))


def _joined(
    passed_over: list[ResultFrame], results: Iterable[ResultFrame]
) -> Iterator[ResultFrame]:
    """Yield results as they come, those of cases that are not launched between them."""
    for each in results:
        yield from passed_over
        passed_over.clear()
        yield each
    yield from passed_over


def _now() -> str:
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="milliseconds")
