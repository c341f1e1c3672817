"""Finding and ending the processes that a program left behind, and nobody else's.

On Linux a worker is the subreaper of everything below it (prctl(2)): whatever a program starts, in
a new session or by forking twice, becomes the worker's own child once its parent is gone. A child
of ours that we did not start ourselves was left behind; which case it belongs to is told by its
session, or by the home directory in its environment.
"""

from __future__ import annotations

import contextlib
import ctypes
import os
import resource
import signal
import sys
import time
from collections.abc import Collection, Sequence

PR_SET_CHILD_SUBREAPER = 36
#: ru_maxrss counts kibibytes on Linux and bytes on macOS (getrusage(2)).
RSS_UNIT = 1 if sys.platform == "darwin" else 1024
#: Seconds that processes get to end by themselves once their program has.
FIRST_WAIT = 0.1
#: Time that a process gets to be gone after SIGKILL.
END_SECONDS = 5.0
#: Generations of processes that are ended one after another, before something that breeds faster
#: is given up.
ROUNDS = 50


def become_subreaper() -> bool:
    """Have the system hand orphaned descendants to this process; tell whether it does."""
    if not sys.platform.startswith("linux"):
        return False
    try:
        return bool(ctypes.CDLL(None, use_errno=True).prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) == 0)
    except (OSError, AttributeError):
        return False


def own_peak() -> int:
    """Return this process's own peak memory in bytes: no program can be seen to have taken less."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * RSS_UNIT


def forget_peak() -> None:
    """Have the kernel forget our own peak memory after a large output, or every later program
    would show it (proc(5), clear_refs)."""
    with contextlib.suppress(OSError), open("/proc/self/clear_refs", "w") as file:
        file.write("5")


def children() -> list[int]:
    """Return the numbers of this process's children, zombies included."""
    me = os.getpid()
    try:
        with open(f"/proc/self/task/{me}/children", "rb") as file:
            return [int(each) for each in file.read().split()]
    except OSError:
        # A kernel without CONFIG_PROC_CHILDREN has no such file.
        return [pid for pid in _all_processes() if _parent(pid) == me]


def _all_processes() -> list[int]:
    return [int(each) for each in os.listdir("/proc") if each.isdecimal()]


def _stat_fields(pid: int) -> list[bytes]:
    """Return the fields of /proc/PID/stat after the name: state, parent, group, session, …
    (proc(5)); [] when it is gone."""
    try:
        with open(f"/proc/{pid}/stat", "rb") as file:
            # The name before it, in parentheses, may hold parentheses and spaces of its own.
            return file.read().rpartition(b")")[2].split()
    except OSError:
        return []


def _parent(pid: int) -> int:
    fields = _stat_fields(pid)
    return int(fields[1]) if len(fields) > 1 else 0


def name_of(pid: int) -> str:
    """Return the name of a process, or its number when it is gone."""
    try:
        with open(f"/proc/{pid}/comm", "rb") as file:
            return file.read().decode("utf-8", "replace").strip()
    except OSError:
        return str(pid)


def is_zombie(pid: int) -> bool:
    """Tell whether a process has ended and only waits to be reaped."""
    fields = _stat_fields(pid)
    return not fields or fields[0] == b"Z"


def belongs_to(pid: int, session: int, home: str) -> bool | None:
    """Tell whether a process was started by the program of a session, or has a case's home in its
    environment.

    None when that cannot be reported: its environment is empty, as it is for a moment while it
    becomes another program."""
    fields = _stat_fields(pid)
    if len(fields) > 3 and int(fields[3]) == session:
        return True
    try:
        with open(f"/proc/{pid}/environ", "rb") as file:
            environment = file.read()
            # Every case has a home of its own, and hardly a program gives its children another.
            return b"HOME=" + os.fsencode(home) in environment.split(b"\0") if environment else None
    except OSError:
        return False


def started_since(pid: int, moment: float) -> bool:
    """Tell whether a process was started at or after a moment of the monotonic clock, to the
    kernel's tick of time."""
    fields = _stat_fields(pid)
    if len(fields) < 20 or not hasattr(time, "CLOCK_BOOTTIME"):
        return False
    started = int(fields[19]) / os.sysconf("SC_CLK_TCK")
    since_boot = time.clock_gettime(time.CLOCK_BOOTTIME) - (time.monotonic() - moment)
    # Two clocks are compared: the kernel's counts from the boot and through sleep, ours does not.
    return started >= since_boot - 1 / os.sysconf("SC_CLK_TCK")


def session_of(pid: int) -> int:
    """Return the session of a process; 0 when it is gone."""
    fields = _stat_fields(pid)
    return int(fields[3]) if len(fields) > 3 else 0


class Orphans:
    """What a worker that was killed had started: on Linux it becomes the engine's own child once
    its parent is gone.

    Children that were there before, and those of our own session, are never touched.
    """

    def __init__(self) -> None:
        self._before: frozenset[int] = frozenset()
        self._ours = become_subreaper()

    def begin(self) -> None:
        """Take note of the children that are there, so that they are left alone."""
        if self._ours:
            self._before |= frozenset(children())

    def end(self, known: Collection[int]) -> None:
        """End all orphans and reap them; `known` are the workers."""
        session = os.getsid(0)
        # Ending one makes its children ours, which are ended in the next round.
        for _ in range(ROUNDS if self._ours else 0):
            orphans = [
                pid
                for pid in children()
                if pid not in self._before and pid not in known and session_of(pid) not in (0, session)
            ]
            if not orphans:
                return
            end(orphans)

    def release(self) -> None:
        """Let go: orphans are the system's again."""
        if self._ours:
            ctypes.CDLL(None, use_errno=True).prctl(PR_SET_CHILD_SUBREAPER, 0, 0, 0, 0)


def reap_strays(known: set[int]) -> list[int]:
    """Reap children that have ended and are nobody's; return those that still run."""
    running = []
    for pid in children():
        if pid in known:
            continue
        if is_zombie(pid):
            try:
                os.waitpid(pid, os.WNOHANG)
            except ChildProcessError:
                continue
        else:
            running.append(pid)
    return running


def end(pids: list[int]) -> None:
    """End some children of ours and reap them; one in an uninterruptible wait is given up after
    END_SECONDS."""
    for pid in pids:
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, signal.SIGKILL)
    until = time.monotonic() + END_SECONDS
    for pid in pids:
        with contextlib.suppress(ChildProcessError):
            # Asked and not waited for: a process in an uninterruptible sleep would pass the worker
            # for ever.
            while os.waitpid(pid, os.WNOHANG)[0] == 0 and time.monotonic() < until:
                time.sleep(0.001)


def end_unclaimed(root: str, workers: Sequence[int]) -> None:
    """End every process whose home directory is below a directory and that no worker looks after.

    That is what a worker which was killed has left behind, where it did not become a child of ours.
    """
    if not sys.platform.startswith("linux"):
        return
    for _ in range(ROUNDS):
        running = [
            pid
            for pid in _all_processes()
            if _lives_below(pid, root) and not is_zombie(pid) and not _descends_from(pid, workers)
        ]
        if not running:
            return
        for pid in running:
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.kill(pid, signal.SIGKILL)
        time.sleep(0.01)


def _descends_from(pid: int, ancestors: Sequence[int]) -> bool:
    """Tell whether a process is a child, or a child's child, of one of some processes."""
    for _ in range(MOST_ANCESTORS):
        pid = _parent(pid)
        if pid in ancestors:
            return True
        if pid <= 1:
            return False
    return False


#: Parents that are looked up at most: process numbers that are used again could lead round in a
#: circle.
MOST_ANCESTORS = 10_000


def _lives_below(pid: int, root: str) -> bool:
    try:
        with open(f"/proc/{pid}/environ", "rb") as file:
            # A slash after it: a directory whose name only begins so is another one.
            return b"\0HOME=" + os.fsencode(root) + b"/" in b"\0" + file.read()
    except OSError:
        return False
