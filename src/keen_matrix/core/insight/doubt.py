"""Doubt: outcomes that held are altered on purpose, and the expectations asked again. What none of
them notices is a doubt."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expect.aspects import Aspect, FileAspect, StreamAspect
from keen_matrix.core.expect.cascade import Chosen
from keen_matrix.core.expect.forms import Form
from keen_matrix.core.expressions import Scope
from keen_matrix.core.insight.alterations import Altered, Context, alterations
from keen_matrix.core.insight.checking import Checker, recorded_cases
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.record import Record
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.structs import Struct, field

MOST_MESSAGES = 40
"""Messages of other refusals that are kept to be exchanged."""


class Weakness(Struct):
    """What one rule, or the want of one, leaves open on one aspect."""

    matrix: str
    aspect: str
    rule: str
    """Place of the rule; of the matrix when no rule looks at the aspect."""
    named: bool
    """Whether a rule looks at the aspect at all."""
    cases: set[str] = field(default_factory=set)
    alterations: dict[str, str] = field(default_factory=dict)
    """What went unnoticed → the id of a case in which it did."""
    closing: str = ""
    """The expectation that would notice."""


class Score(Struct):
    """How many alterations of a matrix, or of an aspect of it, were noticed."""

    noticed: int = 0
    tried: int = 0

    @property
    def percent(self) -> float | None:
        """The part that was noticed, in percent; None when nothing was tried, which proves
        nothing."""
        return 100.0 * self.noticed / self.tried if self.tried else None


class Doubts(Struct):
    """Everything that was found."""

    weaknesses: dict[tuple[str, str, str], Weakness] = field(default_factory=dict)
    scores: dict[str, dict[str, Score]] = field(default_factory=dict)
    """Matrix → aspect → score."""
    by_case: dict[str, int] = field(default_factory=dict)

    def of(self, matrix: str) -> Score:
        """Return the score of a whole matrix."""
        parts = self.scores.get(matrix, {}).values()
        return Score(sum(each.noticed for each in parts), sum(each.tried for each in parts))

    @property
    def whole(self) -> Score:
        """The score of the spec."""
        parts = [self.of(matrix) for matrix in self.scores]
        return Score(sum(each.noticed for each in parts), sum(each.tried for each in parts))


def doubts_of(spec: Spec, records: Mapping[str, Record]) -> Doubts:
    """Return what the expectations of a spec leave open, by the recorded outcomes of its cases
    that held. Nothing is launched."""
    found = Doubts()
    checker = Checker(spec)
    messages = _messages(records)
    words = [template.constant or "" for template in spec.program.launch]
    program = os.path.splitext(os.path.basename(words[-1] if words else ""))[0]
    for template in spec.program.launch:
        if template.source == "" and template.constant is None:
            program = os.path.splitext(
                os.path.basename(template.render(Scope({"here": spec.here})))
            )[0]
    about = _Program(program, messages)
    for matrix, case, fields, outcomes in recorded_cases(spec, records):
        # What did not hold shows already that something is noticed; of several steps it is not
        # known which one an expectation is about.
        if fields.verdict == "held" and (case.relation is not None or len(outcomes) == 1):
            _doubt(found, checker, matrix, case, outcomes, about)
    return found


def _messages(records: Mapping[str, Record]) -> list[bytes]:
    """Return a message of each kind of refusal; by the order of ids, since that of a journal is
    how cases happened to end."""
    kinds: dict[str, bytes] = {}
    for _, fields in sorted(records.items()):
        if fields.judgement == "refused" and fields.stderr and len(kinds) < MOST_MESSAGES:
            kinds.setdefault(str(fields.kind), fields.stderr.encode())
    return list(kinds.values())


class _Program(Struct, frozen=True):
    """What is known of the program from the whole run."""

    name: str
    messages: list[bytes]
    """A message of each kind of refusal."""


def _doubt(
    found: Doubts,
    checker: Checker,
    matrix: Matrix,
    case: Case,
    outcomes: list[Outcome],
    about: _Program,
) -> None:
    context = checker.begin(case)
    try:
        chosen = checker.chosen(case, context)
    except ExpressionFault:
        return
    outcome, others = outcomes[0], outcomes[1:]
    if not checker.holds(case, context, outcome, others):
        return  # the spec has changed since, or something varies: it says nothing about alterations
    # A refusal with another refusal's message is the mistake that people really make.
    others_say = [each for each in about.messages if each != outcome.stderr]
    kinds = Context(messages=others_say, program=about.name, timed="duration" in chosen)
    for altered in alterations(outcome, kinds):
        # What a spec forgives on purpose is no doubt.
        if _is_allowed(checker, case, chosen, outcome, altered):
            continue
        score = found.scores.setdefault(matrix.name, {}).setdefault(
            altered.aspect.split(".")[0], Score()
        )
        score.tried += 1
        if checker.holds(case, context, altered.outcome, others):
            _add(found, matrix, case, chosen, outcome, altered)
        else:
            score.noticed += 1


def _is_allowed(
    checker: Checker, case: Case, chosen: Mapping[str, Chosen], outcome: Outcome, altered: Altered
) -> bool:
    """Tell whether a spec says that such a difference does not matter: a mask, a tolerance, any
    order, a value of JSON."""
    before, after = checker.masked(case, outcome), checker.masked(case, altered.outcome)
    if altered.aspect in ("stdout", "stderr") and (before.stdout, before.stderr) == (
        after.stdout,
        after.stderr,
    ):
        return True
    each = chosen.get(altered.aspect)
    return each is not None and any(form.forgives(altered.what) for form in _forms(each.aspect))


def _forms(aspect: Aspect) -> Iterator[Form]:
    if isinstance(aspect, (StreamAspect, FileAspect)):
        yield from aspect.forms


def _add(
    found: Doubts,
    matrix: Matrix,
    case: Case,
    chosen: Mapping[str, Chosen],
    outcome: Outcome,
    altered: Altered,
) -> None:
    each = chosen.get(altered.aspect)
    origin = each.origin if each else matrix.origin
    key = (matrix.name, altered.aspect, origin)
    weakness = found.weaknesses.get(key)
    if weakness is None:
        weakness = found.weaknesses[key] = Weakness(
            matrix.name, altered.aspect, origin, each is not None
        )
        weakness.closing = closing_line(altered.aspect, outcome)
    weakness.cases.add(case.id)
    weakness.alterations.setdefault(altered.what, case.id)
    found.by_case[case.id] = found.by_case.get(case.id, 0) + 1


LONGEST_LINE = 120
"""Characters of a line that is worth pasting into a spec; a longer output is better recorded."""


def closing_line(aspect: str, outcome: Outcome) -> str:
    """Return the line of a spec that would demand what an outcome was."""
    if aspect == "exit":
        return f"expect.exit = {outcome.exit}"
    if aspect == "duration":
        return f'expect.duration = "< {max(0.01, outcome.seconds * 1.5):.2g} s"'
    if aspect == "other-files":
        return 'expect.other-files = "none"'
    if aspect.startswith("files."):
        name = aspect.removeprefix("files.")
        found = outcome.looked_at[name]
        return f'expect.files."{name}" = {{ is = {_quoted(found.content)}, mode = "{found.mode}" }}'
    raw: bytes = getattr(outcome, aspect)
    line = f"expect.{aspect} = {_quoted(raw)}"
    return line if len(line) <= LONGEST_LINE else f"expect.{aspect}.baseline = true"


def _quoted(raw: bytes) -> str:
    import json

    text = raw.decode("utf-8", "backslashreplace").replace("{", "{{").replace("}", "}}")
    return json.dumps(text, ensure_ascii=False)
