"""Rules that apply to no case, though they are there: what they ask is never checked."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expect.rules import rules_for, rules_key, standing_at
from keen_matrix.core.expressions import Expression, called_functions
from keen_matrix.core.model.case import Case, case_scope
from keen_matrix.core.model.spec import Matrix, Rule, Spec


def applies(when: Expression, case: Case, number: int, here: str) -> bool:
    """Tell whether a condition is true of a launch of a case; one that calls the oracle is not to
    be asked. One that fails, which is reported elsewhere, counts as true."""
    argv = (case.argv, *case.more)[number]
    scope = case_scope(case.named, argv, case.id, here, {}, standing_at(case, number))
    try:
        return bool(when.evaluate(scope))
    except ExpressionFault:
        return True


class RuleUse:
    """Which of a spec's conditional rules have applied to some case so far.

    A rule is known by the object that it was compiled to. Conditions that call a function of the
    oracle are taken to apply, since the oracle is not run here."""

    def __init__(self, spec: Spec, oracle: frozenset[str] = frozenset()) -> None:
        self._spec = spec
        self._waiting = {
            id(rule): rule
            for rule in _conditional(spec)
            if rule.when is not None and not called_functions(rule.when) & oracle
        }
        self._rules: dict[tuple[object, ...], list[Rule]] = {}

    def waits_for(self, matrix: Matrix) -> bool:
        """Tell whether a case of a matrix could still show a rule to apply."""
        own = {id(rule) for rule in _of_matrix(matrix)}
        # What is outside the matrices may apply to a case of any.
        return any(each in own for each in self._waiting) or any(
            id(rule) in self._waiting for rule in _of_spec(self._spec)
        )

    def add(self, matrix: Matrix, case: Case) -> None:
        """Take note of the rules that apply to a case."""
        count = 1 if case.relation is not None else len(matrix.steps)
        for number in range(min(count, 1 + len(case.more))):
            waiting = [each for each in self._rules_of(matrix, case, number) if id(each) in self._waiting]
            if not waiting:
                continue
            for rule in waiting:
                if rule.when is None or applies(rule.when, case, number, self._spec.here):
                    del self._waiting[id(rule)]

    def _rules_of(self, matrix: Matrix, case: Case, number: int) -> list[Rule]:
        key = (number, *rules_key(case, number), case.family)
        if key not in self._rules:
            rules = rules_for(self._spec, matrix, case, number)
            self._rules[key] = [rule for rule in rules if rule.when is not None]
        return self._rules[key]

    @property
    def idle(self) -> Mapping[str, str]:
        """The rules that have applied to none: place, `fare.matrix.toml:14` → condition."""
        return {
            next(iter(rule.origins.values()), ""): rule.when.source
            for rule in self._waiting.values()
            if rule.when is not None
        }


def _of_spec(spec: Spec) -> Iterable[Rule]:
    if spec.refusal is not None:
        yield spec.refusal.general
        yield from spec.refusal.kinds.values()
    yield from (*spec.rules, *spec.help_rules)


def _of_matrix(matrix: Matrix) -> Iterable[Rule]:
    return (*matrix.rules, *(rule for step in matrix.steps for rule in step.rules))


def _conditional(spec: Spec) -> Iterable[Rule]:
    every = [*_of_spec(spec), *(rule for each in spec.matrices for rule in _of_matrix(each))]
    return (rule for rule in every if rule.when is not None)
