"""Values of which there are a few: booleans, and choices of the spec's own."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from itertools import islice
from typing import ClassVar

from keen_matrix.core.signature.values.base import LEGAL, TypeName, ValueReading, ValueType, doubtful, illegal

_OTHER_BOOLEANS = frozenset(["true", "false", "yes", "no", "y", "n", "t", "f", "1", "0", "on", "off"])


GO_TRUE = frozenset({"1", "t", "T", "TRUE", "true", "True"})
GO_FALSE = frozenset({"0", "f", "F", "FALSE", "false", "False"})
#: Library → the texts that are true and false: strconv.ParseBool; click.BoolParamType, which lowers
#: them and strips white space.
_KNOWN: Mapping[str, tuple[frozenset[str], frozenset[str]]] = {
    "go": (GO_TRUE, GO_FALSE),
    "click": (
        frozenset({"1", "true", "t", "yes", "y", "on"}),
        frozenset({"0", "false", "f", "no", "n", "off"}),
    ),
}


class Boolean(ValueType, frozen=True, kw_only=True):
    """`true` or `false`."""

    type: ClassVar[TypeName] = "bool"

    def read(self, text: str) -> ValueReading:
        """Return whether a text is a legal value."""
        if text in ("true", "false"):
            return LEGAL
        known = _KNOWN.get(self.habits.booleans or "")
        if known is not None:
            truth = text.strip().lower() if self.habits.booleans == "click" else text
            return LEGAL if truth in known[0] | known[1] else illegal("it is not a boolean")
        if text.lower() in _OTHER_BOOLEANS:
            return doubtful("not every reader of booleans accepts this")
        return illegal("it is neither true nor false")

    def made_up(self) -> Iterable[str]:
        """Return both."""
        return ("true", "false")

    def made_wrong(self) -> Iterable[str]:
        """Return what is neither."""
        return ("maybe", "", "2")

    def converted(self, text: str) -> object:
        """Return the truth that a text stands for; the text where it stands for none."""
        known = _KNOWN.get(self.habits.booleans or "", (frozenset({"true"}), frozenset({"false"})))
        plain = text.strip().lower() if self.habits.booleans == "click" else text
        return plain in known[0] if plain in known[0] | known[1] else text


class OneOf(ValueType, frozen=True, kw_only=True):
    """One of some texts."""

    type: ClassVar[TypeName] = "choice"
    of: tuple[str, ...] = ()
    ignore_case: bool = False
    #: Whether others may be taken as well: then nothing is claimed of them.
    open: bool = False

    def read(self, text: str) -> ValueReading:
        """Return whether a text is a legal value."""
        if text in self.of:
            return LEGAL
        if self.ignore_case and text.casefold() in {each.casefold() for each in self.of}:
            return LEGAL
        if self._begun(text):
            return LEGAL
        if self.open:
            return doubtful("other choices may be accepted")
        if _number(text) is not None and _number(text) in map(_number, self.of):
            return doubtful("a reader of numbers accepts it")
        return illegal(f"it is none of {', '.join(self.of)}", "not-a-choice")

    def _begun(self, text: str) -> str:
        """Return the choice that a text is the beginning of, where that will do and it is one."""
        if not self.habits.choice_beginnings or not text:
            return ""
        begun = [each for each in self.of if each.startswith(text)]
        return begun[0] if len(begun) == 1 else ""

    def converted(self, text: str) -> object:
        """Return the choice that a text stands for."""
        return text if text in self.of else self._begun(text) or text

    def made_up(self) -> Iterable[str]:
        """Return every choice."""
        return self.of

    def made_wrong(self) -> Iterator[str]:
        """Yield what is no choice, and the first one mistyped."""
        first = self.of[0] if self.of else "word"
        yield from ("nonesuch", "")
        # 00 is 0 for a program that reads choices as numbers
        mistyped = (each + each[-1:] for each in self.of or (first,))
        yield from islice((each for each in mistyped if self.read(each).status == "illegal"), 1)
        if not self.ignore_case:
            yield first.swapcase()


def _number(text: str) -> int | None:
    """Return the whole number that a text is; None where it is none."""
    return int(text) if re.fullmatch(r"[+-]?[0-9]{1,18}", text) else None
