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
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from enum import Enum, auto

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expect.cascade import Judged
from keen_matrix.core.expect.checking import CaseChecker
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.recording import Recorder
from keen_matrix.core.launch import leftovers
from keen_matrix.core.launch.checks import CheckTimer
from keen_matrix.core.launch.directories import CaseDirectories
from keen_matrix.core.launch.launch import Launch
from keen_matrix.core.launch.place import CasePlace
from keen_matrix.core.launch.repetition import Repetition
from keen_matrix.core.launch.start import Command, Start
from keen_matrix.core.launch.starters import Cold, Starter, WarmStarts
from keen_matrix.core.launch.surroundings import (
    Filling,
    SurroundingsFault,
    environment_of,
    is_constant,
    start_of,
)
from keen_matrix.core.launch.system import Poller, System
from keen_matrix.core.launch.wire import Plan
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.record import Record
from keen_matrix.core.model.spec import Step

RETRY_SECONDS = 0.1
RETRY_MOST = 300
"""Tries, a tenth of a second apart, while the system has no process or memory to spare."""
SCARCE = (errno.EAGAIN, errno.EMFILE, errno.ENFILE, errno.ENOMEM)
"""What the system says while it has none."""
SMALL_OUTPUT = 1 << 14
"""Output in bytes that is checked in no time."""


class Phase(Enum):
    """Where a runner is; see the drawing above."""

    FREE = auto()
    LAUNCHING = auto()
    RUNNING = auto()
    LINGERING = auto()
    SETTLED = auto()


@dataclass(frozen=True, slots=True, kw_only=True)
class Shared:
    """What all runners of a worker share."""

    plan: Plan
    system: System
    poller: Poller
    cold: Cold
    checker: CaseChecker
    timer: CheckTimer
    steps: Mapping[int, tuple[Step, ...]]
    names: Mapping[int, str]
    """The steps and the name of each matrix, by its index."""
    alone: bool
    """Whether one program runs at a time: what is left behind is surely its own then."""
    spare: bool
    """Whether there are more runners than programs that may run: launches wait in them to be
    checked while others run."""
    live: Callable[[str, str, bytes, float], None] | None
    """What gets the output of a case as it comes: its id, the stream, a piece, seconds."""


@dataclass(slots=True)
class StepLaunch:
    """One launch of a case: what it stands in, and the launch itself."""

    number: int
    argv: tuple[str, ...]
    context: CheckContext
    launch: Launch
    starter: Starter
    start: Start | None = None


@dataclass(slots=True)
class CaseRun:
    """A case on its way."""

    case: Case
    recorder: Recorder
    began_ns: int
    """The time of day at which it began, as the times of files are (time.time_ns)."""
    step: StepLaunch = field(init=False)


class CaseRunner:
    """One place in which a case can run: its directories and, while it runs, its launch."""

    def __init__(self, shared: Shared, directories: CaseDirectories) -> None:
        plan = shared.plan
        self.shared = shared
        self.place = CasePlace(directories, plan.spec.here, fresh=plan.spec.program.fresh_directory)
        self.run: CaseRun | None = None
        self.launch: Launch | None = None
        """The launch that runs, or whose end is seen to."""
        self.phase = Phase.FREE
        self._due = 0.0
        """When a phase that waits by itself is over."""
        self._tries = 0
        self._repetition: Repetition | None = None
        self._warm = WarmStarts(plan.warm, plan.environment) if plan.warm is not None else None
        self._starts_in = ""
        self._starts: dict[int, Start] = {}
        """How launches start whose surroundings are the same for every case, by the identity of
        their step in the spec."""

    @property
    def keeper_pid(self) -> int:
        """The number of the keeper's process; 0 when there is none."""
        return self._warm.pid if self._warm is not None else 0

    # --- beginning ---

    def begin(self, case: Case) -> None:
        """Start a case. One that cannot be started has a finished launch at once."""
        repeat = self.shared.plan.repeat
        self._repetition = Repetition(repeat) if repeat > 1 else None
        self._begin_run(case)

    def _begin_run(self, case: Case) -> None:
        recorder = Recorder(case, self.shared.names[case.matrix])
        self.run = CaseRun(case, recorder, time.time_ns())
        self.place.begin()
        self._begin_step(self.run, 0)

    def _begin_step(self, run: CaseRun, number: int) -> None:
        """Start one launch of the case."""
        shared, case = self.shared, run.case
        argv = case.more[number - 1] if number else case.argv
        live = None
        if shared.live is not None:
            send, id = shared.live, case.id
            live = lambda stream, chunk, seconds: send(id, stream, chunk, seconds)  # noqa: E731
        self.launch = launch = Launch(shared.system, shared.poller, shared.plan.cap, live)
        context = shared.checker.begin(case, number)
        run.step = step = StepLaunch(number, argv, context, launch, shared.cold)
        self.phase = Phase.LAUNCHING
        command = self._command(case, number)
        try:
            if case.fault is not None:
                raise SurroundingsFault(case.fault)
            self._prepare(run, step, command)
            self._launch_now(step)
        except (SurroundingsFault, ExpressionFault) as fault:
            self._cannot_launch(launch, str(fault))
        except (OSError, ValueError) as error:
            self._cannot_launch(launch, launch_reason(error, command.words, argv))

    def _command(self, case: Case, number: int) -> Command:
        """Return the file and the words that a launch starts with: other ones where launchers are
        compared."""
        plan, relation = self.shared.plan, case.relation
        launcher = relation.launcher(number) if relation is not None else ""
        if launcher:
            return Command(*plan.launchers[launcher])
        return Command(plan.file, plan.launch)

    def _spec_step(self, case: Case, number: int) -> Step:
        """Return the step of the spec that a launch belongs to: launches that are compared are all
        of the first."""
        return self.shared.steps[case.matrix][0 if case.relation is not None else number]

    def _prepare(self, run: CaseRun, step: StepLaunch, command: Command) -> None:
        """Put the surroundings of a launch in place and work out how it starts. Raises
        SurroundingsFault or ExpressionFault."""
        case, plan = run.case, self.shared.plan
        spec_step = self._spec_step(case, step.number)
        around = spec_step.surroundings
        filling = Filling(step.context.scope, plan.spec.here)
        if step.number == 0 or (case.relation is not None and case.relation.fresh[step.number]):
            self.place.make(again=step.number > 0)
            self.place.put(around.files, filling)
        root = self.place.directories.root
        if self._starts_in != root:
            # other directories than those that the known ways to start lead to
            self._starts, self._starts_in = {}, root
        known = self._starts.get(id(spec_step)) if case.relation is None else None
        if known is None:
            env = environment_of(plan.environment, around, filling.scope, self.place.directories)
            known = start_of(command, env, self.place.start_directory, around, filling)
            if case.relation is None and is_constant(around):
                self._starts[id(spec_step)] = known
        step.start = known
        # how the program is launched is what these families are about
        about_launching = case.family in ("renamed", "launchers", "elsewhere")
        own = command.words == plan.launch and not about_launching
        if self._warm is not None and own and self._warm.can_start(known):
            step.starter = self._warm.starter() or step.starter

    def _launch_now(self, step: StepLaunch) -> None:
        """Start the program; while the system is out of processes or descriptors, come back a
        little later. Raises OSError or ValueError."""
        if step.start is None:
            return
        try:
            step.launch.start(step.start, step.argv, step.starter)
            self.phase, self._tries = Phase.RUNNING, 0
        except OSError as error:
            if error.errno not in SCARCE or self._tries >= RETRY_MOST:
                raise
            self._tries += 1
            self._due = time.monotonic() + RETRY_SECONDS

    def _cannot_launch(self, launch: Launch, reason: str) -> None:
        launch.fail(reason)
        self.phase, self._tries = Phase.RUNNING, 0

    # --- while it runs ---

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
                words = self.shared.plan.launch
                self._cannot_launch(step.launch, launch_reason(error, words, step.argv))
        elif self.phase is Phase.RUNNING:
            step.launch.on_deadline(now)

    # --- ending ---

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
        waited = self.phase is Phase.LINGERING or outcome.kept_open
        found = strays(not waited)
        now = time.monotonic()
        if found and not waited:
            self.phase, self._due = Phase.LINGERING, now + leftovers.FIRST_WAIT
            return False
        if found and self.phase is Phase.LINGERING and self._due > now:
            return False
        if found:
            outcome.leftovers = self._end_strays(found, strays)
        self.phase = Phase.SETTLED
        return True

    @staticmethod
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

    @property
    def checks_at_leisure(self) -> bool:
        """Whether the next program may run while this launch is checked: when it is the case's
        last and checked in no time.

        A slow check would make the next program seem slow, since its end would be noticed late.
        """
        run = self.run
        if run is None or not self.shared.spare or run.step.number < len(run.case.more):
            return False
        outcome = run.step.launch.outcome
        return (
            outcome.stdout_bytes + outcome.stderr_bytes < SMALL_OUTPUT
            and not outcome.unlaunched
            and self.shared.checker.cascade(run.case, run.step.number).quick
        )

    def conclude(self) -> Record | None:
        """Check a settled launch; return the record of the case when it was the last one, else
        None, when the next step or repetition has begun."""
        run = self.run
        if run is None:
            return None
        case, step = run.case, run.step
        outcome = step.launch.outcome
        if step.launch.keeper_lost and self._warm is not None:
            self._warm.close()
        relation = case.relation
        compared = relation is not None and "files" in relation.aspects
        self.place.look(outcome, run.began_ns, first=step.number == 0, compared=compared)
        run.recorder.add(step.argv, outcome, self._judge(case, step))
        if step.number < len(case.more) and outcome.unlaunched is None:
            self._begin_step(run, step.number + 1)
            return None
        return self._finish_run(run)

    def _judge(self, case: Case, step: StepLaunch) -> Judged:
        checker, outcome = self.shared.checker, step.launch.outcome
        if checker.functions:  # only the user's own functions can hang
            with self.shared.timer.limit():
                return checker.judge(case, step.context, outcome, step.number)
        return checker.judge(case, step.context, outcome, step.number)

    def _finish_run(self, run: CaseRun) -> Record | None:
        case, plan = run.case, self.shared.plan
        record = run.recorder.record(leftovers.own_peak())
        if plan.keep and record.verdict != "held" and plan.spec.program.fresh_directory:
            record.kept = self.place.keep(plan.keep, case.id)
        left = self.place.leave()
        if left:
            remark = f"its directory could not be removed and is left behind ({left})"
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
        if self._warm is not None:
            self._warm.close()


def launch_reason(error: Exception, launch: tuple[str, ...], argv: tuple[str, ...]) -> str:
    """Return why the system did not start a program, in a user's words."""
    if isinstance(error, ValueError):
        return "a NUL cannot stand in a word of a vector"
    if not isinstance(error, OSError):
        return str(error)
    if error.errno == errno.E2BIG:
        longest = max((len(word.encode()) for word in (*launch, *argv)), default=0)
        return f"the system refuses so many or such long words (the longest has {longest:,} bytes): {error.strerror}"
    if error.strerror and "feeds standard input" in error.strerror:
        return error.strerror
    if (
        isinstance(error.filename, str)
        and error.filename not in launch
        and error.filename.endswith("dir")
    ):
        return f"the case's directory cannot be entered: {error.strerror}"
    if error.errno == errno.ENOENT:
        return f"{launch[0]} or the interpreter that its first line names does not exist"
    if error.errno == errno.ENOEXEC:
        return f"{launch[0]} cannot be started: it is neither a binary for this machine nor a script with a #! line"
    return f"{launch[0]} could not be started: {error.strerror}"
