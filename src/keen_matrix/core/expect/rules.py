"""Which rules a launch of a case must satisfy: by what the signature says of its vector, then its
matrix's and its step's."""

from __future__ import annotations

from typing import TypeAlias

from keen_matrix.core.expect.aspects import CrashAspect, ExitAspect
from keen_matrix.core.expect.exits import ExitExpectation, parse_exit
from keen_matrix.core.model.case import Case, Standing
from keen_matrix.core.model.spec import Matrix, Rule, Spec, Step
from keen_matrix.core.signature.kinds import END_OF_INPUT

_MAY_CRASH = Rule(when=None, aspects={"crash": CrashAspect(True)}, origins={"crash": ""})

#: What a step that starts another program must do at least.
_ENDS_WELL = Rule(
    when=None, aspects={"exit": ExitAspect(ExitExpectation(parse_exit(0)))}, origins={"exit": ""}
)


def standing_at(case: Case, number: int) -> Standing | None:
    """Return what the signature says of the vector of one launch of a case."""
    return case.standings[min(number, len(case.standings) - 1)] if case.standings else None


def _accepts(matrix: Matrix, step: Step) -> bool:
    """Tell whether a matrix states on its own that its vectors are accepted: what it says stands
    over [refusal] as a whole, whatever the signature says of them."""
    for rule in (*step.rules[::-1], *matrix.rules[::-1]):
        aspect = rule.aspects.get("exit") if rule.when is None else None
        if isinstance(aspect, ExitAspect):
            return aspect.expectation.allowed == ((0, 0),)
    return False


#: What two launches must share to be judged by the same rules: the matrix, the number of the
#: launch, the kinds of a vector that must be refused and whether a library refuses it, whether it
#: asks for help in the family that is about that, and whether it is about the end of input. A plain
#: tuple, since one is made for every launch.
RulesKey: TypeAlias = tuple[int, int, tuple[str, ...] | None, bool, bool, bool]


def rules_key(case: Case, number: int) -> RulesKey:
    """Return what the rules of a launch depend on."""
    standing = standing_at(case, number)
    ended = case.kind == END_OF_INPUT
    if standing is None:
        return (case.matrix, number, None, False, False, ended)
    refused = standing.kinds if standing.status == "refused" else None
    helps = standing.help and case.family == "help"
    return (case.matrix, number, refused, standing.by_library, helps, ended)


def rules_for(spec: Spec, matrix: Matrix, case: Case, number: int) -> tuple[Rule, ...]:
    """Return the rules of a launch, from the most general to the most particular."""
    step = matrix.steps[number]
    if step.is_other:
        return (_ENDS_WELL, *step.rules)
    _, _, refused, by_library, helps, unanswered = rules_key(case, number)
    if helps:
        general = spec.help_rules
    elif case.family == "renamed":
        general = ()
    elif unanswered:  # what it does instead is up to it; that it may fail is another case's matter
        general = (_MAY_CRASH,)
    elif case.family == "elsewhere" and number:
        # compared with the launch before it; one that cannot write may well end with a traceback
        general = (_MAY_CRASH,)
    elif refused is None or spec.refusal is None or (not matrix.family and _accepts(matrix, step)):
        general = (*spec.rules, *spec.tidy_rules) if case.family == "accepted" else spec.rules
    else:
        rules, kinds = spec.refusal, spec.refusal.kinds
        library = (rules.library,) if by_library and rules.library is not None else ()
        own = (kinds[kind] for kind in refused if kind in kinds)
        general = (rules.promise, *library, rules.general, *own)
    return (*general, *matrix.rules, *step.rules)
