"""Calls side by side, as JSON for other programs."""

from __future__ import annotations

from typing import Literal

from keen_matrix.core.structs import Struct


class CallResultDocument(Struct):
    """A call and its result."""

    #: As it was typed, with what was put around it.
    call: str
    argv: list[str]
    #: How it ended, in words.
    end: str
    exit: int | None
    signal: str | None
    stdout: str
    stderr: str
    #: Files that it created, changed or deleted.
    files: dict[str, str]
    seconds: float


class CallsDocument(Struct):
    """Calls side by side."""

    program: str
    calls: list[CallResultDocument]
    kind: Literal["calls"] = "calls"
    version: Literal[1] = 1
