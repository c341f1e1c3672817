"""A run from the command line: its specs, its journal, its output."""

from __future__ import annotations

import argparse
import contextlib
import datetime
import itertools
import os
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from keen_matrix.cli.report import axes_of, write_grids, write_to
from keen_matrix.cli.shared import nothing_matches, selector
from keen_matrix.cli.shown import shown_launch, surroundings_shown
from keen_matrix.cli.specs import adapted, build, refuse_too_many, try_expressions, vector_count
from keen_matrix.cli.statuses import (
    EXIT_BUDGET,
    EXIT_FAILED,
    EXIT_INTERRUPTED,
    EXIT_MISUSE,
    EXIT_NOT_RUN,
    EXIT_OK,
    worst_status,
)
from keen_matrix.core import interruption
from keen_matrix.core.errors import (
    ExpressionFault,
    KeenMatrixError,
    Misuse,
    NotationFault,
    RunFault,
    SpecFault,
)
from keen_matrix.core.launch.engine import WorkerPool, check_launchers, resolved_launch
from keen_matrix.core.model.identity import CaseKey, file_stem
from keen_matrix.core.model.record import VERDICTS, Finished, Header, Record
from keen_matrix.core.results.journal import FAULT_KEPT, Journal, bare_header, header
from keen_matrix.core.spec.kept import kept_spec
from keen_matrix.wording.counts import counted, duration
from keen_matrix.wording.safe import escape_lines

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.launch.engine import ResolvedLaunch
    from keen_matrix.core.launch.warm import WarmPlan
    from keen_matrix.core.launch.wire import LiveFrame
    from keen_matrix.core.launch.workers import Workers
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.model.spec import Spec
    from keen_matrix.core.results.budget import Order, Reached
    from keen_matrix.core.results.history import Recorder
    from keen_matrix.core.results.tally import FailureGroup, Tally
    from keen_matrix.core.runs.cluster import ClusterPool

GROUPS_SHOWN = 12
"""Different failures shown in full unless --all asks for all."""
COUNT_SECONDS = 1.0
"""Time that is taken to count what a run leaves; beyond, it is only told that there is more."""


def run_specs(
    options: argparse.Namespace, paths: Sequence[str], jobs: int, workers: Workers
) -> int:
    """Run specs with workers that have been started, and return the exit status."""
    from keen_matrix.cli.console.screen import Screen

    with (
        Journal(options.journal, keep=options.resume) as journal,
        WorkerPool(jobs, workers) as pool,
    ):
        session = Session(pool, Screen(sys.stdout, color=options.color), options, jobs)
        failed = failed_keys(options.journal) if options.failed else None
        if failed is not None and not failed:
            session.screen.line(
                ("everything held last time; there is nothing to run again", "good")
            )
            return EXIT_OK
        specs = session.ready(paths, journal)
        if not specs:
            return worst_status(session.statuses)
        with on_cluster(session, options, jobs):
            return session.run(specs, journal, failed)


@contextlib.contextmanager
def on_cluster(session: Session, options: argparse.Namespace, jobs: int) -> Iterator[None]:
    """Give a session the cluster that the command line asks for, while the block lasts. Raises
    Misuse or RunFault."""
    if options.cluster is None:
        yield
        return
    for name in ("keep-directories", "live", "warm"):
        if getattr(options, name.replace("-", "_")):
            raise Misuse(f"--{name} does not go with --cluster")
    from keen_matrix.core.runs.cluster import ClusterPool, client_of, close_client

    client = client_of(options.cluster, jobs)
    try:
        session.cluster = ClusterPool(client, shared=options.cluster_shared)
        yield
        session.cluster.close()
    finally:
        close_client(client)


def failed_keys(journal: str) -> set[CaseKey]:
    """Return the cases of a journal that did not hold. Raises RunFault."""
    from keen_matrix.core.results.reading import cases_of

    return {
        CaseKey.of(header.spec, fields.id)
        for header, fields in cases_of([journal])
        if fields.verdict != "held"
    }


class Session:
    """One call of the command: its specs, its journal, its output."""

    def __init__(
        self, pool: WorkerPool, screen: Screen, options: argparse.Namespace, jobs: int
    ) -> None:
        self.pool, self.screen, self.options, self.jobs = pool, screen, options, jobs
        self.tallies: list[Tally] = []
        self.started = time.monotonic()
        self.cluster: ClusterPool | None = None
        self.deadline = None if options.budget is None else self.started + options.budget
        self.order: Order | None = None
        self.budgets: list[tuple[Reached, int]] = []
        """What each spec's run reached within the budget, and how many of its cases were left."""
        self.statuses: list[int] = []
        """The statuses of specs that could not be run."""
        self.launches: dict[str, ResolvedLaunch] = {}
        self._rest: Iterator[Case] | None = None
        """What a run that was stopped has not launched."""

    # --- getting ready ---

    def ready(self, paths: Sequence[str], journal: Journal) -> list[Spec]:
        """Return the specs that can be run: read, built, their programs looked up. The others are
        told and end nothing."""
        found: list[Spec] = []
        for path in paths:
            try:
                spec = adapted(kept_spec(path), self.options)
                self._refuse_changed(spec)
                refuse_too_many(spec, self.options.limit)
                try_expressions(spec)
                if spec.program.build:
                    build(spec)
                self.launches[spec.path] = resolved_launch(spec)
                check_launchers(spec, self.launches[spec.path])
            except (SpecFault, Misuse, ExpressionFault, NotationFault, RunFault) as fault:
                self._tell_fault(path, fault, journal, alone=len(paths) == 1)
            else:
                found.append(spec)
        return found

    def _refuse_changed(self, spec: Spec) -> None:
        """Raise Misuse when a run is to go on with a spec that has changed since."""
        if not self.options.resume:
            return
        from keen_matrix.core.results.reading import headers_of

        for fields in headers_of(self.options.journal):
            if fields.spec == spec.path and fields.spec_digest not in ("", spec.digest):
                raise Misuse(
                    f"{spec.path} has changed since the run in {self.options.journal}; run it anew"
                )

    def _tell_fault(
        self, path: str, fault: KeenMatrixError, journal: Journal, *, alone: bool
    ) -> None:
        """Tell why a spec cannot be run, and note it in the journal, from which reports are made."""
        if isinstance(fault, SpecFault):
            from keen_matrix.cli.console.problems import print_problems
            from keen_matrix.core.spec.source import placed

            fault = SpecFault(list(map(placed, fault.problems)))
            print_problems(fault.problems, self.options)
        elif alone or str(fault).startswith(path):
            print(f"keen-matrix: {escape_lines(str(fault))}", file=sys.stderr)
        else:
            print(f"keen-matrix: {escape_lines(f'{path}: {fault}')}", file=sys.stderr)
        self.statuses.append(EXIT_NOT_RUN if isinstance(fault, RunFault) else EXIT_MISUSE)
        told = bare_header(path, self.jobs)
        told.fault = str(fault)[:FAULT_KEPT]
        journal.write_line(told)

    # --- running ---

    def run(self, specs: Sequence[Spec], journal: Journal, failed: set[CaseKey] | None) -> int:
        """Run every spec and report; return the exit status."""
        from keen_matrix.core.results.tally import total_counts

        interrupted = False
        try:
            for spec in specs:
                if not self._stopping():
                    self._run_spec(spec, journal, failed)
                elif self.deadline is not None:
                    from keen_matrix.core.results.budget import Reached

                    left = vector_count(spec) or 1
                    self.budgets.append((Reached(of_cases=left), left))
        except KeyboardInterrupt:
            interruption.begin_ending()
            interrupted = True
            self._write_finished(journal, interrupted=True)
        counts = total_counts(self.tallies)
        if not counts and not interrupted:
            if self.budgets:
                self.screen.line(("the budget was over before the first launch", "bad"))
                self.statuses.append(EXIT_BUDGET)
            elif not self.statuses:
                raise Misuse(self._nothing_selected(specs))
            return worst_status(self.statuses)
        self._report(journal, interrupted)
        if interrupted:
            self.statuses.append(EXIT_INTERRUPTED)
        elif counts and counts["unlaunched"] == counts.total():
            self.statuses.append(EXIT_NOT_RUN)
        elif counts["held"] != counts.total():
            self.statuses.append(EXIT_FAILED)
        elif any(left for _, left in self.budgets):
            self.statuses.append(EXIT_BUDGET)
        return worst_status(self.statuses)

    def _nothing_selected(self, specs: Sequence[Spec]) -> str:
        asked = [f"--only {each}" for each in self.options.only]
        asked += ["--failed"] if self.options.failed else []
        asked += ["--shard {}/{}".format(*self.options.shard)] if self.options.shard else []
        if not asked:
            return "the specs have no vectors"
        return nothing_matches(specs, asked, self.options.only)

    def _stopping(self) -> bool:
        from keen_matrix.core.results.tally import total_counts

        if self.deadline is not None and time.monotonic() >= self.deadline:
            return True
        if not self.options.stop_after:
            return False
        counts = total_counts(self.tallies)
        return bool(counts.total() - counts["held"] >= self.options.stop_after)

    def _run_spec(self, spec: Spec, journal: Journal, failed: set[CaseKey] | None) -> None:
        from keen_matrix.cli.console.progress import Progress
        from keen_matrix.core.results.tally import Tally
        from keen_matrix.core.vectors.unfold import unfold

        launch = self.launches[spec.path]
        tally = Tally(spec)
        done, goes_on = self._resume(spec, tally, journal)
        tests = [selector(self.options.only, spec), *self._other_tests(spec, failed)]
        selected = [test for test in tests if test is not None]
        if done:
            selected.append(lambda case: case.id not in done)
        cases: Iterator[Case] = unfold(spec)
        if selected:
            cases = (case for case in cases if all(test(case) for test in selected))
            first = next(cases, None)
            if first is None:
                if done:
                    self.tallies.append(tally)
                return
            cases = itertools.chain([first], cases)
        self.tallies.append(tally)
        if not goes_on:
            journal.write_line(self._header(spec, launch))
        keep = os.path.join(
            os.path.abspath(os.path.dirname(self.options.journal) or "."),
            "kept",
            file_stem(spec.path),
        )
        if self.cluster is not None:
            self.cluster.plan(spec, launch.words, repeat=self.options.repeat)
        self.pool.plan(
            spec, launch, keep=keep if self.options.keep_directories else "", repeat=self.options.repeat,
            live=self._show_live if self.options.live else None, warm=self._warm_plan(spec, launch, selected),
        )  # fmt: skip
        total = None if selected or done else vector_count(spec)
        cases = self._until_stopped(self._ordered(spec, cases, selected))
        recorder = self._recorder(spec, launch, part=bool(selected or done))
        names = {matrix.index: matrix.name for matrix in spec.matrices}
        handed = tally.total
        try:
            drawn = not self.options.live
            with Progress(
                total, enabled=drawn, color=self.screen.choice, jobs=self.jobs
            ) as progress:
                results = (self.cluster or self.pool).results(cases)
                with contextlib.closing(results):
                    for result in results:
                        failing = tally.add(result, journal.write(result.line))
                        recorder.add(
                            result.id,
                            names[result.matrix],
                            VERDICTS[result.verdict],
                            result.seconds,
                        )
                        progress.step(held=failing is None)
        finally:
            recorder.finish(tally.counts)
            if recorder.trouble:
                print(f"keen-matrix: {recorder.trouble}", file=sys.stderr)
        if self.options.budget is not None and self.order is not None:
            handed = tally.total - handed
            self.budgets.append((self.order.reached(handed), len(self.order.cases) - handed))
        self._write_finished(journal, left=self._left())

    def _header(self, spec: Spec, launch: ResolvedLaunch) -> Header:
        """Return the header of a spec's run, with what the command line asks for."""
        found, asked = header(spec, self.jobs), self.options
        found.launch = list(launch.words)
        found.launcher, found.program, found.seed = (
            asked.launcher or "",
            asked.program or "",
            asked.seed,
        )
        found.repeat = asked.repeat
        found.shard = "{}/{}".format(*asked.shard) if asked.shard else ""
        return found

    def _left(self) -> int | None:
        """Return how many cases a run that was stopped has not launched; None when they are too
        many to be counted quickly."""
        count, until = 0, time.monotonic() + COUNT_SECONDS
        for _ in self._rest or ():
            count += 1
            if count % 1_000 == 0 and time.monotonic() > until:
                return None
        self._rest = None
        return count

    def _warm_plan(
        self, spec: Spec, launch: ResolvedLaunch, selected: list[Callable[[Case], bool]]
    ) -> WarmPlan | None:
        """Return how the program is run warm, when that is asked for; say so when it cannot be."""
        if not (self.options.warm or spec.program.warm) or self.cluster is not None:
            return None
        few = (
            self.options.warm_check and self.options.budget is not None
        )  # a budget is for cases, not for checks

        def unfolded() -> Iterator[Case]:
            return (case for case in self._unfolded(spec) if all(test(case) for test in selected))

        plan, reason = trusted_warm_plan(
            self.pool, spec, launch, unfolded, 0.01 if few else self.options.warm_check
        )
        if reason:
            print(f"keen-matrix: launched cold: {reason}", file=sys.stderr)
        return plan

    def _recorder(self, spec: Spec, launch: ResolvedLaunch, *, part: bool) -> Recorder:
        from keen_matrix.core.results.history import DEFAULT_HISTORY, Recorder, Run, program_digest

        now = datetime.datetime.now(datetime.UTC).isoformat(timespec="milliseconds")
        run = Run(spec=os.path.abspath(spec.path), spec_digest=spec.digest, program=" ".join(launch.words), jobs=self.jobs,
                  program_digest=program_digest(launch.words), started=now, part=part, counts={},
                  journal=os.path.abspath(self.options.journal))  # fmt: skip
        return Recorder(DEFAULT_HISTORY, run)

    def _ordered(
        self, spec: Spec, cases: Iterator[Case], selected: list[Callable[[Case], bool]]
    ) -> Iterator[Case]:
        """Return the cases in the order asked for: those that failed last time first, those that
        are slow last."""
        if not (
            self.options.failed_first
            or self.options.slow_last
            or self.options.order
            or self.options.budget
        ):
            return cases
        from keen_matrix.core.results.history import DEFAULT_HISTORY, History
        from keen_matrix.core.results.order import failed_first, slow_last

        try:
            with History(DEFAULT_HISTORY) as history, history.faults_told():
                known = history.last_of(os.path.abspath(spec.path))
        except RunFault:
            if not (self.options.order or self.options.budget):
                return cases
            known = {}
        if self.options.order or self.options.budget:
            from keen_matrix.core.results.budget import ordered

            self.order = ordered(cases, known)
            return iter(self.order)

        def again() -> Iterator[Case]:
            return (case for case in self._unfolded(spec) if all(test(case) for test in selected))

        if self.options.failed_first:
            return failed_first(again, known)
        return slow_last(again, known)

    @staticmethod
    def _unfolded(spec: Spec) -> Iterator[Case]:
        from keen_matrix.core.vectors.unfold import unfold

        return unfold(spec)

    def _until_stopped(self, cases: Iterator[Case]) -> Iterator[Case]:
        """Yield cases until the run is to stop; what is left then, the one that was about to go
        included, stays in _rest."""
        if self.deadline is None and not self.options.stop_after:
            yield from cases
            return
        for case in cases:
            if self._stopping():
                self._rest = itertools.chain([case], cases)
                return
            yield case

    def _other_tests(
        self, spec: Spec, failed: set[CaseKey] | None
    ) -> Iterator[Callable[[Case], bool]]:
        if failed is not None:
            yield lambda case: CaseKey.of(spec.path, case.id) in failed
        if self.options.shard:
            from keen_matrix.core.vectors.ids import shard_of

            part, parts = self.options.shard
            yield lambda case: shard_of(case.id, parts) == part

    def _resume(self, spec: Spec, tally: Tally, journal: Journal) -> tuple[set[str], bool]:
        """Count the cases of a spec that the journal has a record of.

        Return their ids, and whether further records would stand under this spec's header.
        """
        done: set[str] = set()
        if not self.options.resume:
            return done, False
        by_name = {matrix.name: matrix.index for matrix in spec.matrices}
        current = False
        for offset, line, said in journal.lines():
            if isinstance(said, Header):
                current = said.spec == spec.path and not said.fault
            elif (
                current
                and isinstance(said, Record)
                and said.matrix in by_name
                and said.id not in done
            ):
                done.add(said.id)
                tally.add_record(said, by_name[said.matrix], offset, line)
        return done, current

    def _show_live(self, frame: LiveFrame) -> None:
        """Show some output as it came: whose it is, on which stream, how long after the start."""
        from keen_matrix.wording.safe import visible_line

        text = frame.text.decode("utf-8", "surrogateescape")
        style = "found" if frame.stream == "stderr" else "dim"
        for line in text.removesuffix("\n").split("\n"):
            self.screen.line(
                (frame.id[:6], "place"), " ", (f"{frame.stream} {duration(frame.seconds):>9} ", style),
                (f"{self.screen.sign('bar')} ", "dim"), visible_line(line[:2_000], self.screen.sign("space")),
            )  # fmt: skip
        self.screen.flush()

    def _write_finished(
        self, journal: Journal, *, interrupted: bool = False, left: int | None = 0
    ) -> None:
        """Note that a spec's run has ended, and how many of its cases are left (null: more than
        were counted)."""
        if self.tallies:
            finished = datetime.datetime.now(datetime.UTC).isoformat(timespec="milliseconds")
            counts = dict(self.tallies[-1].counts)
            journal.write_line(
                Finished(
                    finished=finished,
                    counts=counts,
                    interrupted=interrupted,
                    left=0 if interrupted else left,
                )
            )

    def _report(self, journal: Journal, interrupted: bool) -> None:
        from keen_matrix.cli.console.summary import summary_segments, write_legend, write_matrices
        from keen_matrix.core.results.tally import total_counts
        from keen_matrix.wording.safe import shell_line

        seconds = time.monotonic() - self.started
        for number, tally in enumerate(self.tallies):
            if number:
                self.screen.line()
            write_matrices(self.screen, tally, shell_line(shown_launch(tally.spec)))
        write_legend(
            self.screen, (each for tally in self.tallies for each in tally.by_matrix.values())
        )
        if not self.options.brief:
            shown = 0
            for tally in self.tallies:
                shown = self._write_failures(tally, journal, shown)
            for tally in self.tallies:
                self._write_remarks(tally)
        written = journal.is_in_place
        if (self.options.grid or self.options.by or self.options.report) and not written:
            print(
                f"keen-matrix: no reports: {self.options.journal} cannot be read again",
                file=sys.stderr,
            )
        if (self.options.grid or self.options.by) and written:
            from keen_matrix.reports import Report

            write_grids(self.screen, Report([self.options.journal], by=axes_of(self.options.by)))
        for format, file in self.options.report if written else ():
            from keen_matrix.reports import Report

            write_to(
                Report([self.options.journal], file, True, axes_of(self.options.by)), format, file
            )
        for reached, left in self.budgets:
            from keen_matrix.core.results.budget import shares

            text = f"{reached.cases:,} of {reached.of_cases:,} cases, {', '.join(shares(reached).values())}"
            self.screen.line()
            self.screen.line(("budget", "warn" if left else "good"), f"   {text}; ",
                             (f"{left:,} cases left" if left else "it sufficed", "warn" if left else "good"))  # fmt: skip
        counts = total_counts(self.tallies)
        self.screen.line()
        if interrupted:
            self.screen.line(
                ("interrupted: ", "bad"), "what finished is in ", (self.options.journal, "place")
            )
        self.screen.line(*summary_segments(counts, seconds, self.jobs))
        first = next((group for tally in self.tallies for group in tally.groups), None)
        if first is not None:
            words = ["keen-matrix", "run", "--only", min(first.ids)[1][:6]]
            if len(self.tallies) > 1:  # another spec may have the same matrix
                words[2:2] = [
                    next(tally.spec.path for tally in self.tallies if first in tally.groups)
                ]
            for name in ("launcher", "program", "seed"):
                if getattr(self.options, name) is not None:
                    words += [f"--{name}", str(getattr(self.options, name))]
            self.screen.line("again: ", (shell_line([*words, "--all"]), "strong"))

    def _write_remarks(self, tally: Tally) -> None:
        """Write what is worth a word though it is no failure."""
        for text, (count, ids) in tally.remarks.items():
            shown = " ".join(each[:6] for each in ids)
            self.screen.line()
            self.screen.line(
                ("remark", "warn"), f"   {counted(count, 'vector')}: {text}   ", (shown, "place")
            )
        whole = not (
            self.options.only
            or self.options.failed
            or self.options.shard
            or self.options.stop_after
        )
        for pattern, origin in tally.idle_masks if whole else ():
            self.screen.line()
            self.screen.line(
                ("remark", "warn"),
                f"   the mask {pattern} found nothing in the whole run   ",
                (origin, "dim"),
            )

    def _write_failures(self, tally: Tally, journal: Journal, shown: int) -> int:
        groups = tally.groups
        room = len(groups) if self.options.all else max(0, GROUPS_SHOWN - shown)
        for group in groups[:room]:
            self.screen.line()
            self._write_group(tally, group, journal)
        left = sum(group.count for group in groups[room:]) + tally.ungrouped
        if left:
            self.screen.line()
            rest = f"{left:,} further cases that did not hold, in {counted(len(groups[room:]), 'group')}, are not shown; "
            self.screen.line((rest, "dim"),
                             ("--all", "strong"), (" shows all", "dim"))  # fmt: skip
        return shown + len(groups[:room])

    def _write_group(self, tally: Tally, group: FailureGroup, journal: Journal) -> None:
        from keen_matrix.wording.aspects import failure_rows, repeat_line

        fields = journal.read(group.offset, group.length)
        matrix = next(each for each in tally.spec.matrices if each.index == group.matrix)
        line = repeat_line(
            shown_launch(tally.spec), fields, surroundings_shown(tally.spec, matrix, fields)
        )
        others = [each for _, each in sorted(group.ids) if each != fields.id]
        more = group.count - 1 - len(others)
        self.screen.rows(
            failure_rows(
                self.screen, fields, matrix.name, line, others, more, everything=self.options.all
            )
        )
        for number in fields.masked if self.options.all else ():
            mask = matrix.masks[number]
            self.screen.line(
                "  ", ("masked", "dim"), f"  {mask.pattern} as {mask.text}   ", (mask.origin, "dim")
            )


def trusted_warm_plan(
    pool: WorkerPool,
    spec: Spec,
    launch: ResolvedLaunch,
    unfold: Callable[[], Iterator[Case]],
    percent: float,
) -> tuple[WarmPlan | None, str]:
    """Return how a program is run warm, once a sample of its cases did the same both ways; or None
    and why not."""
    from keen_matrix.core.launch.environment import base_environment
    from keen_matrix.core.launch.warm import ColdOnly, imported_modules, warm_plan
    from keen_matrix.core.launch.warmcheck import check_warm

    try:
        plan = warm_plan(launch.file, launch.words)
        first = next(unfold(), None)
        environment = base_environment(spec.program.env_from_caller, os.environ)
        plan = replace(
            plan, modules=imported_modules(plan, first.argv if first else (), environment)
        )
        found = check_warm(pool, spec, launch, plan, unfold, percent)
    except ColdOnly as reason:
        return None, str(reason)
    if found.id:
        return None, f"the case {found.id[:6]} differs in {found.aspect} when it is launched warm"
    return plan, ""
