"""A worker: one process, one thread, an event loop over a few launches at a time.

It takes cases from its socket, launches them in its own directories, checks what came and sends back the finished record.
Started as a fresh interpreter with few imports, since the kernel counts the memory of the process that starts a program
into the program's own peak.
"""

from __future__ import annotations

import errno
import os
import pickle
import resource
import select
import signal
import socket
import sys
import time
from collections import deque
from collections.abc import Callable, Mapping
from typing import Any

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expect.cascade import VERDICTS, Cascade
from keen_matrix.core.expressions import Scope
from keen_matrix.core.launch.child import Launch
from keen_matrix.core.launch.directories import CaseDirectories
from keen_matrix.core.launch.outcome import Outcome
from keen_matrix.core.launch.wire import FrameReader, Plan, pack_result
from keen_matrix.core.results.records import encode, record
from keen_matrix.core.vectors.case import Case, case_scope

VERDICT_NUMBER = {verdict: number for number, verdict in enumerate(VERDICTS)}
RSS_UNIT = 1 if sys.platform == "darwin" else 1024


class SurroundingsFault(Exception):
    """What a case should have around it could not be made."""


class Slot:
    """One place in which a case can run: its directories and, while it runs, its launch."""

    def __init__(self, worker: Worker, number: int) -> None:
        self.worker = worker
        self.directories = CaseDirectories(os.path.join(worker.plan.root, str(number)))
        self.case: Case | None = None
        self.scope: Scope | None = None
        self.launch: Launch | None = None
        self.launched_at_ns = 0

    def begin(self, case: Case) -> None:
        """Start a case. One that cannot be started is finished at once, as unlaunched."""
        worker = self.worker
        self.case = case
        plan, program = worker.plan, worker.plan.spec.program
        self.scope = case_scope(case.values, case.argv, case.id, plan.spec.here, worker.functions)
        self.launch = Launch(worker.poller, plan.cap)
        self.launched_at_ns = time.time_ns()
        try:
            if case.fault is not None:
                raise SurroundingsFault(case.fault)
            self.directories.prepare()
            env = worker.environment(case, self.scope, self.directories)
            stdin = worker.stdin(case, self.scope)
            worker.put_files(case, self.scope, self.directories)
            directory = self.directories.work if program.fresh_directory else plan.spec.here
            self.launch.start(plan.file, [*plan.launch, *case.argv], env, directory, stdin, program.timeout)
        except (SurroundingsFault, ExpressionFault) as fault:
            self._unlaunched(str(fault))
        except (OSError, ValueError) as error:
            self._unlaunched(launch_reason(error, plan.launch, case.argv))

    def _unlaunched(self, reason: str) -> None:
        assert self.launch is not None
        self.launch.outcome.unlaunched = reason
        self.launch.finished = True

    def conclude(self) -> bytes:
        """Check the finished launch and return the frame of its result; the slot is free afterwards."""
        case, launch, scope = self.case, self.launch, self.scope
        assert case is not None and launch is not None and scope is not None
        worker, outcome = self.worker, launch.outcome
        outcome.directory = self.directories.work if worker.plan.spec.program.fresh_directory else worker.plan.spec.here
        self._mask(outcome)
        judged = worker.cascades[case.matrix].judge(
            outcome, scope, timeout=worker.plan.spec.program.timeout, cap=worker.plan.cap
        )
        line = encode(record(case, worker.names[case.matrix], outcome, judged, worker.floor()))
        self.directories.clean(self.launched_at_ns)
        self.case = self.launch = self.scope = None
        return pack_result(case.sequence, case.matrix, VERDICT_NUMBER[judged.verdict], outcome.seconds, line)

    def _mask(self, outcome: Outcome) -> None:
        """Write `<dir>`, `<home>` and `<tmp>` for the case's own directories, which differ from slot to slot."""
        for path, name in self.directories.masks:
            if path in outcome.stdout:
                outcome.stdout = outcome.stdout.replace(path, name)
            if path in outcome.stderr:
                outcome.stderr = outcome.stderr.replace(path, name)


class Worker:
    """The event loop and what all its slots share."""

    def __init__(self, control: socket.socket) -> None:
        self.control = control
        self.poller: Any = select.epoll() if hasattr(select, "epoll") else select.poll()
        self._poll_unit = 1 if hasattr(select, "epoll") else 1000
        self.reader = FrameReader()
        self.queue: deque[Case] = deque()
        self.slots: list[Slot] = []
        self.closing = False
        self.functions: Mapping[str, Callable[..., Any]] = {}
        self.cascades: dict[int, Cascade] = {}
        self.names: dict[int, str] = {}
        self._woken, wake = os.pipe()
        os.set_blocking(self._woken, False)
        os.set_blocking(wake, False)
        signal.set_wakeup_fd(wake, warn_on_full_buffer=False)
        signal.signal(signal.SIGCHLD, lambda *_: None)  # a handler must stand for the wake-up byte to be written

    def floor(self) -> int:
        """Return this process's own peak memory in bytes: no launch can be seen to have taken less."""
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * RSS_UNIT

    def take_plan(self, plan: Plan) -> None:
        """Get ready for the cases of a plan."""
        from keen_matrix.core.oracle import oracle_functions

        self.plan = plan
        self.functions = oracle_functions(plan.spec.program.oracle)
        for matrix in plan.spec.matrices:
            self.cascades[matrix.index] = Cascade((*plan.spec.rules, *matrix.rules))
            self.names[matrix.index] = matrix.name
        self._around = {matrix.index: matrix.surroundings for matrix in plan.spec.matrices}
        os.makedirs(plan.root, exist_ok=True)
        self.slots = [Slot(self, number) for number in range(plan.slots)]

    def environment(self, case: Case, scope: Scope, directories: CaseDirectories) -> dict[str, str]:
        """Return the environment of one case. Raises ExpressionFault."""
        env = {**self.plan.environment, "HOME": directories.home, "TMPDIR": directories.tmp}
        for name, template in self._around[case.matrix].env:
            env[name] = template.render(scope)
        return env

    def stdin(self, case: Case, scope: Scope) -> bytes:
        """Return standard input of one case. Raises ExpressionFault."""
        template = self._around[case.matrix].stdin
        return template.render(scope).encode("utf-8", "surrogateescape") if template is not None else b""

    def put_files(self, case: Case, scope: Scope, directories: CaseDirectories) -> None:
        """Put the files of one case into its directory. Raises ExpressionFault or SurroundingsFault."""
        files = self._around[case.matrix].files
        if files:
            directories.touched()
        for name, template in files:
            path = os.path.join(directories.work, name)
            try:
                os.makedirs(os.path.dirname(path), exist_ok=True)
                with open(path, "wb") as file:
                    file.write(template.render(scope).encode("utf-8", "surrogateescape"))
            except OSError as error:
                raise SurroundingsFault(f"the file {name} could not be put in place: {error.strerror}") from None

    def run(self) -> None:
        """Work until the engine closes its end of the socket."""
        self.poller.register(self.control.fileno(), select.POLLIN)
        self.poller.register(self._woken, select.POLLIN)
        try:
            while not self.closing or self.queue or self._running():
                self._start_waiting()
                self._turn()
        except (BrokenPipeError, ConnectionError):
            pass  # the engine is gone, and nobody wants the results
        finally:
            for slot in self.slots:
                if slot.launch is not None:
                    slot.launch.abort()

    def _running(self) -> list[Slot]:
        return [slot for slot in self.slots if slot.launch is not None]

    def _start_waiting(self) -> None:
        for slot in self.slots:
            while slot.launch is None and self.queue:
                slot.begin(self.queue.popleft())
                self._send_if_finished(slot)

    def _send_if_finished(self, slot: Slot) -> None:
        if slot.launch is not None and slot.launch.finished:
            self.control.sendall(slot.conclude())

    def _turn(self) -> None:
        """Wait for the next thing to happen, and deal with everything that has."""
        running = self._running()
        for fd, _ in self._poll(running):
            if fd == self.control.fileno():
                self._receive()
            elif fd == self._woken:
                self._drain_wakeups()
                for slot in running:
                    slot.launch.reap()  # type: ignore[union-attr]
            else:
                for slot in running:
                    launch = slot.launch
                    if launch is not None and (fd in launch.streams or fd in launch.descriptors()):
                        launch.on_event(fd)
        now = time.monotonic()
        for slot in running:
            assert slot.launch is not None
            if not slot.launch.finished and slot.launch.deadline <= now:
                slot.launch.on_deadline(now)
            self._send_if_finished(slot)

    def _poll(self, running: list[Slot]) -> list[tuple[int, int]]:
        if not running:
            return self.poller.poll()  # type: ignore[no-any-return]
        wait = min(slot.launch.deadline for slot in running if slot.launch is not None) - time.monotonic()
        # an epoll timeout counts whole milliseconds rounded up; never turn a short wait into a busy one
        return self.poller.poll(max(wait, 0.0) * self._poll_unit)  # type: ignore[no-any-return]

    def _drain_wakeups(self) -> None:
        try:
            while os.read(self._woken, 4096):
                pass
        except BlockingIOError:
            pass

    def _receive(self) -> None:
        data = self.control.recv(1 << 20)
        if not data:
            if not self.closing:
                self.queue.clear()
                raise ConnectionError
            self.poller.unregister(self.control.fileno())
            return
        for body in self.reader.feed(data):
            message = pickle.loads(body)
            if isinstance(message, Plan):
                self.take_plan(message)
            elif message is None:
                self.closing = True
            else:
                self.queue.extend(Case(*fields) for fields in message)


def launch_reason(error: Exception, launch: tuple[str, ...], argv: tuple[str, ...]) -> str:
    """Return why the system did not start a program, in a user's words."""
    if isinstance(error, ValueError):
        return "a NUL cannot stand in a word of a vector"
    if not isinstance(error, OSError):
        return str(error)
    if error.errno == errno.E2BIG:
        longest = max((len(word.encode()) for word in (*launch, *argv)), default=0)
        return f"the system refuses so many or such long words (the longest has {longest:,} bytes): {error.strerror}"
    if error.errno == errno.ENOENT:
        return f"{launch[0]} or the interpreter that its first line names does not exist"
    if error.errno == errno.ENOEXEC:
        return f"{launch[0]} is no program that the system can start: no binary of this machine and no #! line"
    return f"{launch[0]} could not be started: {error.strerror}"


def main() -> None:
    """Run as a worker on the socket whose descriptor is the first argument."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the terminal's Ctrl-C is for the engine, which then tells us
    os.set_inheritable(int(sys.argv[1]), False)  # no program gets to see the engine's socket
    control = socket.socket(fileno=int(sys.argv[1]))
    Worker(control).run()


if __name__ == "__main__":
    main()
