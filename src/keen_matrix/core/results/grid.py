"""Grids: how the cases of a matrix came out by two of its axes, a third one as several grids."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Literal, TypeAlias

from keen_matrix.core.errors import Misuse, nearest
from keen_matrix.core.model.record import Record
from keen_matrix.core.results.axis_values import ABSENT
from keen_matrix.core.results.summary import Counts, MatrixSummary, axis_values_of
from keen_matrix.core.structs import Struct

State: TypeAlias = Literal["passed", "mixed", "failed", "none"]
#: Values of a third axis up to which there is a grid for each.
MOST_MULTIPLES = 6


class Grid(Struct):
    """One grid: values across and down, and for each cell how many cases passed and how many did
    not."""

    matrix: str
    across: str
    down: str
    columns: list[str]
    rows: list[str]
    #: (down, across) → passed, not passed.
    cells: dict[tuple[str, str], list[int]]
    #: The axis and value that this grid is for, when there are several.
    third: tuple[str, str] | None = None

    def state(self, row: str, column: str) -> State:
        """Return what a cell stands for."""
        passed, failed = self.cells.get((row, column), (0, 0))
        if not passed and not failed:
            return "none"
        return "mixed" if passed and failed else "failed" if failed else "passed"


def chosen_axes(matrix: MatrixSummary, by: Sequence[str] = ()) -> tuple[str, ...]:
    """Return the axes across, down, and further: those asked for, or those that tell best which
    cases passed.

    Empty when a matrix has no axis with several values. Raises Misuse when an axis asked for is
    not there.
    """
    if by:
        for name in by:
            if name not in matrix.axes:
                hint = nearest(name, matrix.axes)
                more = f"; did you mean {hint!r}?" if hint else f"; it has {', '.join(matrix.axes) or 'none'}"
                raise Misuse(f'the matrix "{matrix.name}" has no axis {name!r}{more}')
        return tuple(by[:3])
    best = matrix.axes_by_gain()
    if not best:
        return ()
    first, *rest = best[:3]
    if not rest:
        return (first,)
    two = sorted(
        (first, rest[0]), key=lambda name: (len(matrix.axes[name]), max(map(len, matrix.axes[name])))
    )
    further = [name for name in rest[1:] if len(matrix.axes[name]) <= MOST_MULTIPLES]
    return (*two, *further[:1])


def grids_of(
    matrix: MatrixSummary, cases: Iterable[Record], axes: Sequence[str], *, always_split: bool = False
) -> list[Grid]:
    """Return the grids of a matrix by its axes across, down and (for several grids) a third.

    A third axis that tells nothing more is left out, unless `always_split` asks for it: one grid
    stands for all.
    """
    grids = _split(matrix, cases, axes)
    if always_split or len(grids) < 2:
        return grids
    whole = Grid(grids[0].matrix, grids[0].across, grids[0].down, [], [], {})
    for grid in grids:
        for cell, counts in grid.cells.items():
            old = whole.cells.setdefault(cell, [0, 0])
            old[0], old[1] = old[0] + counts[0], old[1] + counts[1]
    if any(passed and failed for passed, failed in whole.cells.values()):
        return grids
    _order(whole, matrix)
    return [whole]


def _split(matrix: MatrixSummary, cases: Iterable[Record], axes: Sequence[str]) -> list[Grid]:
    across, down = axes[0], axes[1] if len(axes) > 1 else ""
    found: dict[str, Grid] = {}
    for fields in cases:
        values = axis_values_of(fields)
        third = values.get(axes[2], ABSENT) if len(axes) > 2 else ""
        grid = found.get(third)
        if grid is None:
            label = (axes[2], third) if len(axes) > 2 else None
            grid = found[third] = Grid(matrix.name, across, down, [], [], {}, label)
        column, row = values.get(across, ABSENT), values.get(down, ABSENT) if down else ""
        if fields.verdict != "skipped":  # nothing is known of it
            grid.cells.setdefault((row, column), [0, 0])[fields.verdict != "passed"] += 1
    for grid in found.values():
        _order(grid, matrix)
    return [found[key] for key in _ordered(set(found), matrix.axes.get(axes[2], {}) if len(axes) > 2 else {})]


def _order(grid: Grid, matrix: MatrixSummary) -> None:
    grid.columns = _ordered({column for _, column in grid.cells}, matrix.axes.get(grid.across, {}))
    grid.rows = _ordered({row for row, _ in grid.cells}, matrix.axes.get(grid.down, {}))


def _ordered(values: set[str], known: Mapping[str, Counts]) -> list[str]:
    """Return values in the order of their axis, numbers by size."""
    try:
        return sorted(values, key=lambda each: (each == ABSENT, float(each) if each != ABSENT else 0))
    except ValueError:
        order = {value: number for number, value in enumerate(known)}
        return sorted(values, key=lambda each: (order.get(each, len(order)), each))
