"""The kinds of refusal, and the families of derived vectors, each list in its one place."""

from __future__ import annotations

from typing import Literal, TypeAlias, get_args

Kind: TypeAlias = Literal[
    "too-few", "too-many", "bad-type", "out-of-range", "not-a-choice", "unknown-option", "missing-value", "unexpected-value",
    "missing-option", "conflict", "repeated", "ambiguous", "where",
]  # fmt: skip
"""A kind of refusal that judging finds by itself; `where` is a condition of the signature that is
not met."""
KINDS: tuple[Kind, ...] = get_args(Kind)
FamilyName: TypeAlias = Literal[
    "help",
    "accepted",
    "refusals",
    "rephrasings",
    "effects",
    "again",
    "renamed",
    "launchers",
    "elsewhere",
]
"""A family of derived vectors; each is a module in `families`, and its row in FAMILIES there."""
DEFAULT_FAMILIES: tuple[FamilyName, ...] = ("help", "accepted", "refusals", "rephrasings")
"""Families that are run unless a spec names others."""
END_OF_INPUT = "end-of-input"
"""The kind of a derived vector at which a program asks, and gets no answer."""
