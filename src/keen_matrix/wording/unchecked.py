"""Why a vector was not checked, or not in all that is wanted."""

from __future__ import annotations

from keen_matrix.core.model.record import Record


def why_unchecked(fields: Record) -> str:
    """Return why nothing, or not all, was checked, and what to do."""
    if fields.left_open:
        return f"still <fill>: {', '.join(fields.left_open)}; keen-matrix fill records the actual result"
    if fields.hollow:
        return fields.hollow
    if fields.asked_nothing:
        named = " and ".join(fields.asked_nothing)
        return (
            f"any output would meet the expectation of {named} here: the filled-in text is empty, or "
            f"there are no lines"
        )
    return "nothing is checked for this call; add an expectation to its matrix or to [expect]"
