"""Limits on what a launch may take: `"< 2 s"`, `"< 64 MiB"`."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.quantities import unit_factor
from keen_matrix.core.structs import Struct


class Limit(NamedTuple):
    """A comparison with a number in the base unit: seconds or bytes."""

    sign: str
    value: float
    text: str

    def met_by(self, value: float) -> bool:
        """Tell whether a value is within the limit."""
        return {
            "<": value < self.value,
            "<=": value <= self.value,
            ">": value > self.value,
            ">=": value >= self.value,
        }[self.sign]


def parse_limit(text: str, units: Mapping[str, float]) -> Limit:
    """Return the limit that a text such as `< 2 s` stands for. Raises ValueError."""
    match = re.fullmatch(r"\s*(<=?|>=?)\s*(\d+(?:\.\d+)?)\s*([A-Za-z]+)\s*", text)
    factor = unit_factor(match[3], units) if match else None
    if not match or factor is None:
        unit = "s" if "s" in units else "MiB"
        raise ValueError(f'expected a limit such as "< 2 {unit}", with one of the units {", ".join(units)}')
    return Limit(match[1], float(match[2]) * factor, f"{match[1]} {match[2]} {match[3]}")


class DurationAspect(Struct, frozen=True):
    """How long the launch took, in wall seconds."""

    limit: Limit

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when it took more, or less, than the limit says."""
        if not self.limit.met_by(outcome.seconds):
            yield Mismatch(form="limit", expected=self.limit.text, actual=f"{outcome.seconds:.3f} s")


class MemoryAspect(Struct, frozen=True):
    """How much memory the launch took at its peak, by the kernel's own account."""

    limit: Limit

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when it took more, or less, than the limit says."""
        if outcome.peak_bytes is None:
            yield Mismatch(form="limit", expected=self.limit.text, actual="unknown", problem=True)
        elif not self.limit.met_by(outcome.peak_bytes):
            yield Mismatch(
                form="limit", expected=self.limit.text, actual=f"{outcome.peak_bytes / 1024**2:.1f} MiB"
            )
