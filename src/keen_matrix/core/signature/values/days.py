"""Dates: days as ISO 8601 writes them."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from typing import ClassVar

from keen_matrix.core.signature.values.base import LEGAL, TypeName, ValueReading, ValueType, doubtful, illegal

_DAY_WORDS = frozenset({"today", "tomorrow", "yesterday", "now", "noon", "midnight", "never"})


class Day(ValueType, frozen=True, kw_only=True):
    """A day between two days, both included, each written as 2025-12-31."""

    type: ClassVar[TypeName] = "date"
    min: str | None = None
    max: str | None = None

    def read(self, text: str) -> ValueReading:
        """Return whether a text is a legal value."""
        if re.fullmatch(r"[0-9]{4}-[0-9]{2}-[0-9]{2}", text):
            try:
                found = date.fromisoformat(text)
            except ValueError:
                return illegal("there is no such day")
            return self._in_range(found)
        if self.habits.dates == "click":
            return self._read_as_click_does(text)
        if any(character.isdigit() for character in text) or text.lower() in _DAY_WORDS:
            return doubtful("dates are written in many ways")
        return illegal("it is not a date")

    def _in_range(self, found: date) -> ValueReading:
        if self.min is not None and found < date.fromisoformat(self.min):
            return illegal(f"it is before {self.min}", "out-of-range")
        if self.max is not None and found > date.fromisoformat(self.max):
            return illegal(f"it is after {self.max}", "out-of-range")
        return LEGAL

    def _read_as_click_does(self, text: str) -> ValueReading:
        """Return what click.DateTime makes of a text, with its usual formats."""
        for each in ("%Y-%m-%d", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%d %H:%M:%S"):
            with contextlib.suppress(ValueError):
                return self._in_range(datetime.strptime(text, each).date())
        return illegal("it does not match the formats")

    def made_up(self) -> Iterator[str]:
        """Yield the bounds; without them a leap day and the last day of a year."""
        yield from self.edges
        if not self.edges:
            yield from ("2024-02-29", "2025-12-31")

    def made_wrong(self) -> Iterator[str]:
        """Yield what is no day, and the days just outside the bounds."""
        yield from ("someday", "", "2025-02-30")
        for edge, step in ((self.min, -1), (self.max, 1)):
            # there is no day before the first of the calendar and none after its last
            with contextlib.suppress(OverflowError):
                if edge is not None:
                    yield str(date.fromisoformat(edge) + timedelta(days=step))

    @classmethod
    def bound(cls, value: object) -> object:
        """Return a day as a text. Raises ValueError for what is none."""
        try:
            return date.fromisoformat(str(value)).isoformat()
        except ValueError:
            raise ValueError(f"a bound of a date is a date, not {value}") from None

    @property
    def edges(self) -> tuple[str, ...]:
        """The first and the last day, where they are stated."""
        return tuple(each for each in (self.min, self.max) if each is not None)
