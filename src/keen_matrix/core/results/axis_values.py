"""Values of axes as grids and tables show them."""

from __future__ import annotations

from keen_matrix.core.expressions import as_text

#: Different values of an axis that are counted apart; an axis with more separates nothing that a
#: grid could show.
MOST_VALUES = 60
#: How the value of an axis is written that is in a part left out.
ABSENT = "—"


def shown_value(value: object) -> str:
    """Return a value of an axis as grids and tables show it."""
    if value is None:
        return ABSENT
    if value is True:
        return "given"
    if isinstance(value, (list, tuple)):
        return " ".join(map(as_text, value)) or "(none)"
    return as_text(value) if value != "" else "''"
