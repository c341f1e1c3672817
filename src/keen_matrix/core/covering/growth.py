"""Growth, one axis after another, as in "In-parameter-order: a test generation strategy for
pairwise testing" (1998).

For each further axis every row gets the value that covers most new tuples; what is then still
uncovered goes into open cells (-1) of rows that allow it, or into new rows. Only the tuples that
end at the axis in hand are kept in memory.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

import numpy as np

from keen_matrix.core.covering.blocks import Ints, rows_at_once

OPEN = -1


def grow(
    levels: Sequence[int], blocks: Sequence[tuple[int, ...]], order: Sequence[int], rows: Ints, done: int
) -> Ints:
    """Return rows that cover all blocks without constraints; open cells are left open.

    `rows` (rows × all axes, OPEN where not set) cover every block inside the first `done` axes of
    `order` already, or have fixed cells, which are never changed.
    """
    place = {axis: at for at, axis in enumerate(order)}
    ending: dict[int, list[tuple[int, ...]]] = {axis: [] for axis in order}
    for block in blocks:
        # A block is dealt with when the last of its axes is added, and never looked at again.
        ending[max(block, key=lambda axis: place[axis])].append(block)
    for axis in order[done:]:
        if ending[axis]:
            rows = _GrowthStep(levels, axis, ending[axis], rows).grown()
    return rows


class _GrowthStep:
    """The growth by one axis."""

    def __init__(
        self, levels: Sequence[int], axis: int, blocks: Sequence[tuple[int, ...]], rows: Ints
    ) -> None:
        self.levels, self.axis, self.rows = levels, axis, rows
        width = max(len(block) for block in blocks)
        others = [[each for each in block if each != axis] for block in blocks]
        self.others = np.zeros((len(blocks), max(1, width - 1)), dtype=np.intp)
        self.strides = np.zeros((len(blocks), max(1, width - 1)), dtype=np.int64)
        self.bases = np.zeros(len(blocks), dtype=np.int64)
        total = 0
        for number, rest in enumerate(others):
            self.bases[number] = total
            size = levels[axis]
            for at, each in enumerate(rest):
                self.others[number, at], self.strides[number, at] = each, size
                size *= levels[each]
            total += size
        self.base_list: list[int] = self.bases.tolist()
        self.used = self.strides > 0
        # One more than there are tuples: a block whose other cells are not all set has none, and
        # takes the last, which is never uncovered.
        self.uncovered = np.ones(total + 1, dtype=np.int32)
        self.uncovered[total] = 0
        self.values = np.arange(levels[axis], dtype=np.int64)

    def grown(self) -> Ints:
        """Return the rows with the axis set as far as it matters."""
        some = rows_at_once(self.others.size * len(self.values))
        for first in range(0, len(self.rows), some):
            # only the axis in hand changes, which no prefix reads
            part = self.rows[first : first + some]
            for at, numbers in enumerate(self._numbers(part), first):
                chosen = int(self.rows[at, self.axis])
                if chosen == OPEN:
                    gains = self.uncovered.take(numbers).sum(axis=0)
                    # argmax takes the first of equals: the same rows on every machine.
                    best = int(gains.argmax())
                    # A value that covers nothing new is left open: it may take a tuple that is
                    # still uncovered later, and saves a row then.
                    chosen = best if gains[best] else OPEN
                    self.rows[at, self.axis] = chosen
                if chosen != OPEN:
                    self.uncovered[numbers[:, chosen]] = 0
        self._place_rest()
        return self.rows

    def _numbers(self, rows: Ints) -> np.ndarray:
        """Return rows × blocks × values: the number of the tuple with each value of the axis, or
        the last where not all other cells are set."""
        cells = rows[:, self.others].astype(np.int64)
        known = ((cells != OPEN) | ~self.used).all(axis=2)
        numbers = (np.where(self.used, cells, 0) * self.strides).sum(axis=2) + self.bases
        found: np.ndarray = numbers[:, :, None] + self.values
        found[~known] = len(self.uncovered) - 1
        return found

    def _place_rest(self) -> None:
        """Put every uncovered tuple into a row with fitting open cells, or into a new one."""
        spare = self.rows
        fresh = np.full((64, len(self.levels)), OPEN, dtype=np.int32)
        count = 0
        table = np.vstack([spare, fresh])
        used = len(spare)
        has_open = (table == OPEN).any(axis=1)
        for number in np.flatnonzero(self.uncovered).tolist():
            if not self.uncovered[number]:
                continue
            axes, values = self._decode(number)
            cells = table[: used + count][:, axes]
            fits = ((cells == values) | (cells == OPEN)).all(axis=1) & has_open[: used + count]
            at = int(fits.argmax()) if len(fits) else 0
            if not len(fits) or not fits[at]:
                at = used + count
                count += 1
                if at >= len(table):
                    more = np.full((len(table), len(self.levels)), OPEN, dtype=np.int32)
                    table = np.vstack([table, more])
                    has_open = np.concatenate([has_open, np.ones(len(more), dtype=bool)])
            table[at, axes] = values
            has_open[at] = bool((table[at] == OPEN).any())
            self.uncovered[self._numbers(table[at : at + 1])[0, :, int(table[at, self.axis])]] = 0
        self.rows = table[: used + count]

    def _decode(self, number: int) -> tuple[list[int], list[int]]:
        block = bisect_right(self.base_list, number) - 1
        rest = number - self.base_list[block]
        axes, values = [self.axis], [rest % self.levels[self.axis]]
        for other, stride in zip(self.others[block].tolist(), self.strides[block].tolist(), strict=True):
            if stride:
                axes.append(other)
                values.append(rest // stride % self.levels[other])
        return axes, values
