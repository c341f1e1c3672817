"""What is only seen with two places of a spec in view at once: names that are used and names that
are known."""

from __future__ import annotations

import os
from collections.abc import Collection, Set
from typing import Any, Unpack

from keen_matrix.core.errors import Problem, nearest
from keen_matrix.core.expressions import FUNCTIONS, called_functions
from keen_matrix.core.files import leaves_directory
from keen_matrix.core.launch.runners import BUILT, started_by
from keen_matrix.core.model.lookups import look
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.notation.nodes import Characters
from keen_matrix.core.spec.document.expectations import Expectations, ReferenceTable
from keen_matrix.core.spec.document.matrix import MatrixTable
from keen_matrix.core.spec.document.program import ProgramTable
from keen_matrix.core.spec.document.texts import placed_in
from keen_matrix.core.spec.document.whole import SpecDocument
from keen_matrix.core.spec.keys import KeyPath
from keen_matrix.core.spec.lint_texts import TextChecker
from keen_matrix.core.spec.source import Placing, Source
from keen_matrix.core.structs import replace

#: What Python calls the systems that a spec may be run on (its documentation, sys.platform).
PLATFORMS = (
    "linux",
    "darwin",
    "freebsd13",
    "freebsd14",
    "openbsd7",
    "netbsd10",
    "sunos5",
    "aix",
    "cygwin",
    "win32",
)
#: Values of an axis, or rows, up to which conditions are checked against them.
MOST_KNOWN_VALUES = 1_000
#: Names that an expression of a case can use beside axes and columns.
CASE_NAMES = frozenset({"words", "argc", "here", "case_id", "platform"})


def cross_checks(source: Source, document: SpecDocument, spec: Spec, *, deep: bool) -> list[Problem]:
    """Return the problems that come of several places taken together."""
    checker = _SpecChecker(source, spec)
    checker.program(document)
    checker.matrices()
    if deep and not any(each.severity == "error" for each in checker.problems):
        from keen_matrix.core.spec.lint_matrices import NEVER_MET, deep_problems

        deeper = deep_problems(spec, source, checker.oracle, checker.texts.used)
        told = [line for each in checker.problems for line in each.excerpt]
        # A condition that compares with what never comes has its warning already.
        return [
            *checker.problems,
            *(
                each
                for each in deeper
                if not each.message.startswith(NEVER_MET)
                or not any(each.message.removeprefix(NEVER_MET) in line for line in told)
            ),
        ]
    return checker.problems


class _SpecChecker:
    """Walks the raw data beside the compiled spec, so that every problem gets the place where it
    is written."""

    def __init__(self, source: Source, spec: Spec) -> None:
        self.source, self.spec = source, spec
        self.problems: list[Problem] = []
        self.texts = TextChecker(source, self.problems)
        self.families = {matrix.name for matrix in spec.matrices if matrix.family}
        #: Names of the functions of the oracle file, which is never run here.
        self.oracle: frozenset[str] = frozenset()

    def add(self, path: KeyPath, message: str, **more: Unpack[Placing]) -> None:
        self.problems.append(self.source.problem(path, message, **more))

    def program(self, document: SpecDocument) -> None:
        """Check what is outside the matrices."""
        if not isinstance(self.source.data.get("program"), dict):
            return
        if self.spec.program.oracle is not None:
            self._oracle(self.spec.program.oracle)
        self._runner()
        outside = self._all_names() | CASE_NAMES
        words = [self._known_words(each) for each in self.spec.matrices if not each.family]
        self.texts.values = {"platform": PLATFORMS}
        if self.spec.signature is not None and None not in words:
            self.texts.words = self._option_words().union(*(each or () for each in words))
        for key, model, known in (
            ("program", ProgramTable, outside),
            ("reference", ReferenceTable, frozenset[str]()),
            ("expect", Expectations, outside),
        ):
            self.texts.check(placed_in(model, (key,), self.source.data.get(key)), known)
        self.texts.check(placed_in(SpecDocument, (), {"files": self.source.data.get("files")}), outside)
        self._file_names(("files",), self.source.data.get("files"))
        self._refusal(self.source.data.get("refusal"), document, outside | {"culprit"})
        self._signature(self.source.data.get("signature"))

    def _runner(self) -> None:
        """Warn of a program that is started through a runner: what the runner prints and how it
        exits is not the program's."""
        if self.spec.program.build or any(each.constant is None for each in self.spec.program.launch):
            return
        words = [each.constant or "" for each in self.spec.program.launch]
        out = os.path.join(self.spec.here, BUILT)
        found = started_by(words, self.spec.here, out, may_ask=False)
        if not found.runner or found.is_through:
            return
        from keen_matrix.core.spec.program_text import program_lines

        direct = replace(found, launch=(*found.launch, *found.given))
        warning = self.source.warning(
            ("program", "launch"),
            f"{found.runner} is a runner, which a run passes by; say how the program is built and started",
            expected="   ".join(program_lines(direct, self.spec.here)),
        )
        self.problems.append(warning)

    def _refusal(self, data: Any, document: SpecDocument, known: Set[str]) -> None:
        """Check [refusal] and its kinds."""
        if not isinstance(data, dict):
            return
        from keen_matrix.core.spec.document.signature import RefusalTable

        self.texts.check(placed_in(RefusalTable, ("refusal",), data), known)
        # A [signature] with a mistake in it is not there to be read, but its mistake is reported
        # already: what would only follow from it is not.
        mistaken = document.signature is None and "signature" in self.source.data
        if document.signature is None and not mistaken:
            self.add(
                ("refusal",), "[refusal] needs a [signature], which says what must be refused", at_key=True
            )
        from keen_matrix.core.signature.kinds import KINDS

        own = {each.kind for each in document.signature.refuse} if document.signature else set()
        keys = {field.alias or name for name, field in RefusalTable.model_fields.items()}
        for key, value in data.items():
            if key in keys:
                continue
            if isinstance(value, dict) and key not in {*KINDS, *own}:
                if mistaken:
                    continue
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
        from keen_matrix.core.spec.document.signature import SignatureTable

        known = {identifier(name) for name in signature.values} | {"words", "argc"}
        self.texts.check(placed_in(SignatureTable, ("signature",), data), known)
        for name, kind in signature.values.items():
            if isinstance(kind, Existing) and kind.closed and not kind.legal():
                message = f"{name} is a {kind.type} that must exist, but the spec provides none"
                found = self.source.warning(
                    ("signature", "values", name),
                    message,
                    at_key=True,
                    expected='[files] with one, or type = "path"',
                )
                self.problems.append(found)
        asks = any(called_functions(each) & self.oracle for each in signature.conditions)
        if not asks and not any(builder.smallest() for builder in builders(signature)):
            reason = signature.judge(builders(signature)[0].plain((), full=False).words()).reasons[-1:]
            self.add(
                ("signature",),
                "no call can be made that this signature accepts",
                at_key=True,
                expected=f"examples that are legal ({'; '.join(reason)})",
            )

    def _all_names(self) -> set[str]:
        """Return the axes and columns of all matrices: what is outside of them may be written
        for any."""
        names = {name for matrix in self.spec.matrices for name in (*matrix.axes, *matrix.columns)}
        for data in self.source.data["matrix"] if isinstance(self.source.data.get("matrix"), list) else []:
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
            self.add(("program", "oracle"), f"the oracle file {os.path.basename(path)} does not exist")
            self.texts.functions = None
            return
        try:
            found = oracle_names(path)
            self.oracle = found.names
            self.texts.functions = None if found.open else set(FUNCTIONS) | found.names
        except RunFault as fault:
            self.add(("program", "oracle"), str(fault))
            self.texts.functions = None

    def matrices(self) -> None:
        """Check every matrix, and that no two have the same name."""
        raw = self.source.data.get("matrix")
        if "matrix" not in self.source.data and "signature" not in self.source.data:
            message = "the spec has no cases yet: it has neither a [[matrix]] nor a [signature]"
            self.problems.append(Problem(path=self.source.path, message=message, severity="warning"))
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
            expected = f"another name; the first one is in line {line}"
            self.add(("matrix", index, "name"), f'two matrices are named "{name}"', expected=expected)
        first.setdefault(name, index)
        if name in self.families:
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
                self.add(
                    (*path, "axes", name),
                    f'"{name}" cannot be used in expressions',
                    at_key=True,
                    expected="letters, digits and _",
                )
            if name in columns:
                self.add(
                    (*path, "axes", name),
                    f'"{name}" is an axis and a column',
                    at_key=True,
                    expected="one of the two",
                )
        own = {*axes, *(each for each in columns if isinstance(each, str))}
        self.texts.values = self._known_values(matrix)
        self.texts.words = self._known_words(matrix)
        known = own | self._signature_names()
        if isinstance(data.get("rows"), (str, dict)) and (matrix is None or not matrix.rows):
            return  # the columns of a CSV file are not known, so neither is what names may be used
        self.texts.check(placed_in(MatrixTable, path, data), known | CASE_NAMES, own | {"here"})
        self._file_names((*path, "files"), data.get("files"))
        self._steps(path, matrix)

    def _steps(self, path: KeyPath, matrix: Matrix | None) -> None:
        """Refuse steps of which none starts the program under test."""
        if matrix is not None and matrix.steps and all(step.is_other for step in matrix.steps):
            self.add(
                (*path, "steps"),
                "no step starts the program under test, so nothing about it would be checked",
                at_key=True,
                expected="a step without launch",
            )

    def _known_values(self, matrix: Matrix | None) -> dict[str, Collection[object]]:
        """Return what the names of a matrix can be: its axes and columns, NAMEs with choices."""
        known: dict[str, Collection[object]] = {"platform": PLATFORMS}
        if self.spec.signature is not None:
            from keen_matrix.core.signature.judging.binding import identifier
            from keen_matrix.core.signature.values import OneOf

            known |= {
                identifier(name): kind.of
                for name, kind in self.spec.signature.values.items()
                if isinstance(kind, OneOf) and not (kind.ignore_case or kind.open)
            }
        if matrix is None:
            return known
        for name, values in matrix.axes.items():
            listed = isinstance(values, (list, tuple)) and len(values) <= MOST_KNOWN_VALUES
            known.pop(name, None)
            if listed:
                known[name] = values
        for at, name in enumerate(matrix.columns):
            known.pop(name, None)
            if len(matrix.rows) <= MOST_KNOWN_VALUES:
                known[name] = [row[at] for row in matrix.rows]
        return known

    def _option_words(self) -> set[str]:
        """Return every spelling of an option of the signature."""
        options = self.spec.signature.options if self.spec.signature is not None else ()
        return {text for option in options for text in option.spellings}

    def _known_words(self, matrix: Matrix | None) -> Collection[str] | None:
        """Return the words that vectors of a matrix can have, as `given` asks for them; None where
        they are not known beforehand."""
        if matrix is None:
            return None
        words = self._option_words()
        for word in matrix.line.words():
            literal = word.literal
            if literal is not None:
                words |= {literal, literal.partition("=")[0]}
            elif isinstance(word.parts[0], Characters):
                words.add(word.parts[0].text.partition("=")[0])
            else:
                return None  # a value of an axis may be any word
        return words

    def _file_names(self, path: KeyPath, files: object) -> None:
        for name in files if isinstance(files, dict) else ():
            if leaves_directory(name):
                self.add(
                    (*path, name),
                    f'"{name}" leads out of the case\'s directory',
                    at_key=True,
                    expected="a path inside it",
                )


__all__ = ["CASE_NAMES", "cross_checks"]
