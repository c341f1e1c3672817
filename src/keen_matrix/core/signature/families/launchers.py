"""The family `launchers`: accepted and refused vectors do the same under every launcher."""

from __future__ import annotations

from collections.abc import Iterator

from keen_matrix.core.signature.families import Making, Vector, alike


def vectors(making: Making) -> Iterator[Vector]:
    """Yield vectors that are launched once by each launcher."""
    signature, notes, launchers = making.signature, making.notes, making.launchers
    if not launchers:
        notes.texts.append("the spec has no [program.launchers]")
        return
    relation = alike(1 + len(launchers), ("", *launchers))
    for builder in making.builders:
        for kind, request in (("smallest", builder.smallest()), ("fullest", builder.fullest())):
            if request is not None:
                words = request.words()
                yield Vector(
                    words=words,
                    more=(words,) * len(launchers),
                    kind=kind,
                    relation=relation,
                    control=builder.control(words),
                )
        request = builder.smallest()
        words = (*request.words(), "superfluous") if request is not None else ("superfluous",)
        if signature.judge(words).status == "refused":
            yield Vector(
                words=words,
                more=(words,) * len(launchers),
                kind="refused",
                relation=relation,
                control=None if request is None else builder.control(request.words()),
            )
