"""Sizes, durations and ranges as people write them: `10 KiB`, `2 h`, `1..3`. The one place that
reads them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import TypeAlias

#: In bytes. Written in whatever letter case: no unit differs from another by it alone (IEC
#: 80000-13 has the names).
SIZE_UNITS: Mapping[str, float] = {
    "B": 1,
    "kB": 1000,
    "KiB": 1024,
    "MB": 1000**2,
    "MiB": 1024**2,
    "GB": 1000**3,
    "GiB": 1024**3,
}
#: In seconds.
TIME_UNITS: Mapping[str, float] = {"us": 1e-6, "ms": 1e-3, "s": 1.0, "min": 60.0, "h": 3600.0}
#: The least and the largest number, both included; None: no upper end.
Bounds: TypeAlias = tuple[int, int | None]
_QUANTITY = re.compile(r"\s*(\d+(?:\.\d+)?)\s*([A-Za-z]*)\s*")


def parse_size(value: object) -> int:
    """Return a size in bytes, given as a number of bytes or a text such as "8 MiB". Raises
    ValueError."""
    found = _quantity(value, SIZE_UNITS, 'a size such as "8 MiB"', bare=isinstance(value, int))
    return int(found)


def parse_duration(value: object) -> float:
    """Return a duration in seconds, given as a number of seconds or a text such as "30 s" or "5
    min". Raises ValueError."""
    return _quantity(value, TIME_UNITS, 'a time such as "30 s" or "5 min"', bare=True)


def _quantity(value: object, units: Mapping[str, float], expected: str, *, bare: bool) -> float:
    if isinstance(value, (int, float)) and not isinstance(value, bool) and value >= 0:
        return float(value)
    match = _QUANTITY.fullmatch(value) if isinstance(value, str) else None
    if match and (match[2] or bare):
        factor = unit_factor(match[2], units) if match[2] else 1.0
        if factor is not None:
            return float(match[1]) * factor
    raise ValueError(f"expected {expected}, with one of the units {', '.join(units)}")


def unit_factor(unit: str, units: Mapping[str, float]) -> float | None:
    """Return what a unit is in the base unit, in whatever letter case it is written; None when it
    is unknown."""
    return next((factor for name, factor in units.items() if name.lower() == unit.lower()), None)


def parse_bounds(value: object) -> Bounds | None:
    """Return the bounds that 3, "3", "1..3" or "1.." stand for; None when it is none of them, or
    empty like "3..1"."""
    if isinstance(value, int) and not isinstance(value, bool) and value >= 0:
        return value, value
    low, dots, high = (
        (part.strip() for part in value.partition("..")) if isinstance(value, str) else ("", "", "")
    )
    if not low.isdecimal() or (high and not high.isdecimal()):
        return None
    bounds = (int(low), int(high) if high else None) if dots else (int(low), int(low))
    return bounds if bounds[1] is None or bounds[0] <= bounds[1] else None


def bounds_text(low: int, high: int | None) -> str:
    """Return bounds as they are written: `3`, `1..3`, `1..`."""
    return str(low) if low == high else f"{low}..{'' if high is None else high}"
