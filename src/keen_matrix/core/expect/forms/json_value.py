"""Comparing JSON by value: numbers within a tolerance, parts left out, order of arrays where it
matters (RFC 8259, RFC 6901)."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator, Sequence
from typing import TypeAlias

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.forms.base import (
    Form,
    FormContext,
    FormKind,
    forgives_numbers,
    given,
    tolerance_of,
    within,
)
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expect.numbers import Tolerance
from keen_matrix.core.model.table import Table

#: Differences that are named; the rest is counted.
MOST_DIFFERENCES = 12
Path: TypeAlias = tuple[str, ...]


class JsonForm(Form, frozen=True):
    """`json` or `json-lines`: the value, whatever its spelling."""

    expected: object
    lines: bool = False
    tolerance: Tolerance | None = None
    ignore: tuple[Path, ...] = ()
    any_order: bool | tuple[Path, ...] = False

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield one mismatch that names the pointers of what differs."""
        try:
            came = self._read(actual.decode("utf-8"))
        except ValueError as error:
            text = actual.decode("utf-8", "surrogateescape")
            yield Mismatch(form="json-text", expected=str(error), actual=text)
            return
        found = list(self._differences(self.expected, came, ()))
        if found:
            shown = found[:MOST_DIFFERENCES]
            more = f"\n… and {len(found) - len(shown)} more" if len(found) > len(shown) else ""
            yield Mismatch(
                form="json",
                expected="\n".join(f"{pointer(path)}: {left}" for path, left, _ in shown) + more,
                actual="\n".join(f"{pointer(path)}: {right}" for path, _, right in shown) + more,
            )

    def describe(self) -> str:
        """Return what it asks for."""
        return f"is the JSON {json.dumps(self.expected, ensure_ascii=False)}{within(self.tolerance)}"

    def forgives(self, what: str) -> bool:
        """Tell whether an alteration is of white space outside values, or within the tolerance."""
        return "a trailing space" in what or "final newline" in what or forgives_numbers(self.tolerance, what)

    def _read(self, text: str) -> object:
        if not self.lines:
            return read_json(text)
        found = []
        for number, line in enumerate(text.splitlines(), 1):
            try:
                found.append(read_json(line))
            except ValueError as error:
                raise ValueError(f"line {number}: {error}") from None
        return found

    def _differences(self, expected: object, came: object, path: Path) -> Iterator[tuple[Path, str, str]]:
        """Yield path, what was expected and what came for each place that differs."""
        if any(_fits(each, path) for each in self.ignore):
            return
        if isinstance(expected, dict) and isinstance(came, dict):
            for key in [*expected, *(each for each in came if each not in expected)]:
                deeper = (*path, key)
                if key not in came:
                    if not any(_fits(each, deeper) for each in self.ignore):
                        yield deeper, _shown(expected[key]), "missing"
                elif key not in expected:
                    if not any(_fits(each, deeper) for each in self.ignore):
                        yield deeper, "nothing", _shown(came[key])
                else:
                    yield from self._differences(expected[key], came[key], deeper)
        elif isinstance(expected, list) and isinstance(came, list):
            if self._unordered(path):
                yield from self._unordered_differences(expected, came, path)
                return
            for number, (left, right) in enumerate(zip(expected, came, strict=False)):
                yield from self._differences(left, right, (*path, str(number)))
            for number in range(len(came), len(expected)):
                yield (*path, str(number)), _shown(expected[number]), "missing"
            for number in range(len(expected), len(came)):
                yield (*path, str(number)), "nothing", _shown(came[number])
        elif not self._same(expected, came):
            yield path, _shown(expected), _shown(came)

    def _unordered(self, path: Path) -> bool:
        return self.any_order is True or any(_fits(each, path) for each in self.any_order or ())

    def _unordered_differences(
        self, expected: Sequence[object], came: Sequence[object], path: Path
    ) -> Iterator[tuple[Path, str, str]]:
        left = list(enumerate(came))
        for each in expected:
            at = next(
                (
                    n
                    for n, (number, other) in enumerate(left)
                    if next(self._differences(each, other, (*path, str(number))), None) is None
                ),
                None,
            )
            if at is None:
                yield (*path, "*"), _shown(each), "missing"
            else:
                del left[at]
        for number, other in left:
            yield (*path, str(number)), "nothing", _shown(other)

    def _same(self, expected: object, came: object) -> bool:
        if isinstance(expected, bool) or isinstance(came, bool):
            return expected is came
        if isinstance(expected, (int, float)) and isinstance(came, (int, float)):
            if isinstance(expected, float) and math.isnan(expected):
                return isinstance(came, float) and math.isnan(came)
            if expected == came:  # big integers exactly: never by way of a float
                return True
            return self.tolerance is not None and self.tolerance.allows(float(expected), float(came))
        return type(expected) is type(came) and bool(expected == came)


def read_json(text: str) -> object:
    """Return a JSON text's value; NaN and the infinities are taken, a key that occurs twice is
    not. Raises ValueError."""

    def once(pairs: list[tuple[str, object]]) -> dict[str, object]:
        found = dict(pairs)
        if len(found) < len(pairs):
            twice = next(key for key, _ in pairs if sum(other == key for other, _ in pairs) > 1)
            raise ValueError(f'the key "{twice}" occurs twice')
        return found

    try:
        return json.loads(text, object_pairs_hook=once)
    except json.JSONDecodeError as error:
        raise ValueError(f"{error.msg} at line {error.lineno}, column {error.colno}") from None
    except RecursionError:
        raise ValueError("it is nested too deep") from None


def parse_pointer(text: str) -> Path:
    """Return the steps of a JSON Pointer (RFC 6901)."""
    return tuple(step.replace("~1", "/").replace("~0", "~") for step in text.split("/")[1:])


def pointer(path: Path) -> str:
    """Return a path as a JSON Pointer; the whole value is `/` here, since nothing at all cannot be
    seen."""
    return "/" + "/".join(step.replace("~", "~0").replace("/", "~1") for step in path)


def _fits(wanted: Path, path: Path) -> bool:
    return len(wanted) == len(path) and all(
        left in ("*", right) for left, right in zip(wanted, path, strict=True)
    )


def _shown(value: object) -> str:
    text = json.dumps(value, ensure_ascii=False)
    return text if len(text) <= 200 else text[:200] + "…"


def _form(table: Table, value: object, *, lines: bool) -> Form:
    order = (
        table.any_order
        if isinstance(table.any_order, bool)
        else tuple(map(parse_pointer, table.any_order or ()))
    )
    ignore = tuple(parse_pointer(each) for each in table.ignore or ())
    return JsonForm(value, lines=lines, tolerance=tolerance_of(table), ignore=ignore, any_order=order)


def _json(table: Table, about: FormContext) -> Iterator[Form]:
    if "json_" in table.model_fields_set:  # null is a value
        yield _form(table, given(table, "json"), lines=False)


def _json_lines(table: Table, about: FormContext) -> Iterator[Form]:
    if table.json_lines is not None:
        yield _form(table, table.json_lines, lines=True)


JSON = FormKind(key="json", compile=_json, modifiers=("ignore", "any-order", "tolerance"))
JSON_LINES = FormKind(key="json-lines", compile=_json_lines, modifiers=("ignore", "any-order", "tolerance"))
