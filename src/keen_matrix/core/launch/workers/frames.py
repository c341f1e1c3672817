"""Frames on a socket: each a length and a body."""

from __future__ import annotations

import struct
from collections.abc import Iterator

#: The length of a body, before it.
LENGTH = struct.Struct("!I")


class FrameReader:
    """Cuts a stream of bytes into frame bodies, however it arrives."""

    def __init__(self) -> None:
        self._buffer = bytearray()

    def feed(self, data: bytes) -> Iterator[bytes]:
        """Take some bytes and yield the bodies that are complete."""
        self._buffer += data
        at = 0
        while len(self._buffer) - at >= LENGTH.size:
            (length,) = LENGTH.unpack_from(self._buffer, at)
            stop = at + LENGTH.size + length
            if len(self._buffer) < stop:
                break
            yield bytes(memoryview(self._buffer)[at + LENGTH.size : stop])
            at = stop
        if at:
            del self._buffer[:at]
