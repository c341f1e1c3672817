"""A worker: one process, one thread, an event loop over a few launches at a time.

It takes cases from its socket, launches them in its own directories, checks what came and sends
back the finished record. It imports little, since the kernel counts the memory of the process that
starts a program into the program's own peak.
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
from collections.abc import Sequence

from keen_matrix.core.errors import RunFault
from keen_matrix.core.expect.checking import CaseChecker
from keen_matrix.core.launch.directories import leftovers
from keen_matrix.core.launch.directories.working import CaseDirectories, WorkerDirectory
from keen_matrix.core.launch.process.checks import CheckTimer
from keen_matrix.core.launch.process.starters import Cold
from keen_matrix.core.launch.process.system import Wakeups, enter_system
from keen_matrix.core.launch.workers.case_run import Shared
from keen_matrix.core.launch.workers.case_runner import CaseRunner
from keen_matrix.core.launch.workers.frames import FrameReader
from keen_matrix.core.launch.workers.handover import take_over
from keen_matrix.core.launch.workers.outbox import Outbox
from keen_matrix.core.launch.workers.runners import MOST_SETTLED, Runners
from keen_matrix.core.launch.workers.wire import Plan, pack_fault, pack_live, pack_ready
from keen_matrix.core.model.spec import Matrix, Step
from keen_matrix.core.structs import replace

#: Objects made before those in circles are looked for: cases leave few.
GARBAGE_THRESHOLD = 20_000
RECEIVE_BYTES = 1 << 16
#: How long they wait when no program ends.
SETTLED_SECONDS = 0.001


class CaseWorker:
    """The event loop over the runners of one process."""

    def __init__(self, control: socket.socket) -> None:
        self._control = control
        self._system = enter_system()
        self._poller, self._poll_unit = self._system.poller(), self._system.poll_unit
        self._wakeups = None if self._system.pidfds else Wakeups()
        self._timer = CheckTimer()
        self._reader, self._outbox = FrameReader(), Outbox(control)
        self._closing = False
        self._directory: WorkerDirectory | None = None
        self._directories: list[CaseDirectories] = []
        self._runners = Runners(self._outbox)
        #: When the earliest deadline of what runs is over, as it was before the last wait.
        self._due = math.inf
        self.shared: Shared | None = None

    def _take_plan(self, plan: Plan) -> None:
        """Get ready for the cases of a plan."""
        from keen_matrix.core.oracle import oracle_functions

        checker = CaseChecker(plan.spec, oracle_functions(plan.spec.program.oracle))
        if self._directory is None:
            self._directory = WorkerDirectory(plan.root)
        fresh = plan.jobs > 1 or plan.spec.program.fresh_directory
        matrices = plan.spec.matrices
        self.shared = shared = Shared(
            plan=plan,
            system=self._system,
            poller=self._poller,
            cold=Cold(pidfds=self._system.pidfds),
            checker=checker,
            timer=self._timer,
            steps={matrix.index: matrix.steps for matrix in matrices},
            others=_others(matrices),
            names={matrix.index: matrix.name for matrix in matrices},
            fresh={matrix.index: matrix.bounds.fresh_directory for matrix in matrices},
            alone=plan.jobs == 1,
            spare=fresh and plan.warm is None and plan.repeat == 1 and not checker.functions,
            live=self._send_live if plan.live else None,
        )
        count = plan.jobs + MOST_SETTLED * shared.spare
        runners = [
            CaseRunner(shared, directories) for directories in self._directories_for(self._directory, count)
        ]
        self._runners.take(runners, jobs=plan.jobs)
        # What stands now stands to the end: looking through it again and again for circles would
        # cost every case.
        gc.freeze()
        gc.set_threshold(GARBAGE_THRESHOLD)
        # at once: a program may end us before anything else is sent
        self._control.sendall(pack_ready())

    def _directories_for(self, above: WorkerDirectory, count: int) -> list[CaseDirectories]:
        """Return the directories of so many runners; those of a later plan have the ones of the
        former."""
        known = self._directories
        known += [CaseDirectories(above, number) for number in range(len(known), count)]
        return known[:count]

    def run(self) -> None:
        """Work until the engine closes its end of the socket."""
        self._poller.register(self._control.fileno(), select.POLLIN)
        if self._wakeups is not None:
            self._poller.register(self._wakeups.fd, select.POLLIN)
        try:
            runners = self._runners
            while not self._closing or runners.queue or runners.settled or runners.running:
                runners.start_waiting()
                if runners.concluding:  # some could not be launched at all
                    runners.conclude()
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
        for runner in self._runners.all:
            runner.close()
        # What programs left behind became our child, and would become somebody else's when we end.
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

    def _send_live(self, id: str, stream: str, piece: bytes, seconds: float) -> None:
        self._outbox.send(pack_live(id, stream, seconds, piece))

    def _turn(self) -> None:
        """Wait for the next thing to happen, and deal with everything that has."""
        reap, runners = False, self._runners
        events = self._wait()
        for fd, _ in events:
            if fd in runners.owners:
                runners.on_event(fd)
            elif self._wakeups is not None and fd == self._wakeups.fd:
                self._wakeups.drain()
                reap = True
            elif fd == self._control.fileno():
                self._receive()
        if not events and runners.settled:
            runners.check_settled()
        if reap:
            runners.reap()
        now = time.monotonic()
        if now >= self._due:
            # Deal with what has happened while we were not looking, before any deadline is. A wait
            # that a signal interrupts ends with no event once its time is over (PEP 475), also when
            # this process was stopped meanwhile: programs that have ended since must not be judged
            # by the time at which that is noticed.
            for fd, _ in self._poller.poll(0):
                if fd in runners.owners:
                    runners.on_event(fd)
            runners.reap()
            runners.meet_deadlines(now)
        runners.conclude()

    def _wait(self) -> list[tuple[int, int]]:
        """Wait for an event, for the next deadline, which is noted, or until results are to be
        sent."""
        runners, running = self._runners, self._runners.running
        if not running:
            runners.check_settled()
        if not running and not runners.concluding:
            self._outbox.flush()
            self._due = math.inf
            return self._poller.poll()
        now = time.monotonic()
        if len(running) == 1:
            self._due = running[0].deadline
        else:
            self._due = min([runner.deadline for runner in running])
        wait = self._due - now
        if runners.settled:
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
                # The engine was killed: what it had asked for is nobody's any more.
                self._runners.queue.clear()
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
                self._runners.queue.extend(message)


def serve_cases() -> bool:
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
            control, f"{type(error).__name__}: {error} ({os.path.basename(frame.filename)}:{frame.lineno})"
        )
        if "KEEN_MATRIX_TRACEBACK" in os.environ:
            traceback.print_exc()
    return False


def _tell_fault(control: socket.socket, text: str) -> None:
    """Tell the engine why this worker ends; it then ends what runs and has the cases run by
    another."""
    with contextlib.suppress(OSError):
        control.sendall(pack_fault(text))


def _others(matrices: Sequence[Matrix]) -> dict[int, Step]:
    """Return the step of the launch that cases are compared with, by matrix, where what stands
    around it is its own."""
    return {
        matrix.index: replace(matrix.steps[0], surroundings=matrix.other.surroundings)
        for matrix in matrices
        if matrix.other is not None and matrix.other.surroundings is not None
    }


def main() -> None:
    """Be a worker, as a process of its own."""
    if not serve_cases():
        os._exit(0)  # taking the interpreter apart would only keep the engine waiting


if __name__ == "__main__":
    main()
