"""The derived families: vectors that follow from the signature alone, each family a module with
one function `vectors`, which gets a Making.

A family yields what it can think of; what the judgement does not bear out is dropped here, so that
no family ever makes a sound program to something that the signature leaves open.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache
from importlib import import_module

from keen_matrix.core.model.relation import Relation
from keen_matrix.core.signature.grounds import NO_GROUNDS, Grounds, Words
from keen_matrix.core.signature.kinds import FAMILIES, FamilyName
from keen_matrix.core.signature.requests import Builder, derived_builders, is_aside
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.structs import Struct, field

#: The kind of an accepted vector that shows what a program refuses and the signature does not.
CLASH = "clash"
#: Vectors beyond these that are counted.
MOST_BEYOND = 100


class Vector(Struct, frozen=True, kw_only=True):
    """A derived vector: what it is about, and its words."""

    words: Words
    kind: str
    #: The accepted vector of which it was made by one change; null of one that is itself to be
    #: accepted.
    control: Words | None = None
    culprit: str = ""
    mentions: tuple[str, ...] = ()
    detail: str = ""
    #: Further launches of the same case.
    more: tuple[Words, ...] = ()
    relation: Relation | None = None
    #: What tells apart vectors of the same words.
    variant: str = ""


class Family(Struct, frozen=True):
    """The vectors of a family, and what was left out of it."""

    name: str
    vectors: tuple[Vector, ...]
    left_out: tuple[str, ...] = ()


class Notes(Struct):
    """What a family says it had to leave out."""

    unsettled: int = 0
    texts: list[str] = field(default_factory=list)


class Making(Struct, frozen=True, kw_only=True):
    """What a family is made from."""

    signature: Signature
    #: One for each form of the synopsis that vectors are derived from.
    builders: tuple[Builder, ...]
    grounds: Grounds
    #: Names of other ways to start the program.
    launchers: tuple[str, ...]
    notes: Notes


@lru_cache(maxsize=64)
def family_of(
    signature: Signature, name: FamilyName, launchers: tuple[str, ...] = (), grounds: Grounds = NO_GROUNDS
) -> Family:
    """Return a family of a signature. `launchers` are the names of other ways to start the
    program, `grounds` what is known of the vectors that it stands on."""
    notes = Notes()
    module = import_module(f"keen_matrix.core.signature.families.{name}")
    making = Making(
        signature=signature,
        builders=derived_builders(signature, grounds),
        grounds=grounds,
        launchers=launchers,
        notes=notes,
    )
    proposed: Iterator[Vector] = module.vectors(making)
    aside = frozenset(
        spelling
        for option in signature.options
        if is_aside(signature, option)
        for spelling in option.spellings
    )
    found: dict[tuple[object, ...], Vector] = {}
    beyond = clashing = 0
    for vector in proposed:
        # Two kinds of change may come to the same words; the first one has them.
        key = (vector.words, vector.more, vector.variant)
        if key in found or (aside and _has_any(signature, vector, aside)):
            continue
        # It would fail for a reason that is reported already, and look like another.
        if vector.kind not in TELLING and _clashes(signature, grounds, vector):
            clashing += 1
            continue
        if len(found) >= FAMILIES[name].limit:
            beyond += 1
            if beyond > MOST_BEYOND:  # making them only to count them would take long
                break
            continue
        found[key] = vector
    limit = FAMILIES[name].limit
    return Family(name, tuple(found.values()), _left_out(signature, notes, clashing, beyond, limit))


def _left_out(signature: Signature, notes: Notes, clashing: int, beyond: int, limit: int) -> tuple[str, ...]:
    """Return what a family leaves out, a line each."""
    left_out = list(dict.fromkeys(notes.texts))
    if signature.aside:
        left_out.append(f"calls with {', '.join(signature.aside)}, which the signature sets aside")
    if notes.unsettled:
        left_out.append(f"{_vectors(notes.unsettled)} that the signature leaves open")
    if clashing:
        left_out.append(f"{_vectors(clashing)} with options that the program refuses")
    if beyond:
        count = f"more than {MOST_BEYOND} cases" if beyond > MOST_BEYOND else _vectors(beyond)
        left_out.append(f"{count} beyond the {limit} that a family has")
    return tuple(left_out)


#: Kinds of vectors that tell of a clash, each once; all others keep clear of it.
TELLING = frozenset({CLASH, "option", "smallest"})


def _has_any(signature: Signature, vector: Vector, spellings: frozenset[str]) -> bool:
    """Tell whether one of some options is in a vector, in one that it is compared with, or in
    its control, in whatever spelling."""
    vectors = [vector.words, *vector.more, *([vector.control] if vector.control else [])]
    return any(
        not spellings.isdisjoint(word.partition("=")[0] for word in words)
        or not spellings.isdisjoint(signature.judge(words).given)
        for words in vectors
    )


def _clashes(signature: Signature, grounds: Grounds, vector: Vector) -> bool:
    """Tell whether a vector, or its control, has options that the program is known to refuse."""
    clashes = [set(clash.options) for form in grounds.forms for clash in form.clashes]
    clashes += [{key} for form in grounds.forms for key in form.actions]
    if not any(clashes):
        return False
    given = [signature.judge(words).given for words in (vector.words, *vector.more)]
    if vector.control is not None:
        given.append(signature.judge(vector.control).given)
    return any(clash and clash <= each for clash in clashes for each in given)


def alike(count: int, launchers: tuple[str, ...] = ()) -> Relation:
    """Return the relation of so many launches, each in a directory of its own, that must all do
    the same."""
    return Relation(name="alike", fresh=(True,) * count, launchers=launchers)


def _vectors(count: int) -> str:
    return f"{count:,} case{'' if count == 1 else 's'}"
