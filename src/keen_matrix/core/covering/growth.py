"""Growth, one axis after another, as in "In-parameter-order: a test generation strategy for
pairwise testing" (1998).

For each further axis every row gets the value that covers most new tuples; what is then still
uncovered goes into open cells (-1) of rows that allow it, or into new rows. Only the tuples that
end at the axis in hand are kept in memory.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from keen_matrix.core.covering.blocks import Ints, rows_at_once

OPEN = -1


def grow(
    levels: Sequence[int],
    blocks: Sequence[tuple[int, ...]],
    order: Sequence[int],
    rows: Ints,
    done: int,
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
            rows = _Step(levels, axis, ending[axis], rows).grown()
    return rows


class _Step:
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
        self.used = self.strides > 0
        self.covered = np.zeros(total, dtype=bool)
        self.values = np.arange(levels[axis], dtype=np.int64)

    def grown(self) -> Ints:
        """Return the rows with the axis set as far as it matters."""
        some = rows_at_once(self.others.size)
        for at in range(len(self.rows)):
            if at % some == 0:  # only the axis in hand changes, which no prefix reads
                numbers, known = self._prefixes(self.rows[at : at + some])
            chosen = int(self.rows[at, self.axis])
            mine = numbers[at % some][known[at % some]]
            if chosen == OPEN and len(mine):
                gains = (~self.covered[mine[:, None] + self.values]).sum(axis=0)
                # argmax takes the first of equals: the same rows on every machine.
                best = int(gains.argmax())
                # A value that covers nothing new is left open: it may take a tuple that is still
                # uncovered later, and saves a row then.
                chosen = best if gains[best] else OPEN
                self.rows[at, self.axis] = chosen
            if chosen != OPEN:
                self.covered[mine + chosen] = True
        self._place_rest()
        return self.rows

    def _prefixes(self, rows: Ints) -> tuple[np.ndarray, np.ndarray]:
        """Return for each row and block the number of its tuple with value 0, and whether all its
        other cells are set."""
        cells = rows[:, self.others].astype(np.int64)
        known = ((cells != OPEN) | ~self.used).all(axis=2)
        numbers = (np.where(self.used, cells, 0) * self.strides).sum(axis=2) + self.bases
        return numbers, known

    def _place_rest(self) -> None:
        """Put every uncovered tuple into a row with fitting open cells, or into a new one."""
        spare = self.rows
        fresh = np.full((64, len(self.levels)), OPEN, dtype=np.int32)
        count = 0
        table = np.vstack([spare, fresh])
        used = len(spare)
        has_open = (table == OPEN).any(axis=1)
        for number in np.flatnonzero(~self.covered).tolist():
            if self.covered[number]:
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
            numbers, known = self._prefixes(table[at : at + 1])
            self.covered[numbers[0][known[0]] + int(table[at, self.axis])] = True
        self.rows = table[: used + count]

    def _decode(self, number: int) -> tuple[list[int], list[int]]:
        block = int(np.searchsorted(self.bases, number, side="right")) - 1
        rest = number - int(self.bases[block])
        axes, values = [self.axis], [rest % self.levels[self.axis]]
        for other, stride in zip(
            self.others[block].tolist(), self.strides[block].tolist(), strict=True
        ):
            if stride:
                axes.append(other)
                values.append(rest // stride % self.levels[other])
        return axes, values
