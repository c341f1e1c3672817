"""Standard input of a launch: what is written to it, and when it is closed."""

from __future__ import annotations

import contextlib
import os
import select

from keen_matrix.core.launch.process.plumbing import END_OF_FILE, Plumbing
from keen_matrix.core.launch.process.system import NOT_WATCHED, Poller

#: Bytes offered at a time; a pipe takes what it has room for.
WRITE_BYTES = 1 << 20
NOTHING = memoryview(b"")


class StandardInput:
    """Our end of a program's standard input.

    It is closed once all is written, unless replies may follow or it is to stay open and silent. A
    program that reads no further is no error.
    """

    __slots__ = ("_left", "_poller", "_stays_open", "fd", "terminal")

    def __init__(self, plumbing: Plumbing, poller: Poller, *, stays_open: bool) -> None:
        #: Descriptors of our own; -1 for none, and for one that was closed.
        self.fd, self.terminal = plumbing.writing, plumbing.terminal
        self._left = memoryview(plumbing.text) if plumbing.text else NOTHING
        self._poller = poller
        # A terminal stays open by its other end; this one is a copy that is only written to.
        self._stays_open = stays_open and self.terminal < 0

    def begin(self) -> None:
        """Write what fits at once; the rest follows as the program reads."""
        if self.fd >= 0 and self._left:
            self.feed()
            if self.fd >= 0 and self._left:
                self._poller.register(self.fd, select.POLLOUT)

    def feed(self) -> None:
        """Write as much as the pipe takes."""
        try:
            while self._left:
                self._left = self._left[os.write(self.fd, self._left[:WRITE_BYTES]) :]
        except BlockingIOError:
            return
        except OSError:  # nobody reads any more
            self._stays_open = False
        if self._stays_open:
            with contextlib.suppress(*NOT_WATCHED):
                self._poller.unregister(self.fd)
        else:
            self.close()

    def reply(self, text: bytes, *, last: bool) -> None:
        """Give a reply. Standard input is closed after the last one, unless it is a terminal."""
        with contextlib.suppress(OSError):  # the program is gone, which is seen elsewhere
            if self.terminal >= 0:
                os.write(self.terminal, text)
            elif self.fd >= 0:
                # A reply may come while the text before it is still on its way.
                self._left = memoryview(bytes(self._left) + text)
                self._stays_open = not last
                self.feed()

    def end_typing(self) -> None:
        """Have the input end: a terminal by what is typed there, a pipe by being closed."""
        if self.terminal >= 0:
            self.reply(END_OF_FILE, last=True)
        elif not self._left:
            self.close()
        self._stays_open = False

    def close(self) -> None:
        """Close it; a second time does nothing."""
        if self.fd >= 0:
            with contextlib.suppress(*NOT_WATCHED):
                self._poller.unregister(self.fd)
            os.close(self.fd)
            self.fd, self._left = -1, NOTHING
