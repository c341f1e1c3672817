"""The runners of a worker, each in one of four lists, through which it moves round:

free ──► running ──► concluding ──┬──► free, or running again for the next step
                                  └──► settled ──► free: checked together with others
"""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from functools import partial

from keen_matrix.core.launch.directories import leftovers
from keen_matrix.core.launch.directories.strays import Strays
from keen_matrix.core.launch.workers.case_runner import CaseRunner, checks_at_leisure
from keen_matrix.core.launch.workers.outbox import Outbox
from keen_matrix.core.launch.workers.wire import pack_result
from keen_matrix.core.model.case import Case

#: Launches that may wait to be checked together.
MOST_SETTLED = 8
#: Output in bytes that makes our own memory grow enough to spoil what is measured of the next
#: program.
LARGE_OUTPUT = 1 << 20


class Runners:
    """The runners of a plan, and the cases that wait for one. Before there is a plan there are
    none."""

    def __init__(self, outbox: Outbox) -> None:
        self._outbox = outbox
        self._jobs, self._alone = 0, False
        self.all: Sequence[CaseRunner] = ()
        self._strays = Strays((), alone=False)
        #: Cases that wait for a runner.
        self.queue: deque[Case] = deque()
        #: Descriptor → the runner whose launch its events belong to.
        self.owners: dict[int, CaseRunner] = {}
        self._free: list[CaseRunner] = []
        #: Those whose programs run, or have left some after that do.
        self.running: list[CaseRunner] = []
        #: Those whose launches have finished and are not seen to yet.
        self.concluding: list[CaseRunner] = []
        #: Those whose launches wait to be checked.
        self.settled: list[CaseRunner] = []

    def take(self, runners: Sequence[CaseRunner], *, jobs: int) -> None:
        """Go on with the runners of another plan, under which so many programs run at a time."""
        for before, runner in zip(self.all, runners, strict=False):
            runner.starts.go_on(before.starts)
        for runner in self.all:
            runner.close()
        # Taken from the end: the first runner, with directories that exist, is used again first.
        self.all, self._free = runners, list(runners[::-1])
        self._jobs, self._alone = jobs, jobs == 1
        self._strays = Strays(runners, alone=self._alone)

    def start_waiting(self) -> None:
        """Start cases that wait, as long as there are fewer programs than may run."""
        while self.queue and self._free and len(self.running) < self._jobs:
            runner = self._free.pop()
            runner.begin(self.queue.popleft())
            self._watch(runner)

    def _watch(self, runner: CaseRunner) -> None:
        """Take a runner whose launch has begun among those that run."""
        self.running.append(runner)
        self._route(runner)

    def _route(self, runner: CaseRunner) -> None:
        """Have the events of a runner's launch go to it; one that could not be started is finished
        already."""
        launch = runner.launch
        if launch is not None:
            for fd in launch.descriptors:
                self.owners[fd] = runner
            if launch.finished:
                self._note_finished(runner)

    def _note_finished(self, runner: CaseRunner) -> None:
        # Several descriptors of one launch may tell of its end in one turn.
        if runner not in self.concluding:
            self.concluding.append(runner)

    def conclude(self) -> None:
        """See to the launches that have finished."""
        while self.concluding:
            # Seeing to one may finish another, so the list is emptied and not walked.
            runner = self.concluding.pop()
            strays = partial(self._strays.of, runner)
            if runner not in self.running or not runner.has_settled(strays):
                continue
            self.running.remove(runner)
            if self._alone:  # every descriptor is its own
                self.owners.clear()
            else:
                for fd in [fd for fd, owner in self.owners.items() if owner is runner]:
                    del self.owners[fd]
            if not checks_at_leisure(runner):
                self._check(runner)
                continue
            self.settled.append(runner)
            if self.queue and len(self.settled) <= MOST_SETTLED:
                self.start_waiting()
            else:
                self.check_settled()

    def check_settled(self) -> None:
        """Check what has settled; several at a time, which costs less than one now and then."""
        for runner in self.settled:
            self._check(runner)
        self.settled.clear()

    def _check(self, runner: CaseRunner) -> None:
        """Check a settled launch, and send the record of a case that is finished."""
        run = runner.run
        if run is None:
            return
        outcome = run.step.launch.outcome
        record = runner.conclude()
        if record is None:  # the next step or repetition has begun
            self._watch(runner)
            return
        self._free.append(runner)
        self._outbox.send(pack_result(run.case, record))
        if len(outcome.stdout) + len(outcome.stderr) > LARGE_OUTPUT:
            leftovers.forget_peak()

    def on_event(self, fd: int) -> None:
        """Have the runner whose descriptor it is deal with an event."""
        runner = self.owners[fd]
        launch = runner.launch
        if launch is not None:
            launch.on_event(fd)
            if launch.finished:
                self._note_finished(runner)

    def reap(self) -> None:
        """Ask every program whether it has ended."""
        for runner in list(self.running):
            launch = runner.launch
            if launch is not None and launch.pid and not launch.finished:
                launch.reap()
                if launch.finished:
                    self._note_finished(runner)

    def meet_deadlines(self, now: float) -> None:
        """Have every runner do what is due."""
        for runner in list(self.running):
            launch = runner.launch
            if launch is not None and runner.deadline <= now:
                started = launch.pid
                runner.on_deadline(now)
                # A launch that was put off has begun now, with descriptors that nobody listens to
                # yet.
                if launch.pid != started:
                    self._route(runner)
                if launch.finished:
                    self._note_finished(runner)
