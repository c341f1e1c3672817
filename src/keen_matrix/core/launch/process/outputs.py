"""Our reading ends of a program's streams."""

from __future__ import annotations

import errno
import os
import select

from keen_matrix.core.launch.process.plumbing import Plumbing
from keen_matrix.core.launch.process.system import READABLE, Poller

#: Bytes asked for at a time: what a pipe takes on Linux.
READ_BYTES = 65536


class Outputs:
    """The streams of a launch that are open still."""

    __slots__ = ("_held", "_poller", "streams")

    def __init__(self, plumbing: Plumbing, poller: Poller) -> None:
        #: Descriptor → stream.
        self.streams = plumbing.streams
        self._held = plumbing.held
        self._poller = poller

    def watch(self) -> None:
        """Have the poller tell when something can be read. Raises OSError when it has no room."""
        for fd in self.streams:
            self._poller.register(fd, select.POLLIN)

    def let_go(self) -> None:
        """Close the writing ends that were held while the program ran: from now on a stream ends
        when the last process that has it is gone."""
        while self._held:
            os.close(self._held.pop())

    def read(self, fd: int) -> bytes | None:
        """Return what can be read of a stream, b"" at its end, which closes it, and None when
        nothing has come."""
        try:
            chunk = os.read(fd, READ_BYTES)
        except OSError as error:
            if error.errno in (errno.EAGAIN, errno.EINTR):
                return None
            chunk = b""  # EIO: the last process has closed the terminal
        if not chunk:
            self.close(fd)
        return chunk

    def ready(self) -> list[int]:
        """Return the descriptors from which something can be read now, or which are at their
        end."""
        poller = select.poll()
        for fd in self.streams:
            poller.register(fd, READABLE)
        return [fd for fd, _ in poller.poll(0)]

    def close(self, fd: int) -> None:
        """Close one.

        Closing is not enough for epoll: for a moment after posix_spawn returns, a child of another
        launch still has a copy of the descriptor (exec wakes the parent before it closes them), and
        its events would go on.
        """
        self._poller.unregister(fd)
        os.close(fd)
        del self.streams[fd]

    def close_all(self) -> None:
        """Close what is open still."""
        self.let_go()
        for fd in list(self.streams):
            self.close(fd)
