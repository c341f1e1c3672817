"""How many vectors a matrix has, answered without making those that are not needed for the
answer."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.oracle import named_functions
from keen_matrix.core.structs import Struct
from keen_matrix.core.vectors.combine import combined, strength_of
from keen_matrix.core.vectors.constraints import constraints_of, count_rows
from keen_matrix.core.vectors.factors import layout_of
from keen_matrix.core.vectors.unfold import CaseMaker

#: Rows up to which identical vectors are counted by unfolding them; beyond, the count is of
#: rows.
MERGE_CHECK = 200_000


def product_count(
    spec: Spec, matrix: Matrix, functions: Mapping[str, Callable[..., object]] | None = None
) -> int | None:
    """Return how many rows the full product of a matrix has, constraints kept; None when that
    cannot be found out cheaply."""
    from keen_matrix.core.vectors.faults import told_of_spec

    layout = layout_of(matrix)
    functions = named_functions(spec.program.oracle) if functions is None else functions
    with told_of_spec(spec, matrix):
        return count_rows(layout.factors, constraints_of(matrix, layout, spec.here, functions))


def matrix_count(spec: Spec, matrix: Matrix) -> int | None:
    """Return how many rows a matrix takes, identical vectors not yet merged; None when only
    unfolding tells."""
    if matrix.family:
        return _family_size(spec, matrix)
    return product_count(spec, matrix) if strength_of(matrix) is None else None


def _family_size(spec: Spec, matrix: Matrix) -> int:
    from keen_matrix.core.vectors.derived import family_for  # costly, and of use with a signature alone

    return len(family_for(spec, matrix).vectors)


class Counts(Struct, frozen=True, kw_only=True):
    """How many vectors a matrix has. None: not known without unfolding."""

    vectors: int | None
    product: int | None
    merged: int = 0
    #: Some vectors may be identical, and were too many to compare.
    may_merge: bool = False
    #: The strength asked for; 0 when every combination is taken.
    strength: int = 0
    #: Combinations of so many values that some allowed vector contains; all of them are covered.
    tuples: int = 0
    #: Combinations that no allowed vector contains.
    impossible: int = 0
    bound: int = 0


def counts_of(spec: Spec, matrix: Matrix) -> Counts:
    """Return the counts of a matrix; the full product is never built. Raises SpecFault."""
    from keen_matrix.core.vectors.faults import told_of_spec

    if matrix.family:
        return Counts(vectors=_family_size(spec, matrix), product=None)
    maker = CaseMaker(spec, matrix, named_functions(spec.program.oracle))
    product = product_count(spec, matrix)
    if strength_of(matrix) is not None:
        with told_of_spec(spec, matrix):
            made = combined(matrix, maker.layout, maker.constraints)
        vectors = len({maker.case(tuple(row)).id for row in made.covering.rows.tolist()})
        return Counts(
            vectors=vectors,
            product=product,
            merged=len(made.covering.rows) - vectors,
            strength=made.strength,
            tuples=made.covering.tuples,
            impossible=made.covering.impossible,
            bound=made.covering.bound,
        )
    if product is None or maker.distinct:
        return Counts(vectors=product, product=product)
    if product > MERGE_CHECK:
        return Counts(vectors=product, product=product, may_merge=True)
    vectors = sum(1 for _ in maker.cases())
    return Counts(vectors=vectors, product=product, merged=maker.merged)
