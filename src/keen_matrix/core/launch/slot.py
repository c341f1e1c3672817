"""A slot: one place in which a worker runs a case, from the making of its surroundings to its
finished record."""

from __future__ import annotations

import contextlib
import errno
import os
import signal
import time
from typing import TYPE_CHECKING, Any

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expect.cascade import Judged, worst_of
from keen_matrix.core.expect.recording import Recorder
from keen_matrix.core.launch import child, leftovers
from keen_matrix.core.launch.child import Launch, Start
from keen_matrix.core.launch.surround import (
    SurroundingsFault,
    directory_state,
    environment_of,
    file_changes,
    is_constant,
    put_files,
    start_of,
)
from keen_matrix.core.launch.trees import copy_inside, remove_tree
from keen_matrix.core.launch.wire import pack_result
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.record import AspectRecord, FileChange, Record, Repeats
from keen_matrix.core.model.spec import Step

if TYPE_CHECKING:
    from keen_matrix.core.launch.warm import Keeper
    from keen_matrix.core.launch.worker import Worker

RETRY_SECONDS = 0.1
RETRY_MOST = 300
"""Tries, a tenth of a second apart, while the system has no process or memory to spare."""
SMALL_OUTPUT = 1 << 14
"""Output that is checked in no time."""
LARGE_OUTPUT = 1 << 20
"""Output that makes our own memory grow enough to spoil what is measured of the next program."""


class Slot:
    """One place in which a case can run: its directories and, while it runs, its launch."""

    def __init__(self, worker: Worker, number: int) -> None:
        self.worker = worker
        self.directories = worker.directories_of(number)
        self.case: Case | None = None
        self.launch: Launch | None = None
        self.launched_at_ns = 0
        self._lingering_until = 0.0
        self._again_at = 0.0
        self._tries = 0
        self._repeats: list[bytes] = []
        self._times: list[float] = []
        self._first: Record | None = None
        self._moved = True
        self._left_behind = ""
        """Why something in a directory of the case could not be removed."""
        self._warm = False
        self.keeper: Keeper | None = None
        self._starts_in = ""
        self._starts: dict[int, Start] = {}
        """How launches start whose surroundings are the same for every case, by the identity of
        their step in the spec."""

    # --- beginning ---

    def begin(self, case: Case) -> None:
        """Start a case."""
        self.case = case
        self._repeats, self._times = [], []
        self._begin_run()

    def _begin_run(self) -> None:
        case = self.case
        assert case is not None
        self.launched_at_ns = time.time_ns()
        self._recorder = Recorder(case, self.worker.names[case.matrix])
        self._step = 0
        self._before: dict[str, Any] = {}
        self._begin_step(first=True)

    def _begin_step(self, *, first: bool) -> None:
        """Start one launch of the case. One that cannot be started is finished at once, as
        unlaunched."""
        worker, case = self.worker, self.case
        assert case is not None
        plan = worker.plan
        argv = case.argv if self._step == 0 else case.more[self._step - 1]
        step = self._spec_step
        around = step.surroundings
        file, words = plan.file, plan.launch
        self.context = worker.checker.begin(case, self._step)
        scope = self.context.scope
        if case.relation is not None:
            launcher = case.relation.launcher(self._step)
            file, words = plan.launchers[launcher] if launcher else (file, words)
            fresh = first or case.relation.fresh[self._step]
        else:
            fresh = first
        live = worker.live_for(case) if plan.live else None
        self.launch = launch = Launch(worker.poller, plan.cap, live, forgetful=worker.forgetful)
        self._lingering_until = 0.0
        worker.running.append(self)
        self.words = argv
        try:
            if case.fault is not None:
                raise SurroundingsFault(case.fault)
            places = self.directories
            if fresh:
                self._make_directories(again=not first)
                if around.files:
                    self._before = put_files(around.files, scope, places, plan.spec.here)
            if (
                self._starts_in != places.root
            ):  # other directories than those that the known ways to start lead to
                self._starts, self._starts_in = {}, places.root
            known = self._starts.get(id(step)) if case.relation is None else None
            if known is not None:
                self._start = known
            else:
                env = environment_of(plan.environment, around, scope, places)
                directory = places.work if worker.fresh else plan.spec.here
                self._start = start_of(file, words, env, directory, around, scope, plan.spec.here)
                if case.relation is None and is_constant(around):
                    self._starts[id(step)] = self._start
            if plan.warm is not None:
                self._warm = words == plan.launch and self._may_be_warm(case)
            self._launch_now()
        except (SurroundingsFault, ExpressionFault) as fault:
            self._unlaunched(str(fault))
        except (OSError, ValueError) as error:
            self._unlaunched(launch_reason(error, words, argv))
        if launch.finished:
            worker.concluding.append(self)

    def _make_directories(self, *, again: bool) -> None:
        """Have empty directories for a launch. Raises SurroundingsFault."""
        try:
            if again:
                self._left_behind = self.directories.renew() or self._left_behind
            else:
                self.directories.prepare()
        except OSError as error:
            raise SurroundingsFault(
                f"the case's directory cannot be made: {error.strerror or error}"
            ) from None

    def _may_be_warm(self, case: Case) -> bool:
        from keen_matrix.core.launch.warm import is_warmable

        start = self._start
        about_launching = case.family in ("renamed", "launchers")
        plain = not (start.terminal or start.closed or about_launching)
        return plain and is_warmable(start.env, self.worker.plan.environment)

    def _ready_keeper(self) -> Keeper | None:
        """Return this slot's keeper, started when there is none yet; None when it does not come
        up."""
        from keen_matrix.core.launch.warm import Keeper

        if self.keeper is None:
            assert self.worker.plan.warm is not None
            try:
                self.keeper = Keeper(self.worker.plan.warm, self.worker.plan.environment)
            except OSError:
                self._warm = False
        return self.keeper

    def close_keeper(self) -> None:
        """End this slot's keeper."""
        if self.keeper is not None:
            self.keeper.close()
            self.keeper = None

    @property
    def _spec_step(self) -> Step:
        """The step of the spec that the launch belongs to: launches that are compared are all of
        the first."""
        assert self.case is not None
        return self.worker.steps[self.case.matrix][
            0 if self.case.relation is not None else self._step
        ]

    def _launch_now(self) -> None:
        """Start the program; while the system is out of processes or descriptors, try again a
        little later."""
        assert self.launch is not None
        try:
            self.launch.keeper = self._ready_keeper() if self._warm else None
            self.launch.start(self._start, self.words)
            self.worker.adopt(self)
            self._again_at, self._tries = 0.0, 0
        except OSError as error:
            if (
                error.errno not in (errno.EAGAIN, errno.EMFILE, errno.ENFILE, errno.ENOMEM)
                or self._tries >= RETRY_MOST
            ):
                raise
            self._tries += 1
            self.worker.waited_for_system += 1
            self._again_at = time.monotonic() + RETRY_SECONDS

    def _unlaunched(self, reason: str) -> None:
        assert self.launch is not None
        self.launch.outcome.unlaunched = reason
        self.launch.finished = True
        self._again_at = 0.0

    @property
    def deadline(self) -> float:
        """When on_deadline wants to be called."""
        assert self.launch is not None
        return self._again_at or self._lingering_until or self.launch.deadline

    def on_deadline(self, now: float) -> None:
        """Do what is due."""
        assert self.launch is not None
        if self._again_at:
            try:
                self._launch_now()
            except (OSError, ValueError) as error:
                self._unlaunched(launch_reason(error, self.worker.plan.launch, self.words))
        elif not self._lingering_until:
            self.launch.on_deadline(now)
        if self.launch.finished:
            self.worker.concluding.append(self)

    # --- ending ---

    def settle(self) -> bool:
        """See to processes left behind by a finished launch; False asks to come back when some may
        still end by themselves."""
        launch = self.launch
        assert launch is not None
        if not child.SUBREAPER or not launch.pid:
            return True
        worker = self.worker
        try:
            while worker.alone and os.waitpid(-1, os.WNOHANG) != (0, 0):
                pass  # it has ended and was only to be reaped; a program may leave thousands of them
        except ChildProcessError:
            return True
        strays = worker.strays_of(
            self, unsure=not (self._lingering_until or launch.outcome.kept_open)
        )
        if not strays:
            return True
        now = time.monotonic()
        if not self._lingering_until and not launch.outcome.kept_open:
            self._lingering_until = now + leftovers.FIRST_WAIT
            return False
        if self._lingering_until > now:
            return False
        names: list[str] = []
        for _ in range(
            leftovers.ROUNDS
        ):  # ending a process makes its children ours, and the next to be ended
            names += [leftovers.name_of(pid) for pid in strays]
            leftovers.end(strays)
            strays = worker.strays_of(self)
            if not strays:
                break
        launch.outcome.leftovers = sorted(names)
        return True

    @property
    def checks_at_leisure(self) -> bool:
        """Whether the next program may run while this launch is checked: when it is the case's
        last and checked in no time.

        A slow check would make the next program seem slow, since its end would be noticed late.
        """
        case, launch, worker = self.case, self.launch, self.worker
        assert case is not None and launch is not None
        outcome = launch.outcome
        return (
            worker.spare
            and self._step == len(case.more)
            and outcome.stdout_bytes + outcome.stderr_bytes < SMALL_OUTPUT
            and not outcome.unlaunched
            and worker.checker.cascade(case, self._step).quick
        )

    def conclude(self) -> None:
        """Check a settled launch; go on with the next step or repetition, or send the result and
        be free."""
        case, launch = self.case, self.launch
        assert case is not None and launch is not None
        if launch.keeper_lost:
            self.close_keeper()
        worker, outcome = self.worker, launch.outcome
        fresh, plan = worker.fresh, worker.plan
        moved = self._was_moved()
        in_place = not (fresh and moved and launch.pid) or self.directories.work_is_in_place
        outcome.directory = (self.directories.work if fresh else plan.spec.here) if in_place else ""
        if outcome.stdout or outcome.stderr:
            self._mask(outcome)
        if not in_place:
            outcome.files = {name: FileChange(state="deleted") for name in (*self._before, ".")}
        elif fresh and (self._before or moved):
            outcome.files = file_changes(self._before, self.directories.work)
        if case.relation is not None and fresh and in_place and "files" in case.relation.aspects:
            outcome.state = directory_state(self.directories.work)
        checker = worker.checker
        if checker.functions:  # only the user's own functions can hang
            with time_limit(CHECK_SECONDS):
                judged = checker.judge(case, self.context, outcome, self._step)
        else:
            judged = checker.judge(case, self.context, outcome, self._step)
        self._recorder.add(self.words, outcome, judged)
        if self._step < len(case.more) and outcome.unlaunched is None:
            self._step += 1
            self._begin_step(first=False)
            return
        self._finish_run(judged)

    def _was_moved(self) -> bool:
        """Note whether the launch may have done something to the directories, and tell."""
        self._moved = self.directories.changed(self.launched_at_ns) or self._step > 0
        return self._moved

    def _finish_run(self, judged: Judged) -> None:
        worker, case = self.worker, self.case
        assert case is not None and self.launch is not None
        record = self._recorder.record(worker.floor())
        if worker.plan.keep and record.verdict != "held" and worker.fresh:
            record.kept = self._keep(worker.plan.keep, case.id)
        big = len(self.launch.outcome.stdout) + len(self.launch.outcome.stderr) > LARGE_OUTPUT
        if self._moved:
            self._left_behind = self.directories.clean() or self._left_behind
        if self._left_behind:
            remark = f"its directory could not be removed and is left behind ({self._left_behind})"
            record.remarks = [*record.remarks, remark]
            self._left_behind = ""
        repeat = worker.plan.repeat
        if repeat > 1:
            self._repeats.append(self._recorder.essence())
            self._times.append(record.seconds)
            first = self._first if len(self._repeats) > 1 and self._first is not None else record
            self._first = record if record.verdict != "held" and first.verdict == "held" else first
            if len(self._repeats) < repeat and record.verdict != "unlaunched":
                self._begin_run()
                return
            record = self._steadied(self._first)
        self.case = self.launch = None
        worker.free.append(self)
        worker.send(pack_result(case, record))
        if big:
            worker.forget_peak()

    def _steadied(self, record: Record) -> Record:
        """Return the record that stands for a repeated case, the first that did not hold or the
        first of all; unsteady when the launches disagree."""
        kinds = len(set(self._repeats))
        record.repeats = Repeats(len(self._repeats), kinds, self._times)
        if kinds > 1:
            record.verdict = worst_of([record.verdict, "unsteady"])
            record.aspects.append(
                AspectRecord("repeats", False, form="steady", expected="1", actual=str(kinds))
            )
        return record

    def _keep(self, folder: str, id: str) -> str:
        """Copy the case's directory to where it is kept, and return that place."""
        place = os.path.join(folder, id)
        try:
            reason = remove_tree(place)
            if reason:
                return f"could not be kept: {place} is there and stays: {reason}"
            os.makedirs(place)
            work, target = (
                self.directories.open_work(),
                os.open(place, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC),
            )
            try:
                copy_inside(work, target)
            finally:
                os.close(work)
                os.close(target)
        except OSError as error:
            return f"could not be kept: {error.strerror or error}"
        return place

    def _mask(self, outcome: Outcome) -> None:
        """Write `<dir>`, `<home>` and `<tmp>` for the case's own directories, which differ from
        slot to slot."""
        if (
            self.directories.root_bytes in outcome.stdout
            or self.directories.root_bytes in outcome.stderr
        ):
            outcome.arrivals.clear()  # their sizes no longer fit
            for path, name in self.directories.masks:
                outcome.stdout = outcome.stdout.replace(path, name)
                outcome.stderr = outcome.stderr.replace(path, name)


CHECK_SECONDS = 60
"""Time that the checks of one launch may take, oracle functions included."""


_checked_until = 0.0
"""When the check that runs now is to be broken off; 0 while none runs."""


@contextlib.contextmanager
def time_limit(seconds: int) -> Any:
    """Interrupt what takes longer than it may; used around checks, in which functions of the
    user's own run."""
    global _checked_until
    _checked_until = time.monotonic() + seconds
    signal.setitimer(signal.ITIMER_REAL, seconds)
    try:
        yield
    finally:
        _checked_until = 0.0
        signal.setitimer(signal.ITIMER_REAL, 0)


def check_took_too_long(*_: object) -> None:
    """Break off the check that runs, if one does and its time is over: what SIGALRM does, which
    any program may send us."""
    if _checked_until and time.monotonic() >= _checked_until:
        raise ValueError(f"the check took longer than {CHECK_SECONDS} s")


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
