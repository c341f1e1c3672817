"""Why a vector was not checked, or not in all that is wanted."""

from __future__ import annotations

from keen_matrix.core.model.record import Record


def why_unchecked(fields: Record) -> str:
    """Return why nothing, or not all, was checked, and what to do."""
    if fields.left_open:
        return f"left open: {', '.join(fields.left_open)}; keen-matrix fill writes what comes"
    if fields.hollow:
        return fields.hollow
    if fields.asked_nothing:
        named = " and ".join(fields.asked_nothing)
        return f"any output would meet what is expected of {named} here: what is filled in is empty, or there are no lines"
    return "no expectation looks at this vector; give its matrix or [expect] one"
