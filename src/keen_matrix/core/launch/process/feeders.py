"""The commands that feed a program's standard input: `stdin.command` of a spec."""

from __future__ import annotations

import contextlib
import os
import shlex
import signal
from typing import TYPE_CHECKING

from keen_matrix.core.model.outcome import Feeding

if TYPE_CHECKING:
    from keen_matrix.core.launch.start import Start
    from keen_matrix.core.model.command import Command

#: Seconds that they may go on after the program has ended.
FEEDERS_GRACE = 0.1
#: A program begins with every signal at its default, whatever is ignored around us (nohup ignores
#: SIGHUP).
RESTORED = tuple(
    number for number in signal.valid_signals() if number not in (signal.SIGKILL, signal.SIGSTOP)
)


class Feeders:
    """The feeding commands of one launch, and how each has ended."""

    __slots__ = ("_until", "ends", "pids")

    def __init__(self) -> None:
        #: Their process numbers, in the order of the chain; 0 for one that has ended.
        self.pids: list[int] = []
        self.ends: list[Feeding] = []
        self._until = 0.0

    def start(self, start: Start, sink: int) -> None:
        """Start the commands, each reading from the one before it, the last writing to `sink`.

        Raises OSError, with a text that says which command it was, when one cannot be started;
        those before it are ended then.
        """
        source = -1
        with contextlib.ExitStack() as pipes:
            # Pushed first, so that it runs last: the pipes between the commands are closed by then.
            pipes.push(self._end_when_failed)
            for number, command in enumerate(start.chain):
                following, into = -1, sink
                if number < len(start.chain) - 1:
                    following, into = os.pipe()
                    pipes.callback(os.close, following)
                    pipes.callback(os.close, into)
                self.ends.append(Feeding(name=command.words[0]))
                self._start_one(start, number, source, into)
                source = following

    def _end_when_failed(self, kind: object, *_: object) -> None:
        if kind is not None:
            self.end()

    def start_beside(self, start: Start, command: Command) -> str:
        """Start a command that neither reads nor is read, where the program started; return why it
        could not be."""
        self.ends.append(Feeding(name=shlex.join(command.words)))
        nowhere = os.open(os.devnull, os.O_WRONLY | os.O_CLOEXEC)
        try:
            os.chdir(start.directory)
            self._spawn(start, command, -1, nowhere)
        except OSError as error:
            self.ends.pop()
            return error.strerror or str(error)
        finally:
            os.close(nowhere)
        return ""

    def _start_one(self, start: Start, number: int, source: int, sink: int) -> None:
        command = start.chain[number]
        try:
            self._spawn(start, command, source, sink)
        except OSError as error:
            text = f"the command {command.words[0]} that feeds standard input: {error.strerror}"
            raise OSError(error.errno, text) from None

    def _spawn(self, start: Start, command: Command, source: int, sink: int) -> None:
        # The first command of a chain has nothing to read; it must not get what our own standard
        # input is.
        nothing = (os.POSIX_SPAWN_OPEN, 0, os.devnull, os.O_RDONLY, 0)
        self.pids.append(
            os.posix_spawn(
                command.file,
                list(command.words),
                start.env,
                file_actions=[
                    nothing if source < 0 else (os.POSIX_SPAWN_DUP2, source, 0),
                    (os.POSIX_SPAWN_DUP2, sink, 1),
                    (os.POSIX_SPAWN_OPEN, 2, os.devnull, os.O_WRONLY, 0),
                ],
                setsid=True,
                setsigmask=[],
                setsigdef=RESTORED,
            )
        )

    def reap(self) -> None:
        """Take the ends of those that have ended; never waits."""
        for number, pid in enumerate(self.pids):
            if pid:
                ended, status = os.waitpid(pid, os.WNOHANG)
                if ended:
                    self.pids[number] = 0
                    self.ends[number].take(status)

    def are_done(self, now: float) -> bool:
        """Tell whether none runs any more, or their grace, which begins with the first call, is
        over."""
        self.reap()
        self._until = self._until or now + FEEDERS_GRACE
        return not any(self.pids) or now >= self._until

    def end(self) -> None:
        """End what still feeds: nobody reads it any more, as SIGPIPE would say."""
        for number, pid in enumerate(self.pids):
            if pid:
                with contextlib.suppress(ProcessLookupError, PermissionError):
                    os.killpg(pid, signal.SIGKILL)
                self.pids[number] = 0
                # We end it as its next write would have: a user sees what a shell's pipeline shows.
                self.ends[number].signal = int(signal.SIGPIPE)
                with contextlib.suppress(ChildProcessError):
                    status = os.waitpid(pid, 0)[1]
                    if os.WIFEXITED(status):  # it was about to end anyway
                        self.ends[number].take(status)
