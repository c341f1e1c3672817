"""How many vectors a matrix has, answered without making them."""

from __future__ import annotations

from dataclasses import dataclass

from keen_matrix.core.oracle import oracle_functions
from keen_matrix.core.spec.model import Matrix, Spec
from keen_matrix.core.vectors.combine import strength_of
from keen_matrix.core.vectors.constraints import constraints_of, count_rows
from keen_matrix.core.vectors.factors import layout_of
from keen_matrix.core.vectors.unfold import CaseMaker


def product_count(spec: Spec, matrix: Matrix) -> int | None:
    """Return how many rows the full product of a matrix has, constraints kept; None when that cannot be told cheaply."""
    layout = layout_of(matrix)
    constraints = constraints_of(matrix, layout, spec.here, oracle_functions(spec.program.oracle))
    return count_rows(layout.factors, constraints)


def matrix_count(spec: Spec, matrix: Matrix) -> int | None:
    """Return how many rows a matrix takes, identical vectors not yet merged; None when only unfolding tells."""
    return product_count(spec, matrix) if strength_of(matrix) is None else None


MERGE_CHECK = 200_000
"""Rows up to which identical vectors are counted by unfolding them; beyond, the count is of rows."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Counts:
    """How many vectors a matrix has. None: not known without unfolding."""

    vectors: int | None
    product: int | None
    merged: int = 0
    may_merge: bool = False
    """Some vectors may be identical, and were too many to compare."""
    strength: int = 0
    """The strength asked for; 0 when every combination is taken."""
    covered: int = 0
    coverable: int = 0


def counts_of(spec: Spec, matrix: Matrix) -> Counts:
    """Return the counts of a matrix; the full product is never built."""
    maker = CaseMaker(spec, matrix, oracle_functions(spec.program.oracle))
    product = count_rows(maker.layout.factors, maker.constraints)
    if strength_of(matrix) is not None:
        raise NotImplementedError
    if product is None or maker.distinct:
        return Counts(vectors=product, product=product)
    if product > MERGE_CHECK:
        return Counts(vectors=product, product=product, may_merge=True)
    vectors = sum(1 for _ in maker.cases())
    return Counts(vectors=vectors, product=product, merged=maker.merged)
