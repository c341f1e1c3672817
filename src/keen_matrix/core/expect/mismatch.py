"""What is not as expected, as facts: wording is the interface's."""

from __future__ import annotations

from typing import Literal, TypeAlias

from keen_matrix.core.structs import Struct

Shown: TypeAlias = Literal["quoted", "text", "mode", "lines", "bytes"]
"""How what was found is shown: in quotes, as it is, as a mode, or as a count of lines or bytes."""


class Mismatch(Struct, frozen=True, kw_only=True):
    """One thing that is not as expected. `form` names its kind, by which interfaces know how to
    tell it."""

    form: str
    expected: str
    actual: str
    problem: bool = False
    """The expectation itself could not be checked, for instance an expression in it."""
    recorded: bytes | None = None
    """What would be recorded as the new baseline."""


class Told(Struct, frozen=True):
    """How a kind of mismatch is told: `expected` is a sentence with one of the fields {text},
    {quoted}, {lines}, {bytes}."""

    expected: str
    found: Shown = "quoted"
