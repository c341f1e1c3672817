"""From a validated table of the document to the forms that check a text."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from keen_matrix.core.expect.aspects import Form, TextForm
from keen_matrix.core.expect.forms import (
    BaselineForm,
    BytesForm,
    CountForm,
    HoldsForm,
    LinesForm,
    SameForm,
    parse_bytes,
    parse_number_of_lines,
)
from keen_matrix.core.expect.json_form import JsonForm, parse_pointer
from keen_matrix.core.expect.numbers import Tolerance
from keen_matrix.core.expressions import Expression, Template
from keen_matrix.core.notation.parse import parse_list, parse_words


def forms(table: Any, aspect: str) -> Iterator[Form]:
    """Yield the forms of a table, in a fixed order; `aspect` is what a baseline is recorded under."""
    tolerance = Tolerance(table.tolerance.absolute, table.tolerance.relative) if table.tolerance else None
    for name in ("is", "contains", "lacks", "starts", "ends"):
        value = getattr(table, "is_" if name == "is" else name)
        if value is not None:
            texts = [value] if isinstance(value, str) else value
            yield TextForm(name, tuple(map(Template, texts)), tolerance=tolerance if name == "is" else None)
    if table.matches is not None:
        yield TextForm("matches", pattern=table.matches)
    if table.holds is not None:
        yield HoldsForm(table.matches or "", tuple(map(Expression, table.holds)))
    if table.empty is not None:
        yield TextForm("empty", flag=table.empty)
    if table.lines is not None:
        yield LinesForm(tuple(map(Template, table.lines)), tolerance=tolerance)
    if table.lines_any_order is not None:
        yield LinesForm(tuple(map(Template, table.lines_any_order)), any_order=True, tolerance=tolerance)
    if table.number_of_lines is not None:
        yield CountForm(parse_number_of_lines(table.number_of_lines))
    if getattr(table, "size", None) is not None:
        yield CountForm(parse_number_of_lines(table.size), lines=False)
    if table.file is not None:
        yield SameForm(file=Template(table.file), tolerance=tolerance)
    if table.command is not None:
        words = parse_words(table.command) if isinstance(table.command, str) else parse_list(table.command)
        yield SameForm(command=tuple(Template("", parts=word.parts) for word in words), tolerance=tolerance)
    if table.bytes_ is not None:
        yield BytesForm(*parse_bytes(table.bytes_))
    yield from _json_forms(table, tolerance)
    if table.baseline:
        yield BaselineForm(aspect, tolerance)


def _json_forms(table: Any, tolerance: Tolerance | None) -> Iterator[Form]:
    ignore = tuple(parse_pointer(each) for each in table.ignore or ())
    order = table.any_order if isinstance(table.any_order, bool) else tuple(map(parse_pointer, table.any_order or ()))
    if "json_" in table.model_fields_set:
        yield JsonForm(table.json_, tolerance=tolerance, ignore=ignore, any_order=order)
    if table.json_lines is not None:
        yield JsonForm(table.json_lines, lines=True, tolerance=tolerance, ignore=ignore, any_order=order)
