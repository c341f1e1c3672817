"""What a program prints, kept up to a cap: no input or output here, pieces are fed in and the whole
is taken out."""

from __future__ import annotations


class Capture:
    """Both streams of a launch. What is beyond the cap is counted and not kept."""

    def __init__(self, cap: int) -> None:
        self._cap = cap
        self._chunks: dict[str, list[bytes]] = {"stdout": [], "stderr": []}
        #: How many bytes came in all.
        self.sizes: dict[str, int] = {"stdout": 0, "stderr": 0}
        #: What was kept in which order: stream, bytes, seconds since the start.
        self.arrivals: list[tuple[str, int, float]] = []

    def feed(self, stream: str, chunk: bytes, seconds: float) -> bool:
        """Take a piece; tell whether the stream is within the cap still."""
        before = self.sizes[stream]
        # A flood is read to its end, or the program would wait for us for ever, and forgotten.
        if before < self._cap:
            kept = chunk[: self._cap - before]
            self._chunks[stream].append(kept)
            self.arrivals.append((stream, len(kept), seconds))
        self.sizes[stream] = before + len(chunk)
        return self.sizes[stream] <= self._cap

    def finish(self, stream: str) -> bytes:
        """Return all that was kept of a stream."""
        chunks = self._chunks[stream]
        # Most programs write once, and a join would copy it.
        return chunks[0] if len(chunks) == 1 else b"".join(chunks)
