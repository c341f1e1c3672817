"""Asking the expectations of a case again, of an outcome that was recorded, without launching
anything."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from keen_matrix.core.expect.alike import compare
from keen_matrix.core.expect.cascade import Judged
from keen_matrix.core.expect.checking import CaseChecker
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.recording import outcome_of
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.record import Record, StepRecord
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.oracle import named_functions
from keen_matrix.core.vectors.unfold import unfold_matrix


class Rechecker:
    """The expectations of a spec, ready to be asked again; nothing is launched and no command is
    run."""

    def __init__(self, spec: Spec) -> None:
        self._cases = CaseChecker(spec, named_functions(spec.program.oracle), runs_commands=False)
        self.begin, self.chosen, self.masked = (self._cases.begin, self._cases.chosen, self._cases.masked)

    def holds(self, case: Case, context: CheckContext, outcome: Outcome, others: Sequence[Outcome]) -> bool:
        """Tell whether a case would pass with this outcome of its first launch, and `others` of
        further ones."""
        judged = self._cases.judge(case, context, outcome)
        if judged.verdict not in ("passed", "unchecked"):
            return False
        if case.relation is None or not others:
            return True
        nothing = Judged(verdict="passed", aspects=())
        launches = [((), each, nothing) for each in (self.masked(case, outcome), *others)]
        return all(result.met for _, result in compare(case.relation, launches))


def recorded_cases(
    spec: Spec, records: Mapping[str, Record]
) -> Iterator[tuple[Matrix, Case, Record, list[Outcome]]]:
    """Yield the cases of a spec that were recorded, with their records and the outcomes of their
    launches."""
    for matrix in spec.matrices:
        for case in unfold_matrix(spec, matrix):
            fields = records.get(case.id)
            if fields is not None and fields.matrix == matrix.name:
                launches: Sequence[StepRecord | Record] = fields.steps or [fields]
                yield matrix, case, fields, [outcome_of(each) for each in launches]
