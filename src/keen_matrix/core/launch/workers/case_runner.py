"""One place of a worker in which cases run, one after another, each from the making of its
surroundings to its finished record.

A runner is in one of these phases:

    FREE ── begin ──► LAUNCHING ──► RUNNING ──► LINGERING ──► SETTLED ── conclude ──► FREE
                       │  ▲  │                     ▲  │          │
       the system has  └──┘  └── cannot start ─────┼──┼──► RUNNING, its launch finished at once
       nothing to spare                            │  │          │
                 processes left behind may still end  │          └── next step or repetition: LAUNCHING
                                            none left, or ended by us
"""

from __future__ import annotations

import errno
import shlex
import time
from collections.abc import Callable
from enum import Enum, auto

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expect.recording import CaseRecorder
from keen_matrix.core.launch.directories import leftovers
from keen_matrix.core.launch.directories.place import CasePlace
from keen_matrix.core.launch.directories.surroundings import SurroundingsFault
from keen_matrix.core.launch.directories.working import CaseDirectories
from keen_matrix.core.launch.process.launch import Launch
from keen_matrix.core.launch.workers.case_run import CaseRun, Shared, StepLaunch, launch_reason
from keen_matrix.core.launch.workers.repetition import MOST_ROUNDS, Repetition, with_unsteady_launches
from keen_matrix.core.launch.workers.step_starts import StepStarts
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.record import PASSING, Record
from keen_matrix.core.model.signals import signal_name

RETRY_SECONDS = 0.1
#: Tries, a tenth of a second apart, while the system has no process or memory to spare.
RETRY_MOST = 300
#: What the system says while it has none.
SCARCE = (errno.EAGAIN, errno.EMFILE, errno.ENFILE, errno.ENOMEM)
#: Characters shown of a step that failed, and of what it said.
SHOWN_WORDS, SHOWN_SAID = 200, 400
#: Output in bytes that is checked in no time.
SMALL_OUTPUT = 1 << 14


class Phase(Enum):
    """Where a runner is; see the drawing above."""

    FREE = auto()
    LAUNCHING = auto()
    RUNNING = auto()
    LINGERING = auto()
    SETTLED = auto()


class CaseRunner:
    """One place in which a case can run: its directories and, while it runs, its launch."""

    def __init__(self, shared: Shared, directories: CaseDirectories) -> None:
        plan = shared.plan
        self.shared = shared
        self.place = CasePlace(directories, plan.spec.here)
        self.run: CaseRun | None = None
        #: The launch that runs, or whose end is seen to.
        self.launch: Launch | None = None
        self.phase = Phase.FREE
        #: When a phase that waits on its own is over.
        self._due = 0.0
        self._tries = 0
        self._repetition: Repetition | None = None
        self.starts = StepStarts(shared, self.place)

    def begin(self, case: Case) -> None:
        """Start a case. One that cannot be started has a finished launch at once."""
        # Of one launch nothing is compared, so nothing is kept to be compared.
        repeat = self.shared.plan.repeat
        self._repetition = Repetition(repeat) if repeat > 1 else None
        self._begin_run(case)

    def _begin_run(self, case: Case, round: int = 1) -> None:
        recorder = CaseRecorder(case, self.shared.names[case.matrix])
        self.run = CaseRun(case, recorder, time.time_ns(), round)
        self.place.begin(fresh=self.shared.fresh[case.matrix])
        self._begin_step(self.run, 0)

    def _begin_step(
        self, run: CaseRun, number: int, *, again: bool = False, before: int = 0, fault: str = ""
    ) -> None:
        """Start one launch of the case; `again` for one that was made before. In a fresh directory
        those that come before it are launched first, from `before` on; a `fault` of one of them is
        why it cannot be started."""
        shared, case = self.shared, run.case
        argv = case.more[number - 1] if number else case.argv
        is_before = before < len(case.before) and case.is_fresh(number) and not fault
        if is_before:
            argv = case.before[before]
        live = None
        if shared.live is not None:
            send, id = shared.live, case.id
            # The id is bound here: a launch knows nothing of cases.
            live = lambda stream, chunk, seconds: send(id, stream, chunk, seconds)  # noqa: E731
        self.launch = launch = Launch(shared.system, shared.poller, shared.plan.cap, live)
        context, cascade = shared.checker.begin(case, number), shared.checker.cascade(case, number)
        run.step = step = StepLaunch(number, argv, context, cascade, launch, shared.cold, again)
        step.before = before if is_before else -1
        self.phase, reason = Phase.LAUNCHING, ""
        try:
            # A line that could not be filled in has no words to launch; the case still gets its
            # verdict.
            if case.fault is not None or fault:
                raise SurroundingsFault(case.fault or fault)
            self.starts.prepare(run, step, goes_on=before > 0)
            self._launch_now(step)
        except (SurroundingsFault, ExpressionFault) as fault:
            reason = str(fault)
        except (OSError, ValueError) as error:
            reason = launch_reason(error, self.starts.command(case, number).words, argv)
        if reason:
            launch.fail(reason)
            self.phase, self._tries = Phase.RUNNING, 0

    def _launch_now(self, step: StepLaunch) -> None:
        """Start the program; while the system is out of processes or descriptors, come back a
        little later. Raises OSError or ValueError."""
        if step.start is None:
            return
        try:
            step.launch.start(step.start, step.argv, step.starter)
            self.phase, self._tries = Phase.RUNNING, 0
        except OSError as error:
            # A keeper that is gone, or stopped by a program that it forked before, is no verdict of
            # this case: it is started cold, and the next launch begins another keeper.
            if step.starter is not self.shared.cold:
                self.starts.close()
                step.starter = self.shared.cold
                self._launch_now(step)
                return
            # What is scarce now may be there in a moment, when another program has ended: a fork
            # bomb of one case must not be the verdict of the next.
            if error.errno not in SCARCE or self._tries >= RETRY_MOST:
                raise
            self._tries += 1
            self._due = time.monotonic() + RETRY_SECONDS

    @property
    def deadline(self) -> float:
        """When on_deadline wants to be called."""
        launch = self.launch
        if self.phase is not Phase.RUNNING or launch is None:
            return self._due
        return launch.machine.deadline

    def on_deadline(self, now: float) -> None:
        """Do what is due."""
        if self.run is None:
            return
        step = self.run.step
        if self.phase is Phase.LAUNCHING:
            try:
                self._launch_now(step)
            except (OSError, ValueError) as error:
                step.launch.fail(launch_reason(error, self.shared.plan.launch, step.argv))
                self.phase, self._tries = Phase.RUNNING, 0
        elif self.phase is Phase.RUNNING:
            step.launch.on_deadline(now)

    def has_settled(self, strays: Callable[[bool], list[int]]) -> bool:
        """See to processes left behind by a finished launch; False asks to come back when some may
        still end by themselves.

        `strays` finds those that run, or, given True, that may be this launch's.
        """
        launch = self.launch
        if launch is None or not self.shared.system.subreaper or not launch.pid:
            self.phase = Phase.SETTLED
            return True
        outcome = launch.outcome
        # A launch whose streams were kept open has had its grace time already.
        waited = self.phase is Phase.LINGERING or outcome.kept_open
        if found := strays(not waited):
            now = time.monotonic()
            # A child that is about to end on its own, as the last part of a shell's pipeline is, is
            # no leftover.
            if not waited:
                self.phase, self._due = Phase.LINGERING, now + leftovers.FIRST_WAIT
                return False
            if self.phase is Phase.LINGERING and self._due > now:
                return False
            outcome.leftovers = _end_strays(found, strays)
        self.phase = Phase.SETTLED
        return True

    def conclude(self) -> Record | None:
        """Check a settled launch; return the record of the case when it was the last one, else
        None, when the next step or repetition has begun."""
        run = self.run
        if run is None:
            return None
        case, step = run.case, run.step
        outcome = step.launch.outcome
        # The program, or the system, has ended the keeper: the next launch begins another.
        if step.launch.keeper_lost:
            self.starts.close()
        if step.before >= 0:
            self._go_on_after(run, step)
            return None
        relation = case.relation
        compared = relation is not None and "files" in relation.aspects
        is_first = step.number == 0 and not step.is_again
        self.place.look(outcome, run.began_ns, first=is_first, compared=compared)
        # Where another program fails, what comes after it would be judged in the wrong place.
        # Before the program itself it only prepares; after it, it checks what the program did.
        failed = step.number in case.others and _why_not_prepared(self.shared, case, step)
        if failed and not _has_started(case, step.number):
            outcome.not_started = outcome.not_started or failed
        launcher = relation.launcher(step.number) if relation is not None else ""
        if launcher and case.family != "elsewhere":
            launcher += f": {shlex.join(self.starts.command(case, step.number).words)}"
        judged = self.shared.judge(case, step)
        if step.is_again:
            return self._conclude_again(run, step)
        run.recorder.add(step.argv, outcome, judged, launcher)
        if step.number < len(case.more) and outcome.not_started is None and not failed:
            self._begin_step(run, step.number + 1)
            return None
        # A difference is the change's doing only where each of the launches, made once more, does
        # what it did before: a free disk, a clock or a counter moves on its own.
        if relation is not None and run.recorder.differs_from_control():
            self._begin_step(run, 0, again=True)
            return None
        return self._finish_run(run)

    def _go_on_after(self, run: CaseRun, step: StepLaunch) -> None:
        """Begin what follows a launch that only comes before: what it left is there as if it had
        been put in place."""
        fault = _why_failed(step)
        if not fault:
            self.place.take_as_there()
        self._begin_step(run, step.number, again=step.is_again, before=step.before + 1, fault=fault)

    def _conclude_again(self, run: CaseRun, step: StepLaunch) -> Record | None:
        """Conclude a launch that was made once more: what was compared counts where each did the
        same as before, and what varies on its own is left out; else all are made again, a few
        times."""
        recorder, outcome = run.recorder, step.launch.outcome
        if recorder.is_steady(step.number, outcome):
            if step.number < len(run.case.more):
                self._begin_step(run, step.number + 1, again=True)
                return None
            return self._finish_run(run)
        if recorder.is_alike_without_what_varies(step.number, outcome):
            return self._finish_run(run)
        if run.round < MOST_ROUNDS:
            self.place.leave()
            self._begin_run(run.case, run.round + 1)
            return None
        return self._finish_run(run, (recorder.seconds_of(step.number), outcome.seconds))

    def _finish_run(self, run: CaseRun, flaky: tuple[float, float] | None = None) -> Record | None:
        """Finish a case; `flaky` has the seconds of two launches of one vector that did not do
        the same."""
        case, plan = run.case, self.shared.plan
        record = run.recorder.record(leftovers.own_peak())
        if flaky is not None:
            record = with_unsteady_launches(record, flaky)
        # A directory that cases share is the user's own: it is neither kept apart nor removed.
        if plan.keep and record.verdict not in PASSING and self.shared.fresh[case.matrix]:
            record.kept = self.place.keep(plan.keep, case.id)
        left = self.place.leave()
        if left:
            remark = f"its directory could not be removed ({left})"
            record.remarks = [*record.remarks, remark]
        if self._repetition is not None:
            shown = self._repetition.add(record, run.recorder.essence())
            if shown is None:
                self._begin_run(case)
                return None
            record = shown
        self.run, self.launch, self.phase = None, None, Phase.FREE
        return record

    def close(self) -> None:
        """End the program that runs and the keeper: the run is over."""
        if self.launch is not None:
            self.launch.abort()
        self.starts.close()


def _has_started(case: Case, number: int) -> bool:
    """Tell whether the program itself is launched by a step before one."""
    return any(each not in case.others for each in range(number))


def _why_not_prepared(shared: Shared, case: Case, step: StepLaunch) -> str | None:
    """Return why a case cannot go on after a step that started another program and failed; None
    where it did not, or where the spec says what is expected of it."""
    outcome = step.launch.outcome
    if shared.steps[case.matrix][step.number].rules or outcome.exit == 0:
        return None
    return _why_failed(step)


def _why_failed(step: StepLaunch) -> str:
    """Return why a launch that prepares something failed; empty where it did not."""
    outcome = step.launch.outcome
    if outcome.exit == 0:
        return ""
    if outcome.not_started:
        return f"the step {shlex.join(step.argv)[:SHOWN_WORDS]} was not started: {outcome.not_started}"
    if outcome.exit is None and outcome.signal is None:
        end = "did not end in time"
    else:
        end = (
            f"exited with {outcome.exit}"
            if outcome.signal is None
            else f"was ended by signal {signal_name(outcome.signal)}"
        )
    said = (outcome.stderr or outcome.stdout).decode("utf-8", "replace").strip()
    return f"the step {shlex.join(step.argv)[:SHOWN_WORDS]} {end}" + (
        f": {said[-SHOWN_SAID:]}" if said else ""
    )


def _end_strays(found: list[int], strays: Callable[[bool], list[int]]) -> list[str]:
    """End processes that were left behind, and return their names in order."""
    names: list[str] = []
    for _ in range(leftovers.ROUNDS):
        # ending a process makes its children ours, and the next to be ended
        names += [leftovers.name_of(pid) for pid in found]
        leftovers.end(found)
        found = strays(False)
        if not found:
            break
    return sorted(names)


def checks_at_leisure(runner: CaseRunner) -> bool:
    """Whether the next program may run while this launch is checked: when it is the case's
    last and checked in no time.

    A slow check would make the next program seem slow, since its end would be noticed late.
    """
    run, shared = runner.run, runner.shared
    if run is None or not shared.spare or run.step.number < len(run.case.more) or run.step.before >= 0:
        return False
    if run.case.relation is not None:  # its control may have to be launched once more
        return False
    outcome = run.step.launch.outcome
    return (
        outcome.stdout_bytes + outcome.stderr_bytes < SMALL_OUTPUT
        and not outcome.not_started
        and run.step.cascade.quick
    )
