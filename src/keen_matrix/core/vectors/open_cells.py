"""Cells that are left open: of columns that only expectations use, so that they say what is to come
and not what is launched."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from keen_matrix.core.expressions import Expression, Template
from keen_matrix.core.model.spec import Known, Skip, Step
from keen_matrix.core.notation.nodes import Sequence as LineSequence
from keen_matrix.core.vectors.constraints import names_in


def used_before(
    lines: Sequence[LineSequence],
    steps: Sequence[Step],
    conditions: Iterable[Expression | None],
    always: Iterable[object],
    marks: Iterable[Known | Skip | Template | None],
) -> frozenset[str]:
    """Return the names that are used for anything but expectations: words, what surrounds a launch,
    which cases there are, what is said of them."""
    found: set[str] = set()
    for line in lines:
        found |= names_in(line)
    for step in steps:
        found |= {name for _, text in step.surroundings.templates for name in text.names}
    for condition in conditions:
        found |= condition.names if condition is not None else set()
    for each in always:
        found |= set(each) if isinstance(each, dict) else set()
    for mark in marks:
        if isinstance(mark, Template):
            found |= mark.names
        elif mark is not None:
            found |= mark.because.names | (mark.when.names if mark.when is not None else set())
    return frozenset(found)
