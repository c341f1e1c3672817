"""What this system can do for launches, found out once and passed to whoever needs it."""

from __future__ import annotations

import os
import select
import signal
from typing import Protocol

from keen_matrix.core.launch.directories import leftovers
from keen_matrix.core.launch.process.waiting import can_be_seen
from keen_matrix.core.structs import Struct

#: What epoll and poll objects say when they are to forget a descriptor that they do not watch.
NOT_WATCHED = (OSError, ValueError, KeyError)
READABLE = select.POLLIN | select.POLLHUP | select.POLLERR


class Poller(Protocol):
    """The part of epoll and poll objects that launches and workers use."""

    def register(self, fd: int, eventmask: int = ..., /) -> None:
        """Watch a descriptor."""

    def unregister(self, fd: int, /) -> None:
        """Watch it no more."""

    def poll(self, timeout: float | None = ..., /) -> list[tuple[int, int]]:
        """Return the descriptors on which something has happened, with what it is."""
        ...


class System(Struct, frozen=True, kw_only=True):
    """What a system can do. A lesser one does the same work with more waiting and looking."""

    #: Whether every descendant of a program becomes ours when its parent is gone (prctl(2)), so
    #: that we can end it; else only the program's process group is ended.
    subreaper: bool = False
    #: Whether the end of a process can be waited for by a descriptor (pidfd_open(2)); else SIGCHLD
    #: wakes the worker.
    pidfds: bool = False
    #: Whether the kernel says in which call a process is blocked; else a program that waits for
    #: input is seen by its timeout.
    sees_calls: bool = False
    #: Whether descriptors are watched by epoll(7), which forgets those that are closed; else by
    #: poll(2), whose times are milliseconds.
    epoll: bool = False

    def poller(self) -> Poller:
        """Return a new object that watches descriptors."""
        return select.epoll() if self.epoll else select.poll()

    @property
    def poll_unit(self) -> int:
        """How many of the poller's units of time make a second: epoll objects count seconds, poll
        objects milliseconds."""
        return 1 if self.epoll else 1000


def enter_system() -> System:
    """Make this process one that owns launches, as far as the system lets it, and return what it
    can do."""
    return System(
        subreaper=leftovers.become_subreaper(),
        pidfds=pidfds_work(),
        sees_calls=can_be_seen(),
        epoll=hasattr(select, "epoll"),
    )


def pidfds_work() -> bool:
    """Tell whether the system has descriptors that tell of a process's end: Linux since 5.3,
    unless a sandbox forbids them."""
    try:
        os.close(os.pidfd_open(os.getpid()))
    except (AttributeError, OSError):
        return False
    return True


class Wakeups:
    """A descriptor that can be read after a child has ended, where nothing else tells."""

    def __init__(self) -> None:
        self.fd, wake = os.pipe()
        os.set_blocking(self.fd, False)
        os.set_blocking(wake, False)
        signal.set_wakeup_fd(wake, warn_on_full_buffer=False)
        # a handler must stand for the byte to be written
        signal.signal(signal.SIGCHLD, lambda *_: None)

    def drain(self) -> None:
        """Take the bytes that have come; one for many ends is enough."""
        try:
            while len(os.read(self.fd, 4096)) == 4096:
                pass
        except BlockingIOError:
            pass
