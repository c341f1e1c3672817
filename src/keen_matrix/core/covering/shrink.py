"""Shrinking: take a row away and repair what it alone covered by tabu search, again and again.

    1. remember the complete array; drop the free row with the fewest tuples that only it covers
    2. pick an uncovered tuple; look at all rows that contain all but one of its values
    3. change that one cell in the row where most is gained, unless it was changed lately (tabu) and
       no record falls
    4. nothing uncovered left: go to 1; work used up: return the last complete array

After "Upper bounds for covering arrays by tabu search" (2004). Work is counted in cells gathered,
so that one seed gives the same rows on every machine.
"""

from __future__ import annotations

import random
from typing import Any

import numpy as np

from keen_matrix.core.covering.blocks import NEVER, Blocks, Ints

#: Moves during which a changed cell is left alone, plus a random part of up to TENURE_SPREAD.
TENURE = 6
TENURE_SPREAD = 5
#: Work that a move costs beside its gathers: the fixed part of a dozen array operations.
MOVE_COST = 3_000


#: Moves of one search, whatever their cells: many that look at nothing would go on for ever.
MOST_MOVES = 2_000_000


class WorkBudget:
    """How much may be done, in cells and in moves. No clock: the same demand has the same rows on a
    machine that is busy."""

    def __init__(self, limit: int, moves: int = MOST_MOVES) -> None:
        self.limit, self.used, self.moves = limit, 0, moves

    def spend(self, cells: int) -> None:
        """Count some work."""
        self.used += cells

    @property
    def left(self) -> bool:
        """Whether there is work left to do; each question counts as a move."""
        self.moves -= 1
        return self.used < self.limit and self.moves > 0

    def share(self, cells: int) -> WorkBudget:
        """Return a part of what is left, to be counted apart."""
        return WorkBudget(min(cells, self.limit - self.used), self.moves)


class Array:
    """A covering array being changed: its rows, the tuple numbers of every row, and how often each
    tuple is covered."""

    def __init__(self, blocks: Blocks, rows: Ints, skip: np.ndarray | None) -> None:
        self.blocks = blocks
        self.rows = rows.copy()
        self.tuples = blocks.numbers(self.rows)
        counts = blocks.counted(self.rows)
        counts[blocks.total] = NEVER
        if skip is not None:
            counts[:-1][skip] = NEVER
        self.counts = counts
        self.uncovered: list[int] = np.flatnonzero(counts == 0).tolist()
        self._at = {number: at for at, number in enumerate(self.uncovered)}

    def unique(self) -> np.ndarray:
        """Return for each row how many tuples only it covers."""
        found: np.ndarray = (self.counts[self.tuples] == 1).sum(axis=1)
        return found

    def drop(self, row: int) -> None:
        """Take a row away."""
        gone = self.tuples[row]
        # Without the dummy at the end: it is in every row.
        self.counts[gone[:-1]] -= 1
        self._now_uncovered(gone[self.counts[gone] == 0])
        self.rows = np.delete(self.rows, row, axis=0)
        self.tuples = np.delete(self.tuples, row, axis=0)

    def _now_uncovered(self, numbers: np.ndarray) -> None:
        for number in numbers.tolist():
            self._at[number] = len(self.uncovered)
            self.uncovered.append(number)

    def _now_covered(self, numbers: np.ndarray) -> None:
        for number in numbers.tolist():
            at = self._at.pop(number)
            last = self.uncovered.pop()
            # The last number takes the place of the one that goes: a list without holes from which
            # one can be drawn at random in one step.
            if at < len(self.uncovered):
                self.uncovered[at] = last
                self._at[last] = at

    def change(self, row: int, axis: int, value: int) -> None:
        """Set one cell."""
        at = self.blocks.of_axis[axis]
        old = self.tuples[row, at]
        new = old + np.int32(value - int(self.rows[row, axis])) * self.blocks.stride_of_axis[axis]
        self._exchange(old, new)
        self.tuples[row, at] = new
        self.rows[row, axis] = value

    def replace(self, row: int, cells: Ints) -> None:
        """Set a whole row."""
        new = self.blocks.numbers(cells[None, :])[0]
        old = self.tuples[row].copy()
        differs = old != new
        self._exchange(old[differs], new[differs])
        self.tuples[row] = new
        self.rows[row] = cells

    def _exchange(self, old: np.ndarray, new: np.ndarray) -> None:
        counts = self.counts
        left = counts.take(old) - 1
        counts[old] = left
        self._now_uncovered(old[left == 0])
        before = counts.take(new)
        counts[new] = before + 1
        self._now_covered(new[before == 0])
        # The dummy tuple was counted along; it never counts as covered or uncovered.
        counts[self.blocks.total] = NEVER

    def gains(self, rows: np.ndarray, axes: np.ndarray, values: np.ndarray) -> np.ndarray:
        """Return for each change of one cell how many tuples it covers again less those it
        uncovers."""
        blocks, width = self.blocks, self.tuples.shape[1]
        # take() on flat positions is twice as fast as indexing by two arrays, and this is the
        # innermost loop
        old = self.tuples.ravel().take(rows[:, None] * width + blocks.of_axis.take(axes, axis=0))
        shift = values - self.rows.ravel().take(rows * len(blocks.levels) + axes)
        new = old + shift[:, None] * blocks.stride_of_axis.take(axes, axis=0)
        zero, one = self.counts.take(new) == 0, self.counts.take(old) == 1
        gained: np.ndarray = np.subtract(zero, one, dtype=np.int32).sum(axis=1)
        return gained

    def row_gain(self, row: int, cells: Ints) -> int:
        """Return what replacing a whole row would gain."""
        new = self.blocks.numbers(cells[None, :])[0]
        old = self.tuples[row]
        differs = old != new
        return int((self.counts[new[differs]] == 0).sum()) - int((self.counts[old[differs]] == 1).sum())


class Shrinker:
    """Shrinks one complete array. `fixed` marks the cells of the first rows that must stay;
    `feasible` keeps constraints."""

    def __init__(
        self,
        blocks: Blocks,
        rows: Ints,
        *,
        fixed: np.ndarray,
        skip: np.ndarray | None,
        feasible: Any,
        seed: int,
    ) -> None:
        self.array = Array(blocks, rows, skip)
        self.fixed_rows = len(fixed)
        self.fixed = fixed
        self.feasible = feasible
        self.random = random.Random(seed)
        self.best = rows.copy()

    def shrink(self, work: WorkBudget, bound: int) -> Ints:
        """Return the smallest complete array found with the work given; `bound` is the size that
        none goes below."""
        blocks, skip = self.array.blocks, self.array.counts[:-1] >= NEVER // 2
        while work.left and len(self.best) > max(bound, self.fixed_rows):
            self._drop_one()
            work.spend(self.array.tuples.size)
            if self._repair(work):
                self.best = self.array.rows.copy()
            else:
                # The try has failed; its array lacks tuples, so the next try begins from the last
                # complete one.
                self.array = Array(blocks, self.best, skip)
                work.spend(self.array.tuples.size)
        return self.best

    def _drop_one(self) -> None:
        unique = self.array.unique()
        # Rows that somebody asked for are never taken away.
        unique[: self.fixed_rows] = 1 << 30
        # Not always the very cheapest row: after a failed try that would be the same one, and the
        # same failure.
        low = np.flatnonzero(unique <= unique.min() + 1)
        self.array.drop(int(self.random.choice(low.tolist())))

    def _repair(self, work: WorkBudget) -> bool:
        """Run the tabu search until everything is covered (True) or the work, or this try's part
        of it, is used up."""
        array = self.array
        tabu = np.zeros(array.rows.shape, dtype=np.int64)
        # Cells that are fixed are tabu for ever, by a time that no record lifts (see `until > 1 <<
        # 40`).
        tabu[: self.fixed_rows][self.fixed] = 1 << 60
        record, moves = len(array.uncovered), 0
        # One try may not use up everything: another row, or another beginning, may be the easier
        # one.
        stop = work.used + max((work.limit - work.used) // 3, work.limit // 12)
        while array.uncovered:
            if not work.left or work.used > stop:
                return False
            moves += 1
            # A random tuple, as in the paper: the first one would be tried for ever where it is the
            # hard one.
            number = array.uncovered[self.random.randrange(len(array.uncovered))]
            if not self._move(number, tabu, moves, record, work):
                self._shake(number, tabu, moves, work)
            record = min(record, len(array.uncovered))
        return True

    def _move(self, number: int, tabu: np.ndarray, moves: int, record: int, work: WorkBudget) -> bool:
        """Change the best single cell that covers a tuple; tell whether there was one."""
        array = self.array
        axes, values = array.blocks.decode(number)
        axes_array, wanted = np.array(axes), np.array(values, dtype=np.int32)
        equal = array.rows.take(axes_array, axis=1) == wanted
        # Rows that lack one value of the tuple: one cell has to change, and one cell costs fewest
        # tuples.
        rows = (equal.sum(axis=1) == len(axes) - 1).nonzero()[0]
        # Checking constraints takes longer than the move itself.
        work.spend(MOVE_COST if self.feasible is None else 3 * MOVE_COST)
        if not len(rows):
            return False
        missing = equal.take(rows, axis=0).argmin(axis=1)
        cells, levels = axes_array.take(missing), wanted.take(missing)
        gains = array.gains(rows, cells, levels)
        work.spend(2 * len(rows) * array.blocks.of_axis.shape[1])
        until = tabu.ravel().take(rows * tabu.shape[1] + cells)
        # A tabu move is allowed when it leads to fewer uncovered tuples than ever before
        # (aspiration).
        barred = (until > moves) & ((gains <= len(array.uncovered) - record) | (until > 1 << 40))
        gains[barred] = -(1 << 30)
        order = self._by_gain(gains)
        for at in order:
            if gains[at] <= -(1 << 30):
                return False
            row, axis, value = int(rows[at]), int(cells[at]), int(levels[at])
            if self.feasible is None or self.feasible.allows_change(array.rows[row], axis, value):
                array.change(row, axis, value)
                tabu[row, axis] = moves + TENURE + self.random.randrange(TENURE_SPREAD)
                return True
        return False

    def _by_gain(self, gains: np.ndarray) -> list[int]:
        """Return the best move (ties broken by chance); with constraints all of them, best
        first."""
        listed = gains.tolist()
        most = max(listed)
        best = [at for at, gain in enumerate(listed) if gain == most]
        first = best[self.random.randrange(len(best))]
        if self.feasible is None:
            return [first]
        return [first, *(at for at in np.argsort(-gains, kind="stable").tolist() if at != first)]

    def _shake(self, number: int, tabu: np.ndarray, moves: int, work: WorkBudget) -> None:
        """Force a tuple into a row that contains less of it: the one of a few rows that loses
        least."""
        array = self.array
        if len(array.rows) <= self.fixed_rows:
            work.spend(MOVE_COST)  # all that is left is what somebody asked for
            return
        axes, values = array.blocks.decode(number)
        tries = []
        for _ in range(4):
            row = self.random.randrange(self.fixed_rows, len(array.rows))
            cells = self._with_tuple(array.rows[row], axes, values)
            if cells is not None:
                tries.append((array.row_gain(row, cells), row, cells))
                work.spend(
                    2 * array.tuples.shape[1] + (MOVE_COST if self.feasible is None else 20 * MOVE_COST)
                )
        if tries:
            _, row, cells = max(tries, key=lambda each: each[0])
            array.replace(row, cells)
            tabu[row, list(axes)] = moves + TENURE

    def _with_tuple(self, row: Ints, axes: tuple[int, ...], values: tuple[int, ...]) -> Ints | None:
        if self.feasible is not None:
            found: Ints | None = self.feasible.nearest(row, axes, values)
            return found
        cells = row.copy()
        cells[list(axes)] = values
        return cells
