"""Launches that are no cases, each with a process of ours between it and us: what a program does to
its parent, and to its group, it does to that process.

The workers of a run are such processes for its cases. These launches come before there are any:
they tell what a program imports, what a launcher starts, or serve the cases from beside."""

from __future__ import annotations

import contextlib
import marshal
import os
import select
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Mapping, Sequence

from keen_matrix.core.launch.process.state import STOPPED_LOOKS, STOPPED_SECONDS

#: Time for the process between to start, and to start the program.
START_SECONDS = 20.0
#: Signals that a program finds as a shell would have them: an interpreter ignores some.
PLAIN = (int(signal.SIGPIPE), int(signal.SIGXFSZ), int(signal.SIGINT), int(signal.SIGQUIT))
PROCESS = os.path.join(os.path.dirname(os.path.abspath(__file__)), "between_process.py")


class Between:
    """One launch, which leads a session of its own. Nothing stands on its standard input."""

    def __init__(
        self,
        words: Sequence[str],
        *,
        file: str,
        directory: str,
        env: Mapping[str, str],
        stdout: int,
        stderr: int,
    ) -> None:
        """Start a file with words, the first of them its name, in a directory. `stdout` and
        `stderr` are descriptors, which stay the caller's. Raises OSError."""
        #: The number of the program's process, which is that of its group.
        self.pid = 0
        #: How it ended, as subprocess has it: its exit status, or a signal's number below 0.
        self.returncode: int | None = None
        self._said = b""
        self._control, theirs = socket.socketpair()
        with theirs:
            self._between = subprocess.Popen(
                [sys.executable, "-I", "-S", PROCESS, str(theirs.fileno())],
                pass_fds=[theirs.fileno()],
                stdin=subprocess.DEVNULL,
                stdout=stdout,
                stderr=stderr,
                start_new_session=True,
            )
        asked = marshal.dumps((file, list(words), directory, dict(env), PLAIN))
        try:
            self._control.sendall(len(asked).to_bytes(8, "big") + asked)
            told = self._line(START_SECONDS)
        except BaseException:
            self.end()
            raise
        if not told or told[:1] != b"p":
            self.end()
            number = int(told[1:]) if told else 0
            raise OSError(number, os.strerror(number) if number else "it did not start")
        self.pid = int(told[1:])

    def _line(self, seconds: float | None) -> bytes | None:
        """Return the next line of the process between; None where it does not come in time, an
        empty one where none will."""
        due = time.monotonic() + seconds if seconds is not None else None
        while b"\n" not in self._said:
            left = max(0.0, due - time.monotonic()) if due is not None else None
            if not select.select([self._control], [], [], left)[0]:
                return None
            try:
                piece = self._control.recv(4096)
            except OSError:
                piece = b""
            if not piece:
                return b""
            self._said += piece
        line, _, self._said = self._said.partition(b"\n")
        return line

    def wait(self, seconds: float | None) -> int | None:
        """Return how it ended, None where it still runs after some seconds. Where the program has
        ended or stopped the process between, it counts as ended by KILL: nobody is left to tell."""
        due = time.monotonic() + seconds if seconds is not None else None
        looks = 0
        while self.returncode is None:
            left = max(0.0, due - time.monotonic()) if due is not None else STOPPED_SECONDS
            told = self._line(min(left, STOPPED_SECONDS))
            # Whoever stops a whole run continues it as a whole; a process that is found stopped
            # twice was stopped by the program.
            looks = looks + 1 if told is None and self._is_stopped() else 0
            if told is not None or looks == STOPPED_LOOKS:
                self.returncode = int(told[1:]) if told and told[:1] == b"e" else -signal.SIGKILL
            elif due is not None and time.monotonic() >= due:
                return None
        return self.returncode

    def _is_stopped(self) -> bool:
        """Tell whether the process between is stopped. Where the system does not tell, it is
        not."""
        if not hasattr(os, "waitid"):  # macOS, before Python 3.13
            return False
        looked = os.WSTOPPED | os.WNOHANG | os.WNOWAIT
        return os.waitid(os.P_PID, self._between.pid, looked) is not None

    def send(self, number: int) -> None:
        """Send a signal to the program's group."""
        if self.pid:
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.killpg(self.pid, number)

    def end(self) -> None:
        """End what still runs of it, and the process between."""
        if self._control.fileno() < 0:
            return
        self.send(signal.SIGKILL)
        self.wait(1.0)
        self._control.close()
        self._between.kill()
        self._between.wait()

    def __enter__(self) -> Between:
        return self

    def __exit__(self, *_: object) -> None:
        self.end()
