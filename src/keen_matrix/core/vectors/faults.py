"""What goes wrong while a matrix is combined, as problems of its spec."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from keen_matrix.core.errors import Problem, SpecFault
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.vectors.combine import CombineFault
from keen_matrix.core.vectors.constraints import WhereFault

#: More vectors than this in one matrix are a slip more often than a wish; they need a limit that
#: says so.
MOST_VECTORS = 100_000


@contextmanager
def told_of_spec(spec: Spec, matrix: Matrix) -> Iterator[None]:
    """Turn what goes wrong while a matrix is combined into a SpecFault that names the key it comes
    of."""
    try:
        yield
    except (CombineFault, WhereFault) as fault:
        raise SpecFault([fault_problem(spec.path, matrix, fault)]) from None


def fault_problem(path: str, matrix: Matrix, fault: CombineFault | WhereFault) -> Problem:
    """Return the problem that a fault of combining stands for, with its key and without a line."""
    place: tuple[str | int, ...] = ("signature",) if matrix.family else ("matrix", matrix.index)
    if isinstance(fault, WhereFault):
        return Problem(path=path, message=str(fault), key=(*place, "only-if", fault.number))
    key = (fault.key,) if fault.key else ()
    number = (fault.number,) if fault.number is not None else ()
    return Problem(path=path, message=f'matrix "{matrix.name}": {fault}', key=(*place, *key, *number))
