"""What a launch did."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(slots=True, kw_only=True)
class Outcome:
    """Everything observed of one launch. Streams are bytes, cut at the cap; times are seconds; memory is bytes."""

    exit: int | None = None
    signal: int | None = None
    stdout: bytes = b""
    stderr: bytes = b""
    stdout_bytes: int = 0
    """How many bytes came in all, those beyond the cap included."""
    stderr_bytes: int = 0
    seconds: float = 0.0
    user_seconds: float = 0.0
    system_seconds: float = 0.0
    peak_bytes: int | None = None
    timed_out: bool = False
    flooded: str | None = None
    """The stream that went over the cap, for which the program was ended."""
    unlaunched: str | None = None
    """Why the program could not be started."""
    directory: str = ""
    """The case's working directory; it exists only until the outcome has been checked."""
