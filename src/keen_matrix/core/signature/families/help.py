"""The family `help`: each help spelling alone, and with other words."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from keen_matrix.core.signature.families import Making, Vector
from keen_matrix.core.signature.requests import Builder


def vectors(making: Making) -> Iterator[Vector]:
    """Yield vectors that ask for help and are accepted whatever else a program checks."""
    signature, notes = making.signature, making.notes
    for spelling in signature.help:
        yield Vector(words=(spelling,), kind="alone", culprit=spelling)
    for spelling in signature.help:
        for builder in _askers(making.builders, spelling):
            request = builder.smallest()
            if request is None:
                continue
            words = request.words()
            # after the subcommand: in front of it the whole program may be asked
            at = request.behind_keywords()
            for beside in ((*words[:at], spelling, *words[at:]), (*words, spelling)):
                if beside == (spelling,):
                    continue
                if words and signature.judge(beside).status == "accepted":
                    control = builder.control(words)
                    yield Vector(words=beside, kind="with words", culprit=spelling, control=control)
                elif words:
                    notes.unsettled += 1


def _askers(builders: Iterable[Builder], spelling: str) -> list[Builder]:
    """Return the forms in which help can be asked for beside other words: all, unless the synopsis
    says where it stands; then those that have it beside other things."""
    found = list(builders)
    declared = [each for each in found if any(spelling in one.spellings for one in each.form.options)]
    if not declared:
        return found
    return [each for each in declared if len(list(each.form.form.walk())) > 1]
