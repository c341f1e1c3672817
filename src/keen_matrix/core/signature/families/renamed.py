"""The family `renamed`: started through a link of another name, a program shows that name in usage
and messages."""

from __future__ import annotations

from collections.abc import Iterator

from keen_matrix.core.model.relation import Relation
from keen_matrix.core.signature.families import Making, Vector

#: The name of the link.
RENAMED = "another-name"


def vectors(making: Making) -> Iterator[Vector]:
    """Yield vectors whose answer names the program: help, and a refusal."""
    signature = making.signature
    relation = Relation(name="renamed", fresh=(True,))
    for spelling in signature.help[:1]:
        yield Vector(words=(spelling,), kind="usage", culprit=RENAMED, relation=relation)
    for builder in making.builders:
        request = builder.smallest()
        if request is not None:
            words = (*request.words(), "superfluous")
            if signature.judge(words).status == "refused":
                control = builder.control(request.words())
                yield Vector(words=words, kind="message", culprit=RENAMED, relation=relation, control=control)
                return
