"""Matrices: their steps, axes, rows, rules, and what their cases are compared with."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, TypeAlias

from keen_matrix.core.errors import nearest
from keen_matrix.core.expect.open import names_used
from keen_matrix.core.expressions import Expression, Template
from keen_matrix.core.model.open_mark import OPEN
from keen_matrix.core.model.spec import Bounds, Marks, Matrix, OtherLaunch, Rule, Step, Surroundings
from keen_matrix.core.notation.nodes import Group, Word
from keen_matrix.core.notation.nodes import Sequence as LineSequence
from keen_matrix.core.notation.parse import parse_line, parse_list
from keen_matrix.core.spec.compiling.base import Compiling
from keen_matrix.core.spec.compiling.tables import (
    known_of,
    places_of_lines,
    skip_of,
    steps_of,
    surroundings_of,
    typed_otherwise,
)
from keen_matrix.core.spec.document.expectations import AlikeTable, DiffersTable, Expectations
from keen_matrix.core.spec.document.matrix import MatrixTable, RowsTable, StepTable
from keen_matrix.core.spec.keys import KeyPath
from keen_matrix.core.structs import replace
from keen_matrix.core.vectors.axes import SourceFault, Values, axis_values, read_csv
from keen_matrix.core.vectors.constraints import names_in
from keen_matrix.core.vectors.open_cells import used_before

if TYPE_CHECKING:
    from keen_matrix.core.signature.signature import Signature
    from keen_matrix.core.spec.document.matrix import DenserTable


class MatrixCompiler:
    """Compiles the matrices of a document."""

    def __init__(self, base: Compiling, signature: Signature | None) -> None:
        self._base, self._signature = base, signature
        self._document, self._here = base.document, base.source.here

    def matrix(self, index: int, table: MatrixTable) -> Matrix:
        """Return one matrix; an axis or table that cannot be read is a problem and stands empty."""
        path: KeyPath = ("matrix", index)
        columns, rows, places = self._rows(table, path)
        lines, text = places_of_lines(table)
        self._left_out(lines, columns, rows, places, path)
        steps, rules = self._steps(table, lines, path), self._rules(table, path)
        only_if = tuple(Expression(text) for text in table.only_if)
        marks = _marks(table, places)
        expected: tuple[str, ...] = ()
        if any(cell in NOT_SAID for row in rows for cell in row):
            whens = (*only_if, *(rule.when for rule in rules), *(r.when for s in steps for r in s.rules))
            said = (marks.note, *marks.known, *marks.skips)
            before = used_before(lines, steps, whens, table.always, said)
            of_rules = (*rules, *(rule for step in steps for rule in step.rules))
            expected = self._expected_columns(table, (columns, rows), before, of_rules, path)
        document, masks = self._document, self._base.masks
        fresh = (table.directory or document.program.directory) == "fresh"
        return Matrix(
            index=index,
            name=table.name,
            line=LineSequence(tuple(item for line in lines for item in line.items), (0, len(text))),
            line_text=text,
            steps=steps,
            axes={name: self._axis(name, axis, path) for name, axis in table.axes.items()},
            columns=columns,
            rows=rows,
            combine=table.combine,
            only_if=only_if,
            always=tuple(table.always),
            denser=tuple(map(_denser, table.denser)),
            seed=table.seed,
            effort=table.effort,
            rules=rules,
            masks=(*masks(document.mask, ("mask",)), *masks(table.mask, (*path, "mask"))),
            other=self._other(table, steps[0].surroundings, path),
            bounds=Bounds(limit=table.limit, jobs=table.jobs, fresh_directory=fresh),
            marks=replace(marks, expected_columns=expected),
            origin=self._base.place(*path),
        )

    def _steps(self, table: MatrixTable, lines: Sequence[LineSequence], path: KeyPath) -> tuple[Step, ...]:
        files = {**self._document.files, **table.files}
        program = self._document.program
        return tuple(
            Step(
                line=line,
                surroundings=surroundings_of(program, table, *([step] if step else []), files=files),
                rules=self._step_rules(step, (*path, "steps", number)) if step else (),
                is_other=step is not None and step.launch is not None,
            )
            for number, (line, step) in enumerate(zip(lines, steps_of(table), strict=True))
        )

    def _expect_paths(self, table: MatrixTable, path: KeyPath) -> list[KeyPath]:
        """Return where each rule of a matrix is: a single one may be a table on its own."""
        is_single = self._base.source.is_table((*path, "expect"))
        return [(*path, "expect") if is_single else (*path, "expect", n) for n in range(len(table.expect))]

    def _rules(self, table: MatrixTable, path: KeyPath) -> tuple[Rule, ...]:
        return tuple(map(self._base.rule, table.expect, self._expect_paths(table, path)))

    def _expected_columns(
        self,
        table: MatrixTable,
        cells: tuple[Sequence[str], Sequence[Sequence[object]]],
        before: frozenset[str],
        rules: Sequence[Rule],
        path: KeyPath,
    ) -> tuple[str, ...]:
        """Return the columns with cells that may be filled in later, since only expectations use
        them; rows that lack any other cell are problems."""
        columns, rows = cells
        general = self._base.rule(self._document.expect, ("expect",))
        aspects = (aspect for rule in (general, *rules) for aspect in rule.aspects.values())
        late = {name for aspect in aspects for name in names_used(aspect)} - before
        self._refuse_short(table, columns, frozenset(late), path)
        return tuple(
            name
            for at, name in enumerate(columns)
            if name in late and any(row[at] in NOT_SAID for row in rows)
        )

    def _left_out(
        self,
        lines: Sequence[LineSequence],
        columns: Sequence[str],
        rows: Sequence[Sequence[object]],
        places: Sequence[str],
        path: KeyPath,
    ) -> None:
        """Tell of rows that leave no part of a required choice of the line to be taken."""
        for group in (item for line in lines for item in line.items if isinstance(item, Group)):
            if group.optional:
                continue
            needed = [names_in(part) for part in group.alternatives]
            for row, place in zip(rows, places, strict=True):
                empty = {name for name, cell in zip(columns, row, strict=True) if cell is None}
                if all(names & empty for names in needed):
                    names = ", ".join(sorted(set().union(*needed) & empty))
                    self._base.problem(
                        (*path, "rows"),
                        f"{place}: each part of a choice in the line needs a cell that is empty here",
                        expected=f"one of {names}",
                    )
                    return

    def _other(self, table: MatrixTable, around: Surroundings, path: KeyPath) -> OtherLaunch | None:
        """Return what every case of a matrix is compared with: by the last rule that says so."""
        found: OtherLaunch | None = None
        tables: list[tuple[KeyPath, Expectations]] = [(("expect",), self._document.expect)]
        tables += zip(self._expect_paths(table, path), table.expect, strict=True)
        for where, rule in tables:
            for name in ("alike", "differs"):
                asked = getattr(rule, name)
                if asked is None:
                    continue
                if getattr(rule, "when", None) or table.steps:
                    what = "a rule with a condition" if getattr(rule, "when", None) else "a matrix with steps"
                    self._base.problem((*where, name), f'"{name}" does not go with {what}')
                else:
                    found = self._other_launch(asked, around, (*where, name))
        return found

    def _other_launch(
        self, asked: AlikeTable | DiffersTable, around: Surroundings, where: KeyPath
    ) -> OtherLaunch | None:
        words = None
        if asked.line is not None and (words := self._other_words(asked.line, where)) is None:
            return None
        return OtherLaunch(
            differs=where[-1] == "differs",
            launchers=self._other_launchers(asked, where) if isinstance(asked, AlikeTable) else (),
            again=isinstance(asked, AlikeTable) and bool(asked.again),
            words=words,
            surroundings=typed_otherwise(around, asked),
            aspects=tuple(asked.aspects),
            origin=self._base.place(*map(str, where[:1])),
        )

    def _other_words(self, text: object, where: KeyPath) -> tuple[Template, ...] | None:
        """Return the words of another launch; None where the line has groups, which is a
        problem."""
        line = parse_line(text) if isinstance(text, str) else LineSequence(parse_list(text))  # type: ignore[arg-type]
        if all(isinstance(item, Word) for item in line.items):
            return tuple(Template("", parts=item.parts) for item in line.items if isinstance(item, Word))
        self._base.problem(
            (*where, "line"),
            "the line of another launch has no groups; an axis of arrays such as "
            '[[], ["--bike"]] gives both lines the same choice',
        )
        return None

    def _other_launchers(self, asked: AlikeTable, where: KeyPath) -> tuple[str, ...]:
        names = tuple(self._document.program.launchers)
        if asked.launchers and not names:
            self._base.problem(where, "the spec has no [program.launchers] to compare")
        if not isinstance(asked.launchers, list):
            return names if asked.launchers else ()
        for number, name in enumerate(asked.launchers):
            if name not in names:
                self._base.problem(
                    (*where, "launchers", number),
                    f'unknown launcher "{name}"',
                    suggestion=nearest(name, names),
                )
        return tuple(asked.launchers)

    def _step_rules(self, step: StepTable, path: KeyPath) -> tuple[Rule, ...]:
        return tuple(self._base.rule(rule, (*path, "expect")) for rule in step.expect)

    def _axis(self, name: str, table: Any, path: KeyPath) -> Values:
        """Return the values of an axis."""
        try:
            return axis_values(table, self._here, self._signature.values if self._signature else None)
        except SourceFault as fault:
            key = (fault.key,) if fault.key else ()
            self._base.problem((*path, "axes", name, *key), f"axis {name}: {fault}")
            # Something to go on with, so that further problems of the matrix are reported in the
            # same reading.
            return ("?",)

    def _rows(self, table: MatrixTable, path: KeyPath) -> _Rows:
        """Return the columns and rows of a matrix, inline or from a CSV file."""
        nothing: _Rows = ((), (), ())
        if table.rows is None:
            if table.columns is not None:
                self._base.problem((*path, "columns"), '"columns" is given without "rows"')
            return nothing
        if isinstance(table.rows, RowsTable):
            return self._csv_rows(table, path)
        if table.columns is None:
            self._base.problem((*path, "rows"), '"rows" needs "columns", the names of its columns')
            return nothing
        if len(set(table.columns)) < len(table.columns):
            self._base.problem((*path, "columns"), "two columns have the same name")
        width = len(table.columns)
        for number, row in enumerate(table.rows):
            if len(row) > width or not row:
                self._base.problem(
                    (*path, "rows", number),
                    f"this row has {len(row)} values",
                    expected=f"{len(table.columns)}: {', '.join(table.columns)}",
                )
        # the last cells may be left open, where only expectations use their columns
        fitting = {
            number: (*row, *[OPEN] * (width - len(row)))
            for number, row in enumerate(table.rows)
            if 0 < len(row) <= width
        }
        places = [self._base.place(*path, "rows", number) for number in fitting]
        return tuple(table.columns), tuple(fitting.values()), tuple(places)

    def _refuse_short(
        self, table: MatrixTable, columns: Sequence[str], expected: frozenset[str], path: KeyPath
    ) -> None:
        """Tell of rows that lack cells without which there is no case."""
        rows = table.rows if isinstance(table.rows, list) else []
        for number, row in enumerate(rows):
            if not expected >= {*columns[len(row) :]}:
                self._base.problem(
                    (*path, "rows", number),
                    f"this row has {len(row)} values",
                    expected=f"{len(columns)}: {', '.join(columns)}",
                )

    def _csv_rows(self, table: MatrixTable, path: KeyPath) -> _Rows:
        source: RowsTable = table.rows
        name = source.file
        try:
            read = read_csv(os.path.join(self._here, name), name, source.separator)
        except SourceFault as fault:
            self._base.problem((*path, "rows"), str(fault))
            return tuple(table.columns or ()), (), ()
        places = tuple(f"{name}:{line}" for line in read.lines)
        empty = None if source.empty == "left out" else ""
        # CSV cannot say that a cell is not there; the spec says what an empty one means.
        cells = [tuple(each or empty for each in row) for row in read.rows]
        if table.columns is None:
            return read.header, tuple(cells), places
        for number, column in enumerate(table.columns):
            if column not in read.header:
                self._base.problem(
                    (*path, "columns", number),
                    f'{name} has no column "{column}"',
                    expected=f"one of {', '.join(read.header)}",
                    suggestion=nearest(column, read.header),
                )
                return (), (), ()
        picked = [read.header.index(column) for column in table.columns]
        rows = tuple(tuple(row[index] for index in picked) for row in cells)
        return tuple(table.columns), rows, places


def _marks(table: MatrixTable, places: tuple[str, ...]) -> Marks:
    return Marks(
        note=None if table.note is None else Template(table.note),
        tags=tuple(table.tags),
        known=tuple(map(known_of, table.known)),
        skips=tuple(map(skip_of, table.skip)),
        requires_programs=tuple(table.requires_programs),
        rows=places,
    )


def _denser(table: DenserTable) -> tuple[tuple[str, ...], int]:
    return tuple(table.axes), 0 if table.strength == "all" else table.strength


#: Cells that may be filled in later, where only expectations use their column.
NOT_SAID = (OPEN, "", None)
#: Columns, rows, and where each row stands.
_Rows: TypeAlias = tuple[tuple[str, ...], tuple[tuple[object, ...], ...], tuple[str, ...]]
