"""Several values in one word, with a sign between them."""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar, Self

from keen_matrix.core.signature.habits import Habits
from keen_matrix.core.signature.values.base import LEGAL, TypeName, ValueReading, ValueType, doubtful
from keen_matrix.core.signature.values.text import Text
from keen_matrix.core.structs import field, replace


class Listed(ValueType, frozen=True, kw_only=True):
    """A list in one word: every part between separators is a value of one type."""

    type: ClassVar[TypeName] = "text"
    item: ValueType = field(default_factory=Text)
    separator: str = ","

    def read_by(self, habits: Habits) -> Self:
        """Return the type as a reader with some habits knows it, its parts as well."""
        return replace(self, habits=habits, item=self.item.read_by(habits))

    def read(self, text: str) -> ValueReading:
        """Return whether every part is a legal value; nothing is claimed of empty parts."""
        parts = text.split(self.separator)
        if "" in parts:
            return doubtful("whether a list may have an empty part is open")
        for part in parts:
            found = self.item.read(part)
            if found.status != "legal":
                return found
        return LEGAL

    def made_up(self) -> Iterator[str]:
        """Yield a list of one, of two, and of every value that the item has at its edges."""
        plain = [each for each in self.item.legal() if self.separator not in each]
        if not plain:
            return
        yield plain[0]
        yield self.separator.join([plain[0], plain[-1]])
        yield self.separator.join(plain)

    def made_wrong(self) -> Iterator[str]:
        """Yield lists with one bad part: alone, first and last."""
        usual = self.item.usual
        for number, bad in enumerate(each for each in self.item.bad() if each):
            if self.separator in bad:
                continue
            yield bad
            parts = (usual, bad) if number % 2 else (bad, usual)
            yield self.separator.join(parts)


def listed(item: ValueType, separator: str) -> Listed:
    """Return the type of a list of values in one word."""
    return Listed(
        name=item.name,
        default=item.default,
        example=item.example,
        count=item.count,
        item=replace(item, example=None, default=None),
        separator=separator,
    )
