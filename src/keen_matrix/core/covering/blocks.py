"""The tuples that an array has to cover, numbered.

A block is a set of axes whose value combinations must all appear: every subset of `strength` axes,
plus those of a denser set of axes. The number of a tuple is the base of its block plus the sum of
value × stride over the block's axes."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Sequence
from itertools import combinations
from math import comb, prod

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int32]

#: Cover count of a tuple that need not or cannot be covered: neither 0 nor 1, however often it is
#: counted.
NEVER = np.int32(1 << 29)


#: Cells of an intermediate array: 16 to 32 MiB.
CELLS_AT_ONCE = 1 << 22
BLOCKS_AT_ONCE = 20_000


def rows_at_once(width: int) -> int:
    """Return how many rows of so many cells are dealt with together, so that memory stays
    bounded."""
    return max(1, CELLS_AT_ONCE // max(1, width))


def block_axes(
    axes: int, strength: int, denser: Iterable[tuple[Sequence[int], int]]
) -> list[tuple[int, ...]]:
    """Return the blocks of a system; one that lies inside another is left out, since the other
    covers it."""
    # A strength above the number of axes asks for every combination of all of them, no more.
    chosen = set(combinations(range(axes), min(strength, axes)))
    for among, own in denser:
        among = sorted(set(among))
        chosen |= set(combinations(among, min(own, len(among))))
    larger = [block for block in chosen if len(block) > strength]
    # Only blocks of a denser set can contain others: those of the general strength are all of one
    # size.
    inside = {part for block in larger for size in range(1, len(block)) for part in combinations(block, size)}
    return sorted(chosen - inside)


class Blocks:
    """All blocks of a system with the numbering of their tuples."""

    def __init__(self, levels: Sequence[int], blocks: Sequence[tuple[int, ...]]) -> None:
        self.levels = tuple(levels)
        self.axes = list(blocks)
        self.strides: list[tuple[int, ...]] = []
        bases = []
        total = 0
        for block in self.axes:
            bases.append(total)
            steps, size = [], 1
            # The last axis changes fastest: numbers of one block run as its rows would, sorted.
            for axis in reversed(block):
                steps.append(size)
                size *= levels[axis]
            self.strides.append(tuple(reversed(steps)))
            total += size
        self.total = total
        self.bases = np.array(bases, dtype=np.int64)
        self._base_list = bases
        # Blocks of one size make one rectangular array, so that numpy numbers all of them at once.
        self._by_size: dict[int, tuple[NDArray[np.intp], NDArray[np.intp], Ints]] = {}
        for size in sorted({len(block) for block in self.axes}):
            at = [number for number, block in enumerate(self.axes) if len(block) == size]
            self._by_size[size] = (
                np.array(at, dtype=np.intp),
                np.array([self.axes[number] for number in at], dtype=np.intp),
                np.array([self.strides[number] for number in at], dtype=np.int32),
            )
        self._make_lookup()

    def _make_lookup(self) -> None:
        """Make for each axis the blocks it is in and its stride there, padded to equal length with
        a dummy block."""
        count = len(self.levels)
        per_axis: list[list[tuple[int, int]]] = [[] for _ in range(count)]
        for number, (block, strides) in enumerate(zip(self.axes, self.strides, strict=True)):
            for axis, stride in zip(block, strides, strict=True):
                per_axis[axis].append((number, stride))
        # Padding to equal length costs memory where a denser set is on few axes, and saves a loop
        # in the innermost place of the search.
        width = max((len(each) for each in per_axis), default=0)
        self.of_axis = np.full((count, width), len(self.axes), dtype=np.intp)
        self.stride_of_axis = np.zeros((count, width), dtype=np.int32)
        for axis, pairs in enumerate(per_axis):
            for at, (number, stride) in enumerate(pairs):
                self.of_axis[axis, at], self.stride_of_axis[axis, at] = number, stride

    def numbers(self, rows: Ints) -> Ints:
        """Return the tuple numbers of complete rows: rows × (blocks + 1), the last column being
        the dummy tuple."""
        found = np.empty((len(rows), len(self.axes) + 1), dtype=np.int32)
        # The dummy tuple takes what the padding of of_axis points to, so that no gather needs a
        # test.
        found[:, -1] = self.total
        for at, axes, strides in self._by_size.values():
            for start in range(0, len(at), BLOCKS_AT_ONCE):
                part = slice(start, start + BLOCKS_AT_ONCE)
                bases = self.bases[at[part]].astype(np.int32)
                some = rows_at_once(len(bases) * axes.shape[1])
                for first in range(0, len(rows), some):  # bounds the intermediate rows × blocks × size
                    rest = slice(first, first + some)
                    # int32 is enough: memory_needed refuses systems whose tuples could not be
                    # counted in it.
                    summed = (rows[rest][:, axes[part]] * strides[part]).sum(axis=2, dtype=np.int32)
                    found[rest, at[part]] = summed + bases
        return found

    def counted(self, rows: Ints) -> Ints:
        """Return how often complete rows cover each tuple, the dummy tuple last; all their numbers
        never stand in memory."""
        counts = np.zeros(self.total + 1, dtype=np.int32)
        some = rows_at_once(len(self.axes) + 1)
        for first in range(0, len(rows), some):
            numbers = self.numbers(rows[first : first + some]).ravel()
            # A number that comes several times counts several times: adding 1 at an array of
            # numbers would count it once.
            counts += np.bincount(numbers, minlength=self.total + 1).astype(np.int32)
        return counts

    def decode(self, number: int) -> tuple[tuple[int, ...], tuple[int, ...]]:
        """Return the axes and the values of a tuple."""
        block = bisect_right(self._base_list, number) - 1
        rest = number - self._base_list[block]
        values = []
        for stride in self.strides[block]:
            value, rest = divmod(rest, stride)
            values.append(value)
        return self.axes[block], tuple(values)


def lower_bound(levels: Sequence[int], blocks: Sequence[tuple[int, ...]]) -> int:
    """Return a number of rows that no covering array without constraints can go below.

    The largest block must appear in full; for axes of two values at strength 2 the exact size is
    known ("Families of k-independent sets", 1973): the smallest N with C(N - 1, ceil(N / 2)) at
    least the number of axes.
    """
    bound = max((prod(levels[axis] for axis in block) for block in blocks), default=1)
    paired = {axis for block in blocks if len(block) >= 2 for axis in block if levels[axis] >= 2}
    if len(paired) > 2 and len(blocks) >= comb(len(paired), 2):
        rows = 4
        while comb(rows - 1, (rows + 1) // 2) < len(paired):
            rows += 1
        bound = max(bound, rows)
    return bound
