"""A command as the system starts it."""

from __future__ import annotations

from typing import NamedTuple


class Command(NamedTuple):
    """A file to start and the words that it gets, its own name first."""

    file: str
    words: tuple[str, ...]
