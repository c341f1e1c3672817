"""Unfolding: from a matrix to its cases, lazily, in an order that is the same everywhere."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expressions import FUNCTIONS, Scope, Template, words_of
from keen_matrix.core.notation.nodes import Group, Sequence, Word
from keen_matrix.core.spec.model import Matrix, Spec
from keen_matrix.core.vectors.case import Case, case_id
from keen_matrix.core.vectors.combine import rows_of
from keen_matrix.core.vectors.constraints import constraints_of
from keen_matrix.core.vectors.distinct import provably_distinct
from keen_matrix.core.vectors.factors import Layout, layout_of

Row = tuple[int, ...]


def unfold(spec: Spec, functions: Mapping[str, Callable[..., Any]] | None = None) -> Iterator[Case]:
    """Yield every case of a spec in the order of the spec; identical vectors of a matrix come once.

    `functions` are those of the spec's oracle file (default: loaded from it when the spec names one).
    Raises WhereFault when a `where` fails for some values.
    """
    sequence = 0
    for matrix in spec.matrices:
        for case in unfold_matrix(spec, matrix, functions):
            case.sequence = sequence
            sequence += 1
            yield case


def unfold_matrix(
    spec: Spec, matrix: Matrix, functions: Mapping[str, Callable[..., Any]] | None = None
) -> Iterator[Case]:
    """Yield the cases of one matrix, numbered from 0 within it."""
    if functions is None:
        from keen_matrix.core.oracle import oracle_functions

        functions = oracle_functions(spec.program.oracle)
    maker = CaseMaker(spec, matrix, functions)
    yield from maker.cases()


class CaseMaker:
    """Makes the cases of one matrix from rows of levels."""

    def __init__(self, spec: Spec, matrix: Matrix, functions: Mapping[str, Callable[..., Any]]) -> None:
        self.spec, self.matrix = spec, matrix
        self.layout: Layout = layout_of(matrix)
        self.constraints = constraints_of(matrix, self.layout, spec.here, functions)
        self._words = _Words(matrix, self.layout, spec.here, {**FUNCTIONS, **functions})
        self._lookups = [(name, number, self.layout.values[name]) for name, number in self.layout.names.items()]
        self._around = _varying_surroundings(matrix)
        self.distinct = provably_distinct(matrix, self.layout, self._words.texts)
        """Whether no two rows can give the same vector."""
        self.merged = 0
        """Rows so far whose vector an earlier row had given already."""

    def rows(self) -> Iterator[Row]:
        """Yield the rows of levels that the matrix combines to."""
        return rows_of(self.matrix, self.layout, self.constraints)

    def cases(self) -> Iterator[Case]:
        """Yield the cases, each vector once."""
        seen: set[str] | None = None if self.distinct else set()
        sequence = 0
        for row in self.rows():
            case = self.case(row, sequence)
            if seen is not None:
                if case.id in seen:
                    self.merged += 1
                    continue
                seen.add(case.id)
            sequence += 1
            yield case

    def case(self, row: Row, sequence: int = 0) -> Case:
        """Return the case of one row. A failing expression makes a case with a fault, not an error."""
        values = {name: column[row[number]] for name, number, column in self._lookups}
        for name, parents in self.layout.hidden.items():
            if not any(row[group] == level for group, level in parents):
                values[name] = None
        fault = None
        try:
            argv = self._words.of(row)
        except ExpressionFault as error:
            argv, fault = (), str(error)
        if self._around or fault:
            key = (self.matrix.name, *argv, *self._surroundings_key(values, argv, fault))
        else:
            key = (self.matrix.name, *argv)
        return Case(sequence, case_id(key), self.matrix.index, argv, values, fault)

    def _surroundings_key(self, values: Mapping[str, Any], argv: tuple[str, ...], fault: str | None) -> Iterator[str]:
        """Yield what tells two cases of equal words apart: varying stdin, files and environment."""
        scope = Scope({"here": self.spec.here, "words": list(argv), "argc": len(argv), "case_id": "", **values})
        for name, template in self._around:
            yield name
            try:
                yield template.render(scope)
            except ExpressionFault as error:
                yield str(error)
        if fault:
            yield repr(sorted((name, str(value)) for name, value in values.items()))


def _varying_surroundings(matrix: Matrix) -> list[tuple[str, Template]]:
    around = matrix.surroundings
    named = [*around.env, *around.files, *([("", around.stdin)] if around.stdin else [])]
    return [(name, template) for name, template in named if template.constant is None]


class _Words:
    """The line of a matrix, made into words row by row. What a word gives is kept for each combination of levels it reads."""

    def __init__(self, matrix: Matrix, layout: Layout, here: str, functions: Mapping[str, Callable[..., Any]]) -> None:
        self._layout, self._here, self._functions = layout, here, functions
        self._slots: list[_Slot] = []
        self._plan = self._sequence(matrix.line)
        self._flat = all(isinstance(each, _Slot) and not each.glued for each in self._plan)
        self.texts = {id(slot.word): slot for slot in self._slots}

    def of(self, row: Row) -> tuple[str, ...]:
        """Return the vector of one row. Raises ExpressionFault."""
        words: list[str] = []
        if self._flat:
            for slot in self._plan:
                words += slot.words(row)  # type: ignore[union-attr]
        else:
            self._emit(self._plan, row, words)
        return tuple(words)

    def _emit(self, plan: list[_Slot | _Choice], row: Row, words: list[str]) -> None:
        for each in plan:
            before = len(words)
            if isinstance(each, _Slot):
                words += each.words(row)
            else:
                alternative = each.chosen(row)
                if alternative is not None:
                    self._emit(alternative, row, words)
            if each.glued and 0 < before < len(words):
                words[before - 1 : before + 1] = [words[before - 1] + words[before]]

    def _sequence(self, sequence: Sequence) -> list[_Slot | _Choice]:
        plan: list[_Slot | _Choice] = []
        for item in sequence.items:
            if isinstance(item, Word):
                plan.append(_Slot(item, self._layout, self._here, self._functions))
                self._slots.append(plan[-1])  # type: ignore[arg-type]
            else:
                plan.append(_Choice(item, self._layout, [self._sequence(each) for each in item.alternatives]))
        return plan


class _Slot:
    """One word of the line."""

    def __init__(self, word: Word, layout: Layout, here: str, functions: Mapping[str, Callable[..., Any]]) -> None:
        self.word, self.glued = word, word.glued
        self._template = Template("", parts=word.parts)
        names = sorted(name for name in self._template.names if name in layout.names)
        self.factors = tuple(sorted({layout.names[name] for name in names}))
        self._lookups = [(name, layout.names[name], layout.values[name]) for name in names]
        self._here, self._functions = here, functions
        self._known: dict[Any, list[str]] = {}
        self._single = self.factors[0] if len(self.factors) == 1 else None

    def words(self, row: Row) -> list[str]:
        """Return the words that this word of the line gives in a row. Raises ExpressionFault."""
        key = row[self._single] if self._single is not None else tuple([row[factor] for factor in self.factors])
        known = self._known.get(key)
        if known is None:
            if len(self._known) > MAX_KEPT:
                self._known.clear()
            scope = Scope(
                {"here": self._here, **{name: values[row[number]] for name, number, values in self._lookups}},
                self._functions,
            )
            known = self._known[key] = words_of(self._template, scope)
        return known


MAX_KEPT = 100_000
"""Words kept for one place of the line; an axis of a billion values must not fill the memory."""


class _Choice:
    """One group of the line."""

    def __init__(self, group: Group, layout: Layout, alternatives: list[list[_Slot | _Choice]]) -> None:
        self.group, self.glued = group, group.glued
        self._number = layout.groups[id(group)]
        self._first = 1 if group.optional else 0
        self._alternatives = alternatives

    def chosen(self, row: Row) -> list[_Slot | _Choice] | None:
        """Return the alternative that a row takes, or None when the group is left out or absent."""
        index = row[self._number] - self._first
        return self._alternatives[index] if 0 <= index < len(self._alternatives) else None
