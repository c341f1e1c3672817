"""Telling, without unfolding, that no two rows of a matrix give the same vector.

The line is looked at as a grammar: when at every choice the next word alone tells which way was
taken (the LL(1) condition, with the values of an axis as the words that its place can begin with),
the words can be read back to the levels that gave them. Only then need no case be remembered to
find identical ones.
"""

from __future__ import annotations

from typing import Any

from keen_matrix.core.expressions import as_text
from keen_matrix.core.model.spec import Matrix
from keen_matrix.core.notation.nodes import Field, Group, Sequence, Word
from keen_matrix.core.vectors.factors import Layout

#: Values of an axis that are looked at; ranges of numbers are known to be distinct without
#: looking.
MOST_VALUES = 100_000

#: Stands for the end of the vector among the words that can come next.
END = None


class _Unclear(Exception):
    """The line cannot be shown to be readable back."""


def provably_distinct(matrix: Matrix, layout: Layout) -> bool:
    """Return True only when no two rows can give the same vector; False when that is not so, or is
    not plain to see."""
    if len(matrix.steps) > 1:
        return False
    used: set[str] = set()
    try:
        _first_words(matrix.line, {END}, matrix, used)
    except _Unclear:
        return False
    axes = {name for name in matrix.axes if name not in matrix.columns}
    # an axis that is in no word gives identical vectors; columns are not looked at one by one
    return axes <= used and not matrix.columns and not layout.hidden and matrix.combine != "zip"


def _first_words(
    sequence: Sequence, follow: set[str | None], matrix: Matrix, used: set[str]
) -> set[str | None]:
    """Return the words that a sequence can begin with, given those that can follow it. Raises
    _Unclear."""
    for item in reversed(sequence.items):
        if item.glued:
            raise _Unclear
        follow = (
            _word_first(item, matrix, used)
            if isinstance(item, Word)
            else _group_first(item, follow, matrix, used)
        )
    return follow


def _group_first(group: Group, follow: set[str | None], matrix: Matrix, used: set[str]) -> set[str | None]:
    ways = [_first_words(alternative, follow, matrix, used) for alternative in group.alternatives]
    if group.optional:
        ways.append(follow)
    total: set[str | None] = set()
    for way in ways:
        if total & way:
            raise _Unclear
        total |= way
    return total


def _word_first(word: Word, matrix: Matrix, used: set[str]) -> set[str | None]:
    literal = word.literal
    if literal is not None:
        return {literal}
    (part,) = word.parts if len(word.parts) == 1 else (None,)
    if not isinstance(part, Field) or part.format or part.conversion or part.source not in matrix.axes:
        raise _Unclear
    values: Any = matrix.axes[part.source]
    if len(values) > MOST_VALUES:
        if part.source in used or not isinstance(values, range):
            raise _Unclear
        used.add(part.source)
        return _Everything()
    words = [as_text(value) for value in values]
    if any(isinstance(value, (list, tuple)) for value in values) or len(set(words)) < len(words):
        raise _Unclear
    used.add(part.source)
    return set(words)


class _Everything(set[str | None]):
    """The words of a range too long to list: taken to overlap with any other."""

    def __and__(self, other: object) -> Any:
        return {"?"}

    __rand__ = __and__

    def __ror__(self, other: object) -> object:
        return self

    def __or__(self, other: object) -> Any:
        return self
