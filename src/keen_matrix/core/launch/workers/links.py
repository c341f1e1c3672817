"""The worker processes of a run, as the engine sees them.

They can be started before anything else is known, so that their start-up hides after the reading
of the specs; this module imports little for that. A worker is a fresh interpreter, or, for a
caller that has one thread and has loaded little, a fork: then all of them share one start-up.
"""

from __future__ import annotations

import atexit
import contextlib
import os
import signal
import socket
import sys
import tempfile
import time
import traceback
from collections.abc import Callable, Iterator
from typing import Any, NoReturn

from keen_matrix.core import interruption
from keen_matrix.core.errors import RunFault
from keen_matrix.core.launch.process.state import STOPPED_LOOKS
from keen_matrix.core.launch.workers.frames import FrameReader
from keen_matrix.core.launch.workers.handover import CONTROL

#: Work that waits at a worker: enough to keep it busy while the engine looks elsewhere, little to
#: lose at the end.
AHEAD_SECONDS = 0.05
AHEAD_MOST = 64
#: Time that workers get to end their programs and leave.
CLOSE_SECONDS = 8.0


#: What the interpreter of a worker runs.
START = "from keen_matrix.core.launch.workers.worker import main; main()"
#: Signals that end a run. A terminal, or who ends a process group, sends them to workers too,
#: which leave them to the engine.
ENDING = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT)
#: WorkerSet up to which each has one program at a time: only then what a program leaves behind is
#: surely told to be its own.
ALONE_MOST = 32


class Process:
    """The process of a worker. Its end is asked for here alone."""

    def __init__(self, pid: int) -> None:
        self.pid = pid
        self._status: int | None = None
        self._stopped = False

    def look(self) -> str:
        """Return "running", "stopped" or "ended"; never waits."""
        while self._status is None:
            try:
                # Stops and continuations come one at a time, so it asks until nothing is left: only
                # the last tells how it stands now.
                pid, status = os.waitpid(self.pid, os.WNOHANG | os.WUNTRACED | os.WCONTINUED)
            except ChildProcessError:  # somebody else has reaped it
                self._status = -1
                break
            if not pid:
                return "stopped" if self._stopped else "running"
            if os.WIFSTOPPED(status) or os.WIFCONTINUED(status):
                self._stopped = os.WIFSTOPPED(status)
            else:
                self._status = os.waitstatus_to_exitcode(status)
        return "ended"

    def wait(self, timeout: float | None = None) -> int:
        """Wait for its end and return its exit status, negative for a signal. Raises TimeoutError
        when time is over."""
        until = None if timeout is None else time.monotonic() + timeout
        pause = 0.0005
        while self._status is None:
            try:
                pid, status = os.waitpid(self.pid, 0 if until is None else os.WNOHANG)
            except ChildProcessError:
                self._status = -1
                break
            if pid:
                self._status = os.waitstatus_to_exitcode(status)
            elif until is not None:
                if time.monotonic() >= until:
                    raise TimeoutError
                time.sleep(pause)
                # Most ends come within a millisecond; one that does not is no reason to keep a
                # processor busy.
                pause = min(2 * pause, 0.05)
        return self._status

    def kill(self) -> None:
        """Send SIGKILL; nothing once its end was seen, when another process may have its number."""
        if self._status is None:
            with contextlib.suppress(ProcessLookupError):
                os.kill(self.pid, signal.SIGKILL)


def default_jobs() -> int:
    """Return the number of processors this process may use, or what PYTHON_CPU_COUNT says instead:
    so Python itself counts them from 3.13 on (os.process_cpu_count)."""
    # A container that gets the time of two of its machine's 64 processors sees all of them.
    told = os.environ.get("PYTHON_CPU_COUNT", "")
    if told.isdecimal() and int(told) > 0:
        return int(told)
    affinity = getattr(os, "sched_getaffinity", None)
    return len(affinity(0)) if affinity else os.cpu_count() or 1


class WorkerLink:
    """The engine's end of one worker, which can run `jobs` programs at a time."""

    __slots__ = (
        "cases",
        "control",
        "fault",
        "jobs",
        "pace",
        "process",
        "reader",
        "ready",
        "solitary",
        "stopped",
        "unsent",
    )

    def __init__(self, jobs: int, start: Callable[[socket.socket], Process]) -> None:
        self.jobs = jobs
        #: Cases that it has and that are not finished, as they travel, by sequence and id.
        self.cases: dict[tuple[int, str], Any] = {}
        #: Whether it has taken a plan: what ends it before that is none of the programs'.
        self.ready = False
        #: Whether it runs a single case on which another worker has ended.
        self.solitary = False
        #: What it said when it ended on its own.
        self.fault = ""
        #: Looks in a row that found it stopped.
        self.stopped = 0
        #: Seconds that a case takes, smoothed.
        self.pace = 0.05
        self.unsent = bytearray()
        self.reader = FrameReader()
        self.control, theirs = socket.socketpair()
        with theirs:
            self.process = start(theirs)
        self.control.setblocking(False)

    @property
    def outstanding(self) -> int:
        """How many cases it has that are not finished."""
        return len(self.cases)

    @property
    def wanted(self) -> int:
        """How many more cases the worker should have; 0 while it still has half of them, so that
        they travel together."""
        if self.solitary:
            return 0
        # As many as take a moment: quick programs need a queue, and of slow ones each case that
        # waits here might run elsewhere.
        ahead = max(1, min(int(AHEAD_SECONDS * self.jobs / max(self.pace, 1e-4)), AHEAD_MOST))
        return 0 if self.outstanding > self.jobs + ahead // 2 else self.jobs + ahead - self.outstanding

    def hand(self, batch: list[Any], packed: bytes) -> None:
        """Hand cases to it, as they are and as they travel: they are sent as soon as it takes
        them."""
        # By sequence too: one id may be in two matrices.
        for each in batch:
            self.cases[each.sequence, each.id] = each
        self.unsent += packed

    def send(self) -> None:
        """Send as much of what waits as it takes at once."""
        try:
            sent = self.control.send(self.unsent)
            del self.unsent[:sent]
        except BlockingIOError:
            pass
        except OSError:
            self.unsent.clear()  # the worker is gone; reading from it says so

    def stays_stopped(self) -> bool:
        """Look whether it can still do its work; True when it was stopped at several looks in a
        row."""
        stopped = self.process.look() == "stopped"
        # Whoever stops a whole run by Ctrl-Z continues it in a moment; a worker that a program has
        # stopped stays so.
        self.stopped = self.stopped + 1 if stopped else 0
        return self.stopped >= STOPPED_LOOKS


@contextlib.contextmanager
def signals_blocked() -> Iterator[None]:
    """Have signals that end a run wait: a worker that starts meanwhile has them blocked until it
    ignores them."""
    # Between fork and the first line of the worker an interruption would end it, or run our own
    # handler in it.
    before = signal.pthread_sigmask(signal.SIG_BLOCK, ENDING)
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def spawn(control: socket.socket) -> Process:
    """Start a worker as a fresh interpreter on its end of a socket."""
    # Without site packages of its own: it gets our path, and starts sooner.
    words = [sys.executable, "-P", "-S", "-c", START]
    # What we import it must import too, from the same places.
    env = {**os.environ, "PYTHONPATH": os.pathsep.join(each for each in sys.path if each)}
    os.set_inheritable(control.fileno(), True)  # should it have that number already
    actions = [(os.POSIX_SPAWN_DUP2, control.fileno(), CONTROL)]
    return Process(os.posix_spawn(sys.executable, words, env, file_actions=actions))


def fork(control: socket.socket) -> Process:
    """Start a worker as a fork of this process on its end of a socket."""
    from keen_matrix.core.launch.workers import worker  # once for all of them

    _flush_streams()  # or a worker would write a second time what waits there
    pid = os.fork()
    if pid == 0:
        _be_worker(worker.serve_cases, control.fileno())
    return Process(pid)


def _be_worker(serve: Callable[[], bool], control: int) -> NoReturn:
    """Work in a fork, and end without going back to what the process that it came from was
    doing."""
    status = 1
    try:
        # What the process registered that it came from is not the worker's to do: temporary
        # directories would be removed twice.
        atexit._clear()
        os.dup2(control, CONTROL)
        if serve():
            atexit._run_exitfuncs()
            _flush_streams()
        status = 0
    except BaseException:
        if "KEEN_MATRIX_TRACEBACK" in os.environ:
            traceback.print_exc()
    finally:
        os._exit(status)


def _flush_streams() -> None:
    for stream in (sys.stdout, sys.stderr):
        stream.flush()


def may_fork() -> bool:
    """Tell whether this process can be forked without harm: on Linux, with one thread, also of the
    libraries it loaded."""
    try:
        # A fork has one thread; a lock that another one held would stay locked in it for ever.
        return len(os.listdir("/proc/self/task")) == 1
    except OSError:
        return False


class WorkerSet:
    """WorkerSet for a number of programs at a time. Use it as a context: leaving it ends all that
    they run, and them.

    `forked` lets them be forks of this process, for a caller that has loaded little so far: what
    it has in memory counts into the peak of every program. Those are started when the context is
    entered: a signal between the two, which is handled as soon as a call returns, would leave them
    behind. Raises RunFault when one cannot be started.
    """

    def __init__(self, jobs: int, *, forked: bool = False) -> None:
        self._jobs, self._start_one = jobs, fork if forked and may_fork() else spawn
        self.workers: list[WorkerLink] = []
        self.root = ""
        #: Directories that could not be removed, each with the reason.
        self.left_behind: list[str] = []
        self._identity: Any = None
        self._orphans: Any = None
        self._generation = 0
        if not forked:
            self._start()

    def _start(self) -> None:
        count = min(self._jobs, max(default_jobs(), ALONE_MOST))
        try:
            with signals_blocked():
                self.root = tempfile.mkdtemp(prefix="keen-matrix-")
                # Its identity, since a program can put another directory, or a link, where this one
                # was, and it is removed at the end.
                info = os.lstat(self.root)
                self._identity = (info.st_dev, info.st_ino)
                for number in range(count):
                    # More programs than workers are shared out evenly; the first ones take what is
                    # left over.
                    most = self._jobs // count + (number < self._jobs % count)
                    self.workers.append(WorkerLink(most, self._start_one))
        except OSError as error:
            self.close()
            raise RunFault(f"no worker could be started: {error.strerror}") from None
        except BaseException:  # a signal that was blocked
            self.close()
            raise

    def watch(self) -> None:
        """Begin to look after the workers: what is a child of ours by now is never taken for
        something that one has left."""
        from keen_matrix.core.launch.directories.leftovers import Orphans

        if self._orphans is None:
            self._orphans = Orphans()
        self._orphans.begin()

    def replace(self, worker: WorkerLink) -> WorkerLink:
        """End a worker that is lost, and all that it ran, and return another in its place. Raises
        RunFault."""
        at = self.workers.index(worker)
        self._end(worker)
        # In a directory of its own: what ran under the lost worker may still write where it was.
        self._generation += 1
        try:
            with signals_blocked():
                self.workers[at] = WorkerLink(
                    worker.jobs, fork if may_fork() and "pydantic" not in sys.modules else spawn
                )
        except OSError as error:
            raise RunFault(f"no other worker could be started: {error.strerror}") from None
        return self.workers[at]

    def root_of(self, worker: WorkerLink) -> str:
        """Return the directory that a worker makes those of its cases in."""
        generation = f".{self._generation}" if self._generation else ""
        return os.path.join(self.root, f"{self.workers.index(worker)}{generation}")

    def _end(self, worker: WorkerLink) -> None:
        """Kill a worker and all that it ran."""
        worker.process.kill()
        worker.process.wait()
        with contextlib.suppress(OSError):
            worker.control.close()
        self._end_orphans()

    def _end_orphans(self) -> None:
        from keen_matrix.core.launch.directories.leftovers import end_unclaimed

        if self._orphans is not None:
            self._orphans.end({each.process.pid for each in self.workers})
        end_unclaimed(
            self.root, [each.process.pid for each in self.workers if each.process.look() != "ended"]
        )

    def close(self) -> None:
        """End every program that still runs, every worker, and remove every directory; a second
        time does nothing."""
        # A second Ctrl-C here would leave programs running and directories behind; it waits until
        # they are gone.
        with interruption.not_now():
            self._close()

    def _close(self) -> None:
        for worker in self.workers:
            with contextlib.suppress(OSError):
                # All are reported first and awaited then, so that they end side by side.
                worker.control.shutdown(socket.SHUT_RDWR)
            worker.control.close()
        lost = False
        until = time.monotonic() + CLOSE_SECONDS
        for worker in self.workers:
            # A stopped process takes no notice of its socket; SIGKILL is the one signal that it
            # cannot put off.
            if worker.process.look() == "stopped":  # it could not end anything
                worker.process.kill()
            try:
                # All share one time: eight workers that hang are not waited for eight times.
                lost |= worker.process.wait(max(until - time.monotonic(), 0.0)) != 0
            except TimeoutError:
                worker.process.kill()
                worker.process.wait()
                lost = True
        self.workers.clear()
        if lost:  # it did not end what it ran
            self._end_orphans()
        if self._orphans is not None:
            self._orphans.release()
            self._orphans = None
        self._remove()

    def _remove(self) -> None:
        """Remove the shared directory, and those that workers began beside it when theirs was
        taken away."""
        from keen_matrix.core.launch.directories.trees import Identity, remove_tree

        if not self.root:
            return
        above, name = os.path.split(self.root)
        places = [(self.root, Identity(*self._identity))] if self._identity else []
        with contextlib.suppress(OSError):
            places += [
                (os.path.join(above, each), Identity.of(os.lstat(os.path.join(above, each))))
                for each in os.listdir(above)
                if each.startswith(f"{name}+")
            ]
        for path, identity in places:
            reason = remove_tree(path, identity)
            if reason:
                self.left_behind.append(f"{path}: {reason}")
        self.root = ""

    def __enter__(self) -> WorkerSet:
        if not self.root:
            self._start()
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
