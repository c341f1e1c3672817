"""What is not as expected, as facts: wording is the interface's."""

from __future__ import annotations

from keen_matrix.core.structs import Struct


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
