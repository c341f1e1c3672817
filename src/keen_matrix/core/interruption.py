"""Being interrupted: the first signal breaks off what is done, and nothing breaks off the cleaning
up.

An exception that a signal handler raises can be lost, in a destructor say, so the request is also
remembered, and asked for by whatever waits in a loop.
"""

from __future__ import annotations

import contextlib
import signal
from collections.abc import Iterable, Iterator

_state = {"requested": False, "ending": False}
_heard: list[signal.Signals] = []


def hear(numbers: Iterable[signal.Signals]) -> None:
    """Have some signals raise KeyboardInterrupt, until the end has begun. To be called in the main
    thread.

    Those that whoever started us ignores stay ignored (nohup ignores SIGHUP).
    """
    _state.update(requested=False, ending=False)
    _heard.clear()
    for number in numbers:
        if signal.getsignal(number) in (signal.SIG_DFL, signal.default_int_handler):
            signal.signal(number, _interrupt)
            _heard.append(number)


def _interrupt(*_: object) -> None:
    if not _state["ending"]:
        _state["requested"] = True
        raise KeyboardInterrupt


def begin_ending() -> None:
    """Say that cleaning up has begun, which takes seconds at most: further signals are passed
    over, to the process's very end.

    They are ignored from here on, since the interpreter takes handlers of its own away before it
    is gone.
    """
    _state["ending"] = True
    for number in _heard:
        signal.signal(number, signal.SIG_IGN)


def forget() -> None:
    """Say that an interruption has been taken care of, and what was asked for goes on."""
    _state["requested"] = False


@contextlib.contextmanager
def not_now() -> Iterator[None]:
    """Have signals passed over while a block cleans up; after it they are heard again, unless one
    had begun the end."""
    before = _state["ending"]
    _state["ending"] = True
    try:
        yield
    finally:
        _state["ending"] = before or _state["requested"]


def is_requested() -> bool:
    """Tell whether a signal asked for the end, which has not begun: an error after it may be all
    that is left of it. One that comes once the end has begun is its own.

    Compiled code that calls us back tells of whatever we raise as of a fault of its own
    (pydantic-core's SchemaError, while the schema of a spec is made)."""
    return _state["requested"] and not _state["ending"]


def check() -> None:
    """Raise KeyboardInterrupt when it was raised before and came to nothing."""
    if is_requested():
        raise KeyboardInterrupt


@contextlib.contextmanager
def put_off() -> Iterator[None]:
    """Have all signals wait for the end of a block that must not be broken off, such as the import
    of compiled code."""
    before = signal.pthread_sigmask(signal.SIG_BLOCK, signal.valid_signals())
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)
