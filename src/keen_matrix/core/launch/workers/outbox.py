"""What a worker has to tell the engine, held back a little so that several frames go together."""

from __future__ import annotations

import socket
import time

HOLD_SECONDS = 0.02
#: How long, and how much of, results wait to be sent together: waking the engine costs as much as
#: checking a small case.
HOLD_BYTES = 32_768


class Outbox:
    """Frames that wait to be sent."""

    def __init__(self, control: socket.socket) -> None:
        self._control = control
        self._waiting = bytearray()
        self._flush_at = 0.0

    def send(self, frame: bytes) -> None:
        """Send a frame, together with others that come within HOLD_SECONDS."""
        if not self._waiting:
            self._flush_at = time.monotonic() + HOLD_SECONDS
        self._waiting += frame
        # A large record must not wait for small ones, nor fill the memory with what waits.
        if len(self._waiting) > HOLD_BYTES:
            self.flush()

    def flush(self) -> None:
        """Send all that waits. Raises OSError when the engine is gone."""
        if self._waiting:
            self._control.sendall(self._waiting)
            self._waiting.clear()

    def wait_from(self, now: float) -> float | None:
        """Send what has waited long enough; return in how many seconds the rest is due, None when
        there is none."""
        if self._waiting and self._flush_at <= now:
            self.flush()
        return self._flush_at - now if self._waiting else None
