"""A program on my own terminal: what is typed reaches it, what it prints reaches me, and its
prompts and my replies are recorded on the way."""

from __future__ import annotations

import contextlib
import fcntl
import os
import select
import signal
import struct
import subprocess
import sys
import termios
import tty
from collections.abc import Iterator, Sequence

from keen_matrix.core.structs import Struct, field

#: Bytes taken at a time.
PIECE = 1 << 16
#: Bytes of output in which a prompt is looked for.
MOST_REMEMBERED = 1 << 14
#: Characters of a prompt that are recorded: the last ones before the reply.
MOST_PROMPT = 80
ERASE, KILL, END, ENTER = b"\x7f\x08", b"\x15", b"\x04", b"\r\n"


class Recording(Struct):
    """What was typed at which prompts."""

    #: Prompts and replies, in order.
    replies: list[tuple[str, str]] = field(default_factory=list)
    #: Whether the input was ended (Ctrl-D) at a prompt.
    has_ended: bool = False
    #: Whether a reply was typed that the terminal did not show.
    has_hidden: bool = False
    #: Why the session cannot be told as prompts and replies; empty where it can.
    why_not: str = ""


class Listener:
    """Makes prompts and replies of what passes in both directions: bytes in, nothing else, so that
    it can be tried without a terminal."""

    def __init__(self) -> None:
        self.found = Recording()
        self._printed = b""
        self._typed = bytearray()
        self._prompt = ""

    def printed(self, piece: bytes) -> None:
        """Take what the program printed."""
        self._printed = (self._printed + piece)[-MOST_REMEMBERED:]

    def typed(self, piece: bytes, *, lines: bool, shown: bool) -> None:
        """Take what was typed. `lines` tells whether the terminal hands over whole lines, `shown`
        whether it shows what is typed."""
        if not lines:
            self.found.why_not = "the program reads single keys, and not lines"
            return
        for number in piece:
            self._take(bytes([number]), shown=shown)

    def _take(self, key: bytes, *, shown: bool) -> None:
        if key in ENTER:
            self._answer(shown=shown)
        elif key in ERASE:
            self._erase()
        elif key == KILL:
            self._typed.clear()
        elif key == END:
            # With something typed it hands that over without a newline, which no reply can be.
            if self._typed:
                self.found.why_not = "a reply was ended by Ctrl-D and not by Enter"
            self.found.has_ended = True
        elif key == b"\x1b":
            self.found.why_not = "keys were pressed that are no text"
        else:
            if not self._typed:
                self._prompt = self._asked()
            self._typed += key

    def _erase(self) -> None:
        """Take the last character away, of however many bytes it is."""
        while self._typed and self._typed[-1] & 0xC0 == 0x80:
            self._typed.pop()
        if self._typed:
            self._typed.pop()

    def _answer(self, *, shown: bool) -> None:
        prompt = self._prompt if self._typed else self._asked()
        if not prompt:
            self.found.why_not = (
                self.found.why_not or "something was typed before the program printed anything"
            )
        self.found.replies.append((prompt, self._typed.decode("utf-8", "replace")))
        self.found.has_hidden |= not shown and bool(self._typed)
        self._typed.clear()
        self._printed, self._prompt = b"", ""

    def _asked(self) -> str:
        """Return the prompt: the last line that was printed."""
        text = self._printed.decode("utf-8", "replace").replace("\r\n", "\n").strip("\n")
        return text.rpartition("\n")[2][-MOST_PROMPT:]


def run_on_terminal(argv: Sequence[str]) -> tuple[int, Recording | None]:
    """Run a command on my terminal; return its status as `subprocess.call` does, and what was
    typed, where standard input and output are terminals."""
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        return subprocess.call(argv), None
    ours, theirs = os.openpty()
    try:
        _resize(theirs)
        child = subprocess.Popen(
            argv, stdin=theirs, stdout=theirs, stderr=theirs, start_new_session=True, preexec_fn=_control
        )
    finally:
        os.close(theirs)
    listener = Listener()
    try:
        with _raw(sys.stdin.fileno()), _resizing(ours):
            _pass_on(ours, child, listener)
        return child.wait(), listener.found
    finally:
        if child.poll() is None:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(child.pid, signal.SIGHUP)
            child.wait()
        os.close(ours)


def _control() -> None:
    """Make standard input the controlling terminal of the child (tty_ioctl(4))."""
    fcntl.ioctl(0, termios.TIOCSCTTY, 0)


def _resize(fd: int) -> None:
    """Give a terminal the size of mine."""
    with contextlib.suppress(OSError):
        size = fcntl.ioctl(sys.stdout.fileno(), termios.TIOCGWINSZ, struct.pack("HHHH", 0, 0, 0, 0))
        fcntl.ioctl(fd, termios.TIOCSWINSZ, size)


@contextlib.contextmanager
def _resizing(fd: int) -> Iterator[None]:
    before = signal.signal(signal.SIGWINCH, lambda *_: _resize(fd))
    try:
        yield
    finally:
        signal.signal(signal.SIGWINCH, before)


@contextlib.contextmanager
def _raw(fd: int) -> Iterator[None]:
    """Have every key handed over as it is pressed: the other terminal makes lines and signals."""
    before = termios.tcgetattr(fd)
    tty.setraw(fd)
    try:
        yield
    finally:
        termios.tcsetattr(fd, termios.TCSADRAIN, before)


def _pass_on(ours: int, child: subprocess.Popen[bytes], listener: Listener) -> None:
    """Hand over what is typed and what is printed, until the program has ended and its output is
    read."""
    mine, screen = sys.stdin.fileno(), sys.stdout.fileno()
    watched = [ours, mine]
    while True:
        ready, _, _ = select.select(watched, [], [], 0.1)
        if ours in ready:
            try:
                piece = os.read(ours, PIECE)
            except OSError:  # nobody has the other end open any more (pty(7))
                return
            if not piece:
                return
            listener.printed(piece)
            _write_all(screen, piece)
        elif child.poll() is not None:
            return
        if mine in ready:
            piece = os.read(mine, PIECE)
            if not piece:
                watched.remove(mine)
                continue
            local = termios.tcgetattr(ours)[tty.LFLAG]
            listener.typed(piece, lines=bool(local & termios.ICANON), shown=bool(local & termios.ECHO))
            with contextlib.suppress(OSError):
                _write_all(ours, piece)


def _write_all(fd: int, piece: bytes) -> None:
    while piece:
        piece = piece[os.write(fd, piece) :]
