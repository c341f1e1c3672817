"""Greedy rows: one allowed row at a time, each starting from an uncovered tuple and covering as
much as it can."""

from __future__ import annotations

import random
from functools import cached_property
from itertools import accumulate

import numpy as np

from keen_matrix.core.covering.blocks import NEVER, Blocks, Ints
from keen_matrix.core.covering.feasible import Feasible

#: Values of all axes up to which every pair of them has a place in one square array, of 8 MB
#: then.
MOST_VALUES = 1_000


class _PairCounts:
    """Every value of every axis in a row: where the tuple of two of them is counted."""

    def __init__(self, blocks: Blocks) -> None:
        #: Where the values of each axis begin.
        self.starts = [0, *accumulate(blocks.levels)]
        # Values of one axis make no tuple: the dummy, which never counts as uncovered.
        self._tuples = np.full((self.starts[-1],) * 2, blocks.total, dtype=np.intp)
        for (one, other), base in zip(blocks.axes, blocks.bases.tolist(), strict=True):
            shape = blocks.levels[one], blocks.levels[other]
            numbers = np.arange(base, base + shape[0] * shape[1]).reshape(shape)
            first = slice(self.starts[one], self.starts[one + 1])
            second = slice(self.starts[other], self.starts[other + 1])
            self._tuples[first, second], self._tuples[second, first] = numbers, numbers.T

    def new(self, counts: np.ndarray) -> Ints:
        """Return 1 for each pair of values that is uncovered."""
        found: Ints = (counts == 0).astype(np.int32)[self._tuples]
        return found


class Greedy:
    """Adds rows until everything that can be covered is."""

    def __init__(self, blocks: Blocks, feasible: Feasible | None, seed: int, candidates: int) -> None:
        self.blocks, self.feasible = blocks, feasible
        self.random = random.Random(seed)
        self.candidates = candidates
        self._kept: dict[int, tuple[np.ndarray, np.ndarray, np.ndarray]] = {}
        self._has_pairs = sum(blocks.levels) <= MOST_VALUES and all(len(block) == 2 for block in blocks.axes)

    def completed(self, rows: Ints, skip: np.ndarray | None) -> Ints:
        """Return the rows with more appended, so that every tuple outside `skip` is covered."""
        counts = np.zeros(self.blocks.total + 1, dtype=np.int32)
        counts[-1] = NEVER
        if skip is not None:
            counts[:-1][skip] = NEVER
        if len(rows):
            counts += self.blocks.counted(rows)
            counts[-1] = NEVER
        made = [rows]
        left = np.flatnonzero(counts == 0)
        while len(left):
            tried = []
            new_pairs = self._pairs.new(counts) if self._has_pairs else None
            for _ in range(self.candidates):
                # A random uncovered tuple and not the first: candidates that all grow from one
                # tuple are alike.
                number = int(left[self.random.randrange(len(left))])
                cells = self._row(counts, new_pairs, number)
                new = int((counts[self.blocks.numbers(cells[None, :])[0]] == 0).sum())
                tried.append((new, cells))
            # of equal ones the first, so that a seed always leads to the same rows
            _, best = max(tried, key=lambda each: each[0])
            counts[self.blocks.numbers(best[None, :])[0]] += 1
            counts[-1] = NEVER
            left = left[counts[left] == 0]
            made.append(best[None, :])
        return np.vstack(made)

    @cached_property
    def _pairs(self) -> _PairCounts:
        return _PairCounts(self.blocks)

    def _row(self, counts: np.ndarray, new_pairs: Ints | None, number: int) -> Ints:
        """Return a row around one tuple: the other axes in random order, each with the value that
        covers most again.

        Where all blocks are pairs, what each value would cover is a sum of rows of `new_pairs`, so
        that an axis costs one addition.
        """
        levels = self.blocks.levels
        axes, values = self.blocks.decode(number)
        set_values = dict(zip(axes, values, strict=True))
        rest = [axis for axis in range(len(levels)) if axis not in set_values]
        # In a fixed order the last axes would always be left with what the first ones leave over.
        self.random.shuffle(rest)
        cells = np.zeros(len(levels), dtype=np.int32)
        cells[list(axes)] = values
        is_set = np.zeros(len(levels) + 2, dtype=bool)
        is_set[len(levels)] = True
        is_set[list(axes)] = True
        starts = [] if new_pairs is None else self._pairs.starts
        gains = None
        if new_pairs is not None:
            at = [starts[axis] + value for axis, value in set_values.items()]
            gains = new_pairs[at].sum(axis=0)
        for axis in rest:
            # Every value tried can still be completed to an allowed row, so a row never has to be
            # taken back.
            options = self._options(axis, set_values)
            if len(options) == 1:
                chosen = options[0]
            elif gains is None:
                chosen = self._drawn(options, self._gained(counts, cells, is_set, axis, options))
            else:
                gained = gains[starts[axis] : starts[axis + 1]].tolist()
                chosen = self._drawn(options, [gained[option] for option in options])
            cells[axis] = set_values[axis] = chosen
            is_set[axis] = True
            if gains is not None and new_pairs is not None:
                gains += new_pairs[starts[axis] + chosen]
        return cells

    def _drawn(self, options: list[int], gained: list[int]) -> int:
        """Return the value that covers most; of several one by chance, since the first of equals
        would give small values to every row."""
        most = max(gained)
        top = [option for option, gain in zip(options, gained, strict=True) if gain == most]
        return top[self.random.randrange(len(top))]

    def _options(self, axis: int, set_values: dict[int, int]) -> list[int]:
        levels = range(self.blocks.levels[axis])
        if self.feasible is None or axis not in self.feasible.component:
            return list(levels)
        number = self.feasible.component[axis]
        items = tuple(
            (each, set_values[each]) for each in self.feasible.members[number] if each in set_values
        )
        solve = self.feasible.solve
        return [
            level for level in levels if solve(number, tuple(sorted((*items, (axis, level))))) is not None
        ]

    def _gained(
        self, counts: np.ndarray, cells: Ints, is_set: np.ndarray, axis: int, options: list[int]
    ) -> list[int]:
        """Return for each value how many new tuples it covers among the axes set so far."""
        ready = self._ready(axis, is_set)
        bases = self._partial_numbers(cells, axis, ready)
        strides = self.blocks.stride_of_axis[axis][ready]
        numbers = bases[:, None] + strides[:, None] * np.array(options)
        gained: list[int] = (counts[numbers] == 0).sum(axis=0).tolist()
        return gained

    def _ready(self, axis: int, is_set: np.ndarray) -> np.ndarray:
        ready: np.ndarray = is_set[self._others(axis)[0]].all(axis=1)
        return ready

    def _others(self, axis: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return for each block of an axis its other axes, their strides, and the block's base.

        Shorter blocks are filled up with an axis after the last, which always counts as set and
        adds nothing; the dummy blocks of of_axis get one that never counts as set.
        """
        if axis not in self._kept:
            blocks, count = self.blocks, len(self.blocks.levels)
            width = max(1, max(len(block) for block in blocks.axes) - 1)
            others = np.full((blocks.of_axis.shape[1], width), count, dtype=np.intp)
            strides = np.zeros(others.shape, dtype=np.int64)
            bases = np.zeros(len(others), dtype=np.int64)
            for row, number in enumerate(blocks.of_axis[axis].tolist()):
                if number == len(blocks.axes):
                    others[row] = count + 1
                    continue
                bases[row] = blocks.bases[number]
                pairs = zip(blocks.axes[number], blocks.strides[number], strict=True)
                for place, (other, stride) in enumerate(pair for pair in pairs if pair[0] != axis):
                    others[row, place], strides[row, place] = other, stride
            self._kept[axis] = others, strides, bases
        return self._kept[axis]

    def _partial_numbers(self, cells: Ints, axis: int, ready: np.ndarray) -> np.ndarray:
        others, strides, bases = self._others(axis)
        padded = np.append(cells, 0)
        numbers: np.ndarray = (padded[others[ready]] * strides[ready]).sum(axis=1) + bases[ready]
        return numbers
