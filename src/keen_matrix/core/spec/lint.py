"""What is only seen with two places of a spec in view at once: names that are used and names that
are known."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any

from keen_matrix.core.errors import ExpressionFault, NotationFault, Problem, nearest
from keen_matrix.core.expect.forms import FORMS, NEEDS
from keen_matrix.core.expressions import (
    FUNCTIONS,
    LATER_FUNCTIONS,
    Expression,
    Template,
    called_functions,
)
from keen_matrix.core.model.lookups import look
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.notation.nodes import Field
from keen_matrix.core.notation.parse import parse_line, parse_template
from keen_matrix.core.spec.document.expectations import RefusalTable
from keen_matrix.core.spec.document.whole import SpecDocument
from keen_matrix.core.spec.keys import KeyPath
from keen_matrix.core.spec.source import Source

if TYPE_CHECKING:
    pass

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

    def add(self, path: KeyPath, message: str, **more: Any) -> None:
        self.problems.append(self.source.problem(path, message, **more))

    def program(self, document: SpecDocument) -> None:
        """Check the launch words and the oracle file."""
        data = self.source.data.get("program")
        if not isinstance(data, dict):
            return
        self._launch(("program", "launch"), data.get("launch"))
        self._launch(("program", "build"), data.get("build"))
        launchers = data.get("launchers")
        for name, launch in launchers.items() if isinstance(launchers, dict) else ():
            self._launch(("program", "launchers", name), launch)
        reference = self.source.data.get("reference")
        self._launch(
            ("reference", "launch"),
            reference.get("launch") if isinstance(reference, dict) else None,
        )
        if self.spec.program.oracle is not None:
            self._oracle(self.spec.program.oracle)
        self._around(("program",), data, self._all_names() | CASE_NAMES)
        self._texts(("files",), self.source.data.get("files"), self._all_names() | CASE_NAMES)
        self._file_names(("files",), self.source.data.get("files"))
        self._rules(("expect",), self.source.data.get("expect"), self._all_names() | CASE_NAMES)
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

        known = self._all_names() | CASE_NAMES | {"culprit"}
        self._rules(("refusal",), data, known)
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
            self._rules(("refusal", key), value, known)

    def _signature(self, data: Any) -> None:
        """Check the conditions of the signature, and what its families need."""
        signature = self.spec.signature
        if not isinstance(data, dict) or signature is None:
            return
        from keen_matrix.core.signature.judge import identifier
        from keen_matrix.core.signature.requests import builders

        known = {identifier(name) for name in signature.values} | {"words", "argc"}
        for number, text in enumerate(data["where"] if isinstance(data.get("where"), list) else []):
            self._expression(("signature", "where", number), text, known)
        for number, each in enumerate(
            data["refuse"] if isinstance(data.get("refuse"), list) else []
        ):
            self._expression(("signature", "refuse", number, "when"), each.get("when"), known)
        for name, kind in signature.values.items():
            if kind.type in ("file", "dir") and kind.closed and not kind.legal():
                message = f"{name} is a {kind.type} that exists, and the spec puts none in place"
                self.problems.append(self.source.problem(("signature", "values", name), message, at_key=True, warning=True,
                                                         expected='[files] with one, or type = "path"'))  # fmt: skip
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
        from keen_matrix.core.signature.judge import identifier

        return {identifier(name) for name in self.spec.signature.values} | {"culprit"}

    def _launch(self, path: KeyPath, launch: Any) -> None:
        if launch in ("", []) or (isinstance(launch, str) and not launch.strip()):
            what = path[1] if path[1] in ("launch", "build") else f'the launcher "{path[-1]}"'
            words = (
                "the words of a command" if what == "build" else "the words that start the program"
            )
            self.add(path, f"{what} is empty", expected=words)
        elif isinstance(launch, str):
            self._template(path, launch, {"here"})
        elif isinstance(launch, list):
            for index, word in enumerate(launch):
                self._template((*path, index), word, {"here"})

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

    def _name(self, index: int, name: Any, first: dict[str, int]) -> None:
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

    def _matrix(self, index: int, data: dict[str, Any], matrix: Matrix | None) -> None:
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
        for number, text in enumerate(data["where"] if isinstance(data.get("where"), list) else []):
            self._expression((*path, "where", number), text, own | {"here"})
        self._line(path, data.get("line"), own)
        self._around(path, data, known | CASE_NAMES)
        self._texts((*path, "files"), data.get("files"), known | CASE_NAMES)
        self._file_names((*path, "files"), data.get("files"))
        self._rules((*path, "expect"), data.get("expect"), known | CASE_NAMES)
        steps = data.get("steps")
        for number, step in enumerate(steps if isinstance(steps, list) else []):
            if isinstance(step, dict):
                where = (*path, "steps", number)
                self._line(where, step.get("line"), own)
                self._around(where, step, known | CASE_NAMES)
                self._rules((*where, "expect"), step.get("expect"), known | CASE_NAMES)

    def _around(self, path: KeyPath, data: dict[str, Any], known: set[str]) -> None:
        """Check the templates of what stands around a case."""
        for key in ("stdin", "env", "dialogue", "stop"):
            self._texts((*path, key), data.get(key), known)

    def _texts(self, path: KeyPath, value: Any, known: set[str]) -> None:
        """Check every text below a key, however deep, but for those that are no templates."""
        if isinstance(value, str):
            self._template(path, value, known)
        elif isinstance(value, dict):
            for key, each in value.items():
                if key not in ("mode", "bytes", "signal"):
                    self._texts((*path, key), each, known)
        elif isinstance(value, list):
            for number, each in enumerate(value):
                self._texts((*path, number), each, known)

    def _line(self, path: KeyPath, line: Any, axes: set[str]) -> None:
        if isinstance(line, str):
            try:
                fields = list(parse_line(line).fields())
            except NotationFault:
                return
            self._fields((*path, "line"), fields, axes | {"here"})
        elif isinstance(line, list):
            for index, word in enumerate(line):
                self._template((*path, "line", index), word, axes | {"here"})

    def _rules(self, path: KeyPath, rules: Any, known: set[str]) -> None:
        listed = list(enumerate(rules)) if isinstance(rules, list) else []
        for rule_path, rule in (
            [(path, rules)]
            if isinstance(rules, dict)
            else [((*path, at), each) for at, each in listed]
        ):
            for text_path, text, is_expression, inside in _rule_texts(rule_path, rule):
                if is_expression:
                    self._expression(text_path, text, known | inside)
                else:
                    self._template(text_path, text, known | inside)
            self._forms(rule_path, rule)

    def _forms(self, path: KeyPath, rule: Any) -> None:
        """Check what only makes sense beside something else in the same table."""
        streams = (
            {name: rule.get(name) for name in ("stdout", "stderr")}
            if isinstance(rule, dict)
            else {}
        )
        files = rule.get("files") if isinstance(rule, dict) else None
        tables = [((*path, name), table) for name, table in streams.items()]
        tables += (
            [((*path, "files", name), table) for name, table in files.items()]
            if isinstance(files, dict)
            else []
        )
        while tables:
            where, table = tables.pop()
            if not isinstance(table, dict):
                continue
            tables += tables_in(where, table)
            for key, needs in NEEDS.items():
                if key in table and not any(each in table for each in needs):
                    wanted = " or ".join(f'"{each}"' for each in needs)
                    self.add((*where, key), f'"{key}" is given without {wanted}', at_key=True)
            named = table.get("file")
            beside = (
                os.path.join(self.spec.here, named)
                if isinstance(named, str) and "{" not in named
                else None
            )
            if beside is None:
                continue
            look(beside)
            if not os.path.isfile(beside):
                self.add((*where, "file"), f"{named} does not exist beside the spec")

    def _expression(self, path: KeyPath, text: Any, known: set[str]) -> None:
        if not isinstance(text, str):
            return
        try:
            self._names(path, Expression(text), known, 0)
        except ExpressionFault:
            return

    def _template(self, path: KeyPath, text: Any, known: set[str]) -> None:
        if not isinstance(text, str):
            return
        try:
            parts = parse_template(text)
        except NotationFault:
            return
        self._fields(path, [part for part in parts if isinstance(part, Field)], known)

    def _fields(self, path: KeyPath, fields: list[Field], known: set[str]) -> None:
        for field in fields:
            try:
                self._names(path, Expression(field.source), known, field.span[0] + 1)
            except ExpressionFault:
                continue

    def _names(self, path: KeyPath, expression: Expression, known: set[str], offset: int) -> None:
        inside = path[1] if path[0] == "matrix" and isinstance(path[1], int) else None
        self.used.setdefault(inside, set()).update(expression.names)
        for name in sorted(expression.names - known):
            if (path, name) in self._told:  # once a text is enough
                continue
            self._told.add((path, name))
            if self.functions is not None and name in self.functions:
                continue
            at = offset + max(expression.source.find(name), 0)
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
                suggestion=hint,
                expected=expected,
            )
        if self.functions is None:
            return
        for name in sorted(called_functions(expression) - self.functions - LATER_FUNCTIONS):
            at = offset + max(expression.source.find(name), 0)
            hint = nearest(name, self.functions | LATER_FUNCTIONS)
            self.add(path, f'unknown function "{name}"', offset=at, suggestion=hint)

    def _file_names(self, path: KeyPath, files: Any) -> None:
        for name in files if isinstance(files, dict) else ():
            if leaves_directory(name):
                self.add((*path, name), f'"{name}" leads out of the case\'s directory', at_key=True,
                         expected="a path inside it")  # fmt: skip


def leaves_directory(name: str) -> bool:
    """Tell whether a file name of a spec points outside the directory it is meant for."""
    return (
        not name
        or os.path.isabs(name)
        or os.path.normpath(name).split(os.sep)[0] == ".."
        or "\0" in name
    )


def _table_texts(path: KeyPath, table: Any) -> Iterator[tuple[KeyPath, Any]]:
    if isinstance(table, dict):
        for key, value in table.items():
            yield (*path, key), value


def _rule_texts(path: KeyPath, rule: Any) -> Iterator[tuple[KeyPath, Any, bool, frozenset[str]]]:
    """Yield every text of a rule that may have fields in it: its key, whether it is an expression,
    names known only there."""
    none = frozenset[str]()
    if not isinstance(rule, dict):
        return
    if "when" in rule:
        yield (*path, "when"), rule["when"], True, none
    if isinstance(rule.get("exit"), str):
        yield (*path, "exit"), rule["exit"], False, none
    for name in ("alike", "differs"):
        if isinstance(rule.get(name), dict):
            yield from (
                (at, text, False, none)
                for at, text in _texts_of((*path, name, "line"), rule[name].get("line"))
            )
    tables = [((*path, name), rule.get(name)) for name in ("stdout", "stderr")]
    tables += list(_table_texts((*path, "files"), rule.get("files")))
    for table_path, table in tables:
        if isinstance(table, str):
            yield table_path, table, False, none
        elif isinstance(table, dict):
            yield from _table_fields(table_path, table)


def _table_fields(
    path: KeyPath, table: Mapping[str, Any]
) -> Iterator[tuple[KeyPath, Any, bool, frozenset[str]]]:
    """Yield the texts of one table of forms, and of the tables in it, as `_rule_texts` does."""
    none = frozenset[str]()
    yield from (
        (at, text, False, none) for at, text in _texts_of((*path, "link"), table.get("link"))
    )
    groups = _groups(table.get("matches"))
    for kind in FORMS.values():
        if kind.texts == "always" or (kind.texts == "template" and not table.get("literal")):
            yield from (
                (at, text, False, none)
                for at, text in _texts_of((*path, kind.key), table.get(kind.key))
            )
        elif kind.texts == "expression":
            yield from (
                (at, text, True, groups)
                for at, text in _texts_of((*path, kind.key), table.get(kind.key))
            )
    for where, inner in tables_in(path, table):
        if isinstance(inner, str):
            yield where, inner, False, none
        elif isinstance(inner, dict):
            yield from _table_fields(where, inner)


def tables_in(path: KeyPath, table: Mapping[str, Any]) -> Iterator[tuple[KeyPath, Any]]:
    """Yield the tables of forms, or texts in their place, that stand in `any`, `all` and `not` of
    a table."""
    for key in ("any", "all"):
        listed = table.get(key)
        yield from (
            ((*path, key, number), each)
            for number, each in enumerate(listed if isinstance(listed, list) else ())
        )
    if "not" in table:
        yield (*path, "not"), table["not"]


def _texts_of(path: KeyPath, value: Any) -> Iterator[tuple[KeyPath, str]]:
    """Yield a text, or each of a list of texts, with its place."""
    if isinstance(value, str):
        yield path, value
    elif isinstance(value, list):
        yield from (
            ((*path, number), each) for number, each in enumerate(value) if isinstance(each, str)
        )


def _groups(pattern: Any) -> frozenset[str]:
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


__all__ = ["CASE_NAMES", "Template", "cross_checks", "leaves_directory"]
