"""A bound on the time that the checks of a launch take: functions of the user's own may run in
them."""

from __future__ import annotations

import contextlib
import signal
import time
from collections.abc import Iterator

#: Time that the checks of one launch may take, oracle functions included.
CHECK_SECONDS = 60


class CheckTimer:
    """Breaks off a check that takes too long, by SIGALRM. A process has one."""

    def __init__(self) -> None:
        #: When the check that runs now is to be broken off; 0 while none runs.
        self._until = 0.0
        signal.signal(signal.SIGALRM, self._on_alarm)

    def _on_alarm(self, *_: object) -> None:
        """Break off the check that runs, if one does and its time is over: any program may send us
        this signal."""
        if self._until and time.monotonic() >= self._until:
            raise ValueError(f"the check took longer than {CHECK_SECONDS} s")

    @contextlib.contextmanager
    def limit(self) -> Iterator[None]:
        """Have what is done here end with a ValueError when it takes longer than CHECK_SECONDS."""
        self._until = time.monotonic() + CHECK_SECONDS
        signal.setitimer(signal.ITIMER_REAL, CHECK_SECONDS)
        try:
            yield
        finally:
            self._until = 0.0
            signal.setitimer(signal.ITIMER_REAL, 0)
