"""What one launch ran of the program's own files."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import NamedTuple, TypeAlias

from keen_matrix.core.structs import Struct, field


class Place(NamedTuple):
    """A line of a program."""

    #: Its absolute path.
    file: str
    line: int


Lines: TypeAlias = "Mapping[str, frozenset[int]]"


class Trace(Struct, frozen=True):
    """The lines that a launch ran."""

    places: frozenset[Place]
    #: In the order in which they ran, each time; empty where the runtime does not tell it.
    order: tuple[Place, ...] = ()
    #: Lines that hold something to run, where the runtime tells them.
    can_run: frozenset[Place] = field(default_factory=frozenset)


def trace_of(order: Iterable[Place], can_run: Iterable[Place] = ()) -> Trace:
    """Return the trace of lines in their order."""
    whole = tuple(order)
    return Trace(frozenset(whole), whole, frozenset(can_run))
