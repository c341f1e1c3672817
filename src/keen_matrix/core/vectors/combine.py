"""Combining: which rows of levels a matrix takes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from keen_matrix.core.spec.model import Matrix
from keen_matrix.core.vectors.constraints import Constraint, all_rows
from keen_matrix.core.vectors.factors import Layout

STRENGTHS = {"each": 1, "pairs": 2, "triples": 3}


def strength_of(matrix: Matrix) -> int | None:
    """Return the strength that a matrix asks for, or None when it takes every combination."""
    if isinstance(matrix.combine, int):
        return matrix.combine
    return STRENGTHS.get(matrix.combine)


def rows_of(matrix: Matrix, layout: Layout, constraints: Sequence[Constraint]) -> Iterator[tuple[int, ...]]:
    """Yield the rows of levels that a matrix takes, in a fixed order."""
    return all_rows(layout.factors, constraints)
