"""Exit codes and signals: reading what a spec asks for, and checking it."""

from __future__ import annotations

from typing import Any

from keen_matrix.core.expressions import Scope, Template
from keen_matrix.core.model.open_mark import OPEN
from keen_matrix.core.model.quantities import parse_bounds
from keen_matrix.core.structs import Struct

_FORMS = 'a code 0..255, a list of codes, a range such as "1..125", "nonzero" or a template such as "{exit}"'


def parse_exit(value: Any) -> tuple[tuple[int, int], ...] | Template:
    """Return the ranges of codes (both ends included) that a spec's value stands for, or a
    template that gives one.

    Raises ValueError with what was expected, or what the template's own fault is.
    """
    if isinstance(value, str):
        return _parse_text(value)
    values = value if isinstance(value, list) else [value]
    if not values or any(isinstance(each, bool) or not isinstance(each, int) for each in values):
        raise ValueError(f"expected {_FORMS}")
    return tuple((_code(each), _code(each)) for each in values)


def _parse_text(text: str) -> tuple[tuple[int, int], ...] | Template:
    if text == OPEN:
        return ()
    if text == "nonzero":
        return ((1, 255),)
    if "{" in text:
        return Template(text)
    bounds = parse_bounds(text)
    if bounds is not None and bounds[1] is not None:
        return ((_code(bounds[0]), _code(bounds[1])),)
    raise ValueError(f"expected {_FORMS}")


def _code(code: int) -> int:
    if not 0 <= code <= 255:
        raise ValueError(f"{code} is not an exit code; expected 0 to 255")
    return code


def wording(ranges: tuple[tuple[int, int], ...]) -> str:
    """Return ranges of codes in words: `0`, `0 or 3`, `1..125`, `nonzero`."""
    if ranges == ((1, 255),):
        return "nonzero"
    return " or ".join(str(low) if low == high else f"{low}..{high}" for low, high in ranges)


class ExitExpectation(Struct, frozen=True):
    """The exit code must lie in one of the ranges, or in those that the template gives."""

    allowed: tuple[tuple[int, int], ...] | Template

    @property
    def is_open(self) -> bool:
        """Whether it is not known yet which code is to come."""
        return not self.allowed

    def ranges(self, scope: Scope) -> tuple[tuple[int, int], ...]:
        """Return the ranges for one case. Raises ExpressionFault, or ValueError when the template
        gives no exit form."""
        if isinstance(self.allowed, tuple):
            return self.allowed
        value = self.allowed.value(scope)
        if isinstance(value, str) and "{" in value:
            raise ValueError(f"{value!r} is not an exit form")
        parsed = parse_exit(value)
        if not isinstance(parsed, tuple):  # it would be a template, and has no braces
            raise ValueError(f"{value!r} is not an exit form")
        return parsed
