"""Numbers inside texts, compared within a tolerance."""

from __future__ import annotations

import math
import re
from typing import NamedTuple

_NUMBER = re.compile(r"(?<![\w.])[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?(?![\w.]*\d)")


class Tolerance(NamedTuple):
    """How far a number may be off: the larger of an absolute amount and a part of the expected
    number."""

    absolute: float = 0.0
    relative: float = 0.0

    def allows(self, expected: float, came: float) -> bool:
        """Tell whether a number is near enough. NaN is near NaN alone, an infinity near itself."""
        # A comparison with it is always false, which would make it near everything or nothing.
        if math.isnan(expected) or math.isnan(came):
            return math.isnan(expected) and math.isnan(came)
        if expected == came:
            return True
        if math.isinf(expected) or math.isinf(came):
            return False
        slack = max(self.absolute, self.relative * abs(expected))
        # A little more, or a difference of exactly the tolerance would fail by the rounding of
        # floats.
        return abs(expected - came) <= slack + 1e-12 * max(abs(expected), abs(came))


def texts_alike(expected: str, came: str, tolerance: Tolerance | None, *, newline: bool = False) -> bool:
    """Tell whether two texts are the same except for numbers within a tolerance.

    `newline` lets what came end in one newline more than an expected text that ends in none.
    """
    if expected == came:
        return True
    if newline and not expected.endswith("\n"):
        came = came.removesuffix("\n")
        if expected == came:
            return True
    if tolerance is None:
        return False
    left, right = _NUMBER.split(expected), _NUMBER.split(came)
    # Between the numbers the texts must be the same to the letter; so there are as many numbers in
    # both.
    if left != right:
        return False
    pairs = zip(_NUMBER.findall(expected), _NUMBER.findall(came), strict=True)
    return all(tolerance.allows(float(one), float(other)) for one, other in pairs)
