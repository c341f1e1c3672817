"""Value types: what texts a value may be, which lie at the edge of that, which are plainly wrong,
and which are doubtful.

A *doubtful* text is one that reasonable programs read differently (`1_000` or ` 7 ` as a whole
number): nothing is ever claimed of it. Legal and illegal texts are chosen so that no reader in
common use would disagree.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal, InvalidOperation
from typing import Any, Literal, NamedTuple, TypeAlias

from keen_matrix.core.signature.kinds import Kind

Status: TypeAlias = Literal["legal", "illegal", "doubtful"]
TypeName: TypeAlias = Literal[
    "text", "int", "float", "bool", "choice", "date", "file", "dir", "path"
]
TYPE_NAMES: tuple[TypeName, ...] = (
    "text",
    "int",
    "float",
    "bool",
    "choice",
    "date",
    "file",
    "dir",
    "path",
)

ABSENT_FILE = "no-such-file"
"""A name that is in no case's directory."""


class Reading(NamedTuple):
    """What a value type makes of a text; `kind` is the kind of refusal of an illegal one."""

    status: Status
    kind: Kind = "bad-type"
    reason: str = ""


LEGAL = Reading("legal")


def _bad(reason: str, kind: Kind = "bad-type") -> Reading:
    return Reading("illegal", kind, reason)


def _doubt(reason: str) -> Reading:
    return Reading("doubtful", reason=reason)


@dataclass(frozen=True, slots=True, kw_only=True)
class ValueType:
    """The type of a value of a signature.

    `min` and `max` bound a number or date, both included, or the length of a text in characters;
    `choices` are those of a choice; `count` says how many words the value may have (None: as the
    synopsis says; an open end is None).
    """

    name: str = ""
    type: TypeName = "text"
    min: Any = None
    max: Any = None
    choices: tuple[str, ...] = ()
    ignore_case: bool = False
    matches: str | None = None
    default: Any = None
    example: str | None = None
    count: tuple[int, int | None] | None = None
    known: frozenset[str] = frozenset()
    """Files or folders that stand in every case's directory."""
    closed: bool = True
    """Whether what is not among `known` certainly does not exist: so in a fresh directory."""

    # --- reading ---

    def read(self, text: str) -> Reading:
        """Return whether a text is a legal value."""
        reading: Reading = getattr(self, f"_read_{self.type}")(text)
        return reading

    def _read_text(self, text: str) -> Reading:
        if self.matches is not None:
            import regex

            try:
                found = regex.compile(self.matches).search(text, timeout=1.0)
            except TimeoutError:
                return _doubt("its pattern took too long")
            if not found:
                return _bad(f"it does not match {self.matches}")
        if self.min is not None and len(text) < self.min:
            return _bad(f"it is shorter than {self.min}", "out-of-range")
        if self.max is not None and len(text) > self.max:
            return _bad(f"it is longer than {self.max}", "out-of-range")
        if not text and self.min is None and self.matches is None:
            return _doubt("whether an empty text will do is not settled")
        return LEGAL

    def _read_path(self, text: str) -> Reading:
        return LEGAL if text else _doubt("whether an empty path will do is not settled")

    def _read_int(self, text: str) -> Reading:
        if not re.fullmatch(r"-?(?:0|[1-9][0-9]*)", text):
            if len(text) > LONG_NUMBER:
                return _doubt(
                    "so long a text is not a number to some, and takes others too long to read"
                )
            if _DOUBTFUL_INT.fullmatch(text):
                return _doubt("not every reader of whole numbers takes this")
            return _bad("it is not a whole number")
        if text == "-0":
            return _doubt("whether -0 is a whole number is not settled")
        return self._range(Decimal(text), bounded=2**31)

    def _read_float(self, text: str) -> Reading:
        if not re.fullmatch(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?", text):
            if len(text) > LONG_NUMBER:
                return _doubt(
                    "so long a text is not a number to some, and takes others too long to read"
                )
            if _DOUBTFUL_FLOAT.fullmatch(text):
                return _doubt("not every reader of numbers takes this")
            return _bad("it is not a number")
        if text.startswith("-") and float(text) == 0:
            return _doubt("whether -0 is in the range is not settled")
        return self._range(Decimal(text), bounded=10**300)

    def _range(self, number: Any, bounded: int) -> Reading:
        if self.min is not None and number < Decimal(str(self.min)):
            return _bad(f"it is less than {self.min}", "out-of-range")
        if self.max is not None and number > Decimal(str(self.max)):
            return _bad(f"it is more than {self.max}", "out-of-range")
        if abs(number) >= bounded and (self.max if number > 0 else self.min) is None:
            return _doubt("so large a number does not fit everywhere")
        return LEGAL

    def _read_bool(self, text: str) -> Reading:
        if text in ("true", "false"):
            return LEGAL
        if text.lower() in (
            "true",
            "false",
            "yes",
            "no",
            "y",
            "n",
            "t",
            "f",
            "1",
            "0",
            "on",
            "off",
        ):
            return _doubt("not every reader of booleans takes this")
        return _bad("it is neither true nor false")

    def _read_choice(self, text: str) -> Reading:
        if text in self.choices:
            return LEGAL
        if self.ignore_case and text.casefold() in {each.casefold() for each in self.choices}:
            return LEGAL
        return _bad(f"it is none of {', '.join(self.choices)}", "not-a-choice")

    def _read_date(self, text: str) -> Reading:
        if re.fullmatch(r"[0-9]{4}-[0-9]{2}-[0-9]{2}", text):
            try:
                found = date.fromisoformat(text)
            except ValueError:
                return _bad("there is no such day")
            if self.min is not None and found < date.fromisoformat(str(self.min)):
                return _bad(f"it is before {self.min}", "out-of-range")
            if self.max is not None and found > date.fromisoformat(str(self.max)):
                return _bad(f"it is after {self.max}", "out-of-range")
            return LEGAL
        if text and (any(character.isdigit() for character in text) or text.lower() in _DAY_WORDS):
            return _doubt("dates are written in many ways")
        return _bad("it is not a date")

    def _read_file(self, text: str) -> Reading:
        return self._existing(text, "file")

    def _read_dir(self, text: str) -> Reading:
        if text in (".", "./"):
            return LEGAL
        return self._existing(text, "folder")

    def _existing(self, text: str, noun: str) -> Reading:
        if not text:
            return _bad(f"an empty name is not a {noun}")
        if text in self.known:
            return LEGAL
        if self.type == "file" and text in (".", ".."):
            return _bad("it is a folder")
        if (
            text == "-"
            or "/" in text
            or text.startswith("~")
            or not (self.closed or text == ABSENT_FILE)
        ):
            return _doubt(f"whether this {noun} exists is not known")
        return _bad(f"there is no such {noun} in the case's directory")

    # --- values to try ---

    @property
    def usual(self) -> str:
        """A plain legal value: the example, or one made up for the type."""
        return next(iter(self.legal()))

    def legal(self) -> list[str]:
        """Return legal values, the example first, then those at the edges; at least one unless the
        type allows none."""
        found: list[str] = [self.example] if self.example is not None else []
        found = list(dict.fromkeys([*found, *getattr(self, f"_legal_{self.type}")()]))
        kept = [each for each in found if self.read(each).status == "legal"]
        return kept or found[:1]

    def _legal_text(self) -> Iterator[str]:
        if self.min is not None and self.min > LONGEST_TEXT:
            return
        length = min(max(4, self.min or 0), self.max if self.max is not None else 10_000)
        yield "word"[:length].ljust(length, "d")
        if self.min is not None:
            yield "a" * self.min
        if self.max is not None and self.max <= 10_000:
            yield "b" * self.max
        yield "two words"

    def _legal_path(self) -> Iterator[str]:
        yield "output.txt"
        yield "a name with spaces.txt"

    def _legal_int(self) -> Iterator[str]:
        low, high = self.min, self.max
        if self.default is not None:
            yield str(self.default)
        inner = [low + 1] if low is not None else [high - 1] if high is not None else [2]
        yield from (str(int(each)) for each in (*inner, low, high) if each is not None)
        if low is None and high is None:
            yield from ("0", "1")

    def _legal_float(self) -> Iterator[str]:
        low, high = self.min, self.max
        if self.default is not None:
            yield str(self.default)
        middle = (
            (low + high) / 2
            if low is not None and high is not None
            else 1.5
            if low is None
            else low + 0.5
        )
        yield from (_number(each) for each in (middle, low, high) if each is not None)

    def _legal_bool(self) -> Iterator[str]:
        yield from ("true", "false")

    def _legal_choice(self) -> Iterator[str]:
        yield from self.choices

    def _legal_date(self) -> Iterator[str]:
        yield from (str(each) for each in (self.min, self.max) if each is not None)
        if self.min is None and self.max is None:
            yield from ("2024-02-29", "2025-12-31")

    def _legal_file(self) -> Iterator[str]:
        yield from sorted(self.known)

    def _legal_dir(self) -> Iterator[str]:
        yield from sorted(self.known)
        yield "."

    def bad(self) -> list[str]:
        """Return plainly illegal values: of another type, and just outside each edge."""
        found = list(dict.fromkeys(getattr(self, f"_bad_{self.type}")()))
        return [each for each in found if self.read(each).status == "illegal"]

    def _bad_text(self) -> Iterator[str]:
        if self.min is not None and 0 < self.min <= LONGEST_TEXT:
            yield "a" * (self.min - 1)
        if self.max is not None and self.max < 10_000:
            yield "b" * (self.max + 1)
        if self.matches is not None:
            yield from ("", "?!", "word", "0")

    def _bad_path(self) -> Iterator[str]:
        return iter(())

    def _bad_int(self) -> Iterator[str]:
        yield from ("abc", "", "1.5", "12abc", "3 4")
        yield from (str(int(each)) for each in self._outside(1))

    def _bad_float(self) -> Iterator[str]:
        yield from ("abc", "", "1.2.3", "12abc", "3 4")
        yield from map(_number, self._outside(0.5))

    def _outside(self, step: Any) -> Iterator[Any]:
        if self.min is not None:
            yield self.min - step
        if self.max is not None:
            yield self.max + step

    def _bad_bool(self) -> Iterator[str]:
        yield from ("maybe", "", "2")

    def _bad_choice(self) -> Iterator[str]:
        first = self.choices[0] if self.choices else "word"
        yield from ("nonesuch", "")
        yield first + first[-1:]
        if not self.ignore_case:
            yield first.swapcase()

    def _bad_date(self) -> Iterator[str]:
        yield from ("someday", "", "2025-02-30")
        for edge, step in ((self.min, -1), (self.max, 1)):
            with contextlib.suppress(
                OverflowError
            ):  # there is no day before the first and none after the last
                if edge is not None:
                    yield str(date.fromisoformat(str(edge)) + timedelta(days=step))

    def _bad_file(self) -> Iterator[str]:
        yield from (ABSENT_FILE, ".", "")

    def _bad_dir(self) -> Iterator[str]:
        yield from (ABSENT_FILE, "")

    def converted(self, text: str) -> Any:
        """Return the value that a legal text stands for in expressions: a number for the number
        types, else the text."""
        try:
            if self.type == "int":
                return int(text)
            if self.type == "float":
                return float(text)
        except (ValueError, InvalidOperation):
            return text
        if self.type == "bool" and text in ("true", "false"):
            return text == "true"
        return text


LONG_NUMBER = 1_000
"""Characters up to which a text that is no plain number is compared with other ways to write one."""
LONGEST_TEXT = 100_000
"""Characters of a text that is made up: a word of more is refused by the system (Linux,
MAX_ARG_STRLEN)."""
_DAY_WORDS = frozenset({"today", "tomorrow", "yesterday", "now", "noon", "midnight", "never"})
_DOUBTFUL_INT = re.compile(
    r"\s*[+-]?\s*(?:\d+(?:[_,']\d+)*|\d+\.0*|\d+(?:\.\d+)?[eE][+-]?\d+|0[xXoObB][0-9a-fA-F_]+|\d+[lLuUjkKMG])\s*"
)
"""Underscores, separators, signs, leading zeros, other digits, white space round it, exponents,
other bases, suffixes."""
_DOUBTFUL_FLOAT = re.compile(
    r"\s*[+-]?\s*(?:\d+(?:[_,']\d+)*(?:\.\d*)?|\.\d+|(?:\d+\.?\d*|\.\d+)[eE][+-]?\d+|0[xX][0-9a-fA-F.]+(?:[pP][+-]?\d+)?|"
    r"(?i:nan|inf|infinity)|\d+(?:\.\d+)?[fFdDkKMGjlL%])\s*"
)


def _number(value: Any) -> str:
    return f"{Decimal(str(value)).normalize():f}"
