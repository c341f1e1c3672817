"""What is only seen with two places of a spec in view at once: names that are used and names that
are known."""

from __future__ import annotations

import os
from collections.abc import Iterable, Set
from typing import Any, Unpack

from keen_matrix.core.errors import ExpressionFault, NotationFault, Problem, nearest
from keen_matrix.core.expect.forms import NEEDS
from keen_matrix.core.expressions import (
    FUNCTIONS,
    LATER_FUNCTIONS,
    Expression,
    Template,
    called_functions,
)
from keen_matrix.core.files import leaves_directory
from keen_matrix.core.model.lookups import look
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.notation.nodes import Field
from keen_matrix.core.notation.parse import parse_line, parse_template
from keen_matrix.core.spec.document.expectations import (
    Expectations,
    ReferenceTable,
    RefusalTable,
    TextTable,
)
from keen_matrix.core.spec.document.matrix import MatrixTable
from keen_matrix.core.spec.document.program import ProgramTable
from keen_matrix.core.spec.document.signature import SignatureTable
from keen_matrix.core.spec.document.texts import Placed, PlacedTable, PlacedText, Role, placed_in
from keen_matrix.core.spec.document.whole import SpecDocument
from keen_matrix.core.spec.keys import KeyPath
from keen_matrix.core.spec.source import Placing, Source

CASE_NAMES = frozenset({"words", "argc", "here", "case_id"})
"""Names that an expression of a case can use beside axes and columns."""


def cross_checks(
    source: Source, document: SpecDocument, spec: Spec, *, deep: bool
) -> list[Problem]:
    """Return the problems that come of several places taken together."""
    checker = _Checker(source, spec)
    checker.program(document)
    checker.matrices()
    if deep and not checker.problems:
        from keen_matrix.core.spec.lint_matrices import deep_problems

        return deep_problems(spec, source, checker.oracle, checker.used)
    return checker.problems


class _Checker:
    """Walks the raw data beside the compiled spec, so that every problem gets the place where it
    is written."""

    def __init__(self, source: Source, spec: Spec) -> None:
        self.source, self.spec = source, spec
        self.problems: list[Problem] = []
        self.functions: set[str] | None = set(FUNCTIONS)
        """Known functions; None when the oracle file did not load."""
        self.oracle: frozenset[str] = frozenset()
        """Names of the functions of the oracle file, which is never run here."""
        self._told: set[tuple[KeyPath, str]] = set()
        self.used: dict[int | None, set[str]] = {}
        """Names used in each matrix, and outside of them (None)."""

    def add(self, path: KeyPath, message: str, **more: Unpack[Placing]) -> None:
        self.problems.append(self.source.problem(path, message, **more))

    def program(self, document: SpecDocument) -> None:
        """Check what stands outside the matrices."""
        if not isinstance(self.source.data.get("program"), dict):
            return
        if self.spec.program.oracle is not None:
            self._oracle(self.spec.program.oracle)
        outside = self._all_names() | CASE_NAMES
        for key, model, known in (
            ("program", ProgramTable, outside),
            ("reference", ReferenceTable, frozenset[str]()),
            ("expect", Expectations, outside),
            ("refusal", RefusalTable, outside | {"culprit"}),
        ):
            self._texts(placed_in(model, (key,), self.source.data.get(key)), known)
        self._texts(placed_in(SpecDocument, (), {"files": self.source.data.get("files")}), outside)
        self._file_names(("files",), self.source.data.get("files"))
        self._refusal(self.source.data.get("refusal"), document)
        self._signature(self.source.data.get("signature"))

    def _refusal(self, data: Any, document: SpecDocument) -> None:
        """Check [refusal] and its kinds."""
        if not isinstance(data, dict):
            return
        if document.signature is None:
            self.add(
                ("refusal",),
                "[refusal] needs a [signature], which says what must be refused",
                at_key=True,
            )
        from keen_matrix.core.signature.kinds import KINDS

        own = {each.kind for each in document.signature.refuse} if document.signature else set()
        keys = {field.alias or name for name, field in RefusalTable.model_fields.items()}
        for key, value in data.items():
            if key in keys:
                continue
            if isinstance(value, dict) and key not in {*KINDS, *own}:
                hint = nearest(key, {*KINDS, *own, *keys})
                expected = None if hint else f"one of {', '.join((*KINDS, *sorted(own)))}"
                self.add(
                    ("refusal", key),
                    f'unknown kind of refusal "{key}"',
                    at_key=True,
                    suggestion=hint,
                    expected=expected,
                )

    def _signature(self, data: object) -> None:
        """Check the conditions of the signature, and what its families need."""
        signature = self.spec.signature
        if not isinstance(data, dict) or signature is None:
            return
        from keen_matrix.core.signature.judging.binding import identifier
        from keen_matrix.core.signature.requests import builders
        from keen_matrix.core.signature.values import Existing

        known = {identifier(name) for name in signature.values} | {"words", "argc"}
        self._texts(placed_in(SignatureTable, ("signature",), data), known)
        for name, kind in signature.values.items():
            if isinstance(kind, Existing) and kind.closed and not kind.legal():
                message = f"{name} is a {kind.type} that exists, and the spec puts none in place"
                found = self.source.warning(
                    ("signature", "values", name),
                    message,
                    at_key=True,
                    expected='[files] with one, or type = "path"',
                )
                self.problems.append(found)
        asks = any(called_functions(each) & self.oracle for each in signature.conditions)
        if not asks and not any(builder.smallest() for builder in builders(signature)):
            reason = signature.judge(builders(signature)[0].plain((), full=False).words()).reasons[
                -1:
            ]
            self.add(("signature",), "no vector can be made that this signature accepts", at_key=True,
                     expected=f"examples that are legal ({'; '.join(reason)})")  # fmt: skip

    def _all_names(self) -> set[str]:
        """Return the axes and columns of all matrices: what stands outside of them may be written
        for any."""
        names = {name for matrix in self.spec.matrices for name in (*matrix.axes, *matrix.columns)}
        for data in (
            self.source.data["matrix"] if isinstance(self.source.data.get("matrix"), list) else []
        ):
            axes = data.get("axes") if isinstance(data, dict) else None
            names |= set(axes) if isinstance(axes, dict) else set()
        return names | self._signature_names()

    def _signature_names(self) -> set[str]:
        """Return what a signature lends to expressions: its NAMEs, and the culprit of a refusal."""
        if self.spec.signature is None:
            return set()
        from keen_matrix.core.signature.judging.binding import identifier

        return {identifier(name) for name in self.spec.signature.values} | {"culprit"}

    def _oracle(self, path: str) -> None:
        from keen_matrix.core.errors import RunFault
        from keen_matrix.core.oracle import oracle_names

        look(path)
        if not os.path.isfile(path):
            self.add(
                ("program", "oracle"), f"the oracle file {os.path.basename(path)} does not exist"
            )
            self.functions = None
            return
        try:
            found = oracle_names(path)
            self.oracle = found.names
            self.functions = None if found.open else set(FUNCTIONS) | found.names
        except RunFault as fault:
            self.add(("program", "oracle"), str(fault))
            self.functions = None

    def matrices(self) -> None:
        """Check every matrix, and that no two have the same name."""
        raw = self.source.data.get("matrix")
        if "matrix" not in self.source.data and "signature" not in self.source.data:
            message = "the spec has neither a [[matrix]] nor a [signature]"
            self.problems.append(
                Problem(path=self.source.path, message=message, expected="at least one of them")
            )
        compiled = {matrix.index: matrix for matrix in self.spec.matrices}
        first: dict[str, int] = {}
        for index, data in enumerate(raw if isinstance(raw, list) else []):
            if not isinstance(data, dict):
                continue
            self._name(index, data.get("name"), first)
            self._matrix(index, data, compiled.get(index))

    def _name(self, index: int, name: object, first: dict[str, int]) -> None:
        if not isinstance(name, str):
            return
        if name in first:
            line = self.source.line(("matrix", first[name], "name"))
            expected = f"another name; the first one stands in line {line}"
            self.add(
                ("matrix", index, "name"), f'two matrices are named "{name}"', expected=expected
            )
        first.setdefault(name, index)
        if name in {matrix.name for matrix in self.spec.matrices if matrix.family}:
            self.add(
                ("matrix", index, "name"),
                f'"{name}" is the name of a derived family',
                expected="another name",
            )

    def _matrix(self, index: int, data: dict[str, object], matrix: Matrix | None) -> None:
        """Check one matrix; `matrix` is None when it did not validate, and then its raw data must
        do."""
        path: KeyPath = ("matrix", index)
        raw_axes, raw_columns = data.get("axes"), data.get("columns")
        axes = list(raw_axes) if isinstance(raw_axes, dict) else []
        columns = matrix.columns if matrix else raw_columns if isinstance(raw_columns, list) else ()
        for name in axes:
            if not name.isidentifier():
                self.add((*path, "axes", name), f'"{name}" cannot be used in expressions', at_key=True,
                         expected="letters, digits and _")  # fmt: skip
            if name in columns:
                self.add(
                    (*path, "axes", name),
                    f'"{name}" is an axis and a column',
                    at_key=True,
                    expected="one of the two",
                )
        own = {*axes, *(each for each in columns if isinstance(each, str))}
        known = own | self._signature_names()
        if matrix is None and isinstance(data.get("rows"), str):
            return  # the columns of a CSV file are not known, so neither is what names may be used
        self._texts(placed_in(MatrixTable, path, data), known | CASE_NAMES, own | {"here"})
        self._file_names((*path, "files"), data.get("files"))

    def _texts(
        self, placed: Iterable[Placed], known: Set[str], of_vector: Set[str] | None = None
    ) -> None:
        """Check every text against the names that are known there, and what only makes sense
        beside something else in the same table. `of_vector` are the names that a vector is made
        with, where there are others around it."""
        for each in placed:
            if isinstance(each, PlacedTable):
                if issubclass(each.model, TextTable):
                    self._forms(each)
                continue
            names = _names_known(each, known, known if of_vector is None else of_vector)
            if each.role is Role.EXPRESSION:
                self._expression(each.path, each.text, names)
            elif each.role is Role.LINE:
                self._line(each.path, each.text, names)
            elif each.role is Role.WORDS and not each.text.strip():
                self._empty_launch(each.path)
            elif each.role is not Role.TEMPLATE or each.table.get("literal") is not True:
                self._template(each, names)

    def _empty_launch(self, path: KeyPath) -> None:
        what = f'the launcher "{path[-1]}"' if "launchers" in path else str(path[-1])
        words = "the words of a command"
        if path[-1] != "build":
            words = "the words that start the program"
        self.add(path, f"{what} is empty", expected=words)

    def _line(self, path: KeyPath, line: str, names: Set[str]) -> None:
        try:
            fields = list(parse_line(line).fields())
        except NotationFault:
            return
        self._fields(path, fields, names)

    def _forms(self, placed: PlacedTable) -> None:
        """Check the forms of a text that only make sense beside others, and the files that they
        name."""
        path, table = placed.path, placed.data
        for key, needs in NEEDS.items():
            if key in table and not any(each in table for each in needs):
                wanted = " or ".join(f'"{each}"' for each in needs)
                self.add((*path, key), f'"{key}" is given without {wanted}', at_key=True)
        named = table.get("file")
        if not isinstance(named, str) or "{" in named:
            return
        beside = os.path.join(self.spec.here, named)
        look(beside)
        if not os.path.isfile(beside):
            self.add((*path, "file"), f"{named} does not exist beside the spec")

    def _expression(self, path: KeyPath, text: object, known: Set[str]) -> None:
        if not isinstance(text, str):
            return
        try:
            self._names(path, Expression(text), known, 0)
        except ExpressionFault:
            return

    def _template(self, placed: PlacedText, known: Set[str]) -> None:
        try:
            parts = parse_template(placed.text)
        except NotationFault:
            return
        fields = [part for part in parts if isinstance(part, Field)]
        self._fields(placed.path, fields, known, at_key=placed.is_key)
        for field in fields:
            try:
                expression = Expression(field.source)
            except ExpressionFault:
                continue
            padded = field.source.lstrip().startswith("'")  # a text with a width of its own
            if not expression.names and not called_functions(expression) and not padded:
                self._tell_brace(placed, field)

    def _tell_brace(self, placed: PlacedText, field: Field) -> None:
        """Tell of a brace that stands for itself, as those of JSON do: nothing is filled in there."""
        plain = placed.role is Role.TEMPLATE and not placed.is_key
        way = ", or literal = true for the whole text" if plain else ""
        offset = None if placed.is_key else field.span[0]
        self.add(placed.path, "this brace is not a field of an axis, a column or a NAME", offset=offset, at_key=placed.is_key,
                 expected=f"{{{{ and }}}} for braces that stand for themselves{way}")  # fmt: skip

    def _fields(
        self, path: KeyPath, fields: list[Field], known: Set[str], *, at_key: bool = False
    ) -> None:
        for field in fields:
            try:
                offset = None if at_key else field.span[0] + 1
                self._names(path, Expression(field.source), known, offset)
            except ExpressionFault:
                continue

    def _names(
        self, path: KeyPath, expression: Expression, known: Set[str], offset: int | None
    ) -> None:
        inside = path[1] if path[0] == "matrix" and isinstance(path[1], int) else None
        self.used.setdefault(inside, set()).update(expression.names)
        for name in sorted(expression.names - known):
            if (path, name) in self._told:  # once a text is enough
                continue
            self._told.add((path, name))
            if self.functions is not None and name in self.functions:
                continue
            at = None if offset is None else offset + max(expression.source.find(name), 0)
            hint = nearest(name, known)
            expected = (
                None
                if hint
                else f"one of {', '.join(sorted(known))}"
                if known
                else "no name: there are no axes"
            )
            self.add(
                path,
                f'"{name}" is neither an axis nor a column here',
                offset=at,
                at_key=at is None,
                suggestion=hint,
                expected=expected,
            )
        if self.functions is None:
            return
        for name in sorted(called_functions(expression) - self.functions - LATER_FUNCTIONS):
            at = None if offset is None else offset + max(expression.source.find(name), 0)
            hint = nearest(name, self.functions | LATER_FUNCTIONS)
            self.add(
                path, f'unknown function "{name}"', offset=at, at_key=at is None, suggestion=hint
            )

    def _file_names(self, path: KeyPath, files: object) -> None:
        for name in files if isinstance(files, dict) else ():
            if leaves_directory(name):
                self.add((*path, name), f'"{name}" leads out of the case\'s directory', at_key=True,
                         expected="a path inside it")  # fmt: skip


def _names_known(placed: PlacedText, known: Set[str], of_vector: Set[str]) -> Set[str]:
    """Return the names that a text can use, by where it stands."""
    key = next((each for each in reversed(placed.path) if isinstance(each, str)), "")
    if key in ("launch", "build") or "launchers" in placed.path[:2]:
        return {"here"}
    if placed.path[0] == "matrix" and (key == "where" or _is_line(placed.path)):
        return of_vector
    if key == "holds":
        return known | _groups(placed.table.get("matches"))
    return known


def _is_line(path: KeyPath) -> bool:
    """Tell whether a path leads to the line of a matrix or of a step."""
    return "line" in path and "expect" not in path


def _groups(pattern: object) -> frozenset[str]:
    """Return the names of a regular expression's groups."""
    import regex

    try:
        return (
            frozenset(regex.compile(pattern).groupindex)
            if isinstance(pattern, str)
            else frozenset()
        )
    except regex.error:
        return frozenset()


__all__ = ["CASE_NAMES", "Template", "cross_checks"]
