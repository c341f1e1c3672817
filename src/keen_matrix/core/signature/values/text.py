"""Texts: any word, between two lengths, and of a pattern where one is stated."""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar

from keen_matrix.core.signature.values.base import LEGAL, TypeName, ValueReading, ValueType, doubtful, illegal

#: Characters of a text that is made up: a word of more is refused by the system (Linux,
#: MAX_ARG_STRLEN).
LONGEST_TEXT = 100_000
#: Characters up to which a text at its upper edge is tried.
USUAL_LONGEST = 10_000
PATTERN_SECONDS = 1.0


class Text(ValueType, frozen=True, kw_only=True):
    """Any text, with bounds of its length in characters, both included."""

    type: ClassVar[TypeName] = "text"
    min: int | None = None
    max: int | None = None
    #: A regular expression that must match a part of it.
    matches: str | None = None
    #: Whether nobody said that it is a text, and examples have values of it: only these are tried.
    only_seen: bool = False

    def read(self, text: str) -> ValueReading:
        """Return whether a text is a legal value."""
        if self.matches is not None:
            import regex

            try:
                found = regex.compile(self.matches).search(text, timeout=PATTERN_SECONDS)
            except TimeoutError:
                return doubtful("its pattern took too long")
            if not found:
                return illegal(f"it does not match {self.matches}")
        if self.min is not None and len(text) < self.min:
            return illegal(f"it is shorter than {self.min}", "out-of-range")
        if self.max is not None and len(text) > self.max:
            return illegal(f"it is longer than {self.max}", "out-of-range")
        is_open = self.min is None and self.matches is None and self.habits.empty_values != "take"
        if not text and is_open:
            return doubtful("whether an empty text will do is open")
        return LEGAL

    def made_up(self) -> Iterator[str]:
        """Yield a word, texts of the least and the greatest length, and two words."""
        if self.only_seen or (self.min is not None and self.min > LONGEST_TEXT):
            return
        length = min(max(4, self.min or 0), self.max if self.max is not None else USUAL_LONGEST)
        yield "word"[:length].ljust(length, "d")
        if self.min is not None:
            yield "a" * self.min
        if self.max is not None and self.max <= USUAL_LONGEST:
            yield "b" * self.max
        yield "two words"

    def made_wrong(self) -> Iterator[str]:
        """Yield texts that are one too short and one too long, and some against a pattern."""
        if self.min is not None and 0 < self.min <= LONGEST_TEXT:
            yield "a" * (self.min - 1)
        if self.max is not None and self.max < USUAL_LONGEST:
            yield "b" * (self.max + 1)
        if self.matches is not None:
            yield from ("", "?!", "word", "0")

    @classmethod
    def bound(cls, value: object) -> object:
        """Return a length. Raises ValueError for what is none."""
        if isinstance(value, bool) or not isinstance(value, (int, float)) or value != int(value):
            raise ValueError(f"the length of a text is a whole number, not {value}")
        return int(value)

    @property
    def edges(self) -> tuple[str, ...]:
        """The bounds of its length, as they are written."""
        return tuple(str(each) for each in (self.min, self.max) if each is not None)
