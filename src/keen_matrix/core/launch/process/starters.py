"""How a program comes to run: from nothing, or forked by a keeper. One protocol for both.

A starter makes a `Running`: what the launch asks and tells of the program's process. A remote
machine needs no starter of its own: there a worker with these starters runs.
"""

from __future__ import annotations

import contextlib
import os
import signal
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Protocol

from keen_matrix.core.launch.directories.leftovers import RSS_UNIT
from keen_matrix.core.launch.process.feeders import RESTORED
from keen_matrix.core.launch.process.plumbing import CLOSED, EMPTY, Plumbing
from keen_matrix.core.launch.start import Start
from keen_matrix.core.model.outcome import Outcome

if TYPE_CHECKING:
    from keen_matrix.core.launch.warm.keepers import Ended, Keeper, WarmPlan


class Running(Protocol):
    """A program that was started, until its process is waited for."""

    pid: int
    #: The descriptor that tells of its end; -1 when it must be asked.
    watched: int
    keeper_lost: bool

    def watch(self) -> None:
        """Have its end told by a descriptor, if the system has one. Raises OSError when there is
        none to spare."""

    def unwatch(self) -> None:
        """Close what `watch` opened, once the descriptor is watched no more."""

    def has_ended(self) -> bool:
        """Tell whether it has ended; never waits. The process stays a zombie."""
        ...

    def on_event(self) -> None:
        """Take what the descriptor tells: the end of the program."""

    def finish(self, outcome: Outcome, *, ended: bool) -> None:
        """Let the process go, and write how it ended if it has."""


class Starter(Protocol):
    """Starts programs in one way."""

    def start(self, start: Start, vector: Sequence[str], plumbing: Plumbing) -> Running:
        """Start a program with a vector, in a session of its own. Raises OSError or ValueError
        when the system refuses."""
        ...


def signal_group(pid: int, number: int) -> None:
    """Send a signal to the process group of a program; one that is gone needs none."""
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(pid, number)


def take_status(outcome: Outcome, status: int) -> None:
    """Write how a program ended, by the status that waiting for it gave (wait(2))."""
    code = os.waitstatus_to_exitcode(status)
    if code < 0:
        outcome.signal = -code
    else:
        outcome.exit = code


class Cold:
    """Starts a program from nothing, with posix_spawn, in our own working directory."""

    def __init__(self, *, pidfds: bool) -> None:
        self._pidfds = pidfds

    def start(self, start: Start, vector: Sequence[str], plumbing: Plumbing) -> Running:
        """Start a program with a vector."""
        # posix_spawn and not fork: the worker's memory need not be copied, and nothing of Python
        # runs between.
        pid = os.posix_spawn(
            start.file,
            [*start.words, *vector],
            start.env,
            file_actions=_actions(plumbing),
            setsid=True,
            setsigmask=[],
            setsigdef=RESTORED,
        )
        return Spawned(pid, pidfds=self._pidfds)


def _actions(plumbing: Plumbing) -> list[tuple[int | str, ...]]:
    """Return what a child does with its descriptors before it becomes the program."""
    first: tuple[int | str, ...] = (os.POSIX_SPAWN_DUP2, plumbing.stdin, 0)
    if plumbing.stdin == EMPTY:
        first = (os.POSIX_SPAWN_OPEN, 0, os.devnull, os.O_RDONLY, 0)
    elif plumbing.stdin == CLOSED:
        first = (os.POSIX_SPAWN_CLOSE, 0)
    if plumbing.screen:
        second = 1 if plumbing.stderr < 0 else plumbing.stderr
        # Read as well as written: a program may ask its terminal for a password while standard
        # input is a pipe.
        screen = (os.POSIX_SPAWN_OPEN, 1, plumbing.screen, os.O_RDWR, 0)
        if plumbing.stdin_apart:
            return [first, screen, (os.POSIX_SPAWN_DUP2, second, 2)]
        return [
            # Opened by the child and not handed to it: in a new session the first terminal that is
            # opened becomes the controlling one.
            (os.POSIX_SPAWN_OPEN, 0, plumbing.screen, os.O_RDWR, 0),
            (os.POSIX_SPAWN_DUP2, 0, 1),
            (os.POSIX_SPAWN_DUP2, second, 2),
        ]
    return [first, (os.POSIX_SPAWN_DUP2, plumbing.stdout, 1), (os.POSIX_SPAWN_DUP2, plumbing.stderr, 2)]


class Spawned:
    """A program that is our own child.

    It stays a zombie until the launch is finished: so long its number cannot be given to another
    process, and a signal to its group can hit nobody else.
    """

    __slots__ = ("_pidfds", "keeper_lost", "pid", "watched")

    def __init__(self, pid: int, *, pidfds: bool) -> None:
        self.pid, self.watched = pid, -1
        self.keeper_lost = False
        self._pidfds = pidfds

    def watch(self) -> None:
        """Have its end told by a descriptor."""
        if self._pidfds:
            # It becomes readable when the program ends, in the same poll as the streams: no signal
            # has to be handled.
            self.watched = os.pidfd_open(self.pid)

    def unwatch(self) -> None:
        """Close the descriptor."""
        if self.watched >= 0:
            os.close(self.watched)
            self.watched = -1

    def has_ended(self) -> bool:
        """Tell whether it has ended."""
        return os.waitid(os.P_PID, self.pid, os.WEXITED | os.WNOHANG | os.WNOWAIT) is not None

    def on_event(self) -> None:
        """Nothing is to be read: that the descriptor can be is all it tells."""

    def finish(self, outcome: Outcome, *, ended: bool) -> None:
        """Wait for the process; one that even SIGKILL did not end is left alone."""
        if ended:
            # wait4 and not waitpid: it tells what the program used, its children that it waited for
            # included.
            _, status, usage = os.wait4(self.pid, 0)
            take_status(outcome, status)
            outcome.user_seconds, outcome.system_seconds = usage.ru_utime, usage.ru_stime
            outcome.peak_bytes = usage.ru_maxrss * RSS_UNIT


class WarmStarts:
    """The keeper of one place in which cases run, started when it is first of use."""

    def __init__(self, plan: WarmPlan, environment: Mapping[str, str]) -> None:
        self._plan, self._environment = plan, environment
        self._keeper: Keeper | None = None

    def can_start(self, start: Start) -> bool:
        """Tell whether a launch can be warm: it has no terminal, its standard input is open, and
        what an interpreter reads at its start is as the keeper had it."""
        from keen_matrix.core.launch.warm.keepers import is_warmable

        return not (start.terminal or start.closed) and is_warmable(
            start.env, self._environment, self._plan.own_variables
        )

    def starter(self) -> Starter | None:
        """Return what starts a program warm; None when no keeper comes up."""
        from keen_matrix.core.launch.warm.keepers import Keeper

        if self._keeper is None:
            try:
                self._keeper = Keeper(self._plan, self._environment)
            except OSError:
                return None
        return Warm(self._keeper)

    def go_on(self, before: WarmStarts) -> None:
        """Take over the keeper of an earlier plan, where it keeps the same: to start another one
        takes as long as a cold launch."""
        if (self._plan, self._environment) == (before._plan, before._environment):
            self._keeper, before._keeper = before._keeper, None

    @property
    def pid(self) -> int:
        """The number of the keeper's process; 0 when there is none."""
        return self._keeper.process.pid if self._keeper is not None else 0

    def close(self) -> None:
        """End the keeper."""
        if self._keeper is not None:
            self._keeper.close()
            self._keeper = None


class Warm:
    """Has a program forked by a keeper that is up."""

    def __init__(self, keeper: Keeper) -> None:
        self._keeper = keeper

    def start(self, start: Start, vector: Sequence[str], plumbing: Plumbing) -> Running:
        """Have a program forked with a vector."""
        with contextlib.ExitStack() as ours:
            stdin = plumbing.stdin
            if stdin < 0:  # a program whose standard input is closed is always started cold
                stdin = os.open(os.devnull, os.O_RDONLY)
                ours.callback(os.close, stdin)
            fds = (stdin, plumbing.stdout, plumbing.stderr)
            pid = self._keeper.launch(vector, start.env, start.directory, fds)
        return Forked(pid, self._keeper)


class Forked:
    """A program that is a keeper's child; the keeper tells of its end."""

    __slots__ = ("_ended", "_keeper", "keeper_lost", "pid", "watched")

    def __init__(self, pid: int, keeper: Keeper) -> None:
        self.pid, self.watched, self._keeper = pid, -1, keeper
        self.keeper_lost = False
        self._ended: Ended | None = None

    def watch(self) -> None:
        """Have its end told by the keeper's socket."""
        self.watched = self._keeper.control.fileno()

    def unwatch(self) -> None:
        """The socket is the keeper's and stays open."""
        self.watched = -1

    def has_ended(self) -> bool:
        """Only the keeper's socket tells."""
        return False

    def on_event(self) -> None:
        """Take what the keeper says; one that is gone took the program with it."""
        try:
            self._ended = self._keeper.ended()
        except OSError:
            # The program outlives its keeper where the kernel cannot end it with that one.
            signal_group(self.pid, signal.SIGKILL)
            self.keeper_lost = True

    def finish(self, outcome: Outcome, *, ended: bool) -> None:
        """Write how the program ended, as the keeper told."""
        if self._ended is None:
            self.keeper_lost = True
            if ended:
                outcome.not_started = "the keeper of warm launches ended unexpectedly"
            return
        take_status(outcome, self._ended.status)
        outcome.user_seconds = self._ended.user_seconds
        outcome.system_seconds = self._ended.system_seconds
        outcome.peak_bytes = self._ended.peak * RSS_UNIT
