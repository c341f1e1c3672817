"""The signature of a program: what it says it accepts, and the judgement of vectors by it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from keen_matrix.core.signature.judging.findings import Judgement
from keen_matrix.core.signature.judging.judge import judge
from keen_matrix.core.signature.model import SignatureParts


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Signature(SignatureParts):
    """What a program says it accepts. Make one with `Signature.from_synopsis`."""

    def judge(self, words: Sequence[str]) -> Judgement:
        """Return what a conforming program does with a vector: accepted, refused (with every kind
        and culprit), or unspecified.

        Follows the POSIX Utility Syntax Guidelines (XBD 12.2) and the GNU long-option conventions
        as the style and the switches say; takes time in proportion to words and options.
        """
        return judge(self, words)
