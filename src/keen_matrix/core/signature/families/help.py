"""The family `help`: each help spelling alone, and with other words."""

from __future__ import annotations

from collections.abc import Iterator

from keen_matrix.core.signature.families import Making, Vector


def vectors(making: Making) -> Iterator[Vector]:
    """Yield vectors that ask for help and are accepted whatever else a program checks."""
    signature, notes = making.signature, making.notes
    for spelling in signature.help:
        yield Vector(words=(spelling,), kind="alone", culprit=spelling)
    for spelling in signature.help:
        for builder in making.builders:
            request = builder.smallest()
            if request is None:
                continue
            words = request.words()
            for beside in ((spelling, *words), (*words, spelling)):
                if words and signature.judge(beside).status == "accepted":
                    control = builder.control(words)
                    yield Vector(words=beside, kind="with words", culprit=spelling, control=control)
                elif words:
                    notes.unsettled += 1
