"""What a spec says of a case beside what it must do: its note, that it is known to differ, that it
is not launched."""

from __future__ import annotations

import datetime
import shutil
from collections.abc import Callable, Mapping
from functools import cache

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expressions import Scope, Template, as_text
from keen_matrix.core.model.case import Case, Said, case_scope
from keen_matrix.core.model.open_mark import OPEN
from keen_matrix.core.model.spec import Known, Matrix, Spec
from keen_matrix.core.structs import replace

NOTE = "note"
#: Columns that say it of a row.
KNOWN = "known"


def has_marks(spec: Spec, matrix: Matrix) -> bool:
    """Tell whether anything is said of the cases of a matrix beside what they must do."""
    return bool(matrix.marks.rows) or _says_more(spec, matrix)


def _says_more(spec: Spec, matrix: Matrix) -> bool:
    """Tell whether more is said than where rows stand."""
    marks = matrix.marks
    told = (
        marks.note is not None
        or marks.known
        or marks.skips
        or marks.requires_programs
        or marks.expected_columns
    )
    return bool(told or spec.known or spec.program.requires_programs or {NOTE, KNOWN} & {*matrix.columns})


class Marking:
    """Says of each case of one matrix what the spec says of it."""

    def __init__(self, spec: Spec, matrix: Matrix, functions: Mapping[str, Callable[..., object]]) -> None:
        self._spec, self._matrix, self._functions = spec, matrix, functions
        self._says_more = _says_more(spec, matrix)
        self._today = datetime.date.today()
        missing = [
            each
            for each in (*spec.program.requires_programs, *matrix.marks.requires_programs)
            if not _is_there(each)
        ]
        self._missing = f"no program {missing[0]} was found in PATH" if missing else ""

    def marked(self, case: Case, row: str = "") -> Case:
        """Return a case with everything that is said of it; `row` is where its row stands. What
        cannot be evaluated makes a case with a fault."""
        if not self._says_more:
            return replace(case, said=Said(row=row))
        marks, scope = self._matrix.marks, self._scope(case)
        try:
            skipped = self._missing or next(
                (
                    each.because.render(scope)
                    for each in marks.skips
                    if each.when is None or each.when.evaluate(scope)
                ),
                "",
            )
            note = self._of_column(case, NOTE) or _rendered(marks.note, scope)
            known = self._known(case, scope)
        except ExpressionFault as fault:
            return replace(case, fault=case.fault or str(fault), said=Said(row=row))
        until = known.until if known is not None else None
        is_over = until is not None and self._today > until
        said = Said(
            row=row,
            note=note,
            skipped=skipped,
            known=_rendered(known.because if known else None, scope) or self._of_column(case, KNOWN),
            known_aspects=known.aspects if known else (),
            known_verdict=known.verdict if known else "failed",
            known_until=str(until) if is_over else "",
            open_columns=tuple(each for each in marks.expected_columns if case.values.get(each) == OPEN),
        )
        return replace(case, said=said)

    def _known(self, case: Case, scope: Scope) -> Known | None:
        for each in self._spec.known:
            if case.id.startswith(each.ids) and _is_met(each, scope):
                return each
        return next((each for each in self._matrix.marks.known if _is_met(each, scope)), None)

    def _of_column(self, case: Case, name: str) -> str:
        value = case.values.get(name) if name in self._matrix.columns else None
        return "" if value is None or value is False else as_text(value)

    def _scope(self, case: Case) -> Scope:
        standing = case.standing
        spec = self._spec
        return case_scope(case.named, case.argv, case.id, spec.here, self._functions, standing)


def _is_met(known: Known, scope: Scope) -> bool:
    return known.when is None or bool(known.when.evaluate(scope))


def _rendered(template: Template | None, scope: Scope) -> str:
    return "" if template is None else template.render(scope)


@cache
def _is_there(program: str) -> bool:
    """Tell whether a program is in the PATH of Keen Matrix, in which it is looked for once."""
    return shutil.which(program) is not None
