"""A run: specs are made ready, their cases launched and checked, and every result is in the journal
before the next is awaited. No terminal here; a RunWatch hears of it.
"""

from __future__ import annotations

import contextlib
import datetime
import os
import time
from collections.abc import Iterator, Mapping, Sequence, Set
from functools import partial

from keen_matrix.core import interruption
from keen_matrix.core.errors import Misuse, OnceFault, RunFault
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.workers.engine import WorkerPool
from keen_matrix.core.model.record import Finished, Header
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.results.budget import Reached
from keen_matrix.core.results.history import DEFAULT_HISTORY, HistoryRecorder, HistoryRun, program_digest
from keen_matrix.core.results.journal import Journal, header
from keen_matrix.core.results.remarks import run_remarks
from keen_matrix.core.results.tally import Tally
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.options import CaseChoice, RunOptions
from keen_matrix.core.runs.part import PartRun, SpecWork
from keen_matrix.core.runs.selecting.selection import (
    LastRun,
    Recorded,
    Selection,
    count_recorded,
    nothing_selected,
    parts_by_jobs,
    selected,
    unknown_tag,
)
from keen_matrix.core.runs.starting.preparing import Ready, prepare, vector_count
from keen_matrix.core.runs.starting.program import Started, started
from keen_matrix.core.runs.starting.warmth import asked_warm, may_find_out, unlike_vectors
from keen_matrix.core.runs.state import Budgeted, RunResult, RunState
from keen_matrix.core.runs.watching.sources import digests_of, too_large
from keen_matrix.core.runs.watching.unchanged import Unchanged, matrix_digests, run_places
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.structs import replace


def run_prepared(
    paths: Sequence[str], options: RunOptions, pool: WorkerPool, journal: Journal, watch: RunWatch
) -> RunResult:
    """Run specs.

    An interruption ends the run and is reported in the result. Raises Misuse when no case is asked
    for or options exclude each other, RunFault when the journal cannot be written or the workers
    fail."""
    run = Run(options, pool, journal, watch)
    if options.changed:
        run.unchanged = Unchanged(options.journal)
    failed = LastRun(options.journal) if options.choice.failed else None
    ready, run.result.faults, run.result.spent.build = prepare(paths, options, journal, watch)
    wrong = unknown_tag([spec for spec, _ in ready], options.choice.tags) if ready else ""
    if wrong:
        raise Misuse(wrong)
    if ready:
        if failed is not None:
            run.result.not_in_last_run = [each.path for each, _ in ready if not failed.had(each.path)]
            ready = [each for each in ready if failed.had(each.spec.path)]
        run.specs = [spec.path for spec, _ in ready]
        with run.on_cluster():
            run.run_all(ready, failed)
    if problem := journal.secure():
        watch.remarks(problem)
    run.result.seconds = time.monotonic() - run.started
    return run.result


class Run(RunState):
    """One run, while it goes."""

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
        from keen_matrix.core.runs.cluster import LOCAL, ClusterPool, client_of, close_client

        client = client_of(asked.cluster)
        try:
            own = self.pool if asked.cluster == LOCAL else None
            self.cluster = ClusterPool(client, shared=asked.cluster_shared, own=own)
            yield
            self.cluster.close()
        finally:
            close_client(client)

    def run_all(self, ready: Sequence[Ready], failed: LastRun | None) -> None:
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
            done = result.tallies[-1].total if result.tallies else 0
            open_cases = None if self.planned is None else max(1, self.planned - done)
            _write_finished(self.result, self.journal, interrupted=True, left=open_cases)
        if result.counts or result.is_interrupted or result.budgets or result.faults:
            return
        choice, specs = self.options.choice, [spec for spec, _ in ready]
        if choice.failed:
            result.nothing_failed = True
            return
        # Shards go by the ids of cases: that one of them is empty is no mistake of whoever asks for
        # it, and a merge must find that it was run.
        if choice.shard and _has_cases(specs, replace(choice, shard=None)):
            self.journal.settle()
            result.empty_shard = True
            return
        fault = Misuse if choice.is_chosen else RunFault
        raise fault(nothing_selected(specs, choice))

    def _run_with_what_it_uses(self, spec: Spec, launch: ResolvedLaunch, failed: LastRun | None) -> None:
        """Run a spec with what runs beside it; one that cannot be had is reported, and the other
        specs are run."""
        if spec.program.once is None:
            SpecRun(self).run_spec(spec, launch, failed)
            return
        from keen_matrix.core.runs.starting.once import used_by

        try:
            with used_by(spec, self.pool, self.watch.remarks):
                SpecRun(self).run_spec(spec, launch, failed)
        except OnceFault as fault:
            self.result.faults.append(fault)
            self.watch.refused(spec.path, fault)
            told = _header(self.options, spec, launch)
            told.fault = str(fault)
            self.journal.write_line(told)


def _has_cases(specs: Sequence[Spec], choice: CaseChoice) -> bool:
    return any(next(iter(selected(spec, choice, None, frozenset())), None) is not None for spec in specs)


class SpecRun:
    """The run of one spec, while it goes."""

    def __init__(self, run: Run) -> None:
        self.run, self.options, self.pool, self.journal = run, run.options, run.pool, run.journal
        self.watch, self.result, self.unchanged = run.watch, run.result, run.unchanged

    def run_spec(self, spec: Spec, launch: ResolvedLaunch, failed: LastRun | None) -> None:
        """Run a spec, as long as the run is not over; what comes is in the journal and the
        result."""
        places = run_places(spec, launch, self.options)
        if places.too_large and self.unchanged is not None:
            self.watch.remarks(too_large(places))
        sources = digests_of(places)
        digests = matrix_digests(spec, launch, self.options, sources)
        own = self._own_first(spec, failed)
        begun = self._started(spec, launch)
        if not own:
            spec = self._grounded(spec, begun.launch, failed, digests)
        tally = Tally(spec)
        nothing = Recorded(frozenset(), False)
        recorded = count_recorded(spec, tally, self.journal) if self.options.resume else nothing
        chosen = selected(spec, self.options.choice, failed, recorded.ids)
        has_none = not chosen.is_all and next(iter(chosen), None) is None
        self.run.planned = vector_count(spec) if self.options.choice.is_all and not own else None
        if not recorded.is_open:
            self._write_header(spec, launch, digests)
        if has_none:
            self._end_without_cases(tally, recorded)
            return
        self.result.tallies.append(tally)
        recorder = _recorder(self.options, spec, launch, part=not chosen.is_all or self.unchanged is not None)
        tally.started_through = begun.saves
        work = SpecWork(begun, tally, recorder, digests)
        try:
            left = self._run_chosen(spec, work, chosen.of_matrices(own) if own else chosen)
            if own:
                some = self._run_derived(spec, work, own, failed, recorded.ids)
                left = None if left is None or some is None else left + some
        finally:
            recorder.finish(tally.counts)
            if recorder.trouble:
                self.watch.remarks(recorder.trouble)
        is_whole = self.options.choice.is_all and not self.options.ordering.stop_after and left == 0
        _write_finished(self.result, self.journal, is_whole=is_whole, left=left)

    def _started(self, spec: Spec, launch: ResolvedLaunch) -> Started:
        """Return how the program is started; on a cluster each machine has launchers of its own."""
        is_asked = bool(spec.program.launch_through)
        if self.run.cluster is not None or not (is_asked or self.options.choice.is_all):
            return Started(launch)
        return started(spec, launch, self.watch)

    def _end_without_cases(self, tally: Tally, recorded: Recorded) -> None:
        """End the run of a spec of which no case is left to run, or was asked for."""
        if recorded.ids:
            self.result.tallies.append(tally)
            self.result.remarks[tally.spec.path] = run_remarks(tally, is_whole=False)
        # That it was asked for, and had no case, is said too, or it would be missing.
        if not recorded.is_closed:
            self.journal.write_line(Finished(finished=_now(), counts=dict(tally.counts)))

    def _write_header(self, spec: Spec, launch: ResolvedLaunch, digests: Mapping[str, str]) -> None:
        header = _header(self.options, spec, launch)
        header.digests, header.cases = dict(digests), self.run.planned
        # The specs of the run are named once, by its first header, where there are several.
        header.specs = self.run.specs if len(self.run.specs) > 1 else []
        self.run.specs = []
        self.journal.write_line(header)

    def _run_derived(
        self, spec: Spec, work: SpecWork, own: Set[int], failed: LastRun | None, recorded: frozenset[str]
    ) -> int | None:
        """Run the derived families after the matrices that somebody wrote; return what is left."""
        spec = self._grounded(spec, work.started.launch, failed, work.digests)
        work.tally.stand_on(spec)
        derived = {each.index for each in spec.matrices} - own
        chosen = selected(spec, self.options.choice, failed, recorded)
        return self._run_chosen(spec, work, chosen.of_matrices(derived))

    def _own_first(self, spec: Spec, failed: LastRun | None) -> frozenset[int]:
        """Return the matrices that are run before it is tried what derived vectors stand on: those
        that are written out, where only what has changed is run, unless a derived vector failed."""
        if self.unchanged is None:
            return frozenset()
        own = frozenset(each.index for each in spec.matrices if not each.family)
        derived = {each.name for each in spec.matrices if each.family}
        if not derived or self.unchanged.has_failing(spec, derived):
            return frozenset()
        chosen = selected(spec, self.options.choice, failed, frozenset()).of_matrices(own)
        return frozenset() if next(iter(chosen), None) is None else own

    def _run_chosen(self, spec: Spec, work: SpecWork, chosen: Selection) -> int | None:
        """Run cases of a spec; return how many of them are left, None when they are too many to be
        counted."""
        self.watch.begins(spec, vector_count(spec) if chosen.is_all else None)
        left: int | None = 0
        try:
            rest = self._take_over(spec, work, chosen)
            for most, part in parts_by_jobs(spec, rest):
                if work.tally.taken and next(iter(part), None) is None:
                    continue
                some = PartRun(self.run, spec, work, most).go(part)
                left = None if left is None or some is None else left + some
        finally:
            self.watch.ends(spec)
        return left

    def _grounded(
        self, spec: Spec, launch: ResolvedLaunch, failed: LastRun | None, digests: Mapping[str, str]
    ) -> Spec:
        """Return a spec whose derived vectors stand on accepted ones; what is kept of them is
        tried again, and found out again when it has changed."""
        self.run.warm_plan = None
        derived = tuple(each for each in spec.matrices if each.family not in ("", "help"))
        if not derived:
            return spec
        # how vectors are derived is not loaded for a spec that derives none
        from keen_matrix.core.experiments.ask import Experiments
        from keen_matrix.core.results.kept_grounds import keep_grounds, load_grounds
        from keen_matrix.core.runs.grounding.controls import are_as_before, grounded, grounds_of

        journal = self.options.journal
        kept = load_grounds(journal, spec)
        known = replace(grounded(spec, kept), matrices=derived)
        chosen = selected(known, self.options.choice, failed, frozenset())
        # of a whole run there is one for sure: families are not made for that
        is_all = kept is None and self.options.choice.is_all
        if not is_all and next(iter(chosen), None) is None:
            return spec
        unchanged = self.unchanged
        if kept is not None and unchanged is not None and unchanged.covers(spec, digests):
            return grounded(spec, kept)
        begun = time.monotonic()
        experiments = Experiments(spec, launch, self.pool, self.watch.grounding)
        asked = asked_warm(self.options, spec)
        warm = asked or (asked is None and may_find_out(self.options))
        unlike = partial(unlike_vectors, chosen) if warm and self.run.cluster is None else None
        try:
            if kept is None or not are_as_before(
                spec, kept, _controls_of(chosen), experiments, warm_with=unlike
            ):
                kept = grounds_of(spec, experiments, warm_with=unlike)
                if kept is not None:
                    keep_grounds(journal, spec, kept)
        finally:
            self.run.warm_plan = experiments.warm
            self.watch.grounding(None)
            self.result.spent.controls += time.monotonic() - begun
        return grounded(spec, kept)

    def _take_over(self, spec: Spec, work: SpecWork, chosen: Selection) -> Selection:
        """Write the results of cases for which nothing has changed since they passed, and return
        the others."""
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
                self.watch.finished(passed=True)
        work.tally.taken += len(taken)
        return chosen.without(taken)


def _controls_of(chosen: Selection) -> set[Words]:
    return {case.control for case in chosen if case.control}


def _write_finished(
    result: RunResult,
    journal: Journal,
    *,
    is_whole: bool = False,
    interrupted: bool = False,
    left: int | None = 0,
) -> None:
    """Note that a spec's run has ended, and how many of its cases have no result (null: they were
    not counted)."""
    if result.tallies:
        tally = result.tallies[-1]
        counts = dict(tally.counts)
        remarks = run_remarks(tally, is_whole=is_whole, is_interrupted=interrupted)
        result.remarks[tally.spec.path] = remarks
        journal.write_line(
            Finished(finished=_now(), counts=counts, interrupted=interrupted, remarks=remarks, left=left)
        )


def _header(options: RunOptions, spec: Spec, launch: ResolvedLaunch) -> Header:
    """Return the header of a spec's run, with what is asked for."""
    found, asked = header(spec, options.launching.jobs), options.adaptation
    found.launch = list(launch.words)
    found.launcher, found.program = asked.launcher or "", asked.program or ""
    found.seed, found.repeat = asked.seed, options.launching.repeat
    shard = options.choice.shard
    found.shard = "{}/{}".format(*shard) if shard else ""
    found.only, found.failed = options.choice.only, options.choice.failed
    found.tags, found.not_tags = options.choice.tags
    return found


def _recorder(options: RunOptions, spec: Spec, launch: ResolvedLaunch, *, part: bool) -> HistoryRecorder:
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
    return HistoryRecorder(DEFAULT_HISTORY, run)


def _now() -> str:
    return datetime.datetime.now(datetime.UTC).isoformat(timespec="milliseconds")
