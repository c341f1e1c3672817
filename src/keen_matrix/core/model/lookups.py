"""What reading a spec looks at beside the spec's own text: a spec that is kept stands only as long
as all that is as it was."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from typing import TypeAlias

#: Times of change and modification in nanoseconds, size and number of a file; None where there is
#: none.
Stamp: TypeAlias = tuple[int, int, int, int] | None

_watching: list[set[str]] = []


def look(path: str) -> None:
    """Say that what a spec comes to depends on a file, or on its absence."""
    for paths in _watching:
        paths.add(os.path.abspath(path))


@contextlib.contextmanager
def watching() -> Iterator[set[str]]:
    """Collect the paths of all files that are looked at while the block lasts."""
    paths: set[str] = set()
    _watching.append(paths)
    try:
        yield paths
    finally:
        _watching.remove(paths)


def stamp(path: str) -> Stamp:
    """Return what changes when a file does."""
    try:
        info = os.stat(path)
    except (OSError, ValueError):
        return None
    return info.st_ctime_ns, info.st_mtime_ns, info.st_size, info.st_ino
