"""The kinds of refusal, and the families of derived vectors, each list in its one place. Whatever
only asks for these need not import how vectors are made."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, TypeAlias, get_args

from keen_matrix.core.structs import Struct

#: A kind of refusal that judging finds on its own; `where` is a condition of the signature that is
#: not met.
Kind: TypeAlias = Literal[
    "too-few",
    "too-many",
    "bad-type",
    "out-of-range",
    "not-a-choice",
    "unknown-option",
    "missing-value",
    "unexpected-value",
    "missing-option",
    "conflict",
    "repeated",
    "ambiguous",
    "condition",
]
KINDS: tuple[Kind, ...] = get_args(Kind)
#: A family of derived vectors; each is a module in `families`, and its row in FAMILIES.
FamilyName: TypeAlias = Literal[
    "help", "accepted", "refusals", "rephrasings", "effects", "again", "renamed", "launchers", "elsewhere"
]
#: Families that are run unless a spec names others.
DEFAULT_FAMILIES: tuple[FamilyName, ...] = ("help", "accepted", "refusals", "rephrasings")
#: The kind of a derived vector at which a program asks, and gets no answer.
END_OF_INPUT = "end-of-input"


class FamilyKind(Struct, frozen=True, kw_only=True):
    """What the rest of the code knows of a family; its vectors are made by the module of its
    name."""

    #: The most vectors it has: enough for thirty options, and few enough to run before every
    #: commit.
    limit: int
    #: Whether its vectors are told apart by their kind and what they are about, not by what was
    #: given.
    by_kind: bool = False
    #: Whether its vectors are launched several times, and the launches compared.
    compares: bool = False


#: Name → what is known of it, in the order in which families are run.
FAMILIES: Mapping[FamilyName, FamilyKind] = {
    "help": FamilyKind(limit=12, by_kind=True),
    "accepted": FamilyKind(limit=80),
    "refusals": FamilyKind(limit=400, by_kind=True),
    "rephrasings": FamilyKind(limit=60, compares=True),
    "effects": FamilyKind(limit=60, by_kind=True, compares=True),
    "again": FamilyKind(limit=4, compares=True),
    "renamed": FamilyKind(limit=3),
    "launchers": FamilyKind(limit=6, compares=True),
    "elsewhere": FamilyKind(limit=24, by_kind=True, compares=True),
}
#: Families whose cases have several launches that are compared.
COMPARING = frozenset(str(name) for name, kind in FAMILIES.items() if kind.compares)
