"""What the notation parses to. Every node keeps its span: offsets into the text, counted from 0."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TypeAlias

from keen_matrix.core.structs import Struct

Span: TypeAlias = tuple[int, int]


class _Node(Struct, frozen=True, eq=False):
    """A node: the same as another that says the same elsewhere, so spans, which are last, do not
    count."""

    def __eq__(self, other: object) -> bool:
        return type(self) is type(other) and self._said() == other._said()

    def __hash__(self) -> int:
        return hash((type(self), *self._said()))

    def _said(self) -> list[object]:
        return [getattr(self, name) for name in self.__struct_fields__[:-1]]


class Characters(_Node, frozen=True, eq=False):
    """Literal characters of a word."""

    text: str
    span: Span = (0, 0)


class Field(_Node, frozen=True, eq=False):
    """`{expression}` or `{expression:format}`; `conversion` is the letter after `!`, or empty."""

    source: str
    format: str = ""
    conversion: str = ""
    span: Span = (0, 0)


Part: TypeAlias = Characters | Field


class Word(_Node, frozen=True, eq=False):
    """One word of a vector. `glued` tells that no white space precedes it."""

    parts: tuple[Part, ...]
    glued: bool = False
    span: Span = (0, 0)

    @property
    def literal(self) -> str | None:
        """The word itself when it contains no field, else None."""
        if all(isinstance(part, Characters) for part in self.parts):
            return "".join(part.text for part in self.parts if isinstance(part, Characters))
        return None


class Group(_Node, frozen=True, eq=False):
    """`[ a | b ]` (at most one of the alternatives) or `( a | b )` (exactly one)."""

    alternatives: tuple[Sequence, ...]
    optional: bool
    glued: bool = False
    span: Span = (0, 0)


class Sequence(_Node, frozen=True, eq=False):
    """Words and groups that follow each other."""

    items: tuple[Word | Group, ...]
    span: Span = (0, 0)

    def fields(self) -> Iterator[Field]:
        """Yield every field of every word, in the order of the text."""
        for item in self.items:
            if isinstance(item, Word):
                yield from (part for part in item.parts if isinstance(part, Field))
            else:
                for alternative in item.alternatives:
                    yield from alternative.fields()

    def words(self) -> Iterator[Word]:
        """Yield every word, in the order of the text."""
        for item in self.items:
            if isinstance(item, Word):
                yield item
            else:
                for alternative in item.alternatives:
                    yield from alternative.words()
