"""What happens while a program runs: files that change under it, a command, a signal.

No input or output here: `feed` takes what the program printed and `due` a moment, and both say what
is to be done now.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

from keen_matrix.core.model.command import Command
from keen_matrix.core.structs import Struct


class Happening(Struct, frozen=True, kw_only=True):
    """Something that happens while the program runs: when, and what."""

    #: Seconds after the happening before it, or after the start.
    after: float | None = None
    #: Else a text that the program prints, on either stream.
    text: bytes = b""
    #: How it is named to people.
    name: str
    #: Changes files, and returns why that was not possible, or nothing.
    change: Callable[[], str] | None = None
    command: Command | None = None
    #: A signal for the program; 0 for none.
    signal: int = 0
    #: Whether the program alone gets it, or its whole process group.
    alone: bool = False


class Happenings:
    """The happenings of a launch, one after another: each waits for the one before it."""

    def __init__(self, happenings: Sequence[Happening], started: float) -> None:
        self._left = list(happenings)
        self._since = started
        self._tails: dict[str, bytes] = {}

    @property
    def due_at(self) -> float:
        """The moment of the next one; infinity where it waits for a text, or there is none."""
        if not self._left or self._left[0].after is None:
            return math.inf
        return self._since + self._left[0].after

    @property
    def waiting(self) -> list[Happening]:
        """Those that have not happened."""
        return self._left

    def feed(self, stream: str, chunk: bytes, now: float) -> Happening | None:
        """Take a piece of output; return what happens now. Ask `due` for what follows it."""
        seen = self._tails.get(stream, b"") + chunk
        found = None
        if self._left and self._left[0].after is None and (at := seen.find(self._left[0].text)) >= 0:
            found = self._left.pop(0)
            self._since = now
            # The next text is looked for after this one, whatever stream it comes on.
            self._tails.clear()
            seen = seen[at + len(found.text) :]
        longest = max((len(each.text) for each in self._left), default=0)
        self._tails[stream] = seen if found else seen[-longest:] if longest else b""
        return found

    def due(self, now: float) -> Happening | None:
        """Return the next one, where its moment has come."""
        if now < self.due_at:
            return None
        self._since = now
        return self._left.pop(0)
