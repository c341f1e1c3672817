"""A worker: one process, one thread, an event loop over a few launches at a time.

It takes cases from its socket, launches them in its own directories, checks what came and sends
back the finished record. It imports little, since the kernel counts the memory of the process that
starts a program into the program's own peak.

A runner of cases is in one of these lists, and moves round:

    free ──► running ──► concluding ──┬──► free, or running again for the next step
                                      └──► settled ──► free: checked together with others
"""

from __future__ import annotations

import contextlib
import gc
import math
import os
import pickle
import select
import socket
import time
import traceback
from collections import deque

from keen_matrix.core.errors import RunFault
from keen_matrix.core.expect.checking import CaseChecker
from keen_matrix.core.launch import leftovers
from keen_matrix.core.launch.case_runner import CaseRunner, Shared
from keen_matrix.core.launch.checks import CheckTimer
from keen_matrix.core.launch.directories import CaseDirectories, WorkerDirectory
from keen_matrix.core.launch.frames import FrameReader
from keen_matrix.core.launch.handover import take_over
from keen_matrix.core.launch.outbox import Outbox
from keen_matrix.core.launch.starters import Cold
from keen_matrix.core.launch.strays import Strays
from keen_matrix.core.launch.system import Wakeups, enter_system
from keen_matrix.core.launch.wire import Plan, pack_fault, pack_live, pack_ready, pack_result
from keen_matrix.core.model.case import Case

GARBAGE_THRESHOLD = 20_000
"""Objects made before those in circles are looked for: cases leave few."""
RECEIVE_BYTES = 1 << 16
SPARE_RUNNERS = 8
"""Launches that may wait to be checked together."""
SETTLED_SECONDS = 0.001
"""How long they wait when no program ends."""
LARGE_OUTPUT = 1 << 20
"""Output in bytes that makes our own memory grow enough to spoil what is measured of the next
program."""


class CaseWorker:
    """The event loop over the runners of one process."""

    def __init__(self, control: socket.socket) -> None:
        self._control = control
        self._system = enter_system()
        self._poller, self._poll_unit = self._system.poller(), self._system.poll_unit
        self._wakeups = None if self._system.pidfds else Wakeups()
        self._timer = CheckTimer()
        self._reader, self._outbox = FrameReader(), Outbox(control)
        self._queue: deque[Case] = deque()
        self._closing = False
        self._directory: WorkerDirectory | None = None
        self._directories: dict[int, CaseDirectories] = {}
        self._owners: dict[int, CaseRunner] = {}
        """Descriptor → the runner whose launch its events belong to."""
        self._runners: list[CaseRunner] = []
        self._free: list[CaseRunner] = []
        self._running: list[CaseRunner] = []
        """Those whose programs run, or have left some behind that do."""
        self._concluding: list[CaseRunner] = []
        """Those whose launches have finished and are not seen to yet."""
        self._settled: list[CaseRunner] = []
        """Those whose launches wait to be checked."""
        self._due = math.inf
        """When the earliest deadline of what runs is over, as it was before the last wait."""
        self.shared: Shared | None = None

    def _take_plan(self, plan: Plan) -> None:
        """Get ready for the cases of a plan."""
        from keen_matrix.core.oracle import oracle_functions

        checker = CaseChecker(plan.spec, oracle_functions(plan.spec.program.oracle))
        for runner in self._runners:
            runner.close()
        if self._directory is None:
            self._directory = WorkerDirectory(plan.root)
        fresh = plan.spec.program.fresh_directory
        matrices = plan.spec.matrices
        self.shared = shared = Shared(
            plan=plan,
            system=self._system,
            poller=self._poller,
            cold=Cold(pidfds=self._system.pidfds),
            checker=checker,
            timer=self._timer,
            steps={matrix.index: matrix.steps for matrix in matrices},
            names={matrix.index: matrix.name for matrix in matrices},
            alone=plan.jobs == 1,
            spare=fresh and plan.warm is None and plan.repeat == 1 and not checker.functions,
            live=self._send_live if plan.live else None,
        )
        count = plan.jobs + SPARE_RUNNERS * shared.spare
        self._runners = [
            CaseRunner(shared, self._directories_of(self._directory, number))
            for number in range(count)
        ]
        self._strays = Strays(self._runners, alone=shared.alone)
        self._free = self._runners[::-1]
        # What stands now stands to the end: looking through it again and again for circles would
        # cost every case.
        gc.freeze()
        gc.set_threshold(GARBAGE_THRESHOLD)
        # at once: a program may end us before anything else is sent
        self._control.sendall(pack_ready())

    def _directories_of(self, above: WorkerDirectory, number: int) -> CaseDirectories:
        """Return the directories of a runner, by its number; one of a later plan has those of the
        former."""
        return self._directories.setdefault(number, CaseDirectories(above, number))

    # --- the loop ---

    def run(self) -> None:
        """Work until the engine closes its end of the socket."""
        self._poller.register(self._control.fileno(), select.POLLIN)
        if self._wakeups is not None:
            self._poller.register(self._wakeups.fd, select.POLLIN)
        try:
            while not self._closing or self._queue or self._settled or self._running:
                self._start_waiting()
                if self._concluding:  # some could not be launched at all
                    self._conclude()
                else:
                    self._turn()
        except (BrokenPipeError, ConnectionError):
            pass  # the engine is gone, and nobody wants the results
        finally:
            self._leave()

    def _leave(self) -> None:
        """End every program and remove the directories, also when the engine was killed."""
        with contextlib.suppress(OSError):
            self._outbox.flush()
        for runner in self._runners:
            runner.close()
        if self._system.subreaper:
            for _ in range(leftovers.ROUNDS):
                running = leftovers.reap_strays(set())
                if not running:
                    break
                leftovers.end(running)
        if self._directory is not None and self.shared is not None:
            self._directory.remove()
            with contextlib.suppress(OSError):
                # the last worker of an engine that was killed; a link is never removed so
                os.rmdir(os.path.dirname(self.shared.plan.root))

    def _start_waiting(self) -> None:
        """Start cases that wait, as long as there are fewer programs than may run."""
        if self.shared is None:
            return
        jobs = self.shared.plan.jobs
        while self._queue and self._free and len(self._running) < jobs:
            runner = self._free.pop()
            runner.begin(self._queue.popleft())
            self._watch(runner)

    def _watch(self, runner: CaseRunner) -> None:
        """Take a runner whose launch has begun among those that run."""
        self._running.append(runner)
        self._route(runner)

    def _route(self, runner: CaseRunner) -> None:
        """Have the events of a runner's launch go to it; one that could not be started is finished
        already."""
        launch = runner.launch
        if launch is not None:
            for fd in launch.descriptors:
                self._owners[fd] = runner
            if launch.finished:
                self._note_finished(runner)

    def _note_finished(self, runner: CaseRunner) -> None:
        if runner not in self._concluding:
            self._concluding.append(runner)

    def _conclude(self) -> None:
        """See to the launches that have finished."""
        while self._concluding:
            runner = self._concluding.pop()
            if runner not in self._running or not self._has_settled(runner):
                continue
            self._forget(runner)
            self._running.remove(runner)
            if not runner.checks_at_leisure:
                self._check(runner)
                continue
            self._settled.append(runner)
            if self._queue and len(self._settled) <= SPARE_RUNNERS:
                self._start_waiting()
            else:
                self._check_settled()

    def _has_settled(self, runner: CaseRunner) -> bool:
        strays = self._strays
        return runner.has_settled(lambda unsure: strays.of(runner, unsure=unsure))

    def _forget(self, runner: CaseRunner) -> None:
        """Drop the routes of a runner whose launch has ended."""
        if self.shared is not None and self.shared.alone:
            self._owners.clear()
            return
        for fd in [fd for fd, owner in self._owners.items() if owner is runner]:
            del self._owners[fd]

    def _check_settled(self) -> None:
        """Check what has settled; several at a time, which costs less than one now and then."""
        for runner in self._settled:
            self._check(runner)
        self._settled.clear()

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

    def _send_live(self, id: str, stream: str, piece: bytes, seconds: float) -> None:
        self._outbox.send(pack_live(id, stream, seconds, piece))

    def _turn(self) -> None:
        """Wait for the next thing to happen, and deal with everything that has."""
        reap = False
        events = self._wait()
        for fd, _ in events:
            if fd in self._owners:
                self._on_event(self._owners[fd], fd)
            elif self._wakeups is not None and fd == self._wakeups.fd:
                self._wakeups.drain()
                reap = True
            elif fd == self._control.fileno():
                self._receive()
        if not events and self._settled:
            self._check_settled()
        if reap:
            self._reap()
        now = time.monotonic()
        if now >= self._due:
            # Deal with what has happened while we were not looking, before any deadline is. A wait
            # that a signal interrupts ends with no event once its time is over (PEP 475), also when
            # this process was stopped meanwhile: programs that have ended since must not be judged
            # by the time at which that is noticed.
            for fd, _ in self._poller.poll(0):
                if fd in self._owners:
                    self._on_event(self._owners[fd], fd)
            self._reap()
            self._meet_deadlines(now)
        self._conclude()

    def _on_event(self, runner: CaseRunner, fd: int) -> None:
        launch = runner.launch
        if launch is not None:
            launch.on_event(fd)
            if launch.finished:
                self._note_finished(runner)

    def _reap(self) -> None:
        """Ask every program whether it has ended."""
        for runner in list(self._running):
            launch = runner.launch
            if launch is not None and launch.pid and not launch.finished:
                launch.reap()
                if launch.finished:
                    self._note_finished(runner)

    def _meet_deadlines(self, now: float) -> None:
        for runner in list(self._running):
            launch = runner.launch
            if launch is not None and runner.deadline <= now:
                started = launch.pid
                runner.on_deadline(now)
                if launch.pid != started:
                    self._route(runner)
                if launch.finished:
                    self._note_finished(runner)

    def _wait(self) -> list[tuple[int, int]]:
        """Wait for an event, for the next deadline, which is noted, or until results are to be
        sent."""
        running = self._running
        if not running:
            self._check_settled()
        if not running and not self._concluding:
            self._outbox.flush()
            self._due = math.inf
            return self._poller.poll()
        now = time.monotonic()
        if len(running) == 1:
            self._due = running[0].deadline
        else:
            self._due = min([runner.deadline for runner in running])
        wait = self._due - now
        if self._settled:
            wait = min(wait, SETTLED_SECONDS)
        until_sent = self._outbox.wait_from(now)
        if until_sent is not None:
            wait = min(wait, until_sent)
        # an epoll timeout counts whole milliseconds rounded up; never turn a short wait into a
        # busy one
        return self._poller.poll(max(wait, 0.0) * self._poll_unit)

    def _receive(self) -> None:
        data = self._control.recv(RECEIVE_BYTES)
        if not data:
            if not self._closing:
                self._queue.clear()
                raise ConnectionError
            self._poller.unregister(self._control.fileno())
            return
        for body in self._reader.feed(data):
            message = pickle.loads(body)
            if isinstance(message, Plan):
                self._take_plan(message)
            elif message is None:
                self._closing = True
            else:
                self._queue.extend(message)


def serve() -> bool:
    """Work for the engine at the other end of our socket; tell whether oracles, which may want to
    clear up, were loaded."""
    control = take_over()
    try:
        worker = CaseWorker(control)
        worker.run()
        return worker.shared is not None and bool(worker.shared.checker.functions)
    except (RunFault, OSError) as error:
        _tell_fault(control, getattr(error, "strerror", None) or str(error))
    except Exception as error:
        frame = traceback.extract_tb(error.__traceback__)[-1]
        _tell_fault(
            control,
            f"{type(error).__name__}: {error} ({os.path.basename(frame.filename)}:{frame.lineno})",
        )
        if "KEEN_MATRIX_TRACEBACK" in os.environ:
            traceback.print_exc()
    return False


def _tell_fault(control: socket.socket, text: str) -> None:
    """Tell the engine why this worker ends; it then ends what runs and has the cases run by
    another."""
    with contextlib.suppress(OSError):
        control.sendall(pack_fault(text))


def main() -> None:
    """Be a worker, as a process of its own."""
    if not serve():
        os._exit(0)  # taking the interpreter apart would only keep the engine waiting


if __name__ == "__main__":
    main()
