"""One launch of a program: from starting it to the last byte of its output.

A launch is in one of these states, and only moves to the right:

    running ── deadline, flood or stop ──► terminating ── grace over ──► killed
       │                                        │                          │
       └────────────── exit seen ───────────────┴──────────────────────────┴──► draining ──► finished

Draining: the program is gone, but a process that it left behind may still keep its streams open.
They get a short time, then the whole process group is ended and what has come so far is taken. The
worker that owns the launch then looks for processes left behind, also outside the group.
"""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import select
import signal
import struct
import sys
import termios
import time
import tty
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Protocol

from keen_matrix.core.launch.capture import Capture
from keen_matrix.core.launch.dialogue import Answering, Dialogue
from keen_matrix.core.model.outcome import Outcome

if TYPE_CHECKING:
    from keen_matrix.core.launch.warm import Ended, Keeper

TERMINATE_GRACE = 0.5
"""Seconds between SIGTERM and SIGKILL."""
DRAIN_GRACE = 0.3
"""Seconds that streams may stay open after the program itself has ended."""
FEEDERS_GRACE, FEEDERS_STEP = 0.1, 0.002
"""Seconds that commands which feed a program may go on after it, and how often they are looked at
meanwhile."""
UNKILLABLE_GRACE = 5.0
"""Seconds after SIGKILL until a process in an uninterruptible wait is given up."""
READS_AT_END = 20
"""Reads of each stream once the program has ended: what it left in a pipe, which it may have made
larger, fits in them."""
READ_BYTES = 65536
"""Bytes asked for at a time: what a pipe takes on Linux."""
PIPE_BYTES = 65536
"""Standard input up to this size fits in the pipe and is written before the program starts."""

_RESTORED = [
    number for number in signal.valid_signals() if number not in (signal.SIGKILL, signal.SIGSTOP)
]
"""A program begins with every signal at its default, whatever is ignored around us (nohup ignores
SIGHUP)."""
_RSS_UNIT = 1 if sys.platform == "darwin" else 1024
"""ru_maxrss counts kibibytes on Linux and bytes on macOS (getrusage(2))."""

SUBREAPER = False
"""Set by the worker when the system hands it every descendant of its programs; it then ends those
itself."""
PIDFDS = False
"""Set by the worker when the end of a process can be waited for by a descriptor (pidfd_open(2));
else SIGCHLD wakes it."""
ASK_SECONDS = 0.005
"""How often a program is asked whether it has ended while there is no descriptor to spare that
would tell."""

NOT_WATCHED = (OSError, ValueError, KeyError)
"""What epoll and poll objects say when they are to forget a descriptor that they do not watch."""
READABLE = select.POLLIN | select.POLLHUP | select.POLLERR


class Poller(Protocol):
    """The part of epoll and poll objects that a launch uses."""

    def register(self, fd: int, eventmask: int = ..., /) -> None:
        """Watch a descriptor."""

    def unregister(self, fd: int, /) -> None:
        """Watch it no more."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Stopping:
    """When the program gets its last signal."""

    signal: int
    after: float | None = None
    when: tuple[tuple[str, bytes], ...] = ()
    """Streams and the texts on them."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Start:
    """All that is needed to start a program, but for the vector."""

    file: str
    words: Sequence[str]
    """The launch words; the vector stands behind them."""
    env: Mapping[str, str]
    directory: str
    timeout: float
    stdin: bytes = b""
    closed: bool = False
    """Whether standard input is closed instead of empty."""
    silent: bool = False
    """Whether standard input stays open with nothing coming."""
    chain: tuple[tuple[str, tuple[str, ...]], ...] = ()
    """Commands whose output is piped into each other and then into the program: file and words of
    each."""
    terminal: tuple[int, int, bool] | None = None
    """Columns, rows, and whether standard error has a pipe of its own."""
    dialogue: tuple[Answering, ...] = ()
    stop: Stopping | None = None


STOP_GRACE = 2.0
"""Seconds that a program gets to end after the signal that its spec ends it with."""


class Launch:
    """A running program."""

    def __init__(
        self,
        poller: Poller,
        cap: int,
        live: Callable[[str, bytes, float], None] | None = None,
        *,
        forgetful: bool = False,
    ) -> None:
        self.poller, self.cap, self.live = poller, cap, live
        self._forgetful = forgetful
        """Whether the poller forgets descriptors that are closed once the program has ended."""
        self.outcome = Outcome()
        self.streams: dict[int, str] = {}
        self.feeders: list[int] = []
        """Process numbers of the commands that feed standard input; 0 for one that has ended."""
        self.capture = Capture(cap)

    keeper: Keeper | None = None
    """The keeper that forks the program; None when it is started from nothing."""
    keeper_lost = False
    pid = 0
    finished = False
    started = 0.0
    exit_fd = -1
    """The descriptor that tells of the program's end, while that is watched for."""
    deadline = 0.0
    """The monotonic time at which on_deadline wants to be called."""
    _ended: Ended | None = None
    _held: tuple[int, ...] = ()
    """Our copies of the program's ends of its pipes: while they are open its end is one event, not
    three."""
    _stdin = -1
    _stdin_left = memoryview(b"")
    _keep_stdin = False
    _exited = False
    _step = "running"
    _end = 0.0
    _master = -1
    _chain_end = _chain_write = -1
    _writing: tuple[int, ...] = ()
    _feeders_until = 0.0
    _stop: Stopping | None = None
    _dialogue: Dialogue | None = None
    """The prompts and texts that are looked for; None when there are none."""

    # --- starting ---

    def start(self, start: Start, vector: Sequence[str]) -> None:
        """Start the program with a vector, in a session of its own. Raises OSError or ValueError
        when the system refuses.

        The worker changes its own directory for the moment of the launch: posix_spawn has no
        portable way to set the child's, and a worker has one thread.
        """
        ours: list[int] = []
        theirs: list[int] = []
        try:
            actions = self._plumb(start, ours, theirs)
            os.chdir(start.directory)
            if start.chain:
                self._start_chain(start, theirs)
            self.started = time.monotonic()
            self.pid = self._spawn(start, vector, actions, theirs)
        except BaseException:
            for fd in (*ours, *theirs):
                os.close(fd)
            self.streams.clear()
            self._stdin = self._master = -1
            self._end_feeders()
            raise
        self._end = self.deadline = self.started + start.timeout
        register = self.poller.register
        for fd in self.streams:
            register(fd, select.POLLIN)
        if PIDFDS and self.keeper is None:
            self._watch()
        for fd in theirs:
            if fd not in self._held:
                os.close(fd)
        if self._stdin >= 0 and self._stdin_left:
            self._feed()
            if self._stdin >= 0 and self._stdin_left:
                register(self._stdin, select.POLLOUT)
        if start.dialogue or start.stop:
            self._stop = start.stop
            texts = start.stop.when if start.stop is not None else ()
            self._dialogue = Dialogue(start.dialogue, texts, self.started)
            self._next_deadline()

    def _spawn(
        self, start: Start, vector: Sequence[str], actions: list[tuple[int, ...]], theirs: list[int]
    ) -> int:
        """Start the child, from nothing or by a keeper, and return its number."""
        if self.keeper is None:
            return os.posix_spawn(
                start.file, [*start.words, *vector], start.env, file_actions=actions, setsid=True, setsigmask=[],
                setsigdef=_RESTORED,
            )  # fmt: skip
        fds = [-1, -1, -1]
        for action in actions:
            if action[0] == os.POSIX_SPAWN_DUP2:
                fds[action[2]] = action[1]
            else:
                fds[action[1]] = os.open(os.devnull, os.O_RDONLY)
                theirs.append(fds[action[1]])
        pid = self.keeper.launch(vector, start.env, start.directory, fds)
        self.poller.register(self.keeper.control.fileno(), select.POLLIN)
        return pid

    def _plumb(self, start: Start, ours: list[int], theirs: list[int]) -> list[tuple[int, ...]]:
        """Make the pipes or the terminal of a launch; return what the child does with them."""
        if start.terminal is not None:
            return self._plumb_terminal(start, ours, theirs)
        out_read, out_write = os.pipe()
        err_read, err_write = os.pipe()
        ours += (out_read, err_read)
        theirs += (out_write, err_write)
        self.streams = {out_read: "stdout", err_read: "stderr"}
        self._writing = out_write, err_write
        os.set_blocking(out_read, False)
        os.set_blocking(err_read, False)
        actions: list[tuple[int, ...]] = []
        if start.chain:
            self._chain_end, in_write = os.pipe()
            theirs += (self._chain_end, in_write)
            self._chain_write = in_write
            actions.append((os.POSIX_SPAWN_DUP2, self._chain_end, 0))
        elif start.stdin or start.dialogue or start.silent:
            in_read, in_write = os.pipe()
            ours.append(in_write)
            theirs.append(in_read)
            os.set_blocking(in_write, False)
            self._stdin, self._stdin_left = in_write, memoryview(start.stdin)
            self._keep_stdin = bool(start.dialogue) or start.silent
            actions.append((os.POSIX_SPAWN_DUP2, in_read, 0))
        elif start.closed:
            actions.append((os.POSIX_SPAWN_CLOSE, 0))
        else:
            actions.append((os.POSIX_SPAWN_OPEN, 0, os.devnull, os.O_RDONLY, 0))  # type: ignore[arg-type]
        actions += [(os.POSIX_SPAWN_DUP2, out_write, 1), (os.POSIX_SPAWN_DUP2, err_write, 2)]
        return actions

    def _plumb_terminal(
        self, start: Start, ours: list[int], theirs: list[int]
    ) -> list[tuple[int, ...]]:
        """Make a pseudo-terminal. The child opens it by name as a session leader, so it becomes
        its controlling one.

        Its settings are a terminal's but for two: what is typed is not echoed, and a newline stays
        a newline, so that what comes is what the program printed.
        """
        assert start.terminal is not None
        columns, rows, apart = start.terminal
        master, slave = os.openpty()
        ours.append(master)
        theirs.append(slave)
        settings = termios.tcgetattr(slave)
        settings[tty.OFLAG] &= ~termios.ONLCR
        settings[tty.LFLAG] &= ~termios.ECHO
        termios.tcsetattr(slave, termios.TCSANOW, settings)
        fcntl.ioctl(slave, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))
        os.set_blocking(master, False)
        self._master = master
        self.streams = {master: "stdout"}
        name = os.ttyname(slave)
        actions: list[tuple[int, ...]] = [
            (os.POSIX_SPAWN_OPEN, 0, name, os.O_RDWR, 0),  # type: ignore[list-item]
            (os.POSIX_SPAWN_DUP2, 0, 1),
        ]
        if apart:
            err_read, err_write = os.pipe()
            ours.append(err_read)
            theirs.append(err_write)
            self.streams[err_read] = "stderr"
            actions.append((os.POSIX_SPAWN_DUP2, err_write, 2))
        else:
            actions.append((os.POSIX_SPAWN_DUP2, 0, 2))
        if start.stdin:
            self._stdin, self._stdin_left = (
                os.dup(master),
                memoryview(start.stdin + (b"" if start.dialogue else b"\x04")),
            )
            ours.append(self._stdin)
        return actions

    def _start_chain(self, start: Start, theirs: list[int]) -> None:
        """Start the commands that feed standard input, each reading from the one before it."""
        source: int | None = None
        for number, (file, argv) in enumerate(start.chain):
            last = number == len(start.chain) - 1
            if last:
                following, sink = None, self._chain_write
            else:
                following, sink = os.pipe()
                theirs += (following, sink)
            actions: list[tuple[int, ...]] = [
                (os.POSIX_SPAWN_OPEN, 0, os.devnull, os.O_RDONLY, 0)  # type: ignore[list-item]
                if source is None
                else (os.POSIX_SPAWN_DUP2, source, 0),
                (os.POSIX_SPAWN_DUP2, sink, 1),
                (os.POSIX_SPAWN_OPEN, 2, os.devnull, os.O_WRONLY, 0),  # type: ignore[list-item]
            ]
            try:
                pid = os.posix_spawn(
                    file,
                    list(argv),
                    start.env,
                    file_actions=actions,
                    setsid=True,
                    setsigmask=[],
                    setsigdef=_RESTORED,
                )
            except OSError as error:
                raise OSError(
                    error.errno,
                    f"the command {argv[0]} that feeds standard input: {error.strerror}",
                ) from None
            self.feeders.append(pid)
            self.outcome.feeders.append([argv[0], None, None])
            source = following

    # --- while it runs ---

    def on_event(self, fd: int) -> None:
        """Take the event of one of the descriptors."""
        if self.finished:
            return
        if fd in self.streams:
            self._read(fd)
        elif fd == self._stdin:
            self._feed()
        elif fd == self.exit_fd:
            self._on_exit()
        elif self.keeper is not None and fd == self.keeper.control.fileno():
            self._on_keeper()
        if self._exited and not self.streams and not self.finished:
            self._finish()

    def _feed(self) -> None:
        """Write as much standard input as the pipe takes; a program that reads no further is no
        error."""
        try:
            while self._stdin_left:
                written = os.write(self._stdin, self._stdin_left[: 16 * PIPE_BYTES])
                self._stdin_left = self._stdin_left[written:]
        except BlockingIOError:
            return
        except OSError:
            self._keep_stdin = False
        if self._keep_stdin:
            with contextlib.suppress(*NOT_WATCHED):
                self.poller.unregister(self._stdin)
        else:
            self._close_stdin()

    def _close_stdin(self) -> None:
        if self._stdin >= 0:
            with contextlib.suppress(*NOT_WATCHED):
                self.poller.unregister(self._stdin)
            os.close(self._stdin)
            self._stdin = -1
            self._stdin_left = memoryview(b"")

    def _read(self, fd: int) -> bool:
        """Take what has come on one stream; tell whether there may be more."""
        stream = self.streams[fd]
        try:
            chunk = os.read(fd, READ_BYTES)
        except OSError as error:  # EIO: the last process has closed the terminal
            if error.errno in (errno.EAGAIN, errno.EINTR):
                return False
            chunk = b""
        if not chunk:
            self._close_stream(fd)
            return False
        now = time.monotonic()
        if not self.capture.feed(stream, chunk, now - self.started):
            if not self.outcome.flooded:
                self.outcome.flooded = stream
                self._kill()
        elif self._dialogue is not None:
            self._look(self._dialogue, stream, chunk)
        if self.live is not None:
            self.live(stream, chunk, time.monotonic() - self.started)
        return True

    def _look(self, dialogue: Dialogue, stream: str, chunk: bytes) -> None:
        """Answer the prompts that came, and end the program at the text that ends it."""
        heard = dialogue.feed(stream, chunk, time.monotonic())
        for number, reply in enumerate(heard.replies, 1):
            last = number == len(heard.replies) and dialogue.waited_for is None
            self._reply(reply + b"\n", last=last)
        if heard.replies:
            self._next_deadline()
        if heard.stops and self._stop is not None:
            self._stop_now()

    def _reply(self, text: bytes, *, last: bool) -> None:
        """Give a reply to the program; standard input is closed after the last one, unless it is a
        terminal."""
        try:
            if self._master >= 0:
                os.write(self._master, text)
                return
            if self._stdin >= 0:
                self._stdin_left = memoryview(bytes(self._stdin_left) + text)
                self._keep_stdin = not last
                self._feed()
        except OSError:
            pass

    def _next_deadline(self) -> None:
        """Wake up at the end, or earlier when a prompt is overdue or the program is to be stopped."""
        moments = [self._end]
        if PIDFDS and self.exit_fd < 0 and self.keeper is None:
            moments.append(time.monotonic() + ASK_SECONDS)
        overdue = self._dialogue.overdue_at if self._dialogue is not None else None
        if overdue is not None:
            moments.append(overdue)
        if self._stop is not None and self._stop.after is not None:
            moments.append(self.started + self._stop.after)
        self.deadline = min(moments)

    @property
    def _unasked(self) -> bytes | None:
        """The prompt that was waited for and has not come."""
        waited = self._dialogue.waited_for if self._dialogue is not None else None
        return waited.prompt if waited is not None else None

    def _stop_now(self) -> None:
        assert self._stop is not None
        self.outcome.stopped = self._stop.signal
        self._stop = None
        self._signal_group(self.outcome.stopped)
        self._step, self.deadline = "stopping", time.monotonic() + STOP_GRACE

    def _close_stream(self, fd: int) -> None:
        # Closing is not enough for epoll when others run: for a moment after posix_spawn returns,
        # a child of another slot
        # still has a copy of this descriptor (exec wakes the parent before it closes them), and
        # its events would go on.
        if not (self._forgetful and self._exited):
            self.poller.unregister(fd)
        os.close(fd)
        del self.streams[fd]
        if fd == self._master:
            self._master = -1

    def _watch(self) -> None:
        """Be told of the program's end by a descriptor."""
        try:
            self.exit_fd = os.pidfd_open(self.pid)
            self.poller.register(self.exit_fd, select.POLLIN)
            self._held = self._writing
        except OSError:  # none to spare: the program is asked now and then
            if self.exit_fd >= 0:
                os.close(self.exit_fd)
                self.exit_fd = -1
            self._next_deadline()

    def _unwatch(self) -> None:
        for fd in self._held:
            os.close(fd)
        self._held = ()
        if self.exit_fd >= 0:
            if not self._forgetful:
                self.poller.unregister(self.exit_fd)
            os.close(self.exit_fd)
            self.exit_fd = -1

    def reap(self) -> None:
        """Ask whether the program has ended; never waits.

        It is left a zombie until the launch is finished: so long its number cannot be given to
        another process, and a signal to its group can hit nobody else.
        """
        if self.feeders:
            self._reap_feeders()
        if self._exited or self.finished or self.keeper is not None:
            return
        if os.waitid(os.P_PID, self.pid, os.WEXITED | os.WNOHANG | os.WNOWAIT) is None:
            return
        self._on_exit()

    def _on_keeper(self) -> None:
        """Take what the keeper says of the child's end; a keeper that is gone took the child with
        it."""
        assert self.keeper is not None
        try:
            self._ended = self.keeper.ended()
        except OSError:
            self._signal_group(signal.SIGKILL)
            self._ended = None
            self.keeper_lost = True
        self._on_exit()

    def _on_exit(self) -> None:
        """The program itself has ended: drain its streams."""
        now = time.monotonic()
        self._exited = True
        self._unwatch()
        self.outcome.seconds = now - self.started
        if self._stdin >= 0:
            self._close_stdin()
        self._step, self.deadline = "draining", now + DRAIN_GRACE
        for fd in list(self.streams):
            for _ in range(READS_AT_END):
                if fd not in self.streams or self.outcome.flooded or not self._read(fd):
                    break
        if not self.streams:
            self._finish()

    def _reap_feeders(self) -> None:
        for number, pid in enumerate(self.feeders):
            if pid:
                ended, status = os.waitpid(pid, os.WNOHANG)
                if ended:
                    self.feeders[number] = 0
                    how = self.outcome.feeders[number]
                    how[1] = None if os.WIFSIGNALED(status) else os.WEXITSTATUS(status)
                    how[2] = os.WTERMSIG(status) if os.WIFSIGNALED(status) else None

    def _end_feeders(self) -> None:
        """End what still feeds: nobody reads it any more."""
        for number, pid in enumerate(self.feeders):
            if pid:
                with contextlib.suppress(ProcessLookupError, PermissionError):
                    os.killpg(pid, signal.SIGKILL)
                self.feeders[number] = 0
                how = self.outcome.feeders[number]
                how[2] = int(signal.SIGPIPE)
                with contextlib.suppress(ChildProcessError):
                    status = os.waitpid(pid, 0)[1]
                    if os.WIFEXITED(status):  # it was about to end anyway
                        how[1:] = os.WEXITSTATUS(status), None

    def on_deadline(self, now: float) -> None:
        """Move to the next state when the time of this one is over."""
        if now < self.deadline or self.finished:
            return
        if PIDFDS and self.exit_fd < 0 and self.keeper is None and not self._exited:
            self.reap()
            if self._exited:
                return
        if self._step == "running":
            self._next_deadline()
            if now >= self.deadline:
                self._on_running_deadline(now)
        elif self._step == "stopping":
            self.outcome.timed_out = True
            self._kill()
        elif self._step == "terminating":
            self._kill()
        elif self._step == "feeders":
            self._finish()
        else:
            self._give_up(now)

    def _on_running_deadline(self, now: float) -> None:
        stop = self._stop
        if (
            now < self._end
            and stop is not None
            and stop.after is not None
            and now >= self.started + stop.after
        ):
            self._stop_now()
            return
        if now < self._end and self._unasked is not None:
            self.outcome.unasked = self._unasked
        else:
            self.outcome.timed_out = True
        self._signal_group(signal.SIGTERM)
        self._signal_group(signal.SIGCONT)  # a stopped process takes no other signal
        self._step, self.deadline = "terminating", now + TERMINATE_GRACE

    def _kill(self) -> None:
        self._signal_group(signal.SIGKILL)
        self._step, self.deadline = "killed", time.monotonic() + UNKILLABLE_GRACE

    def _give_up(self, now: float) -> None:
        """End the draining, or leave alone a process that even SIGKILL did not end."""
        if self._exited:
            self.outcome.kept_open = True
        if not (
            self._exited and SUBREAPER
        ):  # else the worker ends what is left, once it has seen what it is
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

    def _finish_warm(self) -> None:
        """Take the end of a program that a keeper forked."""
        ended, outcome = self._ended, self.outcome
        if ended is None:
            self.keeper_lost = True
            outcome.unlaunched = (
                None if not self._exited else "the keeper of warm launches ended unexpectedly"
            )
            return
        if os.WIFSIGNALED(ended.status):
            outcome.signal = os.WTERMSIG(ended.status)
        else:
            outcome.exit = os.WEXITSTATUS(ended.status)
        outcome.user_seconds, outcome.system_seconds = ended.user_seconds, ended.system_seconds
        outcome.peak_bytes = ended.peak * _RSS_UNIT

    def abort(self) -> None:
        """End the program at once and forget about it: the run is over."""
        if self.finished or not self.pid:
            return
        self._signal_group(signal.SIGKILL)
        self._unwatch()
        for fd in list(self.streams):
            self._close_stream(fd)
        self._close_stdin()
        self._end_feeders()
        give_up_at = time.monotonic() + UNKILLABLE_GRACE
        with contextlib.suppress(ChildProcessError):
            while os.waitpid(self.pid, os.WNOHANG)[0] == 0 and time.monotonic() < give_up_at:
                time.sleep(0.002)
        self.finished = True

    def _signal_group(self, number: int) -> None:
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(self.pid, number)

    def _feeders_are_done(self) -> bool:
        """Give the commands that feed standard input a moment to end: most close their output just
        before they do."""
        now = time.monotonic()
        self._reap_feeders()
        if self._step != "feeders":
            self._step, self._feeders_until = "feeders", now + FEEDERS_GRACE
        self.deadline = now + FEEDERS_STEP
        return not any(self.feeders) or now >= self._feeders_until

    def _finish(self) -> None:
        if self.feeders and not self._feeders_are_done():
            return
        if not SUBREAPER:
            self._signal_group(signal.SIGKILL)  # whatever the program left behind in its group
        if self._stdin >= 0:
            self._close_stdin()
        outcome = self.outcome
        self._unwatch()
        if self.keeper is not None:
            with contextlib.suppress(*NOT_WATCHED):
                self.poller.unregister(self.keeper.control.fileno())
            self._finish_warm()
        elif self._exited:
            _, status, usage = os.wait4(self.pid, 0)
            if os.WIFSIGNALED(status):
                outcome.signal = os.WTERMSIG(status)
            else:
                outcome.exit = os.WEXITSTATUS(status)
            outcome.user_seconds, outcome.system_seconds = usage.ru_utime, usage.ru_stime
            outcome.peak_bytes = usage.ru_maxrss * _RSS_UNIT
        if self.feeders:
            self._end_feeders()
        if not outcome.timed_out and outcome.unasked is None:
            outcome.unasked = self._unasked
        if self._dialogue is not None:
            outcome.conversation = self._dialogue.conversation
        capture = self.capture
        outcome.stdout, outcome.stderr = capture.finish("stdout"), capture.finish("stderr")
        outcome.stdout_bytes, outcome.stderr_bytes = capture.sizes["stdout"], capture.sizes["stderr"]
        outcome.arrivals = capture.arrivals
        self.finished = True
