"""Specs as the commands take them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from keen_matrix.core.errors import Problem, SpecFault

if TYPE_CHECKING:
    from keen_matrix.core.model.spec import Spec


def load_all(paths: Sequence[str]) -> list[Spec]:
    """Return all specs. Raises SpecFault with the problems of all of them."""
    from keen_matrix.core.spec.kept import kept_spec

    specs: list[Spec] = []
    problems: list[Problem] = []
    for path in paths:
        try:
            specs.append(kept_spec(path))
        except SpecFault as fault:
            problems += fault.problems
    if problems:
        raise SpecFault(problems)
    return specs
