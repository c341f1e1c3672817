"""What a launch did."""

from __future__ import annotations

import os
from typing import NamedTuple

from keen_matrix.core.model.record import FileChange
from keen_matrix.core.structs import Struct, field


class Looked(NamedTuple):
    """What stood at a file's place: its content, or what is there instead of a file; its mode, and
    where a link leads."""

    content: bytes = b""
    instead: str = ""
    mode: str = ""
    link: str = ""


class Feeding(Struct, kw_only=True):
    """A command that fed standard input, and how it ended: its exit status or its signal."""

    name: str
    exit: int | None = None
    signal: int | None = None

    def take(self, status: int) -> None:
        """Take the status that waiting for it gave (waitpid(2))."""
        code = os.waitstatus_to_exitcode(status)
        self.exit, self.signal = (code, None) if code >= 0 else (None, -code)


class Outcome(Struct, kw_only=True):
    """Everything observed of one launch. Streams are bytes, cut at the cap; times are seconds;
    memory is bytes."""

    exit: int | None = None
    signal: int | None = None
    stdout: bytes = b""
    stderr: bytes = b""
    #: How many bytes came in all, those beyond the cap included.
    stdout_bytes: int = 0
    stderr_bytes: int = 0
    seconds: float = 0.0
    user_seconds: float = 0.0
    system_seconds: float = 0.0
    peak_bytes: int | None = None
    timed_out: bool = False
    #: The stream that went over the cap, for which the program was ended.
    flooded: str | None = None
    #: Why the program could not be started.
    not_started: str | None = None
    #: The signal that the spec ended the program with.
    stopped: int | None = None
    #: The prompt that was waited for and did not come.
    unasked: bytes | None = None
    #: Replies that no prompt asked for.
    unused_replies: list[bytes] = field(default_factory=list)
    #: Whether the program asked once more than there were replies.
    asked_more: bool = False
    #: What should have happened while it ran and did not, with the reason; empty: it ended before.
    missed: list[tuple[str, str]] = field(default_factory=list)
    #: Whether both streams went to one place, and are in `stdout`.
    together: bool = False
    #: Whether it was ended since it waited for input that would never come.
    waits: bool = False
    #: Prompts that came, with the replies given.
    conversation: list[tuple[bytes, bytes]] = field(default_factory=list)
    #: The commands that fed standard input.
    feeders: list[Feeding] = field(default_factory=list)
    #: Names of processes that the program left behind.
    leftovers: list[str] = field(default_factory=list)
    #: Whether something kept the streams open after the program itself had ended.
    kept_open: bool = False
    #: What came in which order: stream, bytes, seconds since the start.
    arrivals: list[tuple[str, int, float]] = field(default_factory=list)
    #: What the launch did to the files of its directory.
    files: dict[str, FileChange] = field(default_factory=dict)
    #: File that was put in place → whether it was read, as far as the system tells.
    samples: dict[str, bool] = field(default_factory=dict)
    #: What stood in the directory afterwards; only looked at when launches are compared.
    state: dict[str, tuple[object, ...]] = field(default_factory=dict)
    #: The streams as they are compared, where masks are there.
    masked: dict[str, bytes] = field(default_factory=dict)
    #: Numbers of the masks that found something.
    masks_used: frozenset[int] = frozenset()
    #: The files that expectations looked at; they stand for the directory once it is gone.
    looked_at: dict[str, Looked] = field(default_factory=dict)
    #: The case's working directory; it exists only until the outcome has been checked.
    directory: str = ""
