"""A line on standard error for what takes longer than a moment before there is anything to show."""

from __future__ import annotations

import contextlib
import sys
import threading
import time
from collections.abc import Iterator

from keen_matrix.core.doing import Doing
from keen_matrix.wording.safe import escape

#: Seconds during which nothing is said.
PATIENCE = 1.0
REDRAWN = 0.25
WIDEST = 100

#: Set while something else draws on standard error.
_held = threading.Event()


@contextlib.contextmanager
def drawing_nothing() -> Iterator[None]:
    """Draw no line during a block that draws on its own."""
    _held.set()
    try:
        yield
    finally:
        _held.clear()


@contextlib.contextmanager
def waiting(doing: Doing) -> Iterator[None]:
    """Draw what is being done until the end of a block, from PATIENCE on."""
    ended = threading.Event()
    thread = threading.Thread(target=_draw, args=(doing, ended), daemon=True)
    thread.start()
    try:
        yield
    finally:
        ended.set()
        thread.join()


def _draw(doing: Doing, ended: threading.Event) -> None:
    if ended.wait(PATIENCE):
        return
    width = 0
    with contextlib.suppress(OSError, ValueError):
        while True:
            text = "" if _held.is_set() else shown_while(doing)
            sys.stderr.write("\r" + text.ljust(width) + "\r")
            sys.stderr.flush()
            width = len(text)
            if ended.wait(REDRAWN):
                break
        sys.stderr.write("\r" + " " * width + "\r")
        sys.stderr.flush()


def shown_while(doing: Doing) -> str:
    """Return the line for what is being done."""
    parts = [doing.what, doing.so_far, f"{time.monotonic() - doing.began:.0f} s"]
    text = escape(", ".join(each for each in parts if each))
    return text if len(text) <= WIDEST else text[: WIDEST - 1] + "…"
