"""What the notation parses to. Every node keeps its span: offsets into the text, counted from 0."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TypeAlias

Span: TypeAlias = tuple[int, int]


@dataclass(frozen=True, slots=True)
class Text:
    """Literal characters of a word."""

    text: str
    span: Span = field(default=(0, 0), compare=False)


@dataclass(frozen=True, slots=True)
class Field:
    """`{expression}` or `{expression:format}`; `conversion` is the letter after `!`, or empty."""

    source: str
    format: str = ""
    conversion: str = ""
    span: Span = field(default=(0, 0), compare=False)


Part: TypeAlias = Text | Field


@dataclass(frozen=True, slots=True)
class Word:
    """One word of a vector. `glued` tells that no white space stands before it."""

    parts: tuple[Part, ...]
    glued: bool = False
    span: Span = field(default=(0, 0), compare=False)

    @property
    def literal(self) -> str | None:
        """The word itself when it contains no field, else None."""
        if all(isinstance(part, Text) for part in self.parts):
            return "".join(part.text for part in self.parts if isinstance(part, Text))
        return None


@dataclass(frozen=True, slots=True)
class Group:
    """`[ a | b ]` (at most one of the alternatives) or `( a | b )` (exactly one)."""

    alternatives: tuple[Sequence, ...]
    optional: bool
    glued: bool = False
    span: Span = field(default=(0, 0), compare=False)


@dataclass(frozen=True, slots=True)
class Sequence:
    """Words and groups that follow each other."""

    items: tuple[Word | Group, ...]
    span: Span = field(default=(0, 0), compare=False)

    def fields(self) -> Iterator[Field]:
        """Yield every field of every word, in the order of the text."""
        for item in self.items:
            if isinstance(item, Word):
                yield from (part for part in item.parts if isinstance(part, Field))
            else:
                for alternative in item.alternatives:
                    yield from alternative.fields()
