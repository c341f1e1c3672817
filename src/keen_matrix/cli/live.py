"""What a program prints, shown as it comes."""

from __future__ import annotations

from keen_matrix.cli.console.screen import Screen
from keen_matrix.core.launch.workers.wire import LiveFrame
from keen_matrix.wording.counts import duration
from keen_matrix.wording.safe import visible_line

#: Characters of a line that are shown.
LINE_SHOWN = 2_000


class LiveStreams:
    """Writes pieces of output as they come: on which stream, how long after the start."""

    def __init__(self, screen: Screen) -> None:
        self._screen = screen
        self.has_shown = False

    def show(self, frame: LiveFrame, *, whose: str = "") -> None:
        """Write one piece; `whose` is the id of the case where several run."""
        screen, self.has_shown = self._screen, True
        text = frame.text.decode("utf-8", "surrogateescape")
        style = "found" if frame.stream == "stderr" else "dim"
        for line in text.removesuffix("\n").split("\n"):
            screen.line(
                (f"{whose} " if whose else "  ", "place"),
                (f"{frame.stream} {duration(frame.seconds):>9} ", style),
                (f"{screen.sign('bar')} ", "dim"),
                visible_line(line[:LINE_SHOWN], screen.sign("space")),
            )
        screen.flush()
