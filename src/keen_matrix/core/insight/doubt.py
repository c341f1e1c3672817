"""Doubt: outcomes that passed are altered on purpose, and the expectations asked again. What none
of them notices is a doubt."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping

from keen_matrix.core.doing import doing
from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expect.aspects import Aspect, FileAspect, StreamAspect
from keen_matrix.core.expect.cascade import Chosen
from keen_matrix.core.expect.forms import Form
from keen_matrix.core.expressions import Scope
from keen_matrix.core.insight.alterations import Altered, Context, alterations
from keen_matrix.core.insight.checking import Rechecker, recorded_cases
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.record import Record
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.structs import Struct, field

#: Characters of an output up to which a line that demands it is looked for.
MOST_PROPOSED = 1 << 16
#: Messages of other refusals that are kept to be exchanged.
MOST_MESSAGES = 40


class Proposal:
    """The line of a spec that demands what some cases came to, and that all of them meet: as it
    stands, with their columns in braces where it is not the same in all, else as a baseline."""

    def __init__(self, aspect: str) -> None:
        self._aspect = aspect
        self._exits: set[int | None] = set()
        self._seconds = 0.0
        #: Candidates that every case so far meets: text and names of columns by turns.
        self._templates: list[tuple[str, ...]] | None = None
        self._mode = ""

    def add(self, case: Case, outcome: Outcome) -> None:
        """Take in what one more case came to."""
        self._exits.add(outcome.exit)
        self._seconds = max(self._seconds, outcome.seconds)
        raw = self._raw(outcome)
        if raw is None:
            return
        text = raw.decode("utf-8", "backslashreplace")
        values = {
            name: str(value)
            for name, value in case.named.items()
            if isinstance(value, (str, int))
            and not isinstance(value, bool)
            and value != ""
            and name.isidentifier()
        }
        if self._templates is None:
            # What is longer is not proposed as a line.
            short = len(text) <= MOST_PROPOSED
            self._templates = [(text,), _with_names(text, values)] if short else []
        self._templates = [each for each in self._templates if _filled(each, values) == text]

    def _raw(self, outcome: Outcome) -> bytes | None:
        if self._aspect in ("stdout", "stderr"):
            return bytes(getattr(outcome, self._aspect))
        if self._aspect.startswith("files."):
            found = outcome.looked_at[self._aspect.removeprefix("files.")]
            if self._mode not in ("", found.mode):
                self._mode = "differs"
            self._mode = self._mode or found.mode
            return found.content
        return None

    @property
    def line(self) -> str:
        """The line."""
        if self._aspect == "exit":
            exits = sorted(each for each in self._exits if each is not None)
            return f"expect.exit = {exits[0] if len(exits) == 1 else exits}"
        if self._aspect == "duration":
            return f'expect.duration = "< {max(0.01, self._seconds * 1.5):.2g} s"'
        if self._aspect == "other-files":
            return 'expect.other-files = "none"'
        kept = _quoted(self._templates[0]) if self._templates else None
        if self._aspect.startswith("files."):
            name = self._aspect.removeprefix("files.")
            content = f"is = {kept}" if kept is not None else "baseline = true"
            mode = "" if self._mode == "differs" else f', mode = "{self._mode}"'
            return f'expect.files."{name}" = {{ {content}{mode} }}'
        line = f"expect.{self._aspect} = {kept}"
        fits = kept is not None and len(line) <= LONGEST_LINE
        return line if fits else f"expect.{self._aspect}.baseline = true"


def _with_names(text: str, values: Mapping[str, str]) -> tuple[str, ...]:
    """Return a text split where the values of columns are in it, the longest first: text and
    names by turns."""
    parts = [text]
    for name, value in sorted(values.items(), key=lambda each: -len(each[1])):
        split: list[str] = []
        for number, part in enumerate(parts):
            if number % 2:
                split.append(part)
                continue
            head, *rest = part.split(value)
            split.append(head)
            for each in rest:
                split += [name, each]
        parts = split
    return tuple(parts)


def _filled(template: tuple[str, ...], values: Mapping[str, str]) -> str:
    return "".join(values.get(each, "") if number % 2 else each for number, each in enumerate(template))


class Weakness(Struct):
    """What one rule, or the want of one, leaves open on one aspect."""

    matrix: str
    aspect: str
    #: Place of the rule; of the matrix when no rule looks at the aspect.
    rule: str
    #: Whether a rule looks at the aspect at all.
    named: bool
    proposal: Proposal
    cases: set[str] = field(default_factory=set)
    #: What went unnoticed → the id of a case in which it did.
    alterations: dict[str, str] = field(default_factory=dict)

    @property
    def closing(self) -> str:
        """The expectation that would notice."""
        return self.proposal.line


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
    #: Matrix → aspect → score.
    scores: dict[str, dict[str, Score]] = field(default_factory=dict)
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
    that passed. Nothing is launched."""
    found = Doubts()
    checker = Rechecker(spec)
    messages = _messages(records)
    words = [template.constant or "" for template in spec.program.launch]
    program = os.path.splitext(os.path.basename(words[-1] if words else ""))[0]
    for template in spec.program.launch:
        if template.source == "" and template.constant is None:
            program = os.path.splitext(os.path.basename(template.render(Scope({"here": spec.here}))))[0]
    about = _ProgramMessages(program, messages)
    with doing(f"altering the results of {os.path.basename(spec.path)}") as so_far:
        for number, (matrix, case, fields, outcomes) in enumerate(recorded_cases(spec, records)):
            so_far.told(f"{number} of {len(records)} cases")
            # What failed shows already that something is noticed; of several steps it is not
            # known which one an expectation is about.
            if fields.verdict == "passed" and (case.relation is not None or len(outcomes) == 1):
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


class _ProgramMessages(Struct, frozen=True):
    """What is known of the program from the whole run."""

    name: str
    #: A message of each kind of refusal.
    messages: list[bytes]


def _doubt(
    found: Doubts,
    checker: Rechecker,
    matrix: Matrix,
    case: Case,
    outcomes: list[Outcome],
    about: _ProgramMessages,
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
        score = found.scores.setdefault(matrix.name, {}).setdefault(altered.aspect.split(".")[0], Score())
        score.tried += 1
        if checker.holds(case, context, altered.outcome, others):
            _add(found, matrix, case, chosen, outcome, altered)
        else:
            score.noticed += 1


def _is_allowed(
    checker: Rechecker, case: Case, chosen: Mapping[str, Chosen], outcome: Outcome, altered: Altered
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
            matrix.name, altered.aspect, origin, each is not None, Proposal(altered.aspect)
        )
    if case.id not in weakness.cases:
        weakness.cases.add(case.id)
        weakness.proposal.add(case, outcome)
    weakness.alterations.setdefault(altered.what, case.id)
    found.by_case[case.id] = found.by_case.get(case.id, 0) + 1


#: Characters of a line that is worth pasting into a spec; a longer output is better recorded.
LONGEST_LINE = 120


def _quoted(template: tuple[str, ...]) -> str:
    import json

    text = "".join(
        f"{{{each}}}" if number % 2 else each.replace("{", "{{").replace("}", "}}")
        for number, each in enumerate(template)
    )
    return json.dumps(text, ensure_ascii=False)
