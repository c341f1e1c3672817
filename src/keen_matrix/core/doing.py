"""What is being done that may take a while, for whoever draws it.

The work says what it does and how far it is; it neither knows nor waits for who looks. One thing at
a time: what is begun inside another is part of it."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterator


class Doing:
    """One thing that is being done."""

    def __init__(self, what: str) -> None:
        #: What it is, and how far it is, in words; empty where nothing can be said.
        self.what, self.so_far = what, ""
        self.began = time.monotonic()

    def told(self, so_far: str) -> None:
        """Say how far it is."""
        self.so_far = so_far


_spent: dict[str, float] = {}
_now: list[Doing] = []
_heard: list[Callable[[Doing], contextlib.AbstractContextManager[None]]] = []


def draw_with(drawn: Callable[[Doing], contextlib.AbstractContextManager[None]] | None) -> None:
    """Have something drawn for as long as anything is being done; None: nothing any more."""
    _heard[:] = [] if drawn is None else [drawn]


def now() -> Doing | None:
    """Return what is being done."""
    return _now[0] if _now else None


def spent(kind: str) -> float:
    """Return how many seconds this process has spent on things whose first word is the one
    given."""
    return _spent.get(kind, 0.0)


@contextlib.contextmanager
def doing(what: str) -> Iterator[Doing]:
    """Say that something is done until the end of a block; yield where to say how far it is."""
    if _now:
        yield Doing(what)
        return
    own = Doing(what)
    kind = what.split(" ")[0]
    _now.append(own)
    try:
        with contextlib.ExitStack() as stack:
            for drawn in _heard:
                stack.enter_context(drawn(own))
            yield own
    finally:
        _now.clear()
        _spent[kind] = _spent.get(kind, 0.0) + time.monotonic() - own.began
