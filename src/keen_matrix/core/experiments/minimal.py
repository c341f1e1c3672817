"""The smallest part of something that still fails, and the largest that does not.

Nothing here knows of programs: what is asked is whether some items fail. Both searches ask of
halves first, then of smaller parts, so that two items of forty are found with some twenty questions
("Simplifying and isolating failure-inducing input", Zeller and Hildebrandt, 2002)."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import TypeAlias, TypeVar

Item = TypeVar("Item")
#: Says whether some items fail.
Fails: TypeAlias = "Callable[[list[Item]], bool]"


def smaller(items: Sequence[Item], size: int) -> Iterator[list[Item]]:
    """Yield items without one part of them, of so many items each, the first part first."""
    for at in range(0, len(items), size):
        yield [*items[:at], *items[at + size :]]


def minimal(items: Sequence[Item], fails: Fails[Item]) -> list[Item]:
    """Return a part of some items that fails, and from which no single item can be left out. The
    items as a whole are taken to fail and not asked of.

    `fails` is asked of one part after another. Where several may be asked of at a time, see
    `minimal_of`.
    """

    def first(parts: Iterator[list[Item]]) -> list[Item] | None:
        return next((part for part in parts if fails(part)), None)

    return minimal_of(items, first)


def minimal_of(
    items: Sequence[Item], first: Callable[[Iterator[list[Item]]], list[Item] | None]
) -> list[Item]:
    """Return what `minimal` does, by a function that returns the first of several parts that
    fails, None where none does.

    1. Leave out one part after another, at first each half of the items.
    2. Where what is left fails, go on with it and with parts of the same size: what could not be
       left out beside others may go now.
    3. Else halve the size, down to single items.
    """
    left, size = list(items), max(1, len(items) // 2)
    while left:
        fewer = first(smaller(left, size))
        if fewer is not None:
            left = fewer
            size = max(1, min(size, len(left) // 2))
        elif size == 1:
            break
        else:
            size //= 2
    return left


def parted(
    items: Sequence[Item], works: Callable[[list[Item]], bool], kept: Sequence[Item] = ()
) -> tuple[list[Item], list[Item]]:
    """Return those of some items that work together, beside others that are `kept` already, and
    the rest: each of the rest fails beside those kept before it. A part that fails is asked of in
    halves."""
    if not items:
        return list(kept), []
    together = [*kept, *items]
    if works(together):
        return together, []
    if len(items) == 1:
        return list(kept), list(items)
    middle = len(items) // 2
    first, failing = parted(items[:middle], works, kept)
    second, more = parted(items[middle:], works, first)
    return second, [*failing, *more]
