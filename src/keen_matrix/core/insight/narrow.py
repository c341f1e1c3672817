"""Narrowing: a failing vector made as small as it can be while it fails in the same aspects for
the same reason.

1. In the space of its matrix: optional parts are left out, axes set to their simplest values.
2. Word by word ("Simplifying and isolating failure-inducing input", 2002): halves, smaller parts,
   single words; then simpler words.
3. Standard input and files, line by line.

An accepted vector stays accepted, and a refused one refused for the same kinds. Where what is
expected is a text written for these very words, other words would fail for another reason, so
steps 2 and 3 are left out.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import compress, islice
from typing import Any, TypeAlias

from keen_matrix.core.expect.rules import rules_for
from keen_matrix.core.experiments.minimal import minimal, minimal_of
from keen_matrix.core.expressions import FUNCTIONS, Template, as_text
from keen_matrix.core.model.case import Case, Standing, case_scope
from keen_matrix.core.model.record import Record
from keen_matrix.core.model.spec import Matrix, Put, Spec, Stdin
from keen_matrix.core.oracle import oracle_functions
from keen_matrix.core.signature.examples import steps_before
from keen_matrix.core.structs import Struct, field, field_names, replace
from keen_matrix.core.vectors.derived import standing_of
from keen_matrix.core.vectors.ids import case_id
from keen_matrix.core.vectors.unfold import CaseMaker

#: Aspects whose expectation is no text written for the words of a vector.
WORDLESS = frozenset({"crash", "exit", "timeout", "output", "leftovers", "signal", "dialogue", "meanwhile"})
Launcher: TypeAlias = "Callable[[Matrix, Sequence[Case]], Sequence[Record]]"


class NarrowStep(Struct):
    """A change that was kept."""

    what: str
    words: tuple[str, ...]


class Narrowed(Struct):
    """The smallest vector found, and how it was found."""

    case: Case
    matrix: Matrix
    fields: Record
    steps: list[NarrowStep] = field(default_factory=list)
    launches: int = 0
    #: Whether the limit of launches was reached before everything was tried.
    stopped: bool = False
    notes: list[str] = field(default_factory=list)


def failure_reason(fields: Record) -> tuple[Any, ...]:
    """Return what must stay the same for a failure to be the same: verdict, aspects, how the
    launch ended or crashed."""
    # Not the texts themselves: a smaller vector says the same in other words.
    failed = sorted({each.aspect for each in fields.aspects if not each.met})
    crash = next((str(each.actual).split(":")[:2] for each in fields.aspects if each.aspect == "crash"), None)
    # Exit codes too: a refusal by 2 and one by 3 are two refusals.
    ends = sorted(str(each.actual) for each in fields.aspects if each.aspect == "exit" and not each.met)
    return fields.verdict, tuple(failed), tuple(crash or ()), tuple(ends)


class Trials:
    """One case that failed, the smallest found so far that fails the same way, and what was tried.
    `launch` launches cases of a matrix and returns their records in order."""

    def __init__(self, spec: Spec, matrix: Matrix, case: Case, launch: Launcher, most: int) -> None:
        self.spec, self.launch, self.most = spec, launch, most
        #: How many launches go at a time.
        self.at_once = 1
        #: Called with how far it is, in words.
        self.told: Callable[[str], None] = lambda text: None
        self.words = len(case.argv)
        self.functions = oracle_functions(spec.program.oracle)
        fields = launch(matrix, [case])[0]
        self.found = Narrowed(case, matrix, fields, launches=1)
        self.reason = failure_reason(fields)
        self.known: dict[tuple[object, ...], bool] = {}

    def attempt(self, matrix: Matrix, candidates: Iterable[tuple[str, Case]]) -> bool:
        """Launch candidates, each with what is changed in it, until one fails the same way; tell
        whether there was one. Those that were tried before are not launched again.

        As many go at a time as can be launched at a time; of those that fail the same way the first
        is taken, whichever ends first."""
        # Lazily: of a thousand candidates often the first fails, and the others need not be made.
        fresh = (each for each in candidates if self._key(matrix, each[1]) not in self.known)
        while some := list(islice(fresh, self.at_once)):
            # The limit counts launches and not rounds, so the last round may be a part of one.
            some = some[: max(0, self.most - self.found.launches)]
            if not some:
                self.found.stopped = True
                return False
            self.found.launches += len(some)
            left = f"{len(self.found.case.argv)} of {self.words} words left"
            self.told(f"{self.found.launches} of {self.most} launches, {left}")
            records = self.launch(matrix, [case for _, case in some])
            same = [failure_reason(fields) == self.reason for fields in records]
            for (_, case), answer in zip(some, same, strict=True):
                self.known[self._key(matrix, case)] = answer
            if any(same):
                # The first in order, so that two runs with other jobs narrow to the same vector.
                (what, case), fields = next(compress(zip(some, records, strict=True), same))
                self.found.case, self.found.matrix, self.found.fields = case, matrix, fields
                self.found.steps.append(NarrowStep(what, case.argv))
                return True
        return False

    @staticmethod
    def _key(matrix: Matrix, case: Case) -> tuple[object, ...]:
        around = matrix.steps[0].surroundings
        stdin = around.stdin.text.source if around.stdin and around.stdin.text else None
        # What stands around the words is part of what was tried; the third step changes nothing
        # else.
        files = tuple((name.source, put.text.source if put.text else "") for name, put in around.files)
        return (
            case.argv,
            tuple(sorted((name, str(value)) for name, value in case.values.items())),
            stdin,
            files,
        )


def narrowed(trials: Trials) -> Narrowed:
    """Return the smallest vector that fails the same way."""
    found = trials.found
    if found.fields.verdict == "passed":
        found.notes.append("it passes now")
        return found
    # To leave a word out on one side alone compares two requests.
    if found.case.relation is not None and any(words != found.case.argv for words in found.case.more):
        found.notes.append("it is compared with other words, so it is left as it is")
        return found
    if not found.matrix.family and len(found.matrix.steps) == 1:
        _in_matrix(trials)
    if _may_change_words(trials):
        _words(trials)
    # A text on standard output is written for this input; with a shorter one it would differ for
    # another reason.
    if set(trials.reason[1]) <= WORDLESS:
        _surroundings(trials)
    return found


# --- 1. in the space of the matrix ---


def _in_matrix(trials: Trials) -> None:
    maker = CaseMaker(trials.spec, trials.found.matrix, trials.functions)
    row = _row(trials, maker)
    if row is None:
        return
    changed = True
    while changed and not trials.found.stopped:
        changed = False
        # Factor by factor and from the beginning again after each change: what could not go before
        # may go now.
        for number in range(len(row)):
            options = list(_simpler(trials, maker, row, number))
            name = maker.layout.factors[number].name
            rows = {case.id: other for other in options if _usable(trials, case := maker.case(tuple(other)))}
            tried = (
                (f"{name}: {_level_text(maker, number, other[number])}", maker.case(tuple(other)))
                for other in rows.values()
            )
            if trials.attempt(trials.found.matrix, tried):
                row, changed = list(rows[trials.found.case.id]), True


def _usable(trials: Trials, case: Case) -> bool:
    """Tell whether a case may be tried instead of the one that failed."""
    same = case.argv == trials.found.case.argv
    return case.fault is None and not same and _same_standing(trials, case)


def _row(trials: Trials, maker: CaseMaker) -> list[int] | None:
    """Return the levels of the case, or None when its values do not tell them."""
    row: list[int | None] = [None] * len(maker.layout.factors)
    for name, number in maker.layout.names.items():
        column, value = maker.layout.values[name], trials.found.case.values.get(name)
        # To look a value up in so long an axis takes longer than what narrowing gains.
        if len(column) > 100_000:
            return None
        at = next(
            (
                level
                for level in range(len(column))
                if column[level] == value and type(column[level]) is type(value)
            ),
            None,
        )
        if at is None:
            return None
        if row[number] is None:
            row[number] = at
    return None if any(level is None for level in row) else [level for level in row if level is not None]


def _simpler(trials: Trials, maker: CaseMaker, row: list[int], number: int) -> Iterator[list[int]]:
    """Yield rows in which one factor is simpler, the simplest first; what hangs on it is put
    right."""
    factor = maker.layout.factors[number]
    order = sorted(range(factor.levels), key=lambda level: _simplicity(_value(maker, number, level)))
    # Only simpler ones than it has: what is not simpler would send it round and round.
    for level in order[: order.index(row[number])] if row[number] in order else ():
        other = list(row)
        other[number] = level
        for at, each in enumerate(maker.layout.factors):
            if each.parents:
                there = any(other[group] == taken for group, taken in each.parents)
                # The part that the factor stands in is left out now, so it has the level that says
                # so; the other way round it gets its first.
                if not there:
                    other[at] = each.levels - 1
                elif other[at] == each.levels - 1:
                    other[at] = 0
        if all(constraint.allows(other) for constraint in maker.constraints):
            yield other


# --- 2. words ---


def _may_change_words(trials: Trials) -> bool:
    matrix = trials.found.matrix
    own = {*matrix.axes, *matrix.columns}
    used: set[str] = set()
    for rule in rules_for(trials.spec, matrix, trials.found.case, 0):
        used |= set(rule.when.names) if rule.when else set()
        used |= _names_in(rule.aspects.values())
    # The rules read the axes' values. With other words the same values would no longer be those of
    # the vector.
    if used & own:
        trials.found.notes.append(
            "the expectation was written for these axis values, so single words are not changed"
        )
        return False
    if trials.spec.signature is None and not set(trials.reason[1]) <= WORDLESS:
        trials.found.notes.append(
            "the expectation was written for these words, so single words are not changed"
        )
        return False
    return True


def _words(trials: Trials) -> None:
    def shorter(parts: Iterator[list[str]]) -> list[str] | None:
        return list(trials.found.case.argv) if _try_words(trials, "", parts) else None

    minimal_of(trials.found.case.argv, shorter)
    changed = True
    while changed and not trials.found.stopped:
        changed = False
        for at in range(len(trials.found.case.argv)):
            current = list(trials.found.case.argv)
            simpler = [[*current[:at], each, *current[at + 1 :]] for each in simpler_words(current[at])]
            if _try_words(trials, "a simpler word", simpler):
                changed = True
                break


def _try_words(trials: Trials, what: str, vectors: Iterable[Sequence[str]]) -> bool:
    """Try vectors of other words; what is done to the words is said, or that some are left out."""
    before = len(trials.found.case.argv)
    cases = (_case(trials, tuple(words)) for words in vectors)
    tried = (
        (what or _left_out(before - len(case.argv), "word"), case)
        for case in cases
        if _same_standing(trials, case)
    )
    return trials.attempt(trials.found.matrix, tried)


def _left_out(count: int, noun: str) -> str:
    return f"{count} {noun}{'s' if count > 1 else ''} left out"


def _case(trials: Trials, words: tuple[str, ...]) -> Case:
    old = trials.found.case
    standings, culprit = tuple[Standing, ...](), ""
    if trials.spec.signature is not None:
        standings = (standing_of(trials.spec.signature, words),)
        culprit = standings[0].culprit or old.culprit
    return Case(
        id=case_id((trials.found.matrix.name, *words)),
        matrix=old.matrix,
        argv=words,
        values=old.values,
        more=(words,) * len(old.more),
        before=steps_before(trials.spec.signature, words) if old.before and trials.spec.signature else (),
        relation=old.relation,
        family=old.family,
        kind=old.kind,
        detail=old.detail,
        standings=standings,
        culprit=culprit,
    )


def _same_standing(trials: Trials, case: Case) -> bool:
    """Tell whether the signature says the same of a vector as of the one that failed."""
    before, after = trials.found.case.standing, case.standing
    return (
        before is None
        or after is None
        or (before.status, before.kinds, before.help) == (after.status, after.kinds, after.help)
    )


# --- 3. standard input and files ---


def _surroundings(trials: Trials) -> None:
    around = trials.found.matrix.steps[0].surroundings
    if around.stdin is not None and around.stdin.text is not None:
        _shrink_text(
            trials,
            around.stdin.text,
            lambda text: replace(_around(trials), stdin=Stdin(text=Template(text, literal=True))),
            "standard input",
        )
    for number, (name, put) in enumerate(around.files):
        if put.text is not None:

            def with_file(text: str, number: int = number) -> object:
                files = list(_around(trials).files)
                files[number] = (
                    files[number][0],
                    Put(text=Template(text, literal=True), mode=files[number][1].mode),
                )
                return replace(_around(trials), files=tuple(files))

            _shrink_text(trials, put.text, with_file, name.source)


def _around(trials: Trials) -> Any:
    return trials.found.matrix.steps[0].surroundings


def _shrink_text(trials: Trials, template: Template, put: Callable[[str], Any], what: str) -> None:
    case = trials.found.case
    scope = case_scope(
        case.named, case.argv, case.id, trials.spec.here, trials.functions or FUNCTIONS, case.standing
    )
    lines = template.render(scope).splitlines(keepends=True)
    count = len(lines)

    def fails(kept: list[str]) -> bool:
        nonlocal count
        step = replace(trials.found.matrix.steps[0], surroundings=put("".join(kept)))
        changed = f"{what}: {_left_out(count - len(kept), 'line')}"
        matrix = replace(trials.found.matrix, steps=(step,))
        is_same = trials.attempt(matrix, [(changed, trials.found.case)])
        count = len(kept) if is_same else count
        return is_same

    if lines and not fails([]):
        minimal(lines, fails)


def _value(maker: CaseMaker, number: int, level: int) -> Any:
    factor = maker.layout.factors[number]
    name = (
        factor.name
        if factor.name in maker.layout.values
        else next(n for n, at in maker.layout.names.items() if at == number)
    )
    return maker.layout.values[name][level]


def _level_text(maker: CaseMaker, number: int, level: int) -> str:
    value = _value(maker, number, level)
    return "left out" if value is None else as_text(value)


def _simplicity(value: object) -> tuple[object, ...]:
    """Return a key by which simpler values come first: nothing, small numbers, short texts."""
    if value is None:
        return (0,)
    if isinstance(value, (int, float)):
        return (1, abs(value), value < 0)
    if isinstance(value, (list, tuple)):
        return (2, len(value), sum(len(as_text(each)) for each in value), str(value))
    text = as_text(value)
    # The text itself at last, so that the order does not hang on that of the axis.
    return (2, 1, len(text), not text.isascii(), text)


def simpler_words(word: str) -> Iterator[str]:
    """Yield simpler words than a word, the simplest first: smaller numbers, shorter texts; of
    --name=value, the value."""
    head, equals, value = word.partition("=")
    if equals and head.startswith("--"):
        yield from (f"{head}={each}" for each in simpler_words(value))
        return
    if re.fullmatch(r"-?\d+", word):
        number = int(word)
        tries = dict.fromkeys([0, 1, number // 10, number // 2, number - 1 if number > 0 else number + 1])
        yield from (str(each) for each in tries if abs(each) < abs(number))
        return
    # An option is never simpler than it is: a part of its name is another option, or none.
    if word.startswith("-"):
        return
    if len(word) > 1:
        yield word[0]
        yield word[: len(word) // 2]
        yield word[len(word) // 2 :]
        yield word[:-1]


def _names_in(values: Any) -> set[str]:
    """Return the names that the templates of aspects read, however deep they stand."""
    found: set[str] = set()
    stack = list(values)
    while stack:
        each = stack.pop()
        if isinstance(each, Template):
            found |= each.names
        elif isinstance(each, (list, tuple)):
            stack += each
        elif hasattr(each, "names") and hasattr(each, "source"):
            found |= set(each.names)
        else:
            stack += [getattr(each, name) for name in field_names(each)]
    return found
