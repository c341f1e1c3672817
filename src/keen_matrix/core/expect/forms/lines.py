"""`lines`, `lines-any-order` and `number-of-lines`: the text as lines; `size`: its bytes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.differences import split_lines
from keen_matrix.core.expect.forms.base import (
    Form,
    FormContext,
    FormKind,
    decoded,
    forgives_numbers,
    given,
    templates,
    texts_of,
    tolerance_of,
    within,
)
from keen_matrix.core.expect.masks import masked_expectation
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expect.numbers import Tolerance, texts_alike
from keen_matrix.core.expressions import Scope, Template
from keen_matrix.core.model.quantities import Bounds, bounds_text, parse_bounds
from keen_matrix.core.model.table import Table

#: Missing or extra lines that a mismatch lists.
SHOWN_LINES = 20
EMPTY_LINE = "(an empty line)"


class LinesForm(Form, frozen=True):
    """All lines, each given on its own or as a text of several."""

    texts: tuple[Template, ...]
    any_order: bool = False
    tolerance: Tolerance | None = None

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when lines are missing, extra, or (in order) different."""
        texts = [
            masked_expectation(each, context.masks)
            for text in self.texts
            for each in texts_of(text, context.scope)
        ]
        # An item may be several lines; an empty one is an empty line, and not none.
        expected = [line for text in texts for line in split_lines(text) or [""]]
        found = split_lines(decoded(actual))
        if self.any_order:
            yield from lines_counted(expected, found, self.tolerance)
        elif len(found) != len(expected) or not all(
            texts_alike(left, right, self.tolerance) for left, right in zip(expected, found, strict=True)
        ):
            text = "\n".join(expected) + "\n" if expected else ""
            yield Mismatch(form="lines", expected=text, actual=decoded(actual))

    def describe(self) -> str:
        """Return what it asks for."""
        texts = ", ".join(repr(text.source) for text in self.texts)
        return f"has the lines {texts}{', in any order' if self.any_order else ''}{within(self.tolerance)}"

    def forgives(self, what: str) -> bool:
        """Tell whether an alteration is of the order, the end or the numbers, where these do not
        matter."""
        order = self.any_order and "swapped" in what
        return order or "final newline" in what or forgives_numbers(self.tolerance, what)


def lines_counted(expected: list[str], found: list[str], tolerance: Tolerance | None) -> Iterator[Mismatch]:
    """Yield a mismatch when lines are not the same, each as often, in whatever order."""
    missing = list((Counter(expected) - Counter(found)).elements())
    extra = list((Counter(found) - Counter(expected)).elements())
    # What is left after exact pairs: with numbers that are near, each missing line takes the first
    # extra one that is like it.
    for line in list(missing) if tolerance else ():
        near = next((each for each in extra if texts_alike(line, each, tolerance)), None)
        if near is not None:
            missing.remove(line)
            extra.remove(near)
    if missing or extra:
        yield Mismatch(form="lines-any-order", expected=_listed(missing), actual=_listed(extra))


def _listed(lines: list[str]) -> str:
    more = f"\n… and {len(lines) - SHOWN_LINES:,} more" if len(lines) > SHOWN_LINES else ""
    return "\n".join(line[:1_000] or EMPTY_LINE for line in lines[:SHOWN_LINES]) + more


def parse_amount(value: object) -> Bounds | Template:
    """Return the bounds of a count: 3, "1..3", "1..", or a template that gives one. Raises
    ValueError."""
    if isinstance(value, str) and "{" in value:
        return Template(value)
    bounds = parse_bounds(value)
    if bounds is not None:
        return bounds
    raise ValueError('expected a number, a range such as "1..3" or "1..", or a template')


class CountForm(Form, frozen=True):
    """`number-of-lines`, or the `size` in bytes when `lines` is off."""

    count: Bounds | Template
    lines: bool = True

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when the count is another. Raises ValueError when a template gives no
        count."""
        low, high = self._bounds(context.scope)
        found = len(split_lines(decoded(actual))) if self.lines else len(actual)
        if found < low or (high is not None and found > high):
            form = "number-of-lines" if self.lines else "size"
            yield Mismatch(form=form, expected=bounds_text(low, high), actual=str(found))

    @property
    def may_ask_nothing(self) -> bool:
        """Whether the count is filled in, and may so be any."""
        return isinstance(self.count, Template)

    def asks_nothing(self, actual: bytes, context: CheckContext) -> bool:
        """Tell whether any count is right."""
        low, high = self._bounds(context.scope)
        return low <= 0 and high is None

    def _bounds(self, scope: Scope) -> Bounds:
        if isinstance(self.count, tuple):
            return self.count
        bounds = parse_bounds(self.count.value(scope))
        if bounds is None:
            raise ValueError('expected a number, a range such as "1..3" or "1..", or a template')
        return bounds

    def describe(self) -> str:
        """Return what it asks for."""
        noun = "lines" if self.lines else "bytes"
        if isinstance(self.count, Template):
            return f"has {self.count.source} {noun}"
        low, high = self.count
        amount = str(low) if low == high else f"{low} or more" if high is None else f"{low} to {high}"
        return f"has {amount} {noun}"


def _lines(table: Table, about: FormContext) -> Iterator[Form]:
    if table.lines is not None:
        yield LinesForm(templates(table.lines), tolerance=tolerance_of(table))


def _any_order(table: Table, about: FormContext) -> Iterator[Form]:
    if table.lines_any_order is not None:
        yield LinesForm(templates(table.lines_any_order), any_order=True, tolerance=tolerance_of(table))


def _number(table: Table, about: FormContext) -> Iterator[Form]:
    if table.number_of_lines is not None:
        yield CountForm(parse_amount(table.number_of_lines))


def _size(table: Table, about: FormContext) -> Iterator[Form]:
    if given(table, "size") is not None:  # only the table of a file has it
        yield CountForm(parse_amount(table.size), lines=False)


LINES = FormKind(key="lines", compile=_lines, texts="template", modifiers=("tolerance",))
LINES_ANY_ORDER = FormKind(
    key="lines-any-order", compile=_any_order, texts="template", modifiers=("tolerance",)
)
NUMBER_OF_LINES = FormKind(key="number-of-lines", compile=_number, texts="always")
SIZE = FormKind(key="size", compile=_size, texts="always")
