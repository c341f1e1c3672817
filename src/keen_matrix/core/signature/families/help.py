"""The family `help`: each help spelling alone, and with other words."""

from __future__ import annotations

from collections.abc import Iterator

from keen_matrix.core.signature.families import Notes, Vector
from keen_matrix.core.signature.requests import builders
from keen_matrix.core.signature.signature import Signature


def vectors(signature: Signature, notes: Notes, launchers: tuple[str, ...]) -> Iterator[Vector]:
    """Yield vectors that ask for help and are accepted whatever else a program checks."""
    for spelling in signature.help:
        yield Vector(words=(spelling,), kind="alone", culprit=spelling)
    for spelling in signature.help:
        for builder in builders(signature):
            request = builder.smallest()
            if request is None:
                continue
            words = request.words()
            for beside in ((spelling, *words), (*words, spelling)):
                if words and signature.judge(beside).status == "accepted":
                    yield Vector(words=beside, kind="with words", culprit=spelling)
                elif words:
                    notes.unsettled += 1
