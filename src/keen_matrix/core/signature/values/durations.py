"""Lengths of time, as a number and a unit: 10s, 1h30m."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import ClassVar

from keen_matrix.core.signature.values.base import LEGAL, TypeName, ValueReading, ValueType, doubtful, illegal

#: How every reader of durations that has units takes one.
_PLAIN = re.compile(r"[1-9][0-9]*[smh]")
#: What Go's time.ParseDuration takes.
_GO = re.compile(r"[-+]?(?:0|(?:(?:[0-9]+\.?[0-9]*|\.[0-9]+)(?:ns|us|µs|μs|ms|s|m|h))+)")


class Duration(ValueType, frozen=True, kw_only=True):
    """A length of time."""

    type: ClassVar[TypeName] = "duration"

    def read(self, text: str) -> ValueReading:
        """Return whether a text is a legal value."""
        if self.habits.durations == "go":
            return LEGAL if _GO.fullmatch(text) else illegal("it is not a duration")
        if _PLAIN.fullmatch(text):
            return LEGAL
        if any(character.isdigit() for character in text):
            return doubtful("durations are written in many ways")
        return illegal("it is not a duration")

    def made_up(self) -> Iterator[str]:
        """Yield one of each usual unit."""
        yield from ("10s", "5m", "2h")

    def made_wrong(self) -> Iterator[str]:
        """Yield what is no duration, a number without a unit, and a unit that is none."""
        yield from ("soon", "", "10", "10 s", "10x", "s")
