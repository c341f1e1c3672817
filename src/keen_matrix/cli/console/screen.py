"""Where lines go: a stream, its width, its colours and its signs. Lines are data: segments of text
with a style."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Iterable
from typing import Any, TextIO

from keen_matrix.wording.safe import escape
from keen_matrix.wording.signs import MARKS, VERDICT_SIGNS, Segment, plain

STYLES = {
    "good": "green",
    "bad": "bold red",
    "warn": "yellow",
    "dim": "bright_black",
    "strong": "bold",
    "place": "cyan",
    "crashed": "bold magenta",
    "expected": "green",
    "found": "red",
}


def _is_wanted(is_terminal: bool) -> bool:
    """Tell whether the environment wants colours: NO_COLOR before FORCE_COLOR and CLICOLOR_FORCE,
    and these before whether there is a terminal."""
    environment = os.environ
    if environment.get("NO_COLOR"):
        return False
    if any(environment.get(name, "0") not in ("", "0") for name in ("FORCE_COLOR", "CLICOLOR_FORCE")):
        return True
    return is_terminal and environment.get("TERM") != "dumb"


class Screen:
    """One output stream. `color` (from the `choice` auto, always or never) and `width` are settled
    when it is made.

    Plain output never imports rich.
    """

    def __init__(
        self, stream: TextIO | None = None, *, color: str = "auto", width: int | None = None
    ) -> None:
        self.stream = stream or sys.stdout
        self.is_terminal = self.stream.isatty()
        self.choice = color
        self.color = color == "always" or (color == "auto" and _is_wanted(self.is_terminal))
        self.width = width or (shutil.get_terminal_size((100, 24)).columns if self.is_terminal else 100)
        encoding = (getattr(self.stream, "encoding", None) or "ascii").lower()
        self.unicode = "utf" in encoding
        self._console: object = None
        if not self.unicode or encoding == "utf-8":
            reconfigure = getattr(self.stream, "reconfigure", None)
            if reconfigure:  # a character that the terminal cannot show is escaped, never an error
                reconfigure(errors="backslashreplace")

    def sign(self, name: str) -> str:
        """Return one of our signs in the form that this stream can show."""
        return (VERDICT_SIGNS.get(name) or MARKS[name])[0 if self.unicode else 1]

    def line(self, *segments: Segment) -> None:
        """Write one line. Control characters are escaped here once more, whatever the caller
        did."""
        parts = [
            (escape(each), "") if isinstance(each, str) else (escape(each[0]), each[1]) for each in segments
        ]
        if not self.color:
            text = "".join(text for text, _ in parts).rstrip(" ")
            self.stream.write((text if self.unicode else plain(text)) + "\n")
            return
        from rich.text import Text

        self._rich().print(
            Text.assemble(
                *((text if self.unicode else plain(text), STYLES.get(style, "")) for text, style in parts)
            ),
            soft_wrap=True,
        )

    def rows(self, rows: Iterable[Iterable[Segment]]) -> None:
        """Write lines, each as they are made."""
        for row in rows:
            self.line(*row)

    def _rich(self) -> Any:
        if self._console is None:
            from rich.console import Console

            self._console = Console(
                file=self.stream,
                force_terminal=True,
                markup=False,
                emoji=False,
                highlight=False,
                legacy_windows=False,
                color_system="256"
                if "256" in os.environ.get("TERM", "") or os.environ.get("COLORTERM")
                else "standard",
                no_color=False,
                width=self.width,
            )
        return self._console

    def flush(self) -> None:
        """Write out what is waiting."""
        self.stream.flush()
