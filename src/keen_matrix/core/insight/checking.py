"""Asking the expectations of a case again, of an outcome that was recorded, without launching anything."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from keen_matrix.core.expect.alike import compare
from keen_matrix.core.expect.baselines import baseline_path
from keen_matrix.core.expect.cascade import Cascade, Chosen, Judged
from keen_matrix.core.expect.forms.baseline import BASELINE
from keen_matrix.core.expect.forms.reference import OUTPUTS
from keen_matrix.core.expect.masks import MASKS, USED, mask
from keen_matrix.core.expect.recording import outcome_of
from keen_matrix.core.expressions import Scope
from keen_matrix.core.launch.rules import rules_for, rules_key, standing_at
from keen_matrix.core.model.case import Case, case_scope
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.record import Record, StepRecord
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.oracle import OncePerCase, named_functions
from keen_matrix.core.vectors.unfold import unfold_matrix


class Checker:
    """The expectations of a spec, ready to be asked."""

    def __init__(self, spec: Spec) -> None:
        self.spec = spec
        self.functions = {
            name: OncePerCase(function) for name, function in named_functions(spec.program.oracle).items()
        }
        self._cascades: dict[tuple[object, ...], Cascade] = {}

    def begin(self, matrix: Matrix, case: Case) -> Scope:
        """Return the scope of a case; answers of the oracle are kept until the next one begins.

        Commands that expectations name are not run: what they printed is taken from the first outcome that is checked.
        """
        for function in self.functions.values():
            function.forget()
        scope = case_scope(case.values, case.argv, case.id, self.spec.here, self.functions, standing_at(case, 0))
        assert isinstance(scope.names, dict)
        if matrix.masks:
            scope.names[MASKS], scope.names[USED] = matrix.masks, set()
        scope.names[OUTPUTS] = {}
        scope.names[BASELINE] = (baseline_path(self.spec.path, matrix.name), case.id)
        return scope

    def cascade(self, matrix: Matrix, case: Case) -> Cascade:
        """Return the rules of the first launch of a case."""
        key = rules_key(case, 0)
        if key not in self._cascades:
            self._cascades[key] = Cascade(rules_for(self.spec, matrix, case, 0))
        return self._cascades[key]

    def chosen(self, matrix: Matrix, case: Case, scope: Scope) -> Mapping[str, Chosen]:
        """Return the expectation that has the last word on each aspect. Raises ExpressionFault."""
        return self.cascade(matrix, case).chosen(scope)

    def holds(self, matrix: Matrix, case: Case, scope: Scope, outcome: Outcome, others: Sequence[Outcome]) -> bool:
        """Tell whether a case would hold with this outcome of its first launch, and `others` of further ones."""
        masked = self.masked(matrix, outcome)
        timeout, cap = matrix.steps[0].surroundings.timeout, self.spec.program.output_cap
        judged = self.cascade(matrix, case).judge(masked, scope, timeout=timeout, cap=cap)
        if judged.verdict not in ("held", "unchecked"):
            return False
        if case.relation is None or not others:
            return True
        nothing = Judged(verdict="held", aspects=())
        launches = [((), each, nothing) for each in (outcome, *others)]
        return all(result.met for _, result in compare(case.relation, launches))

    def masked(self, matrix: Matrix, outcome: Outcome) -> Outcome:
        """Return an outcome as it is compared."""
        if not matrix.masks:
            return outcome
        found = {name: mask(getattr(outcome, name), matrix.masks, name).text for name in ("stdout", "stderr")}
        return replace(outcome, masked=found, **found)  # type: ignore[arg-type]


def recorded_cases(spec: Spec, records: Mapping[str, Record]) -> Iterator[tuple[Matrix, Case, Record, list[Outcome]]]:
    """Yield the cases of a spec that were recorded, with their records and the outcomes of their launches."""
    for matrix in spec.matrices:
        for case in unfold_matrix(spec, matrix):
            fields = records.get(case.id)
            if fields is not None and fields.matrix == matrix.name:
                launches: Sequence[StepRecord | Record] = fields.steps or [fields]
                yield matrix, case, fields, [outcome_of(each) for each in launches]
