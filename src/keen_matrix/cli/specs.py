"""Specs as the commands take them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from keen_matrix.core.errors import Problem, SpecFault
from keen_matrix.core.results.journal import DEFAULT_JOURNAL

if TYPE_CHECKING:
    from keen_matrix.core.model.spec import Spec


def load_all(paths: Sequence[str], journal: str | None = DEFAULT_JOURNAL) -> list[Spec]:
    """Return all specs, their derived vectors as the run knew them whose journal is given; none
    leaves that open. Raises SpecFault with the problems of all of them."""
    from keen_matrix.core.spec.kept import kept_spec

    specs: list[Spec] = []
    problems: list[Problem] = []
    for path in paths:
        try:
            specs.append(with_kept_grounds(kept_spec(path), journal))
        except SpecFault as fault:
            problems += fault.problems
    if problems:
        raise SpecFault(problems)
    return specs


def with_kept_grounds(spec: Spec, journal: str | None) -> Spec:
    """Return a spec with what a run has kept of the vectors that its derived ones stand on."""
    if spec.signature is None or journal is None:
        return spec
    from keen_matrix.core.results.kept_grounds import load_grounds
    from keen_matrix.core.runs.grounding.controls import grounded

    return grounded(spec, load_grounds(journal, spec))
