"""The signature of a program: what it says it accepts, and the judgement of vectors by it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from keen_matrix.core.signature.judging.findings import Judgement
from keen_matrix.core.signature.judging.judge import judge
from keen_matrix.core.signature.model import SignatureParts

MOST_KNOWN = 10_000
"""Judgements that are kept of a signature."""


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Signature(SignatureParts):
    """What a program says it accepts. Make one with `Signature.from_synopsis`."""

    _known: dict[tuple[str, ...], Judgement] = field(init=False, default_factory=dict, repr=False)
    """Judgements that were made: families ask for the same vectors again and again."""

    def judge(self, words: Sequence[str]) -> Judgement:
        """Return what a conforming program does with a vector: accepted, refused (with every kind
        and culprit), or unspecified.

        Follows the habits of the reader, or those of the style (the POSIX Utility Syntax
        Guidelines, XBD 12.2, and the GNU long-option conventions) with the switches that are set.
        What is open is followed in all its readings: where they agree, it is settled. Takes time in
        proportion to words, options and readings.
        """
        key = tuple(words)
        found = self._known.get(key)
        if found is None:
            if len(self._known) >= MOST_KNOWN:
                self._known.clear()
            found = self._known[key] = judge(self, key)
        return found
