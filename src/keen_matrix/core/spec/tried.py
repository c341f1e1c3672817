"""Expressions tried on the first vectors of each matrix: one that fails in all of them is a
mistake of the spec.

Told once, with its place, it is one problem; left to the run it would be a differing case for
every vector.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from itertools import islice
from typing import Any, TypeAlias

from keen_matrix.core.errors import ExpressionFault, Problem, SpecFault, caret_lines
from keen_matrix.core.expect.aspects import ExitAspect
from keen_matrix.core.expect.cascade import Cascade
from keen_matrix.core.expect.forms.conditions import HoldsForm
from keen_matrix.core.expect.forms.lines import LinesForm
from keen_matrix.core.expect.forms.text import ContainsForm
from keen_matrix.core.expressions import Expression, Scope, Template, called_functions, words_of
from keen_matrix.core.model.case import Case, case_scope
from keen_matrix.core.model.spec import REPLIES, Matrix, Rule, Spec
from keen_matrix.core.structs import Struct, field, field_names, replace

#: Vectors of a matrix that are tried: what fails in the first twenty is a slip in the spec, not a
#: property of a vector.
TRIED_VECTORS = 20
#: Time for all of a matrix's vectors.
TRY_SECONDS = 1.0
#: Axes above which the vectors that are tried are not those of the matrix, but of its axes.
WIDE = 100
Part: TypeAlias = "Template | Expression"


class _TriedPart(Struct):
    """The result of one expression: how often it was tried, how often it failed, and the first
    failure."""

    where: str
    tried: int = 0
    failed: int = 0
    fault: ExpressionFault | None = None


class _MatrixTrial(Struct):
    """The trial of one matrix. `oracle` names the functions that are not to be called."""

    oracle: frozenset[str]
    found: dict[int, _TriedPart] = field(default_factory=dict)
    #: What was tried: an object that is kept alive shares its identity with no other.
    keep: list[object] = field(default_factory=list)

    def attempt(self, part: Part, where: str, act: Callable[[], object]) -> None:
        """Try one expression or template, and count how it went."""
        expressions = [part] if isinstance(part, Expression) else list(part.expressions)
        if any(self.oracle & called_functions(each) for each in expressions):
            return
        entry = self.found.get(id(part))
        if entry is None:
            self.keep.append(part)
            entry = self.found[id(part)] = _TriedPart(where)
        entry.tried += 1
        try:
            act()
        except ExpressionFault as fault:
            entry.failed += 1
            entry.fault = entry.fault or fault
        except ValueError as error:  # the value of a template is of no use where it stands
            entry.failed += 1
            text = part.source if isinstance(part, Expression) else template_text(part)
            entry.fault = entry.fault or ExpressionFault(text, str(error))


def template_text(template: Template) -> str:
    """Return a template as it is in a spec, as far as it is known: its fields where it was cut
    out of a line."""
    return template.source or " ".join(each.source for each in template.expressions)


def mistaken_expressions(
    spec: Spec, oracle: frozenset[str], functions: Mapping[str, Callable[..., object]] | None = None
) -> list[Problem]:
    """Return a problem for each expression that fails in every vector on which it was tried.

    `oracle` are the names of the oracle file's functions: expressions that call one are not tried,
    since they may take long and ask for much. `functions` are these functions where unfolding may
    call them; without, no matrix is tried that needs them to be unfolded.
    """
    problems: dict[Problem, None] = {}
    for matrix in spec.matrices:
        if not _has_expressions(spec, matrix):
            continue
        trial = _MatrixTrial(oracle)
        # A careful reading may take a moment, and not as long as a run; of our own work, whatever
        # else the machine does.
        until = time.thread_time() + TRY_SECONDS
        faults: list[str | None] = []
        try:
            for case in islice(_cases(spec, matrix, functions, oracle), TRIED_VECTORS):
                faults.append(case.fault)
                _try_case(spec, matrix, case, trial)
                if time.thread_time() > until:
                    break
        except SpecFault:
            continue  # it cannot be combined, which is told elsewhere
        # One that fails for some values is a case's verdict; one that fails for all is a mistake.
        if faults and all(faults):
            problems[_problem(spec, matrix.origin, ExpressionFault("", ""), faults[0] or "")] = None
        for entry in trial.found.values():
            if entry.fault is not None and entry.failed == entry.tried:
                problems[_problem(spec, entry.where or matrix.origin, entry.fault)] = None
    return list(problems)


def _cases(
    spec: Spec, matrix: Matrix, functions: Mapping[str, Callable[..., object]] | None, oracle: frozenset[str]
) -> Iterator[Case]:
    from keen_matrix.core.vectors.combine import strength_of
    from keen_matrix.core.vectors.unfold import unfold_matrix

    # Reading a spec executes nothing, so what needs the user's own code is left to the run.
    if functions is None and oracle_called(matrix, oracle):
        return iter(())
    # The search for all pairs of a thousand axes takes seconds. Rows that have each value once are
    # vectors of the same kind, and there at once.
    if strength_of(matrix) is not None and len(matrix.axes) > WIDE:
        matrix = replace(matrix, combine="each", always=(), denser=())
    return unfold_matrix(spec, matrix, functions or {})


def oracle_called(matrix: Matrix, oracle: frozenset[str]) -> frozenset[str]:
    """Return the functions of an oracle, by their names, that unfolding a matrix calls."""
    return frozenset(name for each in _unfolding_parts(matrix) for name in called_functions(each)) & oracle


def _unfolding_parts(matrix: Matrix) -> Iterator[Expression]:
    """Yield the expressions that are evaluated while a matrix is unfolded."""
    yield from matrix.only_if
    yield from (Expression(each.source) for step in matrix.steps for each in step.line.fields())
    for template in (matrix.other.words or ()) if matrix.other else ():
        yield from template.expressions


def _has_expressions(spec: Spec, matrix: Matrix) -> bool:
    """Tell at once whether there is anything to try: most specs have constant expectations
    alone."""
    rules: Iterable[Any] = [
        *spec.rules,
        *matrix.rules,
        *(rule for step in matrix.steps for rule in step.rules),
    ]
    if matrix.family and spec.refusal is not None:
        rules = [*rules, spec.refusal.general, *spec.refusal.kinds.values()]
    around = [template for each in matrix.surroundings for _, template in each.templates]
    if any(True for step in matrix.steps for _ in step.line.fields()):
        return True
    return any(rule.when is not None for rule in rules) or any(
        isinstance(part, Expression) or part.constant is None
        for part in (*around, *templates_in([rule.aspects for rule in rules]))
    )


def _try_case(spec: Spec, matrix: Matrix, case: Case, trial: _MatrixTrial) -> None:
    from keen_matrix.core.expect.rules import rules_for, standing_at

    if case.fault is not None:
        return
    # Launches that are compared are of the first step alone.
    vectors = (case.argv, *(() if case.relation is not None else case.more))
    for number, argv in enumerate(vectors):
        scope = case_scope(case.named, argv, case.id, spec.here, {}, standing_at(case, number))
        compared = matrix.surroundings[1:] if case.relation is not None else ()
        around = (matrix.steps[number].surroundings, *compared)
        for name, template in (each for one in around for each in one.templates):
            if template.constant is None:
                # Of replies a list gives as many.
                filled = words_of if name == REPLIES else Template.render
                trial.attempt(template, "", partial(filled, template, scope))
        _try_rules(rules_for(spec, matrix, case, number), scope, trial)


def _try_rules(rules: Sequence[Rule], scope: Scope, trial: _MatrixTrial) -> None:
    """Try the conditions of rules, then the expectations that have the last word; others are never
    asked."""
    for rule in rules:
        if rule.when is not None:
            where = next(iter(rule.origins.values()), "")
            trial.attempt(rule.when, where, partial(rule.when.evaluate, scope))
    try:
        # Only what has the last word is asked in a run; an expectation that is replaced may be
        # wrong and harm nobody.
        chosen = Cascade(rules).chosen(scope)
    except ExpressionFault:
        return
    for aspect, where in chosen.values():
        if isinstance(aspect, ExitAspect):
            allowed = aspect.expectation.allowed
            if isinstance(allowed, Template):
                trial.attempt(allowed, where, partial(aspect.expectation.ranges, scope))
            continue
        spliced = {
            id(text)
            for each in _within([aspect])
            if isinstance(each, (ContainsForm, LinesForm))
            for text in each.texts
        }
        for part in templates_in([aspect]):
            if isinstance(part, Template) and part.constant is None:
                # Where a list of texts is asked for, a field alone may be a list.
                act = part.value if id(part) in spliced else part.render
                trial.attempt(part, where, partial(act, scope))


def templates_in(values: Iterable[Any]) -> Iterator[Part]:
    """Yield the templates and expressions in values, however deep they stand; not those of
    `holds`, which see a match."""
    return (each for each in _within(values) if isinstance(each, (Template, Expression)))


def _within(values: Iterable[Any]) -> Iterator[Any]:
    """Yield values and everything in them, however deep it stands."""
    stack = list(values)
    while stack:
        each = stack.pop()
        yield each
        if isinstance(each, (Template, Expression)):
            continue
        if isinstance(each, (list, tuple)):
            stack += each
        elif isinstance(each, Mapping):
            stack += each.values()
        elif not isinstance(each, HoldsForm):
            stack += [getattr(each, name) for name in field_names(each)]


def _problem(spec: Spec, where: str, fault: ExpressionFault, text: str = "") -> Problem:
    """Return the problem that a failing expression is, at its place in the spec as far as that can
    be found."""
    from keen_matrix.core.spec.source import read_source

    message = f"{text or fault}, in every case that was tried"
    text = read_source(spec.path).text
    if not fault.source:
        return Problem(path=spec.path, line=int(where.rpartition(":")[2] or 0), column=1, message=message)
    line = where.rpartition(":")[2]
    number = int(line) if line.isdecimal() else 0
    lines = text.split("\n")
    start = sum(len(each) + 1 for each in lines[: max(number - 1, 0)])
    # An expression is found by its text, from its rule on: what was compiled does not know its
    # column.
    at = text.find(fault.source, start)
    at = at if at >= 0 else text.find(fault.source)
    if at < 0:
        return Problem(path=spec.path, line=number, column=1 if number else 0, message=message)
    column = at - text.rfind("\n", 0, at)
    return Problem(
        path=spec.path,
        line=text.count("\n", 0, at) + 1,
        column=column,
        message=message,
        excerpt=caret_lines(text, at),
    )
