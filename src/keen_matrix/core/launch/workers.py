"""The worker processes of a run, as the engine sees them.

They can be started before anything else is known, so that their start-up hides behind the reading of the specs; this module
imports little for that.
"""

from __future__ import annotations

import contextlib
import os
import socket
import subprocess
import sys
import tempfile

from keen_matrix.core.errors import RunFault
from keen_matrix.core.launch.frames import FrameReader

AHEAD_SECONDS = 0.05
"""Work that waits at a worker: enough to keep it busy while the engine looks elsewhere, little to lose at the end."""
AHEAD_MOST = 64
CLOSE_SECONDS = 8.0
"""Time that workers get to end their programs and leave."""


START = "from keen_matrix.core.launch.worker import main; main()"
"""What the interpreter of a worker runs."""


def default_jobs() -> int:
    """Return the number of processors this process may use."""
    affinity = getattr(os, "sched_getaffinity", None)
    return len(affinity(0)) if affinity else os.cpu_count() or 1


class Worker:
    """The engine's end of one worker, which can run `slots` programs at a time."""

    __slots__ = ("control", "outstanding", "pace", "process", "reader", "slots", "unsent")

    def __init__(self, slots: int) -> None:
        self.slots = slots
        self.outstanding = 0
        self.pace = 0.05
        """Seconds that a case takes, smoothed."""
        self.unsent = bytearray()
        self.reader = FrameReader()
        self.control, theirs = socket.socketpair()
        with theirs:
            os.set_inheritable(theirs.fileno(), True)
            path = os.pathsep.join(each for each in sys.path if each)
            self.process = subprocess.Popen(
                [sys.executable, "-P", "-S", "-c", START, str(theirs.fileno())],
                pass_fds=[theirs.fileno()],
                stdin=subprocess.DEVNULL,
                env={**os.environ, "PYTHONPATH": path},
            )
        self.control.setblocking(False)

    @property
    def wanted(self) -> int:
        """How many more cases the worker should have; 0 while it still has half of them, so that they travel together."""
        ahead = max(1, min(int(AHEAD_SECONDS * self.slots / max(self.pace, 1e-4)), AHEAD_MOST))
        return 0 if self.outstanding > self.slots + ahead // 2 else self.slots + ahead - self.outstanding


class Workers:
    """Workers for a number of programs at a time. Use it as a context: leaving it ends all that they run, and them.

    Raises RunFault when one cannot be started.
    """

    def __init__(self, jobs: int) -> None:
        count = min(jobs, default_jobs())
        self.root = tempfile.mkdtemp(prefix="keen-matrix-")
        self.workers: list[Worker] = []
        try:
            for number in range(count):
                self.workers.append(Worker(jobs // count + (number < jobs % count)))
        except OSError as error:
            self.close()
            raise RunFault(f"no worker could be started: {error.strerror}") from None

    def close(self) -> None:
        """End every program that still runs, every worker, and remove every directory; a second time does nothing."""
        from keen_matrix.core.launch.directories import remove_tree

        for worker in self.workers:
            with contextlib.suppress(OSError):
                worker.control.shutdown(socket.SHUT_RDWR)
            worker.control.close()
        for worker in self.workers:
            try:
                worker.process.wait(CLOSE_SECONDS)
            except subprocess.TimeoutExpired:
                worker.process.kill()
                worker.process.wait()
        self.workers.clear()
        remove_tree(self.root)

    def __enter__(self) -> Workers:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
