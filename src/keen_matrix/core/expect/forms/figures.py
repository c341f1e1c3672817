"""`number`: the text, or a named group of `matches`, is a number within bounds. `columns`: the text
is a simple table. `sorted` and `unique`: its lines in order, and none twice."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date
from typing import TypeAlias

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.differences import split_lines
from keen_matrix.core.expect.forms.base import MATCH_SECONDS, Form, FormContext, FormKind, decoded, given
from keen_matrix.core.expect.forms.lines import CountForm, parse_amount
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expressions import Scope, Template
from keen_matrix.core.model.table import Table

#: A bound: a number, a template that gives one, or none.
Limit: TypeAlias = "float | Template | None"


def number_in(text: str) -> float:
    """Return the number that a text is, spaces around it aside. Raises ValueError."""
    if not re.fullmatch(r"\s*[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?\s*|\s*[+-]?(inf|nan)\s*", text, re.ASCII):
        raise ValueError(text)
    return float(text)


class NumberForm(Form, frozen=True):
    """A number: the whole text, or a named group of a pattern, within bounds."""

    about: Limit = None
    within: Limit = 0.0
    least: Limit = None
    most: Limit = None
    pattern: str = ""
    group: str = ""

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when it is no number, or one outside the bounds."""
        text, expected = decoded(actual), self._expected(context.scope)
        found = self._found(text) if self.group else text
        if found is None:
            return  # that the pattern is not met is told by matches itself
        try:
            number = number_in(found)
        except ValueError:
            yield Mismatch(form="number", expected=expected, actual=found)
            return
        if not self._fits(number, context.scope):
            yield Mismatch(form="number", expected=expected, actual=found)

    def _found(self, text: str) -> str | None:
        import regex

        try:
            match = regex.compile(self.pattern).search(text, timeout=MATCH_SECONDS)
        except TimeoutError:
            return None
        return None if match is None else match[self.group] or ""

    def _fits(self, number: float, scope: Scope) -> bool:
        about, within = _value(self.about, scope), _value(self.within, scope) or 0.0
        least, most = _value(self.least, scope), _value(self.most, scope)
        # Whoever asks for a number at least 0 does not mean inf, and nothing is near nan.
        if not math.isfinite(number):
            return number in (about, least, most)
        slack = within + 1e-12 * max(abs(number), abs(about or 0.0)) if within else 0.0
        return (
            (about is None or abs(number - about) <= slack)
            and (least is None or number >= least)
            and (most is None or number <= most)
        )

    def _expected(self, scope: Scope) -> str:
        parts = []
        if self.about is not None:
            within = _value(self.within, scope)
            parts.append(f"{_value(self.about, scope):g}" + (f", at most {within:g} off" if within else ""))
        if self.least is not None:
            parts.append(f"at least {_value(self.least, scope):g}")
        if self.most is not None:
            parts.append(f"at most {_value(self.most, scope):g}")
        what = f"the group {self.group} to be a number" if self.group else "a number"
        return f"{what}{': ' if parts else ''}{', '.join(parts)}"

    def describe(self) -> str:
        """Return what it asks for."""
        bounds = (("about", self.about), ("at least", self.least), ("at most", self.most))
        told = [f"{word} {_source(limit)}" for word, limit in bounds if limit is not None]
        return " ".join(["is a number", *told])


def _value(limit: Limit, scope: Scope) -> float | None:
    """Return a bound as a number. Raises ExpressionFault, or ValueError when a template gives
    none."""
    if not isinstance(limit, Template):
        return limit
    text = limit.render(scope)
    try:
        return number_in(text)
    except ValueError:
        raise ValueError(f"{limit.source} gives {text!r}, which is not a number") from None


def _source(limit: Limit) -> str:
    return limit.source if isinstance(limit, Template) else f"{limit:g}"


def _is_date(text: str) -> bool:
    try:
        date.fromisoformat(text)
    except ValueError:
        return False
    return True


def _is_number(text: str) -> bool:
    try:
        number_in(text)
    except ValueError:
        return False
    return True


#: Type of a column → whether a cell is of it.
TYPES: Mapping[str, Callable[[str], bool]] = {
    "text": lambda text: True,
    "int": lambda text: re.fullmatch(r"[+-]?\d+", text, re.ASCII) is not None,
    "float": _is_number,
    "date": _is_date,
}


class ColumnsForm(Form, frozen=True):
    """A simple table: its header, the types of its columns, how many rows it has."""

    names: tuple[Template, ...] = ()
    types: tuple[str, ...] = ()
    count: CountForm | None = None
    #: What is between cells; white space where nothing is said.
    separator: str = ""

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield what is not so: the header, the first row of another width, the first cell of
        another type, the number of rows."""
        rows = [
            (number, self._cells(line))
            for number, line in enumerate(split_lines(decoded(actual)), 1)
            if line.strip()
        ]
        names = [each.render(context.scope) for each in self.names]
        if names:
            header = rows.pop(0)[1] if rows else []
            if header != names:
                yield Mismatch(form="columns", expected=f"the header {_shown(names)}", actual=_shown(header))
                return
        width = len(names or self.types)
        for number, cells in rows if width else ():
            if len(cells) != width:
                yield Mismatch(
                    form="columns",
                    expected=f"{width} columns in line {number}",
                    actual=f"{len(cells)}: {_shown(cells)}",
                )
                return
            for at, (cell, kind) in enumerate(zip(cells, self.types, strict=False)):
                if not TYPES[kind](cell):
                    column = names[at] if names else f"column {at + 1}"
                    expected = f"{'an int' if kind == 'int' else f'a {kind}'} as {column} in line {number}"
                    yield Mismatch(form="columns", expected=expected, actual=f'"{cell}"')
                    return
        if self.count is not None:
            for each in self.count.check(b"\n" * len(rows), context):
                yield Mismatch(form="columns", expected=f"{each.expected} rows", actual=each.actual)

    @property
    def may_ask_nothing(self) -> bool:
        """Whether it asks only for the cells of rows, of which there may be none."""
        return not self.names and self.count is None

    def asks_nothing(self, actual: bytes, context: CheckContext) -> bool:
        """Tell whether there is no row whose cells could be of another type."""
        return not actual.strip()

    def _cells(self, line: str) -> list[str]:
        if not self.separator:
            return line.split()
        cells = [each.strip() for each in line.split(self.separator)]
        edged = line.strip().startswith(self.separator) and line.strip().endswith(self.separator)
        return cells[1:-1] if edged and len(cells) > 2 else cells

    def describe(self) -> str:
        """Return what it asks for."""
        listed = [each.source for each in self.names] or list(self.types)
        return f"is a table of {', '.join(listed)}"


def _shown(cells: Sequence[str]) -> str:
    return " | ".join(cells) if cells else "nothing"


class SortedForm(Form, frozen=True):
    """Its lines in order: of texts by their characters, of numbers by their values; up, or down."""

    numbers: bool = False
    down: bool = False

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch at the first line that is out of order, or that does not begin with a
        number where numbers are asked for."""
        lines = split_lines(decoded(actual))
        expected = f"lines in order, {'numbers' if self.numbers else 'texts'} {'down' if self.down else 'up'}"
        before: float | str | None = None
        for number, line in enumerate(lines, 1):
            key: float | str = line
            if self.numbers:
                try:
                    key = number_in((line.split() or [""])[0])
                    if math.isnan(key):  # it is neither above nor below any other
                        raise ValueError
                except ValueError:
                    yield Mismatch(
                        form="sorted",
                        expected=expected,
                        actual=f'line {number} begins with no number: "{line}"',
                    )
                    return
            if before is not None and (key > before if self.down else key < before):  # type: ignore[operator]
                yield Mismatch(
                    form="sorted",
                    expected=expected,
                    actual=f'line {number}, "{line}", after "{lines[number - 2]}"',
                )
                return
            before = key

    @property
    def may_ask_nothing(self) -> bool:
        """Whether there may be no lines: those are always in order."""
        return True

    def asks_nothing(self, actual: bytes, context: CheckContext) -> bool:
        """Tell whether there is no line."""
        return not actual

    def describe(self) -> str:
        """Return what it asks for."""
        return f"is sorted{' by numbers' if self.numbers else ''}{' down' if self.down else ''}"

    def forgives(self, what: str) -> bool:
        """Tell whether an alteration keeps lines in order."""
        return "final newline" in what


class UniqueForm(Form, frozen=True):
    """No line twice."""

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch at the first line that stood before."""
        seen: dict[str, int] = {}
        for number, line in enumerate(split_lines(decoded(actual)), 1):
            if line in seen:
                yield Mismatch(
                    form="unique", expected="", actual=f'"{line}" in lines {seen[line]} and {number}'
                )
                return
            seen[line] = number

    @property
    def may_ask_nothing(self) -> bool:
        """Whether there may be no lines: none of those comes twice."""
        return True

    def asks_nothing(self, actual: bytes, context: CheckContext) -> bool:
        """Tell whether there is no line."""
        return not actual

    def describe(self) -> str:
        """Return what it asks for."""
        return "has no repeated line"


def _limit(value: object) -> Limit:
    if isinstance(value, str):
        return Template(value)
    return value if isinstance(value, float) or value is None else float(str(value))


def _number(table: Table, about: FormContext) -> Iterator[Form]:
    found = given(table, "number")
    if found is not None:
        yield NumberForm(
            about=_limit(found.about),
            within=_limit(found.within),
            least=_limit(found.min),
            most=_limit(found.max),
            pattern=given(table, "matches") or "",
            group=found.group or "",
        )


def _columns(table: Table, about: FormContext) -> Iterator[Form]:
    found = given(table, "columns")
    if found is not None:
        yield ColumnsForm(
            names=tuple(map(Template, found.names)),
            types=tuple(found.types),
            count=None if found.count is None else CountForm(parse_amount(found.count)),
            separator=found.separator or "",
        )


def _sorted(table: Table, about: FormContext) -> Iterator[Form]:
    asked = given(table, "sorted")
    if asked is not None:
        text = "" if asked is True else asked
        yield SortedForm(numbers="numbers" in text, down="down" in text)


def _unique(table: Table, about: FormContext) -> Iterator[Form]:
    if given(table, "unique"):
        yield UniqueForm()


NUMBER = FormKind(key="number", compile=_number)
COLUMNS = FormKind(key="columns", compile=_columns)
SORTED = FormKind(key="sorted", compile=_sorted)
UNIQUE = FormKind(key="unique", compile=_unique)
