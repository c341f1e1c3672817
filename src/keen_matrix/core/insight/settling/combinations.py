"""Values that the program refuses beside others, each of which it takes on its own: `-j 2` beside
`-1 1`.

Options were tried together with one value each. What a run launches has other values in it, and
this is the last look at all of it: a vector that is refused is reduced to the parts that it is
refused for."""

from __future__ import annotations

import operator
import shlex
from collections.abc import Callable, Iterator, Sequence
from itertools import product

from keen_matrix.core.experiments.ask import Answer
from keen_matrix.core.experiments.edits import OBSERVED, AppendEdit, ValueEdit
from keen_matrix.core.experiments.findings import Finding, Shown
from keen_matrix.core.experiments.minimal import minimal
from keen_matrix.core.insight.settling.lab import Lab, refused_or_accepted
from keen_matrix.core.insight.settling.lines import name_in_conditions
from keen_matrix.core.insight.settling.slots import ValueSlot
from keen_matrix.core.insight.settling.types import bounds_at, table_of, type_text
from keen_matrix.core.signature.drafting import TypeGuess
from keen_matrix.core.signature.families.accepted import accepted_requests
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.kinds import FAMILIES
from keen_matrix.core.signature.requests import Builder, OptionPart, Request
from keen_matrix.core.signature.values import OneOf
from keen_matrix.core.structs import replace

#: Vectors that are launched together before what is refused of them is reduced.
SIDE_BY_SIDE = 8
#: Parts of a condition: what takes more of them is not understood, and a condition of it would keep
#: the run from more than was seen.
MOST_PARTS = 4


def settle_combinations(lab: Lab) -> Iterator[Finding]:
    """Find what is refused in the vectors that a run takes to be accepted."""
    seen: set[Words] = set()
    for number, builder in enumerate(lab.forms.builders()):
        if builder.grounds.works:
            yield from _refused_in(lab, number, builder, list(_launched(lab, builder, seen)))


def _launched(lab: Lab, builder: Builder, seen: set[Words]) -> Iterator[Request]:
    """Yield what a run launches of a form, beside options by themselves, which have a step of their
    own; of sixty options there are many more pairs than a family has vectors."""
    for kind, _, request in accepted_requests(lab.signature, builder):
        if len(seen) >= FAMILIES["accepted"].limit:
            return
        words = () if request is None else request.words()
        if request is None or words in seen or lab.signature.judge(words).status != "accepted":
            continue
        seen.add(words)
        if kind not in ("smallest", "option"):
            yield request


def _refused_in(lab: Lab, number: int, builder: Builder, requests: Sequence[Request]) -> Iterator[Finding]:
    #: What tells that a request is refused for what is stated already.
    clear: list[Callable[[Request], bool]] = []
    for at, request in enumerate(requests):
        if at % SIDE_BY_SIDE == 0:  # not all at once: where launches end, what came before is found
            lab.answers(each.words() for each in requests[at : at + SIDE_BY_SIDE])
        if not _is_refusal(lab.answer(request.words())) or any(has_it(request) for has_it in clear):
            continue
        reduced = _Reduced(lab, builder, request)
        finding = _finding(lab, number, reduced)
        if finding is not None:
            clear.append(reduced.is_in)
            yield finding


def _is_refusal(answer: Answer) -> bool:
    """Tell whether a vector is turned down with a message: a status alone may be an answer."""
    return refused_or_accepted(answer) == "refused" and bool((answer.record.stderr or "").strip())


class _Reduced:
    """A refused request with no part that it is not refused for."""

    def __init__(self, lab: Lab, builder: Builder, request: Request) -> None:
        self._lab = lab
        self.request = request
        #: NAMEs of operands that it has more of than it must, and is accepted without.
        self.more: tuple[str, ...] = ()
        self._without_options()
        self._with_fewest_operands(builder)
        #: Those of its values that it is refused for.
        self.slots = self._with_usual_values(builder)
        self.answer = lab.answer(self.request.words())

    def _refused(self, request: Request) -> bool:
        # what the signature refuses anyhow is no smaller instance of what it accepts
        words = request.words()
        is_accepted = self._lab.signature.judge(words).status == "accepted"
        return is_accepted and _is_refusal(self._lab.answer(words))

    def _without_options(self) -> None:
        def fails(options: Sequence[OptionPart]) -> bool:
            return self._refused(replace(self.request, options=tuple(options)))

        # What is refused without any option is no matter of options.
        options = self.request.options
        left = [] if fails([]) else minimal(options, fails)
        self.request = replace(self.request, options=tuple(left))

    def _with_fewest_operands(self, builder: Builder) -> None:
        smallest = builder.smallest(part.option for part in self.request.options)
        if smallest is None:
            return
        fewer = replace(self.request, operands=smallest.operands)
        while len(fewer.operands) < len(self.request.operands):
            if self._refused(fewer):
                self.request = fewer
            fewer = replace(self.request, operands=self.request.operands[:-1])
            if not self._refused(fewer):
                break
        least = [part.name for part in smallest.operands]
        there = [part.name for part in self.request.operands]
        self.more = tuple(name for name in dict.fromkeys(there) if there.count(name) > least.count(name))

    def _with_usual_values(self, builder: Builder) -> list[ValueSlot]:
        """Put the usual value wherever the program refuses that as well, and return where it does
        not."""
        needed = []
        for place, number, name, word in list(self.request.slots()):
            usual = next((each for each in builder.legal(name) if each != word), word)
            for other in dict.fromkeys((builder.usual(name), usual)):
                tried = self.request.with_value(place, number, other)
                if other != word and self._refused(tried):
                    self.request = tried
                    break
            else:
                if usual != word:
                    needed.append(ValueSlot(place, number, name))
        return needed

    def word(self, slot: ValueSlot) -> str:
        """Return the value at a place."""
        found = ((place, number, word) for place, number, _, word in self.request.slots())
        return next(word for *at, word in found if at == [slot.place, slot.number])

    def is_in(self, other: Request) -> bool:
        """Tell whether another request has all that this one is refused for."""
        keys = {part.option.key for part in self.request.options}
        words = {(slot.name, self.word(slot)) for slot in self.slots}
        there = {(name, word) for _, _, name, word in other.slots()}
        return keys <= {part.option.key for part in other.options} and words <= there


def _finding(lab: Lab, number: int, reduced: _Reduced) -> Finding | None:
    """Return what a refused request shows: a value that its type has and the program has not, or
    parts that do not go together; None where nothing says it."""
    shown = (Shown(reduced.request.words(), reduced.answer.text),)
    others = [
        part
        for place, part in enumerate(reduced.request.options)
        if all(place != slot.place for slot in reduced.slots)
    ]
    if len(reduced.slots) == 1:
        (slot,) = reduced.slots
        table = _narrower(lab, reduced, slot, is_alone=not (others or reduced.more))
        if table is not None:
            edit = ValueEdit(slot.name, table, f"{OBSERVED}: {reduced.answer.text}")
            text = f"{slot.name} is {type_text(table)}"
            return Finding(text=text, shown=shown, edits=(edit,))
    told = [part.option.key for part in others]
    told += [_spelt(lab, reduced, slot) for slot in reduced.slots]
    told += [name for name in reduced.more if name not in {slot.name for slot in reduced.slots}]
    condition = _relation(lab, number, reduced) if not (others or reduced.more) else None
    condition = condition or _combination(lab, number, reduced, others)
    if condition is None:
        return None
    text = f"{' and '.join(told)} {'are refused together' if len(told) > 1 else 'is refused'}"
    note = f"{OBSERVED}: {reduced.answer.text}"
    edits = (AppendEdit(("signature", "only-if"), condition, note),)
    return Finding(text=text, shown=shown, edits=edits)


#: What two numbers may have to be to each other, as conditions write it.
RELATIONS: tuple[tuple[str, Callable[[float, float], bool]], ...] = (
    ("==", operator.eq),
    ("<=", operator.le),
    (">=", operator.ge),
    ("<", operator.lt),
    (">", operator.gt),
    ("!=", operator.ne),
)
TRIED_NUMBERS = ("1", "2", "3")


def _relation(lab: Lab, number: int, reduced: _Reduced) -> str | None:
    """Return the condition that two numbers are equal, or that one is not above the other; None
    where what the program takes of nine pairs is none of these."""
    if len(reduced.slots) != 2:
        return None
    first, second = reduced.slots
    kinds = [lab.signature.values[slot.name] for slot in reduced.slots]
    names = [name_in_conditions(lab, number, slot.name) for slot in reduced.slots]
    if not all(names) or any(each.type not in ("int", "float") for each in kinds):
        return None
    pairs = [
        pair
        for pair in product(TRIED_NUMBERS, repeat=2)
        if all(kind.read(word).status == "legal" for kind, word in zip(kinds, pair, strict=True))
    ]
    vectors = [
        reduced.request.with_value(first.place, first.number, left)
        .with_value(second.place, second.number, right)
        .words()
        for left, right in pairs
    ]
    taken = [each.works for each in lab.answers(vectors)]
    if len(pairs) < len(TRIED_NUMBERS) ** 2:
        return None  # of a few of them several relations hold
    for sign, holds in RELATIONS:
        if [holds(float(left), float(right)) for left, right in pairs] == taken:
            keys = [
                reduced.request.options[slot.place].option.key
                for slot in reduced.slots
                if isinstance(slot.place, int)
            ]
            told = " and ".join(f"has('{each}')" for each in keys)
            return f"{f'not ({told}) or ' if told else ''}{names[0]} {sign} {names[1]}"
    return None


def _combination(lab: Lab, number: int, reduced: _Reduced, others: Sequence[OptionPart]) -> str | None:
    """Return the condition that options and values do not stand together: by the values, where each
    NAME is in one place, else by the options, where they are refused with other values as well.
    None where neither says it."""
    terms = [f"has('{part.option.key}')" for part in others]
    there = [name_in_conditions(lab, number, name) for name in reduced.more]
    if not all(there):
        return None  # how many words there are of a NAME is no matter for a condition
    terms += [f"{name} is not None" for name in there]
    values = [name_in_conditions(lab, number, slot.name) for slot in reduced.slots]
    words = [lab.signature.values[slot.name].converted(reduced.word(slot)) for slot in reduced.slots]
    if all(values) and all(isinstance(each, str | int | float) for each in words):
        terms += [f"{name} == {word!r}" for name, word in zip(values, words, strict=True)]
    elif any(isinstance(slot.place, str) for slot in reduced.slots) or _is_taken(lab, reduced):
        return None
    else:
        options = reduced.request.options
        places = [slot.place for slot in reduced.slots if isinstance(slot.place, int)]
        terms += [f"has('{options[place].option.key}')" for place in places]
    terms = list(dict.fromkeys(terms))
    is_lone = len(terms) == 1 and terms[0].startswith("has(")  # then it is no matter of values
    return None if not terms or is_lone or len(terms) > MOST_PARTS else f"not ({' and '.join(terms)})"


def _is_taken(lab: Lab, reduced: _Reduced) -> bool:
    """Tell whether the options of a refused request are accepted with any other values."""
    legal = [lab.signature.values[slot.name].legal()[:MOST_TRIED] for slot in reduced.slots]
    requests = []
    for words in product(*legal):
        request = reduced.request
        for slot, word in zip(reduced.slots, words, strict=True):
            request = request.with_value(slot.place, slot.number, word)
        requests.append(request)
    return any(each.works for each in lab.answers(each.words() for each in requests))


#: Values of each NAME that are tried in the place of those that are refused.
MOST_TRIED = 3


def _spelt(lab: Lab, reduced: _Reduced, slot: ValueSlot) -> str:
    """Return an option with its value as it is typed, or an operand with its word."""
    if isinstance(slot.place, int):
        return shlex.join(reduced.request.options[slot.place].words())
    return f"{slot.name} {shlex.quote(reduced.word(slot))}"


def _narrower(lab: Lab, reduced: _Reduced, slot: ValueSlot, *, is_alone: bool) -> TypeGuess | None:
    """Return a type without the values of a NAME that are refused here: of a number on its own its
    bounds, of other texts those that are taken."""
    kind = lab.signature.values[slot.name]
    if kind.type in ("int", "float"):
        # a number that is refused beside an option only is none that is out of bounds
        if not is_alone or kind.type == "float":
            return None
        bounds, _ = bounds_at(lab, reduced.request, slot)
        table = {**table_of(kind), **bounds}
        return table if table != table_of(kind) else None
    legal = kind.legal()
    words = [reduced.request.with_value(slot.place, slot.number, each).words() for each in legal]
    answers = dict(zip(legal, lab.answers(words), strict=True))
    taken = [each for each, answer in answers.items() if answer.works]
    if not taken or len(taken) == len(legal):
        return None
    if isinstance(kind, OneOf):
        # a choice that is taken beside other options is one, only not here
        is_open = {"open": True} if kind.open else {}
        return {"of": taken, **is_open} if is_alone else None
    return {"of": taken, "open": True} if kind.type == "text" else None
