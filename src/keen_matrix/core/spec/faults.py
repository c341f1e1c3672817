"""Giving a place to what goes wrong while a matrix is combined."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

from keen_matrix.core.errors import Problem, SpecFault
from keen_matrix.core.spec.model import Matrix, Spec
from keen_matrix.core.vectors.combine import CombineFault
from keen_matrix.core.vectors.constraints import WhereFault

if TYPE_CHECKING:
    from keen_matrix.core.spec.source import KeyPath, Source

MOST_VECTORS = 100_000
"""More vectors than this in one matrix are a slip more often than a wish; they need a limit that says so."""


@contextmanager
def placed_faults(spec: Spec, matrix: Matrix) -> Iterator[None]:
    """Turn what goes wrong while a matrix is combined into a SpecFault with its place."""
    try:
        yield
    except (CombineFault, WhereFault) as fault:
        from keen_matrix.core.spec.source import read_source

        raise SpecFault([fault_problem(read_source(spec.path), matrix, fault)]) from None


def fault_problem(source: Source, matrix: Matrix, fault: CombineFault | WhereFault) -> Problem:
    """Return the problem that a fault of combining stands for."""
    path: KeyPath = ("signature",) if matrix.family else ("matrix", matrix.index)
    if isinstance(fault, WhereFault):
        return source.problem((*path, "where", fault.number), str(fault))
    key = (fault.key,) if fault.key else ()
    number = (fault.number,) if fault.number is not None else ()
    return source.problem((*path, *key, *number), f'matrix "{matrix.name}": {fault}')
