"""Feasibility under constraints, exactly: which partial rows can be completed, and to what.

Constraints tie axes together into components; a partial row can be completed when each component
can, so every question is answered per component by backtracking (smallest domain first, with
forward checking) and remembered.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from keen_matrix.core.covering.blocks import Ints

#: Answers kept per component.
MAX_REMEMBERED = 500_000


# A BaseException, so that no `except Exception` inside a user's predicate takes it for an error of
# its own.
class _Unset(BaseException):
    """A predicate read an axis that is not set yet."""

    def __init__(self, axis: int) -> None:
        self.axis = axis


class _PartialRow:
    """A row of which only some axes are set; reading another one says which."""

    def __init__(self, values: Mapping[int, int], axes: int) -> None:
        self._values, self._axes = values, axes

    def __getitem__(self, axis: Any) -> int:
        axis = int(axis)
        # As of a sequence: a predicate may count axes from the end.
        if axis < 0:
            axis += self._axes
        if axis not in self._values:
            if not 0 <= axis < self._axes:
                raise IndexError(axis)
            raise _Unset(axis)
        return self._values[axis]

    def __len__(self) -> int:
        return self._axes


@dataclass(slots=True)
class Predicate:
    """A condition on some axes; `test` gets their values in order, and its answers are kept."""

    axes: tuple[int, ...]
    test: Callable[[tuple[int, ...]], bool]
    known: dict[tuple[int, ...], bool] = field(default_factory=dict)
    axis_set: frozenset[int] = field(init=False)

    def __post_init__(self) -> None:
        self.axis_set = frozenset(self.axes)

    def allows(self, row: Any) -> bool:
        """Tell whether a row, whose axes named here are set, meets the condition."""
        values = tuple([int(row[axis]) for axis in self.axes])
        found = self.known.get(values)
        if found is None:
            found = self.known[values] = self.test(values)
        return found


#: Forbidden tuples read off a predicate; a predicate with more is asked as a whole.
MAX_FORBIDDEN = 20_000


def rules_of(allowed: Callable[[object], bool], levels: Sequence[int]) -> list[Predicate]:
    """Return the rules that a predicate over rows comes to.

    The predicate is asked on partial rows and followed along the axes it reads: each path that
    ends in False is a forbidden tuple, exactly. When there are too many paths, the predicate is
    kept as one rule over the axes it can read.
    """
    forbidden: dict[tuple[int, ...], set[tuple[int, ...]]] = {}
    count = 0
    stack: list[dict[int, int]] = [{}]
    while stack:
        values = stack.pop()
        try:
            verdict = bool(allowed(_PartialRow(values, len(levels))))
        except _Unset as unset:
            # Each value of the axis that was asked for is a path of its own; the predicate is run
            # again from the start, which is why it should read few axes.
            stack += [{**values, unset.axis: level} for level in range(levels[unset.axis])]
            # Paths that wait to be followed count as well: a predicate that reads twenty axes
            # before it says anything forbids nothing for a long time.
            if len(stack) > MAX_FORBIDDEN * 4:
                return [OpaquePredicate(allowed, levels)]
            continue
        if not verdict:
            axes = tuple(sorted(values))
            forbidden.setdefault(axes, set()).add(tuple(values[axis] for axis in axes))
            count += 1
            if count > MAX_FORBIDDEN:
                return [OpaquePredicate(allowed, levels)]
    return [Predicate(axes, _not_among(tuples)) for axes, tuples in sorted(forbidden.items())]


def _not_among(tuples: set[tuple[int, ...]]) -> Callable[[tuple[int, ...]], bool]:
    return lambda values: values not in tuples


class OpaquePredicate(Predicate):
    """A predicate kept as it is, since following all its paths would take too long.

    Whether a partial row can be completed is found by asking it and setting only what it reads,
    one axis after another: rows that are allowed turn up quickly; that there is none is proven by
    trying everything that it distinguishes.
    """

    def __init__(self, allowed: Callable[[object], bool], levels: Sequence[int]) -> None:
        super().__init__(tuple(range(len(levels))), lambda values: bool(allowed(values)))
        self.allowed, self.levels = allowed, levels
        #: Partial rows proven to have no completion, none of them inside another.
        self.impossible: list[frozenset[tuple[int, int]]] = []

    def completion(self, values: Mapping[int, int], prefer: Mapping[int, int]) -> dict[int, int] | None:
        """Return the axes set so that the predicate is True whatever the others are, or None."""
        items = frozenset(values.items())
        # What could not be completed cannot be with more axes set either.
        if any(each <= items for each in self.impossible):
            return None
        stack = [dict(values)]
        while stack:
            tried = stack.pop()
            try:
                if self.allowed(_PartialRow(tried, len(self.levels))):
                    return tried
            except _Unset as unset:
                options = [*range(self.levels[unset.axis])]
                # Without a preference the value varies with how far we are, so that repeated
                # questions do not all lead to the same row; it is no random number, so that a seed
                # alone decides.
                first = prefer.get(unset.axis, (len(tried) * 7 + len(items)) % len(options))
                options.sort(key=lambda level: level == first)
                stack += [{**tried, unset.axis: level} for level in options]
        # Only the most general facts are kept: those that the new one implies go.
        self.impossible = [each for each in self.impossible if not items <= each]
        self.impossible.append(items)
        return None


class Feasible:
    """Answers what constraints leave possible."""

    def __init__(self, levels: Sequence[int], rules: Sequence[Predicate]) -> None:
        self.levels = tuple(levels)
        self.rules = [rule for rule in rules if rule.axes]
        self.never = any(not rule.axes and not rule.allows(()) for rule in rules)
        self.of_axis: dict[int, list[Predicate]] = {}
        for rule in self.rules:
            for axis in rule.axes:
                self.of_axis.setdefault(axis, []).append(rule)
        self.component = _components(self.rules)
        self.members: dict[int, list[int]] = {}
        for axis, number in self.component.items():
            self.members.setdefault(number, []).append(axis)
        self._remembered: dict[int, dict[tuple[tuple[int, int], ...], dict[int, int] | None]] = {}

    def possible(self, axes: Sequence[int], values: Sequence[int]) -> bool:
        """Tell whether some row that meets every constraint contains these values."""
        return not self.never and self._completions(dict(zip(axes, values, strict=True))) is not None

    def _completions(self, partial: Mapping[int, int]) -> dict[int, int] | None:
        """Return values for every constrained axis that `partial` touches the component of, or
        None."""
        found: dict[int, int] = {}
        touched: dict[int, list[tuple[int, int]]] = {}
        for axis, value in partial.items():
            if axis in self.component:
                touched.setdefault(self.component[axis], []).append((axis, value))
        for number, items in touched.items():
            solution = self.solve(number, tuple(sorted(items)))
            if solution is None:
                return None
            found.update(solution)
        return found

    def solve(self, number: int, items: tuple[tuple[int, int], ...]) -> dict[int, int] | None:
        """Return a completion of one component from the values given, or None when there is
        none."""
        memory = self._remembered.setdefault(number, {})
        if items in memory:
            return memory[items]
        if len(memory) > MAX_REMEMBERED:
            memory.clear()
        memory[items] = found = self._search(number, dict(items), {})
        return found

    def _search(
        self, number: int, values: dict[int, int], prefer: Mapping[int, int]
    ) -> dict[int, int] | None:
        if len(self.rules) == 1 and isinstance(self.rules[0], OpaquePredicate):
            whole = self.rules[0].completion(values, prefer)
            return (
                None
                if whole is None
                else {axis: whole.get(axis, prefer.get(axis, 0)) for axis in self.members[number]}
            )
        domains = {
            axis: list(range(self.levels[axis])) for axis in self.members[number] if axis not in values
        }
        given = list(values)
        for axis in given:
            if not self._consistent(axis, values) or not self._prune(axis, values, domains):
                return None
        return self._backtrack(values, domains, prefer)

    def _backtrack(
        self, values: dict[int, int], domains: dict[int, list[int]], prefer: Mapping[int, int]
    ) -> dict[int, int] | None:
        """Depth-first search with an explicit stack, so that components of hundreds of axes are no
        matter."""
        stack: list[tuple[dict[int, int], dict[int, list[int]], int, list[int]]] = []
        while True:
            if not domains:
                return values
            # The axis with fewest values left fails soonest; ties by number keep the search the
            # same on every machine.
            axis = min(domains, key=lambda each: (len(domains[each]), each))
            options = list(domains[axis])
            if prefer.get(axis) in options:
                options.remove(prefer[axis])
                options.insert(0, prefer[axis])
            stack.append((values, domains, axis, options))
            while stack:
                values, domains, axis, options = stack[-1]
                if not options:
                    stack.pop()
                    continue
                value = options.pop(0)
                tried = {**values, axis: value}
                # A new mapping each time: going back is dropping it, and nothing has to be undone.
                narrowed = {each: left for each, left in domains.items() if each != axis}
                if self._consistent(axis, tried) and self._prune(axis, tried, narrowed):
                    values, domains = tried, narrowed
                    break
            else:
                return None

    def _consistent(self, axis: int, values: Mapping[int, int]) -> bool:
        known = values.keys()
        return all(rule.allows(values) for rule in self.of_axis[axis] if known >= rule.axis_set)

    def _prune(self, axis: int, values: dict[int, int], domains: dict[int, list[int]]) -> bool:
        """Take away values that a rule with one axis left open forbids; tell whether every domain
        keeps one."""
        for rule in self.of_axis[axis]:
            open_axes = rule.axis_set - values.keys()
            if len(open_axes) != 1:
                continue
            (other,) = open_axes
            kept = []
            # The value is written into the mapping that is being completed, and taken out below: a
            # copy for each level would cost more than the test.
            for level in domains[other]:
                values[other] = level
                if rule.allows(values):
                    kept.append(level)
            del values[other]
            if not kept:
                return False
            domains[other] = kept
        return True

    def allows_change(self, row: Ints, axis: int, value: int) -> bool:
        """Tell whether an allowed row still meets every constraint with one cell changed."""
        if axis not in self.of_axis:
            return True
        before = int(row[axis])
        row[axis] = value
        try:
            return all(rule.allows(row) for rule in self.of_axis[axis])
        finally:
            row[axis] = before

    def nearest(self, row: Ints, axes: Sequence[int], values: Sequence[int]) -> Ints | None:
        """Return an allowed row that contains a tuple and else keeps to `row` where the search
        finds that it can."""
        cells = row.copy()
        cells[list(axes)] = values
        wanted = dict(zip(axes, values, strict=True))
        numbers = {self.component[axis] for axis in axes if axis in self.component}
        for number in numbers:
            given = {axis: wanted[axis] for axis in self.members[number] if axis in wanted}
            found = self._search(number, given, {axis: int(row[axis]) for axis in self.members[number]})
            if found is None:
                return None
            for axis, value in found.items():
                cells[axis] = value
        return cells

    def is_met(self) -> bool:
        """Tell whether any row meets every constraint."""
        return not self.never and all(self.solve(number, ()) is not None for number in self.members)

    def any_row(self, partial: Mapping[int, int]) -> Ints | None:
        """Return some allowed row that contains the values given, or None."""
        import numpy as np  # loaded with the search; what only asks what is possible needs none

        cells = np.zeros(len(self.levels), dtype=np.int32)
        for axis, value in partial.items():
            cells[axis] = value
        for number in self.members:
            items = tuple(
                sorted((axis, value) for axis, value in partial.items() if self.component.get(axis) == number)
            )
            found = self.solve(number, items)
            if found is None:
                return None
            for axis, value in found.items():
                cells[axis] = value
        return None if self.never else cells


def _components(rules: Sequence[Predicate]) -> dict[int, int]:
    """Return the component of each axis of some rules, named by its smallest axis."""
    parent = {axis: axis for rule in rules for axis in rule.axes}

    def root(axis: int) -> int:
        while parent[axis] != axis:
            parent[axis] = parent[parent[axis]]
            axis = parent[axis]
        return axis

    for rule in rules:
        # Union by the smaller name: a component is called by its smallest axis, whatever the
        # order of the rules.
        first = root(rule.axes[0])
        for axis in rule.axes[1:]:
            other = root(axis)
            parent[max(first, other)] = min(first, other)
            first = min(first, other)
    return {axis: root(axis) for axis in parent}


def clashing(levels: Sequence[int], rules: Sequence[Predicate]) -> list[int]:
    """Return the numbers of a smallest set of rules that cannot be met together (deletion
    filtering); [] when all can."""
    if Feasible(levels, rules).is_met():
        return []
    # Deletion filtering: a rule without which the rest still clash is no part of the smallest
    # clash. One pass is enough, since clashing is monotone in the set of rules.
    kept = list(range(len(rules)))
    for number in range(len(rules)):
        fewer = [each for each in kept if each != number]
        if not Feasible(levels, [rules[each] for each in fewer]).is_met():
            kept = fewer
    return kept
