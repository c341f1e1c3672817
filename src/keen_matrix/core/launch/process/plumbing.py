"""The pipes or the terminal between us and a program, made before it starts.

Every descriptor has one of three fates. Those that only the program needs, `theirs`, are closed by
us in any case, once it has its copies. Those that we keep, `ours`, are closed here only when the
program does not come to be. The program's ends of its output pipes, `held`, are closed when it has
ended: until then its output has no end, and the end of the program is one event instead of three.
(Two contextlib.ExitStack would say the same, and cost a trivial case
two percent of its time.)
"""

from __future__ import annotations

import fcntl
import os
import struct
import termios
import tty

from keen_matrix.core.launch.start import Start, TerminalSetup
from keen_matrix.core.structs import Struct, field

#: Standard input without a descriptor of ours: /dev/null, or none at all.
EMPTY, CLOSED = -1, -2
#: What a terminal takes for the end of what is typed (Ctrl-D).
END_OF_FILE = b"\x04"


class Plumbing(Struct):
    """The descriptors of a launch, ours and the program's."""

    #: Our reading ends, and the stream that each carries.
    streams: dict[int, str] = field(default_factory=dict)
    #: Our end of standard input; -1 when nothing is written there.
    writing: int = -1
    #: What is written there first.
    text: bytes = b""
    #: Our end of the terminal, to which replies are written; -1 where standard input is a pipe.
    terminal: int = -1
    #: Whether standard input is `stdin` beside a terminal.
    stdin_apart: bool = False
    #: The program's standard input: a descriptor, EMPTY or CLOSED.
    stdin: int = EMPTY
    stdout: int = -1
    #: The program's ends of its streams; -1 for its terminal.
    stderr: int = -1
    #: The name of the terminal, which the program opens itself: a session leader without one gets
    #: the first that it opens as its controlling terminal (POSIX, General Terminal Interface).
    screen: str = ""
    #: The writing end for commands that feed standard input.
    sink: int = -1
    ours: list[int] = field(default_factory=list)
    theirs: list[int] = field(default_factory=list)
    #: Every descriptor that was made, by its fate.
    held: list[int] = field(default_factory=list)

    def close_theirs(self) -> None:
        """Close what only the program needs: it has its copies, or will never have them."""
        for fd in self.theirs:
            os.close(fd)

    def close_ours(self) -> None:
        """Close what we would keep: the program has not come to be."""
        for fd in (*self.ours, *self.held):
            os.close(fd)


def make_plumbing(made: Plumbing, start: Start) -> None:
    """Make what a launch reads from and writes to. Raises OSError when the system has none to
    spare; what was made by then stands in `made`."""
    if start.terminal is not None:
        _make_terminal(made, start, start.terminal)
        return
    _make_input(made, start)
    made.stdout = _output(made, "stdout")
    # one pipe keeps the order in which a program writes; two cannot tell it
    made.stderr = made.stdout if start.joined else _output(made, "stderr")


def _make_input(made: Plumbing, start: Start) -> None:
    """Make the pipe of standard input, where anything is written there."""
    if start.chain:
        # Both ends go to others: what feeds the program writes to it directly, and we do not stand
        # between.
        made.stdin, made.sink = os.pipe()
        made.theirs += (made.stdin, made.sink)
    elif start.stdin or start.dialogue or start.beyond or start.silent:
        made.stdin, made.writing = os.pipe()
        made.theirs.append(made.stdin)
        made.ours.append(made.writing)
        made.text = start.stdin
        # A program that never reads must not hold us.
        os.set_blocking(made.writing, False)
    elif start.closed:
        made.stdin = CLOSED


def _output(made: Plumbing, stream: str) -> int:
    """Make the pipe of a stream and return the program's end."""
    read, write = os.pipe()
    made.ours.append(read)
    made.held.append(write)
    os.set_blocking(read, False)
    made.streams[read] = stream
    return write


def _make_terminal(made: Plumbing, start: Start, screen: TerminalSetup) -> None:
    """Make a pseudo-terminal.

    Its settings are a terminal's except for two: typed text is echoed only if asked for, and a
    newline stays a newline, so that what comes is what the program printed."""
    ours, slave = os.openpty()
    made.ours.append(ours)
    made.theirs.append(slave)
    settings = termios.tcgetattr(slave)
    settings[tty.OFLAG] &= ~termios.ONLCR
    if not screen.echo:
        settings[tty.LFLAG] &= ~termios.ECHO
    termios.tcsetattr(slave, termios.TCSANOW, settings)
    size = struct.pack("HHHH", screen.rows, screen.columns, 0, 0)  # ioctl_tty(2)
    fcntl.ioctl(slave, termios.TIOCSWINSZ, size)
    os.set_blocking(ours, False)
    made.streams[ours] = "stdout"
    made.screen = os.ttyname(slave)
    if screen.stderr_apart:
        made.stderr = _output(made, "stderr")
    if screen.stdin_apart:
        made.stdin_apart = True
        _make_input(made, start)
        return
    made.terminal = ours
    if start.stdin:
        # a copy, since it is closed once all is written while the terminal stays
        made.writing = os.dup(made.terminal)
        made.ours.append(made.writing)
        # With a dialogue more may be typed; without one the program is to see an end, as it would
        # of a pipe. Behind a line without its newline, the first one only hands over what was typed
        # (POSIX, 11.1.9, EOF).
        ends = 1 if start.stdin.endswith(b"\n") else 2
        made.text = start.stdin + (b"" if start.dialogue else END_OF_FILE * ends)
