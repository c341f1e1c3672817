"""Telling, without unfolding, that no two rows of a matrix give the same vector."""

from __future__ import annotations

from typing import Any

from keen_matrix.core.spec.model import Matrix
from keen_matrix.core.vectors.factors import Layout


def provably_distinct(matrix: Matrix, layout: Layout, slots: Any) -> bool:
    """Return True only when the line can be read back: from the words alone, which levels gave them."""
    return False
