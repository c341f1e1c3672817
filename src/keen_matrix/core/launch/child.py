"""One launch of a program: from starting it to the last byte of its output.

A launch is in one of these states, and only moves to the right:

    running ── deadline, flood or stop ──► terminating ── grace over ──► killed
       │                                        │                          │
       └────────────── exit seen ───────────────┴──────────────────────────┴──► draining ──► finished

Draining: the program is gone, but a process that it left behind may still hold its streams open. They get a short time,
then the whole process group is ended and what has come so far is taken.
"""

from __future__ import annotations

import contextlib
import errno
import os
import select
import signal
import sys
import time
from collections.abc import Mapping, Sequence
from typing import Protocol

from keen_matrix.core.launch.outcome import Outcome

TERMINATE_GRACE = 0.5
"""Seconds between SIGTERM and SIGKILL."""
DRAIN_GRACE = 0.3
"""Seconds that streams may stay open after the program itself has ended."""
UNKILLABLE_GRACE = 5.0
"""Seconds after SIGKILL until a process in an uninterruptible wait is given up."""
READ_BYTES = 65536
"""Bytes asked for at a time: what a pipe holds on Linux."""
PIPE_BYTES = 65536
"""Standard input up to this size fits in the pipe and is written before the program starts."""

_RESTORED = [signal.SIGPIPE, signal.SIGINT, signal.SIGTERM, signal.SIGCHLD, signal.SIGHUP, signal.SIGQUIT]
if hasattr(signal, "SIGXFSZ"):
    _RESTORED.append(signal.SIGXFSZ)
_RSS_UNIT = 1 if sys.platform == "darwin" else 1024
"""ru_maxrss counts kibibytes on Linux and bytes on macOS (getrusage(2))."""

READABLE = select.POLLIN | select.POLLHUP | select.POLLERR


class Poller(Protocol):
    """The part of epoll and poll objects that a launch uses."""

    def register(self, fd: int, eventmask: int = ..., /) -> None:
        """Watch a descriptor."""

    def unregister(self, fd: int, /) -> None:
        """Watch it no more."""


class Launch:
    """A running program. `handles` maps the descriptors that its events arrive on to the methods that take them."""

    __slots__ = (
        "_chunks", "_deadline", "_exited", "_open", "_stdin", "_stdin_left", "_step", "cap", "finished",
        "outcome", "pid", "poller", "started", "streams",
    )  # fmt: skip

    def __init__(self, poller: Poller, cap: int) -> None:
        self.poller, self.cap = poller, cap
        self.pid = 0
        self.outcome = Outcome()
        self.finished = False
        self.started = 0.0
        self.streams: dict[int, str] = {}
        self._chunks: dict[str, list[bytes]] = {"stdout": [], "stderr": []}
        self._open = 0
        self._stdin = -1
        self._stdin_left = memoryview(b"")
        self._exited = False
        self._step = "running"
        self._deadline = 0.0

    def start(
        self,
        file: str,
        argv: Sequence[str],
        env: Mapping[str, str],
        directory: str,
        stdin: bytes,
        timeout: float,
    ) -> None:
        """Start the program in a session of its own. Raises OSError or ValueError when the system refuses.

        The worker changes its own directory for the moment of the launch: posix_spawn has no portable way to set the
        child's, and a worker has one thread.
        """
        out_read, out_write = os.pipe()
        err_read, err_write = os.pipe()
        ours, theirs = [out_read, err_read], [out_write, err_write]
        try:
            actions: list[tuple[int, ...] | tuple[int, int, str, int, int]] = []
            if stdin:
                in_read, in_write = os.pipe()
                ours.append(in_write)
                theirs.append(in_read)
                actions.append((os.POSIX_SPAWN_DUP2, in_read, 0))
            else:
                actions.append((os.POSIX_SPAWN_OPEN, 0, os.devnull, os.O_RDONLY, 0))
            actions += [(os.POSIX_SPAWN_DUP2, out_write, 1), (os.POSIX_SPAWN_DUP2, err_write, 2)]
            os.chdir(directory)
            self.started = time.monotonic()
            self.pid = os.posix_spawn(
                file, list(argv), env, file_actions=actions, setsid=True, setsigmask=[], setsigdef=_RESTORED
            )
        except BaseException:
            for fd in (*ours, *theirs):
                os.close(fd)
            raise
        for fd in theirs:
            os.close(fd)
        self._deadline = self.started + timeout
        self.streams = {out_read: "stdout", err_read: "stderr"}
        self._open = 2
        self.poller.register(out_read, select.POLLIN)
        self.poller.register(err_read, select.POLLIN)
        if stdin:
            self._stdin, self._stdin_left = in_write, memoryview(stdin)
            os.set_blocking(in_write, False)
            self._feed()
            if self._stdin >= 0:
                self.poller.register(self._stdin, select.POLLOUT)

    def descriptors(self) -> list[int]:
        """Return the descriptors whose events belong to this launch."""
        return [*self.streams, *([self._stdin] if self._stdin >= 0 else [])]

    def on_event(self, fd: int) -> None:
        """Take the event of one of the descriptors."""
        if fd == self._stdin:
            self._feed()
        elif fd in self.streams:
            self._read(fd)
        self._settle()

    def _feed(self) -> None:
        """Write as much standard input as the pipe takes; a program that reads no further is no error."""
        try:
            while self._stdin_left:
                written = os.write(self._stdin, self._stdin_left[: 16 * PIPE_BYTES])
                self._stdin_left = self._stdin_left[written:]
        except BlockingIOError:
            return
        except (BrokenPipeError, ConnectionError):
            pass
        self._close_stdin()

    def _close_stdin(self) -> None:
        if self._stdin >= 0:
            with contextlib.suppress(OSError, ValueError):
                self.poller.unregister(self._stdin)
            os.close(self._stdin)
            self._stdin = -1
            self._stdin_left = memoryview(b"")

    def _read(self, fd: int) -> None:
        stream = self.streams[fd]
        try:
            chunk = os.read(fd, READ_BYTES)
        except OSError as error:
            if error.errno in (errno.EAGAIN, errno.EINTR):
                return
            chunk = b""
        if not chunk:
            self._close_stream(fd)
            return
        outcome, kept = self.outcome, self._chunks[stream]
        came = outcome.stdout_bytes if stream == "stdout" else outcome.stderr_bytes
        if came < self.cap:
            kept.append(chunk[: self.cap - came])
        came += len(chunk)
        if stream == "stdout":
            outcome.stdout_bytes = came
        else:
            outcome.stderr_bytes = came
        if came > self.cap and not outcome.flooded:
            outcome.flooded = stream
            self._kill()

    def _close_stream(self, fd: int) -> None:
        self.poller.unregister(fd)
        os.close(fd)
        del self.streams[fd]
        self._open -= 1

    def reap(self) -> None:
        """Ask whether the program has ended; never waits.

        It is left a zombie until the launch is finished: so long its number cannot be given to another process, and
        a signal to its group can hit nobody else.
        """
        if self._exited or self.finished:
            return
        if os.waitid(os.P_PID, self.pid, os.WEXITED | os.WNOHANG | os.WNOWAIT) is None:
            return
        now = time.monotonic()
        self._exited = True
        self.outcome.seconds = now - self.started
        self._close_stdin()
        self._step, self._deadline = "draining", now + DRAIN_GRACE
        self._settle()

    def _settle(self) -> None:
        if self._exited and self._open == 0:
            self._finish()

    @property
    def deadline(self) -> float:
        """The monotonic time at which on_deadline wants to be called."""
        return self._deadline

    def on_deadline(self, now: float) -> None:
        """Move to the next state when the time of this one is over."""
        if now < self._deadline or self.finished:
            return
        if self._step == "running":
            self.outcome.timed_out = True
            self._signal_group(signal.SIGTERM)
            self._signal_group(signal.SIGCONT)  # a stopped process takes no other signal
            self._step, self._deadline = "terminating", now + TERMINATE_GRACE
        elif self._step == "terminating":
            self._kill()
        else:
            self._give_up(now)

    def _kill(self) -> None:
        self._signal_group(signal.SIGKILL)
        self._step, self._deadline = "killed", time.monotonic() + UNKILLABLE_GRACE

    def _give_up(self, now: float) -> None:
        """End the draining, or leave alone a process that even SIGKILL did not end."""
        self._signal_group(signal.SIGKILL)
        poller = select.poll()
        for fd in list(self.streams):
            poller.register(fd, READABLE)
        while self.streams and (ready := poller.poll(0)) and self.outcome.flooded is None:
            for fd, _ in ready:
                if fd in self.streams:
                    self._read(fd)
                if fd not in self.streams:
                    poller.unregister(fd)
        for fd in list(self.streams):
            self._close_stream(fd)
        if not self._exited:
            self.outcome.seconds = now - self.started
        self._finish()

    def abort(self) -> None:
        """End the program at once and forget about it: the run is over."""
        if self.finished:
            return
        self._signal_group(signal.SIGKILL)
        for fd in list(self.streams):
            self._close_stream(fd)
        self._close_stdin()
        give_up_at = time.monotonic() + UNKILLABLE_GRACE
        with contextlib.suppress(ChildProcessError):
            while os.waitpid(self.pid, os.WNOHANG)[0] == 0 and time.monotonic() < give_up_at:
                time.sleep(0.002)
        self.finished = True

    def _signal_group(self, number: int) -> None:
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(self.pid, number)

    def _finish(self) -> None:
        self._signal_group(signal.SIGKILL)  # whatever the program left behind in its group
        self._close_stdin()
        outcome = self.outcome
        if self._exited:
            _, status, usage = os.wait4(self.pid, 0)
            if os.WIFSIGNALED(status):
                outcome.signal = os.WTERMSIG(status)
            else:
                outcome.exit = os.WEXITSTATUS(status)
            outcome.user_seconds, outcome.system_seconds = usage.ru_utime, usage.ru_stime
            outcome.peak_bytes = usage.ru_maxrss * _RSS_UNIT
        outcome.stdout = b"".join(self._chunks["stdout"])
        outcome.stderr = b"".join(self._chunks["stderr"])
        self.finished = True
