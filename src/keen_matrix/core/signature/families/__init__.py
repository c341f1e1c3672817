"""The derived families: vectors that follow from the signature alone, each family a module with
one function `vectors`.

A family yields what it can think of; what the judgement does not bear out is dropped here, so that
no family ever makes a sound program to something that the signature does not settle.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from importlib import import_module

from keen_matrix.core.model.relation import Relation
from keen_matrix.core.signature.kinds import FamilyName
from keen_matrix.core.signature.signature import Signature


@dataclass(frozen=True, slots=True, kw_only=True)
class FamilyKind:
    """What the rest of the code knows of a family; its vectors are made by the module of its name."""

    limit: int
    """The most vectors it has: enough for thirty options, and few enough to run before every
    commit."""
    by_kind: bool = False
    """Whether its vectors are told apart by their kind and what they are about, not by what was
    given."""


FAMILIES: Mapping[FamilyName, FamilyKind] = {
    "help": FamilyKind(limit=12, by_kind=True), "accepted": FamilyKind(limit=80),
    "refusals": FamilyKind(limit=400, by_kind=True), "rephrasings": FamilyKind(limit=60),
    "effects": FamilyKind(limit=60, by_kind=True), "again": FamilyKind(limit=4), "renamed": FamilyKind(limit=3),
    "launchers": FamilyKind(limit=6),
}  # fmt: skip
"""Name → what is known of it, in the order in which families are run."""
MOST_BEYOND = 100
"""Vectors beyond these that are counted."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Vector:
    """A derived vector: what it is about, and its words."""

    words: tuple[str, ...]
    kind: str
    culprit: str = ""
    mentions: tuple[str, ...] = ()
    note: str = ""
    more: tuple[tuple[str, ...], ...] = ()
    """Further launches of the same case."""
    relation: Relation | None = None


@dataclass(frozen=True, slots=True)
class Family:
    """The vectors of a family, and what was left out of it."""

    name: str
    vectors: tuple[Vector, ...]
    left_out: tuple[str, ...] = ()


@dataclass(slots=True)
class Notes:
    """What a family says it had to leave out."""

    unsettled: int = 0
    texts: list[str] = field(default_factory=list)


@lru_cache(maxsize=64)
def family_of(signature: Signature, name: FamilyName, launchers: tuple[str, ...] = ()) -> Family:
    """Return a family of a signature. `launchers` are the names of other ways to start the
    program."""
    notes = Notes()
    module = import_module(f"keen_matrix.core.signature.families.{name}")
    proposed: Iterator[Vector] = module.vectors(signature, notes, launchers)
    found: dict[tuple[object, ...], Vector] = {}
    beyond = 0
    for vector in proposed:
        key = (vector.words, vector.more)
        if key in found:
            continue
        if len(found) >= FAMILIES[name].limit:
            beyond += 1
            if beyond > MOST_BEYOND:  # making them only to count them would take long
                break
            continue
        found[key] = vector
    left_out = list(dict.fromkeys(notes.texts))
    if notes.unsettled:
        left_out.append(f"{notes.unsettled} vectors that the signature does not settle")
    if beyond:
        count = f"more than {MOST_BEYOND}" if beyond > MOST_BEYOND else str(beyond)
        left_out.append(f"{count} vectors beyond the {FAMILIES[name].limit} that a family has")
    return Family(name, tuple(found.values()), tuple(left_out))


def alike(count: int, launchers: tuple[str, ...] = ()) -> Relation:
    """Return the relation of so many launches, each in a directory of its own, that must all do
    the same."""
    return Relation(name="alike", fresh=(True,) * count, launchers=launchers)
