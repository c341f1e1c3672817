"""Combining: which rows of levels a matrix takes."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from keen_matrix.core.doing import doing
from keen_matrix.core.errors import KeenMatrixError
from keen_matrix.core.model.spec import Matrix
from keen_matrix.core.structs import Struct, replace
from keen_matrix.core.vectors.constraints import Constraint, all_rows
from keen_matrix.core.vectors.factors import Layout
from keen_matrix.core.vectors.kept_rows import keep, place_of, read_rows

if TYPE_CHECKING:
    from keen_matrix.core.covering.search import Covering, Demand

STRENGTHS = {"each": 1, "pairs": 2, "triples": 3}

Row = tuple[int, ...]


class CombineFault(KeenMatrixError):
    """A matrix cannot be combined as it asks; `key` is the key of the matrix to blame, `number`
    the item of it."""

    def __init__(self, message: str, key: str = "", number: int | None = None) -> None:
        self.key, self.number = key, number
        super().__init__(message)


def strength_of(matrix: Matrix) -> int | None:
    """Return the strength that a matrix asks for, or None when it takes every combination."""
    if isinstance(matrix.combine, int):
        return matrix.combine
    return STRENGTHS.get(matrix.combine)


def rows_of(matrix: Matrix, layout: Layout, constraints: Sequence[Constraint]) -> Iterator[Row]:
    """Yield the rows of levels that a matrix takes, in a fixed order.

    Raises CombineFault when what the matrix asks for cannot be had, and WhereFault when a
    condition fails.
    """
    if strength_of(matrix) is None:
        # Lazily: a matrix of every combination may have more rows than memory.
        return all_rows(layout.factors, constraints)
    return (tuple(row) for row in combined(matrix, layout, constraints).covering.rows.tolist())


class Combined(Struct, frozen=True):
    """The covering array of a matrix, with the strength it was made for."""

    covering: Covering
    strength: int


#: Matrices whose arrays are remembered, and the levels in an array up to which it is.
MOST_REMEMBERED, LARGEST_REMEMBERED = 64, 1_000_000
#: By the identity of the matrix, which is kept so that no other can have it.
_remembered: dict[int, tuple[Matrix, Combined]] = {}


def combined(matrix: Matrix, layout: Layout, constraints: Sequence[Constraint]) -> Combined:
    """Return the covering array that a matrix asks for; it is searched for once, however often a
    matrix is unfolded. Raises CombineFault."""
    known = _remembered.get(id(matrix))
    if known is not None and known[0] is matrix:
        return known[1]
    found = _combined(matrix, layout, constraints)
    if found.covering.rows.size <= LARGEST_REMEMBERED:
        # The oldest goes. A spec with more matrices than this is unfolded one after another, never
        # by turns.
        if len(_remembered) >= MOST_REMEMBERED:
            _remembered.pop(next(iter(_remembered)))
        _remembered[id(matrix)] = matrix, found
    return found


def _combined(matrix: Matrix, layout: Layout, constraints: Sequence[Constraint]) -> Combined:
    from keen_matrix.core.covering.search import NoRows

    strength = possible_strength(matrix, layout)
    # Those with a level only say where a factor stands; the search knows that as structure, and no
    # message may blame them.
    free = [each for each in constraints if each.level is None]
    try:
        demand = replace(
            demand_of(layout, constraints, strength),
            always=[fixed_levels(matrix, layout, number) for number in range(len(matrix.always))],
            denser=[denser_levels(matrix, layout, number) for number in range(len(matrix.denser))],
            effort=matrix.effort,
            seed=matrix.seed,
        )
        axes = len(demand.levels)
        # A search may take seconds; whoever waits is told from the first one on.
        with doing(f"combining {matrix.name} ({axes} choices, strength {strength})") as told:
            demand = replace(demand, told=told.told)
            covering = _searched(demand, place_of(matrix, layout, constraints, demand))
    except NoRows as none:
        raise no_rows_fault(free, none.clash) from None
    except ValueError as error:
        raise CombineFault(str(error), "combine") from None
    return Combined(covering, strength)


def demand_of(layout: Layout, constraints: Sequence[Constraint], strength: int) -> Demand:
    """Return what the factors of a matrix demand of a covering array: its rules are the constraints
    that say more than that a factor stands inside a part of the line."""
    from keen_matrix.core.covering.search import Demand, Inside, Predicate

    return Demand(
        levels=[factor.levels for factor in layout.factors],
        strength=strength,
        rules=[Predicate(each.factors, each.test) for each in constraints if each.level is None],
        inside=[
            Inside(each.factors[0], each.factors[1], each.level)
            for each in constraints
            if each.level is not None
        ],
    )


#: Seconds from which the result of a search is kept.
WORTH_KEEPING = 0.02


def _searched(demand: Demand, place: str) -> Covering:
    """Return the array of a demand: the one that is kept at a place, or a new one. Raises
    NoRows."""
    from keen_matrix.core.covering.search import cover

    kept = read_rows(place) if place else None
    if kept is not None:
        return kept
    began = time.monotonic()
    found = cover(demand)
    # A file costs more than a short search, and a directory full of them has to be looked after.
    if place and time.monotonic() - began > WORTH_KEEPING:
        keep(place, found)
    return found


def possible_strength(matrix: Matrix, layout: Layout) -> int:
    """Return the strength to combine with. Raises CombineFault when a number is asked for that
    there are no axes for."""
    strength, have = strength_of(matrix), len(layout.factors)
    assert strength is not None
    if strength <= have:
        return strength
    # A word asks for what can be had; a number is meant as it is, and one that cannot be had is a
    # mistake.
    if matrix.combine in STRENGTHS and have:
        return have  # every pair of a single axis is each of its values
    noun = "1 axis" if have == 1 else f"{have} axes and groups"
    raise CombineFault(
        f"a strength of {strength} needs at least as many axes; this matrix has {noun}", "combine"
    )


def no_rows_fault(constraints: Sequence[Constraint], clash: Sequence[int]) -> CombineFault:
    """Return the fault that no case is left, naming the conditions that clash."""
    sources = [constraints[number].source for number in clash if constraints[number].source]
    if not clash:
        return CombineFault("a combination under always breaks a condition of where", "always")
    if len(sources) == 1:
        return CombineFault(f'no case is left: "{sources[0]}" is never true', "only-if")
    named = " and ".join(f'"{source}"' for source in sources)
    return CombineFault(f"no case is left; these exclude each other: {named}", "only-if")


def fixed_levels(matrix: Matrix, layout: Layout, number: int) -> dict[int, int]:
    """Return the levels by factor that one combination under `always` fixes. Raises
    CombineFault."""
    found: dict[int, int] = {}
    for name, value in matrix.always[number].items():
        if name not in layout.names:
            raise CombineFault(f'"{name}" is neither an axis nor a column', "always", number)
        values = layout.values[name]
        level = next(
            (
                at
                for at in range(len(values))
                # True == 1 and 1 == 1.0 in Python. The value as it is written comes first, one that
                # is only equal next.
                if values[at] == value and type(values[at]) is type(value)
            ),
            None,
        )
        if level is None:
            level = next((at for at in range(len(values)) if values[at] == value), None)
        if level is None:
            raise CombineFault(f"{value!r} is not a value of {name}", "always", number)
        if found.setdefault(layout.names[name], level) != level:
            raise CombineFault("these values are in different rows", "always", number)
    return found


def denser_levels(matrix: Matrix, layout: Layout, number: int) -> tuple[tuple[int, ...], int]:
    """Return the factors and the strength of one `denser` table; a strength of 0 stands for all of
    them. Raises CombineFault."""
    names, strength = matrix.denser[number]
    for name in names:
        if name not in layout.names:
            raise CombineFault(f'"{name}" is neither an axis nor a group', "denser", number)
    factors = tuple(dict.fromkeys(layout.names[name] for name in names))
    if strength > len(factors):
        raise CombineFault(
            f"a strength of {strength} needs at least as many axes; this denser set has {len(factors)}",
            "denser",
            number,
        )
    return factors, strength or len(factors)
