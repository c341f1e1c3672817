"""Axes that stand inside a choice: `[--pace {PACE}]` is one choice, left out or with one of the
paces.

Taken as two axes with a condition between them, twenty such options are a search under twenty
conditions. Joined, they are an axis each with no condition at all, and the rows that cover the
joined axes cover the single ones: a combination of the option and something else is covered by any
of its paces with it, which have to appear anyway."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from keen_matrix.core.covering.feasible import Predicate
from keen_matrix.core.structs import Struct

Levels = tuple[int, ...]


class Inside(Struct, frozen=True):
    """An axis that is there exactly when another has a certain level; else it has its last level,
    which stands for absent."""

    axis: int
    #: The axis that it stands inside.
    choice: int
    #: The level of that axis; where it stands inside another itself, never its last one.
    level: int

    def rule(self, levels: Sequence[int]) -> Predicate:
        """Return what it comes to as a condition."""
        absent, level = levels[self.axis] - 1, self.level
        return Predicate((self.axis, self.choice), lambda at: (at[0] == absent) is not (at[1] == level))


class _JoinedAxis(Struct, frozen=True):
    """One axis of the joined system: axes of the whole one, and the levels that they have
    together."""

    axes: Levels
    choices: tuple[Levels, ...]


class Joined:
    """A system whose choices are joined with what stands inside them.

    `levels` are those of the joined axes, `rules` the conditions between them; rules[:n] are the n
    that were given. Axes in `apart` stay as they are.
    """

    def __init__(
        self,
        levels: Sequence[int],
        rules: Sequence[Predicate],
        inside: Sequence[Inside],
        apart: frozenset[int] = frozenset(),
    ) -> None:
        self.whole = tuple(levels)
        taken: dict[tuple[int, int], Inside] = {}
        for each in inside:
            # One for each level: two axes inside one level would have to be combined with each
            # other in full, and every pair of theirs with everything else.
            if not {each.axis, each.choice} & apart:
                known = taken.get((each.choice, each.level))
                if known is None or levels[each.axis] > levels[known.axis]:
                    taken[each.choice, each.level] = each
        joined = {each.axis for each in taken.values()}
        self.parts = [self._part(axis, taken) for axis in range(len(levels)) if axis not in joined]
        self.levels = [len(part.choices) for part in self.parts]
        self._at = {
            axis: (number, place)
            for number, part in enumerate(self.parts)
            for place, axis in enumerate(part.axes)
        }
        left = [each.rule(levels) for each in inside if each.axis not in joined]
        self.rules = [self._rule(each) for each in (*rules, *left)]

    def _part(self, axis: int, taken: Mapping[tuple[int, int], Inside]) -> _JoinedAxis:
        """Return an axis with what stands inside it, and inside that."""
        within = {
            level: self._part(taken[axis, level].axis, taken)
            for level in range(self.whole[axis])
            if (axis, level) in taken
        }
        axes = (axis, *(each for part in within.values() for each in part.axes))
        choices: list[Levels] = []
        for level in range(self.whole[axis]):
            absent = {each: self.whole[each] - 1 for each in axes}
            part = within.get(level)
            for chosen in part.choices if part is not None else ((),):
                # The last level of what stands inside is "absent", which it is not here.
                if part is not None and chosen[0] == self.whole[part.axes[0]] - 1:
                    continue
                here = {**absent, axis: level}
                here.update(zip(part.axes if part is not None else (), chosen, strict=True))
                choices.append(tuple(here[each] for each in axes))
        return _JoinedAxis(axes, tuple(choices))

    def _rule(self, rule: Predicate) -> Predicate:
        """Return a rule about the joined axes."""
        axes = tuple(sorted({self._at[axis][0] for axis in rule.axes}))
        if all(len(self.parts[each].axes) == 1 for each in axes) and len(axes) == len(rule.axes):
            order = tuple(self._at[axis][0] for axis in rule.axes)
            return Predicate(order, rule.test)
        places = [(axes.index(self._at[axis][0]), self._at[axis]) for axis in rule.axes]

        def test(levels: Levels) -> bool:
            return rule.test(
                tuple(self.parts[part].choices[levels[at]][place] for at, (part, place) in places)
            )

        return Predicate(axes, test)

    def combination(self, values: Mapping[int, int]) -> dict[int, int]:
        """Return a combination of values of axes that stayed apart, by joined axis."""
        return {self._at[axis][0]: value for axis, value in values.items()}

    def axes(self, axes: Sequence[int]) -> tuple[int, ...]:
        """Return the joined axes of axes that stayed apart."""
        return tuple(self._at[axis][0] for axis in axes)

    def rows(self, rows: NDArray[np.int32]) -> NDArray[np.int32]:
        """Return rows of the joined system as rows of the whole one."""
        found = np.empty((len(rows), len(self.whole)), dtype=np.int32)
        for number, part in enumerate(self.parts):
            choices = np.array(part.choices, dtype=np.int32).reshape(-1, len(part.axes))
            found[:, list(part.axes)] = choices[rows[:, number]]
        return found
