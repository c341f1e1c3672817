"""Expectations that are left open: what is to come there is not known yet, and is filled in once it
came.

`"<fill>"` is left open where a whole exit, stream or file is expected, and in a cell of a column
that only expectations use; so are the last cells of a row that is shorter than its columns."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

from keen_matrix.core.expect.aspects import Aspect, ExitAspect, FileAspect, StreamAspect
from keen_matrix.core.expressions import Expression, Template
from keen_matrix.core.structs import field_names


def is_left_open(aspect: Aspect) -> bool:
    """Tell whether an aspect expects something that is not known yet, whatever the case is."""
    if isinstance(aspect, ExitAspect):
        return aspect.expectation.is_open
    if isinstance(aspect, (StreamAspect, FileAspect)):
        return any(form.is_open for form in aspect.forms)
    return False


def names_used(aspect: Aspect) -> frozenset[str]:
    """Return the names that the texts and expressions of an aspect use."""
    return frozenset(_names_in(aspect))


def _names_in(value: object) -> Iterator[str]:
    if isinstance(value, (Template, Expression)):
        yield from value.names
    elif isinstance(value, str):
        if "{" in value:  # the name of a file
            yield from _names_of_text(value)
    elif isinstance(value, (tuple, list, frozenset)):
        for each in value:
            yield from _names_in(each)
    elif isinstance(value, dict):
        yield from _names_in(list(value.values()))
    else:
        for name in field_names(value):
            yield from _names_in(getattr(value, name))


@lru_cache(256)
def _names_of_text(text: str) -> frozenset[str]:
    try:
        return Template(text).names
    except Exception:  # no template: a text in which a brace is a brace
        return frozenset()
