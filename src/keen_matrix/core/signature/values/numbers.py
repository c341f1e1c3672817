"""Numbers: whole ones, and those with a fraction."""

from __future__ import annotations

import math
import re
from abc import abstractmethod
from collections.abc import Iterable, Iterator, Mapping, Sequence
from decimal import Decimal
from typing import ClassVar, TypeAlias

from keen_matrix.core.signature.habits import Habits, Numbers
from keen_matrix.core.signature.values.base import LEGAL, TypeName, ValueReading, ValueType, doubtful, illegal
from keen_matrix.core.signature.values.spellings import FRACTION, WHOLE, Convert

Number: TypeAlias = int | float

#: Characters up to which a text that is no plain number is compared with other ways to write
#: one.
LONG_NUMBER = 1_000
#: Underscores, separators, signs, leading zeros, other digits, white space round it, exponents,
#: other bases, suffixes.
_DOUBTFUL_INT = (
    r"\s*[+-]?\s*(?:\d+(?:[_']\d+|,\d{3}(?!\d))*|\d+\.0*|\d+(?:\.\d+)?[eE][+-]?\d+"
    r"|0[xXoObB][0-9a-fA-F_]+|\d+[lLuUjkKMG])\s*"
)
_DOUBTFUL_FLOAT = (
    r"\s*[+-]?\s*(?:\d+(?:[_']\d+|,\d{3}(?!\d))*(?:\.\d*)?|\.\d+|(?:\d+\.?\d*|\.\d+)[eE][+-]?\d+|0[xX][0-9a-fA-F.]+(?:[pP][+-]?\d+)?|"
    r"(?i:nan|inf|infinity)|\d+(?:\.\d+)?[fFdDkKMGjlL%])\s*"
)
_PADDED = re.compile(r"-?0[0-9]+(?:\.[0-9]+)?")
_ZEROS = re.compile(r"(?<![0-9.])0+(?=[0-9])")
#: What strtol(3) with base 10 stops within.
_NEVER_C = re.compile(r"[-+]?(?:[0-9]+[eE][-+]?[0-9]+|0[xX][0-9a-fA-F]+)")
_UNIT = re.compile(r"-?[0-9]+(?:\.[0-9]+)?[A-Za-z]+")
_LONG = "some programs do not read so long a number, and others take too long to"


class Bounded(ValueType, frozen=True, kw_only=True):
    """A number between two bounds, both included."""

    #: What a text of it is.
    noun: ClassVar[str]
    #: How it is surely written.
    plain: ClassVar[re.Pattern[str]]
    #: How some readers take it as well.
    other: ClassVar[str]
    #: How libraries read it.
    spellings: ClassVar[Mapping[str, Convert]]
    #: The size below which a number fits everywhere.
    fits_below: ClassVar[int]

    min: Number | None = None
    max: Number | None = None
    #: What may follow the digits: `10K`. Bounds are those of the digits alone.
    units: tuple[str, ...] = ()

    def without_unit(self, text: str) -> str:
        """Return a text without the unit at its end, where it has one and something before it."""
        # The longest first: of KB and B the first is meant.
        found = (each for each in sorted(self.units, key=len, reverse=True) if text.endswith(each))
        unit = next(found, "")
        return text.removesuffix(unit) if len(text) > len(unit) else text

    def with_units(self, numbers: Iterable[str]) -> Iterator[str]:
        """Yield numbers, the first one also with each unit."""
        first = ""
        for number in numbers:
            yield number
            if not first:
                first = number
                yield from (f"{number}{unit}" for unit in self.units)

    def read(self, text: str) -> ValueReading:
        """Return whether a text is a legal value."""
        digits = self.without_unit(text)
        library = self.habits.numbers
        if library in ("c", "script"):  # the program's own, in a language
            if _PADDED.fullmatch(digits):
                digits = _ZEROS.sub("", digits)  # whatever it calls, 007 is 7
            elif "_" in digits or (library == "c" and _NEVER_C.fullmatch(digits)):
                return illegal(f"it is not {self.noun}")
        # With units the digits are the program's own to read, whatever its library does.
        elif library is not None and not self.units:
            return self._read_as(text, library)
        if not self.plain.fullmatch(digits):
            return self._not_plain(digits)
        # Some refuse a minus before nothing, and some take it for an option.
        if digits.startswith("-") and float(digits) == 0:
            return doubtful(f"whether {digits} is {self.noun} is open")
        return self.in_range(Decimal(digits))

    def _read_as(self, text: str, library: Numbers) -> ValueReading:
        """Return what a library makes of a text."""
        try:
            found = self.spellings[library](text)
        except (ValueError, OverflowError):
            return illegal(f"it is not {self.noun}")
        # Not a number is neither more nor less than a bound, so a plain comparison takes it and its
        # negation refuses it.
        if isinstance(found, float) and not math.isfinite(found):
            if self.min is None and self.max is None:
                return LEGAL
            return doubtful("whether it is within the bounds is open")
        return self.in_range(Decimal(str(found)))

    def _not_plain(self, text: str) -> ValueReading:
        if self.units and _UNIT.fullmatch(text):
            return illegal(f"its unit is none of {', '.join(self.units)}")
        # Patterns with many ways to match take long on such a text, and libraries have limits of
        # their own.
        if len(text) > LONG_NUMBER:
            return doubtful(_LONG)
        if re.fullmatch(self.other, text):
            return doubtful(f"not every program reads this as {self.noun}")
        return illegal(f"it is not {self.noun}")

    def made_up(self) -> Iterator[str]:
        """Yield the default, a number within, and the bounds; one with each unit."""
        stated = () if self.default is None else (str(self.default),)
        yield from self.with_units((*stated, *self.within()))

    @abstractmethod
    def within(self) -> Iterator[str]:
        """Yield a number within the bounds, then those at them."""

    def made_subtly_wrong(self) -> Iterator[str]:
        """Yield a number with a decimal comma."""
        yield "1,5"

    def in_range(self, number: Decimal) -> ValueReading:
        """Return whether a number lies within the bounds."""
        if self.min is not None and number < Decimal(str(self.min)):
            return illegal(f"it is less than {self.min}", "out-of-range")
        if self.max is not None and number > Decimal(str(self.max)):
            return illegal(f"it is more than {self.max}", "out-of-range")
        # A bound of the spec says that the program can have the number; without one the size of its
        # integers is not known.
        unbounded = (self.max if number > 0 else self.min) is None
        if unbounded and self.habits.numbers is None and abs(number) >= self.fits_below:
            return doubtful("so large a number does not fit everywhere")
        return LEGAL

    def outside(self, step: Number) -> Iterator[Number]:
        """Yield the numbers that lie a step outside the bounds."""
        if self.min is not None:
            yield self.min - step
        if self.max is not None:
            yield self.max + step

    @classmethod
    def bound(cls, value: object) -> object:
        """Return a bound. Raises ValueError for what is no number."""
        if isinstance(value, bool) or not isinstance(value, (int, float)):
            raise ValueError(f"a bound of a number is a number, not {value}")
        return value

    @property
    def edges(self) -> tuple[str, ...]:
        """The bounds, as they are written."""
        return tuple(str(each) for each in (self.min, self.max) if each is not None)


class Whole(Bounded, frozen=True, kw_only=True):
    """A whole number in decimal digits."""

    type: ClassVar[TypeName] = "int"
    noun: ClassVar[str] = "a whole number"
    plain: ClassVar[re.Pattern[str]] = re.compile(r"-?(?:0|[1-9][0-9]*)")
    other: ClassVar[str] = _DOUBTFUL_INT
    spellings: ClassVar[Mapping[str, Convert]] = WHOLE
    fits_below: ClassVar[int] = 2**31  # beyond lies what a C int cannot have

    def within(self) -> Iterator[str]:
        """Yield a number within the bounds, then those at them; 0 and 1 where there are none."""
        low, high = self.min, self.max
        # A number inside comes first: bounds are where programs are wrong, so nothing else is to
        # stand on them.
        inner = [low + 1] if low is not None else [high - 1] if high is not None else [2]
        yield from (str(int(each)) for each in (*inner, low, high) if each is not None)
        if low is None and high is None:
            yield from ("0", "1")

    def made_wrong(self) -> Iterator[str]:
        """Yield what is no whole number, and the numbers just outside the bounds."""
        # What atoi(3) takes and strtol(3) with a look at the end does not is among them.
        yield from ("abc", "", "1.5", "12abc", "3 4")
        yield from (str(int(each)) for each in self.outside(1))
        yield from _wrong_units(self.units)

    def made_subtly_wrong(self) -> Iterator[str]:
        """Yield numbers that fit a smaller integer once their upper bits are lost, where a bound
        makes them illegal, and one with a decimal comma."""
        for bits in (32, 64):
            if self.max is not None:
                yield str(int(self.max) + 2**bits)
            elif self.min is not None:
                yield str(int(self.min) - 2**bits)
        yield from Bounded.made_subtly_wrong(self)

    def converted(self, text: str) -> object:
        """Return the number that a text stands for; the text where it stands for none."""
        try:
            return WHOLE[_library(self.habits)](text)
        except ValueError:
            return text


class Fraction(Bounded, frozen=True, kw_only=True):
    """A number, with or without a fraction after a point."""

    type: ClassVar[TypeName] = "float"
    noun: ClassVar[str] = "a number"
    plain: ClassVar[re.Pattern[str]] = re.compile(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?")
    other: ClassVar[str] = _DOUBTFUL_FLOAT
    spellings: ClassVar[Mapping[str, Convert]] = FRACTION
    fits_below: ClassVar[int] = 10**300  # nearly the largest number of 64 bits (IEEE 754)

    def within(self) -> Iterator[str]:
        """Yield a number within the bounds, then those at them."""
        low, high = self.min, self.max
        # With a fraction, or the type could not be told from that of whole numbers.
        middle: Number = 1.5 if low is None else low + 0.5
        if low is not None and high is not None:
            middle = (low + high) / 2
        yield from (_plain(each) for each in (middle, low, high) if each is not None)

    def made_wrong(self) -> Iterator[str]:
        """Yield what is no number, and numbers half a unit outside the bounds."""
        yield from ("abc", "", "1.2.3", "12abc", "3 4")
        yield from map(_plain, self.outside(0.5))
        yield from _wrong_units(self.units)

    def converted(self, text: str) -> object:
        """Return the number that a text stands for; the text where it stands for none."""
        try:
            return FRACTION[_library(self.habits)](text)
        except ValueError:
            return text


def _wrong_units(units: Sequence[str]) -> Iterator[str]:
    """Yield a unit that is none, and one without a number."""
    if units:
        # A letter that no unit has, in either case.
        letter = next((each for each in "QXZ" if each not in "".join(units).upper()), "")
        yield from ([f"2{letter}"] if letter else [])
        yield units[0]


def _library(habits: Habits) -> str:
    """Return whose function converts a text that is a number: Python's, where it is the
    program's."""
    return "python" if habits.numbers in (None, "c", "script") else str(habits.numbers)


def _plain(value: Number) -> str:
    """Return a number in digits, without an exponent and without zeros at its end."""
    return f"{Decimal(str(value)).normalize():f}"
