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
import resource
import select
import signal
import socket
import sys
import time
import traceback
from collections import deque
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from keen_matrix.core.errors import RunFault
from keen_matrix.core.expect.checking import CaseChecker
from keen_matrix.core.launch import child, leftovers
from keen_matrix.core.launch.directories import CaseDirectories, WorkerDirectory
from keen_matrix.core.launch.frames import FrameReader
from keen_matrix.core.launch.handover import take_over
from keen_matrix.core.launch.slot import Slot, check_took_too_long
from keen_matrix.core.launch.wire import Plan, pack_fault, pack_live, pack_ready
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.spec import Matrix, Step

if TYPE_CHECKING:
    pass

RSS_UNIT = 1 if sys.platform == "darwin" else 1024
HOLD_SECONDS = 0.02
HOLD_BYTES = 32_768
"""How long, and how much of, results wait to be sent together: waking the engine costs as much as
checking a small case."""
GARBAGE_THRESHOLD = 20_000
"""Objects made before those in circles are looked for: cases leave few."""
RECEIVE_BYTES = 1 << 16
SPARE_SLOTS = 8
"""Launches that may wait to be checked together."""
SETTLED_SECONDS = 0.001
"""How long they wait when no program ends."""


class Worker:
    """The event loop and what all its slots share."""

    def __init__(self, control: socket.socket) -> None:
        self.control = control
        self._control_fd = control.fileno()
        self._due = math.inf
        """When the earliest deadline of what runs is over, as it was before the last wait."""
        self.poller: Any = select.epoll() if hasattr(select, "epoll") else select.poll()
        self._poll_unit = 1 if hasattr(select, "epoll") else 1000
        self.reader = FrameReader()
        self.queue: deque[Case] = deque()
        self.slots: list[Slot] = []
        self.free: list[Slot] = []
        """Slots without a case."""
        self.running: list[Slot] = []
        """Slots whose programs run, or have left some behind that do."""
        self.closing = False
        self.directory: WorkerDirectory | None = None
        self._directories: dict[int, CaseDirectories] = {}
        self.matrices: dict[int, Matrix] = {}
        self.steps: dict[int, tuple[Step, ...]] = {}
        self.names: dict[int, str] = {}
        self.owners: dict[int, Slot] = {}
        """Descriptor → the slot whose launch its events belong to."""
        self.concluding: list[Slot] = []
        self.waited_for_system = 0
        self._outbox = bytearray()
        self._flush_at = 0.0
        self.alone = self.forgetful = True
        self.fresh = True
        """Whether cases run in directories of their own."""
        self.spare = False
        """Whether there are more slots than programs that may run: launches wait in them to be
        checked while others run."""
        self._settled: list[Slot] = []
        """Slots whose launches wait to be checked."""
        child.SUBREAPER = leftovers.become_subreaper()
        child.PIDFDS = pidfds_work()
        self._woken = -1 if child.PIDFDS else self._wake_on_exits()
        signal.signal(signal.SIGALRM, check_took_too_long)

    @staticmethod
    def _wake_on_exits() -> int:
        """Have a byte written whenever a child ends; return the descriptor from which it can be
        read."""
        woken, wake = os.pipe()
        os.set_blocking(woken, False)
        os.set_blocking(wake, False)
        signal.set_wakeup_fd(wake, warn_on_full_buffer=False)
        signal.signal(
            signal.SIGCHLD, lambda *_: None
        )  # a handler must stand for the byte to be written
        return woken

    def floor(self) -> int:
        """Return this process's own peak memory in bytes: no launch can be seen to have taken
        less."""
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * RSS_UNIT

    @staticmethod
    def forget_peak() -> None:
        """Have the kernel forget our own peak memory after a large output, or every later program
        would show it."""
        with contextlib.suppress(OSError), open("/proc/self/clear_refs", "w") as file:
            file.write("5")

    def take_plan(self, plan: Plan) -> None:
        """Get ready for the cases of a plan."""
        from keen_matrix.core.oracle import oracle_functions

        self.plan = plan
        self.checker = CaseChecker(plan.spec, oracle_functions(plan.spec.program.oracle))
        for matrix in plan.spec.matrices:
            self.steps[matrix.index] = matrix.steps
            self.matrices[matrix.index] = matrix
            self.names[matrix.index] = matrix.name
        for slot in self.slots:
            slot.close_keeper()
        if self.directory is None:
            self.directory = WorkerDirectory(plan.root)
        self.fresh = plan.spec.program.fresh_directory
        self.spare = (
            self.fresh and plan.warm is None and plan.repeat == 1 and not self.checker.functions
        )
        self.slots = [Slot(self, number) for number in range(plan.slots + SPARE_SLOTS * self.spare)]
        self.free = self.slots[::-1]
        self.alone = plan.slots == 1
        self.forgetful = self.alone and hasattr(
            select, "epoll"
        )  # no other launch has a copy of what is closed
        gc.freeze()  # what stands now stands to the end; looking through it again and again would cost every case
        gc.set_threshold(GARBAGE_THRESHOLD)
        self.control.sendall(
            pack_ready()
        )  # at once: a program may end us before anything else is sent

    def directories_of(self, number: int) -> CaseDirectories:
        """Return the directories of a slot, by its number; a slot of a later plan has those of the
        former one."""
        assert self.directory is not None
        return self._directories.setdefault(number, CaseDirectories(self.directory, number))

    def live_for(self, case: Case) -> Callable[[str, bytes, float], None]:
        """Return the function that shows the output of a case as it comes."""
        return lambda stream, chunk, seconds: self.send(pack_live(case.id, stream, seconds, chunk))

    def send(self, frame: bytes) -> None:
        """Send a frame to the engine, together with others that come within HOLD_SECONDS."""
        if not self._outbox:
            self._flush_at = time.monotonic() + HOLD_SECONDS
        self._outbox += frame
        if len(self._outbox) > HOLD_BYTES:
            self._flush()

    def _flush(self) -> None:
        if self._outbox:
            self.control.sendall(self._outbox)
            self._outbox.clear()

    def adopt(self, slot: Slot) -> None:
        """Route the events of a slot's launch to it."""
        assert slot.launch is not None
        for fd in slot.launch.streams:
            self.owners[fd] = slot
        for fd in (slot.launch._stdin, slot.launch.exit_fd):
            if fd >= 0:
                self.owners[fd] = slot
        if slot.launch.keeper is not None:
            self.owners[slot.launch.keeper.control.fileno()] = slot

    def forget(self, slot: Slot) -> None:
        """Drop the routes of a slot whose launch has ended."""
        if self.alone:
            self.owners.clear()
            return
        for fd in [fd for fd, owner in self.owners.items() if owner is slot]:
            del self.owners[fd]

    def strays_of(self, slot: Slot, *, unsure: bool = False) -> list[int]:
        """Return running processes that a slot's finished program left behind, or, when `unsure`,
        may have."""
        known = {
            each.launch.pid
            for each in self.slots
            if each.launch is not None and not each.launch.finished
        }
        known |= {
            pid
            for each in self.slots
            if each.launch is not None
            for pid in each.launch.feeders
            if pid
        }
        known |= {each.keeper.process.pid for each in self.slots if each.keeper is not None}
        running = leftovers.reap_strays(known)
        assert slot.launch is not None
        if self.alone:
            return running
        whose = {
            pid: leftovers.belongs_to(pid, slot.launch.pid, slot.directories.home)
            for pid in running
        }
        return [
            pid for pid, ours in whose.items()
            if ours or (ours is None and unsure) or (not ours and self._is_nobodys(pid, slot))
        ]  # fmt: skip

    def _is_nobodys(self, pid: int, slot: Slot) -> bool:
        """Tell whether a process that no slot can be told to have is counted to the first whose
        launch it was started in.

        A daemon that has a session and an environment of its own shows no other trace of whose it
        is.
        """
        assert slot.launch is not None
        others = [
            each
            for each in self.slots
            if each is not slot and each.launch is not None and each.launch.pid
        ]
        claimed = any(
            leftovers.belongs_to(pid, each.launch.pid, each.directories.home)
            for each in others
            if each.launch
        )
        return not claimed and leftovers.started_since(pid, slot.launch.started)

    # --- the loop ---

    def run(self) -> None:
        """Work until the engine closes its end of the socket."""
        self.poller.register(self.control.fileno(), select.POLLIN)
        if self._woken >= 0:
            self.poller.register(self._woken, select.POLLIN)
        try:
            while not self.closing or self.queue or self._settled or self.running:
                self._start_waiting()
                if self.concluding:  # some could not be launched at all
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
            self._flush()
        for slot in self.slots:
            if slot.launch is not None:
                slot.launch.abort()
            slot.close_keeper()
        if child.SUBREAPER:
            for _ in range(leftovers.ROUNDS):
                running = leftovers.reap_strays(set())
                if not running:
                    break
                leftovers.end(running)
        if self.directory is not None:
            self.directory.remove()
            with contextlib.suppress(
                OSError
            ):  # the last worker of an engine that was killed; a link is never removed so
                os.rmdir(os.path.dirname(self.plan.root))

    def _start_waiting(self) -> None:
        """Start cases that wait, as long as there are fewer programs than may run."""
        while self.queue and self.free and len(self.running) < self.plan.slots:
            self.free.pop().begin(self.queue.popleft())

    def _conclude(self) -> None:
        while self.concluding:
            slot = self.concluding.pop()
            if (
                slot in self.running
                and slot.launch is not None
                and slot.launch.finished
                and slot.settle()
            ):
                self.forget(slot)
                self.running.remove(slot)
                if not slot.checks_at_leisure:
                    slot.conclude()
                    continue
                self._settled.append(slot)
                if self.queue and len(self._settled) <= SPARE_SLOTS:
                    self._start_waiting()
                else:
                    self._check_settled()

    def _check_settled(self) -> None:
        """Check what has settled; several at a time, which costs less than one now and then."""
        for slot in self._settled:
            slot.conclude()
        self._settled.clear()

    def _turn(self) -> None:
        """Wait for the next thing to happen, and deal with everything that has."""
        running, owners = self.running, self.owners
        reap = False
        events = self._poll(running)
        for fd, _ in events:
            slot = owners.get(fd)
            if slot is not None and slot.launch is not None:
                slot.launch.on_event(fd)
                if slot.launch.finished:
                    self.concluding.append(slot)
            elif fd == self._woken:
                self._drain_wakeups()
                reap = True
            elif fd == self._control_fd:
                self._receive()
        if not events and self._settled:
            self._check_settled()
        if reap:
            for slot in list(running):
                launch = slot.launch
                if launch is not None and launch.pid:
                    launch.reap()
                    if launch.finished:
                        self.concluding.append(slot)
        now = time.monotonic()
        if now >= self._due:
            self._take_late_events()
            for slot in list(running):
                if slot.launch is not None and slot.deadline <= now:
                    slot.on_deadline(now)
                    if slot.launch.finished and slot not in self.concluding:
                        self.concluding.append(slot)
        self._conclude()

    def _take_late_events(self) -> None:
        """Deal with what has happened while we were not looking, before any deadline is.

        A wait that a signal interrupts ends with no event once its time is over (PEP 475), also
        when this process was stopped meanwhile: programs that have ended since must not be judged
        by the time at which that is noticed.
        """
        for fd, _ in self.poller.poll(0):
            slot = self.owners.get(fd)
            if slot is not None and slot.launch is not None:
                slot.launch.on_event(fd)
                if slot.launch.finished and slot not in self.concluding:
                    self.concluding.append(slot)
        for slot in list(self.running):
            if slot.launch is not None and slot.launch.pid and not slot.launch.finished:
                slot.launch.reap()
                if slot.launch.finished and slot not in self.concluding:
                    self.concluding.append(slot)

    def _poll(self, running: list[Slot]) -> list[tuple[int, int]]:
        """Wait for an event, for the next deadline, which is noted, or until results are to be
        sent."""
        if not running:
            self._check_settled()
            self._flush()
            self._due = math.inf
            return self.poller.poll()  # type: ignore[no-any-return]
        now = time.monotonic()
        self._due = (
            running[0].deadline if len(running) == 1 else min([slot.deadline for slot in running])
        )
        wait = self._due - now
        if self._settled:
            wait = min(wait, SETTLED_SECONDS)
        if self._outbox:
            if self._flush_at <= now:
                self._flush()
            else:
                wait = min(wait, self._flush_at - now)
        # an epoll timeout counts whole milliseconds rounded up; never turn a short wait into a
        # busy one
        return self.poller.poll(max(wait, 0.0) * self._poll_unit)  # type: ignore[no-any-return]

    def _drain_wakeups(self) -> None:
        try:
            while len(os.read(self._woken, 4096)) == 4096:
                pass
        except BlockingIOError:
            pass

    def _receive(self) -> None:
        data = self.control.recv(RECEIVE_BYTES)
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
                self.queue.extend(message)


def pidfds_work() -> bool:
    """Tell whether the system has descriptors that tell of a process's end: Linux since 5.3,
    unless a sandbox forbids them."""
    try:
        os.close(os.pidfd_open(os.getpid()))
    except (AttributeError, OSError):
        return False
    return True


def serve() -> bool:
    """Work for the engine at the other end of our socket; tell whether oracles, which may want to
    clear up, were loaded."""
    control = take_over()
    try:
        worker = Worker(control)
        worker.run()
        return bool(worker.checker.functions)
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
