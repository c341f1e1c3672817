"""From a file to a compiled spec: reading, validating, compiling, with every problem collected on
the way."""

from __future__ import annotations

from functools import cache
from typing import Any

from pydantic import TypeAdapter, ValidationError

from keen_matrix.core.errors import Problem, SpecFault
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.spec.compiling.whole import INVALID, compiled
from keen_matrix.core.spec.document.expectations import Expectations, MaskTable, ReferenceTable
from keen_matrix.core.spec.document.matrix import CheckedMatrix
from keen_matrix.core.spec.document.program import ProgramTable
from keen_matrix.core.spec.document.whole import SpecDocument
from keen_matrix.core.spec.including import whole_source
from keen_matrix.core.spec.problems import problems_of
from keen_matrix.core.spec.source import Source


def load_spec(path: str, text: str | None = None) -> Spec:
    """Return the compiled spec of a file, or of a `text` that is to be in it. Raises SpecFault
    with every problem found, each with its place."""
    spec, problems = read_spec(path, text=text)
    errors = [problem for problem in problems if problem.severity == "error"]
    if errors or spec is None:
        raise SpecFault(errors)
    return spec


def read_spec(path: str, *, deep: bool = False, text: str | None = None) -> tuple[Spec | None, list[Problem]]:
    """Return the compiled spec (None when it has errors) and all problems, warnings included, in
    file order.

    `deep` also thinks the matrices through: clashing conditions, values that make no difference,
    sizes.
    """
    try:
        source = whole_source(path, text)
    except SpecFault as fault:
        return None, list(fault.problems)
    problems: list[Problem] = []
    document = _validated(source, problems)
    spec, found = compiled(source, document)
    from keen_matrix.core.spec.lint import cross_checks

    problems += found
    problems += cross_checks(source, document, spec, deep=deep and not problems)
    problems = sorted(
        dict.fromkeys(problems), key=lambda problem: (problem.line, problem.column, problem.message)
    )
    failed = any(problem.severity == "error" for problem in problems)
    return (None if failed else spec), problems


def _validated(source: Source, problems: list[Problem]) -> SpecDocument:
    """Return the document, with the parts left out that do not validate; what is wrong with them
    joins `problems`."""
    try:
        return SpecDocument.model_validate(source.data)
    except ValidationError as error:
        problems += problems_of(error, source)
    from keen_matrix.core.spec.document.signature import HelpTable, RefusalTable, SignatureTable

    data = dict(source.data)
    program = _part(ProgramTable, data.get("program")) or ProgramTable.model_construct(launch=["?"])
    expect = _part(Expectations, data.get("expect", {})) or Expectations()
    raw = data.get("matrix")
    matrices = [_part(CheckedMatrix, each) for each in raw] if isinstance(raw, list) else []
    checked = _part(SpecDocument, {"program": {"launch": "true"}, "files": data.get("files", {})})
    return SpecDocument.model_construct(
        program=program,
        expect=expect,
        refusal=_part(RefusalTable, data["refusal"]) if "refusal" in data else None,
        help=_part(HelpTable, data["help"]) if "help" in data else None,
        signature=_part(SignatureTable, data["signature"]) if "signature" in data else None,
        files=checked.files if checked else {},
        mask=[
            each for each in (_part(MaskTable, raw) for raw in _listed(data.get("mask"))) if each is not None
        ],
        reference=_part(ReferenceTable, data["reference"]) if "reference" in data else None,
        matrix=[each if each is not None else INVALID for each in matrices],
    )


def _listed(value: object) -> list[object]:
    return value if isinstance(value, list) else []


def _part(model: Any, data: object) -> Any:
    """Return what data of the type `model` (a model or an annotation) validates to; None when it
    does not."""
    try:
        return _adapter(model).validate_python(data)
    except ValidationError:
        return None


@cache
def _adapter(model: Any) -> Any:
    """Return what validates data of a type. One is made a type: of five thousand matrices, one of
    them wrong, making one for each would take minutes."""
    return TypeAdapter(model)
