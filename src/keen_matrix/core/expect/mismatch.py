"""What is not as expected, as facts: wording is the interface's."""

from __future__ import annotations

from typing import Literal, TypeAlias

from keen_matrix.core.structs import Struct

#: How what was found is shown: in quotes, as it is, as a mode, or as a count of lines or bytes.
Shown: TypeAlias = Literal["quoted", "text", "mode", "lines", "bytes"]


class Mismatch(Struct, frozen=True, kw_only=True):
    """One thing that is not as expected. `form` names its kind, by which interfaces know how to
    tell it."""

    form: str
    expected: str
    actual: str
    #: The expectation itself could not be checked, for instance an expression in it.
    problem: bool = False
    #: What would be recorded as the new baseline.
    recorded: bytes | None = None


class Told(Struct, frozen=True):
    """How a kind of mismatch is told: `expected` is a sentence with one of the fields {text},
    {quoted}, {lines}, {bytes}."""

    expected: str
    found: Shown = "quoted"
