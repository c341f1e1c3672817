"""The one checker of a case: its rules, what they may look at, and the verdict on a launch.

Workers ask it of what they launched, insight of outcomes that were recorded, `--why` for the rules
alone.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial

from keen_matrix.core.expect.baselines import baseline_path
from keen_matrix.core.expect.cascade import Cascade, Chosen, Judged
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.masks import mask
from keen_matrix.core.expect.rules import rules_for, rules_key, standing_at
from keen_matrix.core.expressions import Scope
from keen_matrix.core.model.case import Case, CaseScope, Standing, case_scope
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.oracle import OncePerCase
from keen_matrix.core.structs import replace

_NO_RULES = Cascade(())


class CaseChecker:
    """The expectations of a spec, ready to be asked.

    `functions` are those of its oracle file; an answer is remembered until the next launch begins.
    With `runs_commands` off the commands that expectations name are not run: what they print is
    taken from the first outcome that is checked.
    """

    def __init__(
        self, spec: Spec, functions: Mapping[str, Callable[..., object]], *, runs_commands: bool = True
    ) -> None:
        self.spec, self._runs_commands = spec, runs_commands
        self.functions = {name: OncePerCase(function) for name, function in functions.items()}
        self._matrices = {matrix.index: matrix for matrix in spec.matrices}
        self._baselines = {matrix.index: baseline_path(spec.path, matrix.name) for matrix in spec.matrices}
        self._others: Mapping[str, tuple[str, ...]] = {}
        if spec.signature is not None:
            from keen_matrix.core.expect.help import other_names

            self._others = other_names(spec.signature)
        self._cascades: dict[tuple[object, ...], Cascade] = {}

    def begin(self, case: Case, number: int = 0) -> CheckContext:
        """Return what the checks of one launch of a case may look at; launches are counted from
        0."""
        for function in self.functions.values():
            function.forget()
        argv = case.argv if number == 0 else case.more[number - 1]
        standing = standing_at(case, number)
        return CheckContext(
            scope=CaseScope(partial(self._scope, case, argv, number)),
            masks=self._matrices[case.matrix].masks,
            mentions=self._mentions(standing) if standing is not None else (),
            baselines=self._baselines[case.matrix],
            id=case.id,
            open_names=case.said.open_columns,
            outputs=None if self._runs_commands else {},
        )

    def _mentions(self, standing: Standing) -> tuple[str, ...]:
        """Return what a message may name, also as the program calls it."""
        names = standing.mentions
        others = self._others
        if others and not others.keys().isdisjoint(names):
            return (*names, *(told for each in names for told in others.get(each, ())))
        return names

    def _scope(self, case: Case, argv: tuple[str, ...], number: int) -> Scope:
        return case_scope(
            case.named, argv, case.id, self.spec.here, self.functions, standing_at(case, number)
        )

    def cascade(self, case: Case, number: int = 0) -> Cascade:
        """Return the rules for a launch of a case; launches that are only compared with the first
        have none."""
        if case.relation is not None and number:
            return _NO_RULES
        key = rules_key(case, number)
        found = self._cascades.get(key)
        if found is None:
            rules = rules_for(self.spec, self._matrices[case.matrix], case, number)
            found = self._cascades[key] = Cascade(rules)
        return found

    def chosen(self, case: Case, context: CheckContext, number: int = 0) -> Mapping[str, Chosen]:
        """Return the expectation that has the last word on each aspect. Raises ExpressionFault."""
        return self.cascade(case, number).chosen(context.scope)

    def judge(self, case: Case, context: CheckContext, outcome: Outcome, number: int = 0) -> Judged:
        """Return the verdict on a launch. Which masks found something is noted in the outcome."""
        return self.judge_by(self.cascade(case, number), case, context, outcome, number)

    def judge_by(
        self, cascade: Cascade, case: Case, context: CheckContext, outcome: Outcome, number: int
    ) -> Judged:
        """Return the verdict on a launch, whose rules are known."""
        matrix = self._matrices[case.matrix]
        steps = matrix.steps
        around = steps[0 if case.relation is not None else number].surroundings
        checked = self.masked(case, outcome)
        judged = cascade.judge(checked, context, timeout=around.timeout, cap=self.spec.program.output_cap)
        outcome.masks_used |= context.masks_used
        return judged

    def masked(self, case: Case, outcome: Outcome) -> Outcome:
        """Return an outcome as it is compared; what was masked is noted in the outcome itself.

        A mask that takes too long masks nothing: the comparison shows it.
        """
        masks = self._matrices[case.matrix].masks
        if not masks:
            return outcome
        try:
            found = {name: mask(getattr(outcome, name), masks, name) for name in ("stdout", "stderr")}
        except ValueError:
            return outcome
        outcome.masked = {name: each.text for name, each in found.items()}
        outcome.masks_used = frozenset().union(*(each.used for each in found.values()))
        return replace(
            outcome, stdout=found["stdout"].text, stderr=found["stderr"].text, masked=outcome.masked
        )
