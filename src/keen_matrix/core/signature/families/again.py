"""The family `again`: the same vector once more in the same directory, and in a fresh one, must do
the same."""

from __future__ import annotations

from collections.abc import Iterator

from keen_matrix.core.model.relation import Relation
from keen_matrix.core.signature.families import Making, Vector


def vectors(making: Making) -> Iterator[Vector]:
    """Yield accepted vectors that are launched three times: first, in the same directory, in a
    fresh one."""
    for builder in making.builders:
        for kind, request in (("smallest", builder.smallest()), ("fullest", builder.fullest())):
            if request is not None:
                words = request.words()
                yield Vector(
                    words=words,
                    more=(words, words),
                    kind=kind,
                    control=builder.control(words),
                    relation=Relation(name="alike", fresh=(True, False, True)),
                )
