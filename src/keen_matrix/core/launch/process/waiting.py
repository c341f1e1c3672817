"""Whether a program waits for standard input that will never come: asked of the kernel, so that
nobody has to wait for a timeout.

A process that is blocked reading an empty pipe stays blocked until its writer, which is us, writes
or closes it. Linux tells the system call in which a thread is blocked, with its arguments, to the
owner of the process (proc(5), /proc/PID/task/TID/syscall). Elsewhere nothing is known, and the
timeout decides.
"""

from __future__ import annotations

import contextlib
import os
import platform
import struct
import sys
from collections.abc import Iterator, Sequence

#: Numbers of read and readv, by machine (asm/unistd.h).
_READS = {"x86_64": {0, 19}, "aarch64": {63, 65}}
#: Numbers of epoll_wait, epoll_pwait and epoll_pwait2: event loops wait by them.
_EPOLL_WAITS = {"x86_64": {232, 281, 441}, "aarch64": {22, 441}}
_POLLS = {"x86_64": {7}, "aarch64": set[int]()}
#: Numbers of poll, and of ppoll, whose timeout is after a pointer.
_TIMED_POLLS = {"x86_64": {271}, "aarch64": {73}}
#: Numbers of select and pselect6.
_SELECTS = {"x86_64": {23, 270}, "aarch64": {72}}
#: struct pollfd: descriptor, events asked for, events that came (poll.h).
_POLLFD = struct.Struct("=ihh")
_POLLIN = 1
#: Descriptors of a poll or select that are looked at.
MOST_POLLED = 1024
#: A timeout of -1, of 32 and of 64 bits: no time ends such a wait.
_FOREVER = {0xFFFFFFFF, 0xFFFFFFFFFFFFFFFF}
_NULL = 0
#: Processes of a program that are looked at.
MOST_PROCESSES = 64


def can_be_seen() -> bool:
    """Tell whether this system says in which call a process is blocked."""
    if not sys.platform.startswith("linux") or platform.machine() not in _READS:
        return False
    try:
        with open("/proc/self/syscall", "rb") as file:
            return bool(file.read())
    except OSError:
        return False


def waits_for_input(pid: int, pipe: str) -> bool:
    """Tell whether a program, or a process that it started, is blocked reading a pipe, and nothing
    of it runs meanwhile. `pipe` is how the kernel names the pipe: pipe:[inode]."""
    waiting = False
    for number in _family(pid):
        for syscall in _calls(number):
            if syscall[:1] == ["running"]:
                return False
            waiting = waiting or _reads(number, syscall, pipe)
    return waiting


def _family(pid: int) -> Iterator[int]:
    """Yield a process and what it started, the latest last."""
    found = [pid]
    for number in found:
        yield number
        if len(found) >= MOST_PROCESSES:
            return
        with contextlib.suppress(OSError, ValueError):
            for task in os.listdir(f"/proc/{number}/task"):
                with open(f"/proc/{number}/task/{task}/children", "rb") as file:
                    found += map(int, file.read().split())


def _calls(pid: int) -> Iterator[list[str]]:
    """Yield the system call of each thread: its number and arguments, or `running`."""
    with contextlib.suppress(OSError):
        for task in os.listdir(f"/proc/{pid}/task"):
            with contextlib.suppress(OSError), open(f"/proc/{pid}/task/{task}/syscall") as file:
                yield file.read().split()


def _reads(pid: int, syscall: list[str], pipe: str) -> bool:
    machine = platform.machine()
    try:
        number, *arguments = [int(each, 0) for each in syscall]
    except ValueError:
        return False
    if number in _READS[machine]:
        return _leads_to(pid, arguments[0], pipe)
    if number in _EPOLL_WAITS[machine]:
        # the pointer to a timeout of epoll_pwait2 is null where the wait has no end
        endless = arguments[3] == _NULL if number == 441 else arguments[3] in _FOREVER
        return endless and _is_polled(pid, arguments[0], pipe)
    if number in _POLLS[machine] | _TIMED_POLLS[machine]:
        # poll takes a negative timeout for none, of which the kernel shows the lower 32 bits alone
        endless = bool(arguments[2] & 0x80000000) if number in _POLLS[machine] else arguments[2] == _NULL
        asked = _polled(pid, arguments[0], arguments[1]) if endless else ()
        return any(_leads_to(pid, fd, pipe) for fd in asked)
    if number in _SELECTS[machine]:
        asked = _selected(pid, arguments[1], arguments[0]) if arguments[4] == _NULL else ()
        return any(_leads_to(pid, fd, pipe) for fd in asked)
    return False


def _polled(pid: int, address: int, count: int) -> Sequence[int]:
    """Return the descriptors that a poll waits to read from."""
    memory = _memory(pid, address, min(count, MOST_POLLED) * _POLLFD.size)
    return [fd for fd, events, _ in _POLLFD.iter_unpack(memory) if events & _POLLIN]


def _selected(pid: int, address: int, count: int) -> Sequence[int]:
    """Return the descriptors that a select waits to read from: bits of a set (select(2))."""
    count = min(count, MOST_POLLED)
    memory = _memory(pid, address, (count + 7) // 8) if address != _NULL else b""
    return [fd for fd in range(len(memory) * 8) if memory[fd // 8] >> fd % 8 & 1]


def _memory(pid: int, address: int, size: int) -> bytes:
    """Return some memory of a process of ours; none where the system does not let us read it, or
    the process is gone."""
    with contextlib.suppress(OSError, OverflowError, ValueError):
        with open(f"/proc/{pid}/mem", "rb", buffering=0) as file:
            file.seek(address)
            found = file.read(size)
        return found if len(found) == size else b""
    return b""


def _leads_to(pid: int, fd: int, pipe: str) -> bool:
    try:
        return os.readlink(f"/proc/{pid}/fd/{fd}") == pipe
    except OSError:
        return False


def _is_polled(pid: int, epoll: int, pipe: str) -> bool:
    """Tell whether an epoll object watches a pipe (proc(5), fdinfo: a line `tfd:` each)."""
    with contextlib.suppress(OSError, ValueError), open(f"/proc/{pid}/fdinfo/{epoll}") as file:
        watched = [int(line.split()[1]) for line in file if line.startswith("tfd:")]
        return any(_leads_to(pid, fd, pipe) for fd in watched)
    return False
