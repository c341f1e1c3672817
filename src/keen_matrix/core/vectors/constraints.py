"""Constraints between factors: the `where` expressions of a matrix, and the conditions of its
optional parts.

Each is evaluated on the levels of the factors it names only, once per combination; the results are
kept.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TypeAlias

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expressions import FUNCTIONS, Expression, Scope
from keen_matrix.core.model.spec import Matrix
from keen_matrix.core.notation.nodes import Sequence as LineSequence
from keen_matrix.core.structs import Struct, field
from keen_matrix.core.vectors.factors import Factor, Layout

Functions: TypeAlias = Mapping[str, Callable[..., object]]


class WhereFault(ExpressionFault):
    """A `where` expression failed for some values; `number` counts the expressions of its matrix
    from 0."""

    number = 0


class Constraint(Struct):
    """A condition on a few factors. `source` is the expression, or empty for the condition of an
    optional part."""

    factors: tuple[int, ...]
    test: Callable[[tuple[int, ...]], bool]
    source: str = ""
    #: Whether it always says the same of the same values: not where it calls the oracle, or looks
    #: at the directory of the spec.
    is_fixed: bool = True
    #: Where it says no more than that the first factor stands inside one level of the second: that
    #: level.
    level: int | None = None
    _known: dict[tuple[int, ...], bool] = field(default_factory=dict)

    def allows(self, row: Sequence[int]) -> bool:
        """Tell whether a row (of levels by factor; those named must be set) meets the condition."""
        levels = tuple([row[factor] for factor in self.factors])
        known = self._known.get(levels)
        if known is None:
            known = self._known[levels] = self.test(levels)
        return known


def constraints_of(
    matrix: Matrix, layout: Layout, here: str, functions: Functions | None = None
) -> list[Constraint]:
    """Return the constraints of a matrix: the conditions of optional parts first."""
    made = [_presence(number, factor) for number, factor in enumerate(layout.factors) if factor.parents]
    made += _by_cells(matrix, layout)
    scope_functions = {**FUNCTIONS, **(functions or {})}
    for number, expression in enumerate(matrix.only_if):
        made.append(_where(expression, number, layout, here, scope_functions))
    return made


def _presence(number: int, factor: Factor) -> Constraint:
    """A conditional factor is absent exactly when none of the levels that contain it is chosen."""
    groups = tuple(dict.fromkeys(group for group, _ in factor.parents))
    places = tuple((groups.index(group) + 1, level) for group, level in factor.parents)

    def test(levels: tuple[int, ...]) -> bool:
        return (levels[0] == factor.absent) is not any(levels[at] == level for at, level in places)

    level = factor.parents[0][1] if len(factor.parents) == 1 else None
    return Constraint((number, *groups), test, level=level)


def _by_cells(matrix: Matrix, layout: Layout) -> Iterator[Constraint]:
    """Yield the constraints of rows with cells that are left out: a part of the line with such a
    cell is not there, and an optional part whose cells are all given is."""
    sparse = {
        column for at, column in enumerate(matrix.columns) if any(row[at] is None for row in matrix.rows)
    }
    if not sparse:
        return
    for group in layout.groups_of(matrix.line):
        needed = [names_in(each) & sparse for each in group.alternatives]
        if not any(needed):
            continue
        number, optional = layout.groups[id(group)], int(group.optional)

        def test(
            levels: tuple[int, ...], needed: Sequence[set[str]] = needed, optional: int = optional
        ) -> bool:
            at, row = levels[1] - optional, levels[0]
            fits = [all(layout.values[name][row] is not None for name in names) for names in needed]
            if at < 0:
                return not any(fit and names for fit, names in zip(fits, needed, strict=True))
            # A choice that is in a part which is left out must not forbid the row.
            return at >= len(fits) or fits[at]  # beyond them: it stands in a part that is left out

        yield Constraint((0, number), test)


def names_in(part: LineSequence) -> set[str]:
    """Return the names that the fields in a part of the line use."""
    return {name for field in part.fields() for name in Expression(field.source).names}


def _where(
    expression: Expression, number: int, layout: Layout, here: str, functions: Functions
) -> Constraint:
    # Only axes and columns vary; names of functions and of the spec's own are in the scope below.
    names = sorted(name for name in expression.names if name in layout.names)
    factors = tuple(sorted({layout.names[name] for name in names}))
    lookups = [(name, factors.index(layout.names[name]), layout.values[name]) for name in names]

    def test(levels: tuple[int, ...]) -> bool:
        scope = Scope({"here": here, **{name: values[levels[at]] for name, at, values in lookups}}, functions)
        try:
            return bool(expression.evaluate(scope))
        except ExpressionFault as fault:
            # A condition that fails for some values ends the unfolding: to leave the row out, or
            # in, would be a guess.
            error = WhereFault(fault.source, fault.reason, fault.values)
            error.number = number
            raise error from None

    own = [name for name in functions if name not in FUNCTIONS] + ["here"]
    # What reads a file or the user's own functions may say something else the next time, so no
    # array that was searched under it is kept.
    is_fixed = not any(re.search(rf"\b{re.escape(name)}\b", expression.source) for name in own)
    return Constraint(factors, test, expression.source, is_fixed)


def all_rows(factors: Sequence[Factor], constraints: Sequence[Constraint]) -> Iterator[tuple[int, ...]]:
    """Yield every row that meets all constraints, the first factor changing slowest; nothing is
    stored.

    A constraint is asked as soon as the last factor it names is set, so that no dead branch is
    followed further.
    """
    if any(not constraint.factors and not constraint.allows(()) for constraint in constraints):
        # A condition that names no axis and is false leaves nothing; every row would be asked for
        # it in vain.
        return iter(())
    due: list[list[Constraint]] = [[] for _ in factors]
    for constraint in constraints:
        if constraint.factors:
            due[max(constraint.factors)].append(constraint)
    return _walk([range(factor.levels) for factor in factors], due)


def _walk(levels: Sequence[range], due: Sequence[Sequence[Constraint]]) -> Iterator[tuple[int, ...]]:
    count = len(levels)
    if count == 0:
        yield ()
        return
    row = [0] * count
    # A stack of iterators and no recursion: a line may have more choices than Python has frames,
    # and a generator of generators passes each row up through all of them.
    iterators: list[Iterator[int]] = [iter(levels[0])]
    last = count - 1
    while iterators:
        depth = len(iterators) - 1
        tests = due[depth]
        # Nearly all rows of a large matrix come from here, so nothing is asked that can be
        # known outside.
        if depth == last and not tests:  # the common innermost loop, kept tight
            prefix = tuple(row[:last])
            for level in iterators.pop():
                yield (*prefix, level)
            continue
        for level in iterators[-1]:
            row[depth] = level
            if all(constraint.allows(row) for constraint in tests):
                break
        else:
            iterators.pop()
            continue
        if depth == last:
            yield tuple(row)
        else:
            iterators.append(iter(levels[depth + 1]))


#: Partial combinations remembered while counting; more would take minutes and gigabytes.
MAX_STATES = 2_000_000


def count_rows(factors: Sequence[Factor], constraints: Sequence[Constraint]) -> int | None:
    """Return how many rows meet all constraints, without making them; None when that would take
    too much memory.

    Factors are set one after another; partial rows that agree in every factor a later constraint
    still reads are counted together, so the cost grows with how far constraints reach, not with
    the product.
    """
    if any(not constraint.factors and not constraint.allows(()) for constraint in constraints):
        return 0
    named = [constraint for constraint in constraints if constraint.factors]
    total = 1
    linked = sorted({factor for constraint in named for factor in constraint.factors})
    # A factor that no condition reads only multiplies.
    for number, factor in enumerate(factors):
        if number not in linked:
            total *= factor.levels
    states: dict[tuple[int, ...], int] = {(): 1}
    held: tuple[int, ...] = ()
    for number in linked:
        due = [constraint for constraint in named if max(constraint.factors) == number]
        # Of the factors that are set, the ones that a later condition still reads; all others are
        # forgotten, so that states which differ in them alone become one.
        kept = tuple(
            each
            for each in (*held, number)
            if any(each in c.factors and max(c.factors) > number for c in named)
        )
        # Asked before the step is taken: what would not fit must not be made to find that out.
        if len(states) * factors[number].levels > MAX_STATES * 4:
            return None
        states = _advance(states, held, number, factors[number].levels, due, kept)
        held = kept
        if len(states) > MAX_STATES:
            return None
    return total * sum(states.values())


def _advance(
    states: dict[tuple[int, ...], int],
    held: tuple[int, ...],
    number: int,
    levels: int,
    due: Sequence[Constraint],
    kept: tuple[int, ...],
) -> dict[tuple[int, ...], int]:
    """Set one more factor in every state and merge the states that agree in what is kept."""
    following: dict[tuple[int, ...], int] = {}
    row: dict[int, int] = {}
    for state, count in states.items():
        row.update(zip(held, state, strict=True))
        for level in range(levels):
            row[number] = level
            if all(constraint.allows(row) for constraint in due):  # type: ignore[arg-type]
                key = tuple([row[each] for each in kept])
                following[key] = following.get(key, 0) + count
    return following
