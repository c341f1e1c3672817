"""Forms of text expectations, a module a form or a family of like ones. A new one is a module and
its line in FORMS.

What the rest of the code knows of a form is in its FormKind; a test says that the keys of the
document, the reference page and this registry agree.
"""

from __future__ import annotations

from collections.abc import Mapping

from keen_matrix.core.expect.forms import (
    baseline,
    composed,
    conditions,
    digest,
    figures,
    json_value,
    lines,
    reference,
    text,
)
from keen_matrix.core.expect.forms.base import Form, FormContext, FormKind
from keen_matrix.core.model.table import Table

#: Key → kind, in the order in which the forms of a table are checked.
FORMS: Mapping[str, FormKind] = {
    kind.key: kind
    for kind in (
        text.IS,
        text.CONTAINS,
        text.LACKS,
        text.STARTS,
        text.ENDS,
        text.MATCHES,
        conditions.HOLDS,
        text.EMPTY,
        lines.LINES,
        lines.LINES_ANY_ORDER,
        lines.NUMBER_OF_LINES,
        lines.SIZE,
        figures.NUMBER,
        figures.COLUMNS,
        figures.SORTED,
        figures.UNIQUE,
        reference.FILE,
        reference.COMMAND,
        digest.BYTES,
        json_value.JSON,
        json_value.JSON_LINES,
        baseline.KIND,
        composed.ANY,
        composed.ALL,
        composed.NOT,
    )
}
#: Key of a table → the keys of which one must be beside it: without them it says nothing.
NEEDS: Mapping[str, tuple[str, ...]] = {
    **{kind.key: kind.needs for kind in FORMS.values() if kind.needs},
    **{
        modifier: tuple(kind.key for kind in FORMS.values() if modifier in kind.modifiers)
        for modifier in dict.fromkeys(each for kind in FORMS.values() for each in kind.modifiers)
    },
}


def forms_of(table: Table, aspect: str) -> tuple[Form, ...]:
    """Return the forms of a validated text table, or a file's, of an aspect, in a fixed order."""
    about = FormContext(aspect, forms_of)
    return tuple(form for kind in FORMS.values() for form in kind.compile(table, about))


__all__ = ["FORMS", "NEEDS", "Form", "FormKind", "forms_of"]
