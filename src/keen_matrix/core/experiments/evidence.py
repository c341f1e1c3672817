"""Whether a condition that a step found may be stated: an experiment that was seen both ways.

A condition keeps every derived vector from what breaks it, so one that is true of the samples by
chance hides that much of the program for good. It is stated only where

1. no option or operand that it speaks of is left without any accepted vector,
2. it is no matter of a single number, which the sample may not suit,
3. of operands a message says that they do not go together, and
4. vectors that break it are refused, and the same vectors with one change are accepted, in two
   surroundings, or in the only one that there is.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from itertools import chain, islice
from typing import Protocol

from keen_matrix.core.experiments.ask import Answer, Experiments
from keen_matrix.core.experiments.edits import AppendEdit
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.expressions import Expression, comparisons, constant_arguments
from keen_matrix.core.model.record import BROKEN
from keen_matrix.core.signature.families.accepted import accepted_requests
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.judging.binding import identifier
from keen_matrix.core.signature.requests import Builder, OptionPart, Request, Wish, builders, plain_options
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.structs import replace

CONDITIONS = ("signature", "only-if")
#: In so many a condition must have been seen to hold and to fail.
SURROUNDINGS = 2
#: Accepted requests among which cases that break a condition are looked for.
MOST_LOOKED_THROUGH = 400
#: Pairs of vectors that are launched for one condition.
MOST_TRIED = 12
#: Words with which a message says that things do not go together, or that one needs another.
ABOUT_GOING_TOGETHER = re.compile(
    r"conflict|incompatib|cannot|can't|exclu|together|both|combin|meaningless|mutual|only one|more than one|"
    r"not allowed|needs?\b|requires?\b|\bonly\b|must|sense|without|unless|same|differ|extra|too "
    r"many|unexpected",
    re.IGNORECASE,
)


class Asker(Protocol):
    """Where the experiment is made: see lab.Lab."""

    @property
    def signature(self) -> Signature: ...  # noqa: D102
    @property
    def experiments(self) -> Experiments: ...  # noqa: D102
    def answers(self, vectors: Iterable[Words], /) -> list[Answer]: ...  # noqa: D102


def reason_not_to_state(lab: Asker, finding: Finding, after: Signature) -> str:
    """Return why a finding's conditions are not stated, as half a sentence; empty where they may
    be. `after` is the signature with them in it. Raises OutOfLaunches."""
    for edit in finding.edits:
        if isinstance(edit, AppendEdit) and edit.key == CONDITIONS:
            reason = _ConditionTrial(lab, finding, after, str(edit.value)).reason()
            if reason:
                return reason
    return ""


class _ConditionTrial:
    """The experiment with one condition."""

    def __init__(self, lab: Asker, finding: Finding, after: Signature, condition: str) -> None:
        self._lab, self._finding = lab, finding
        self._before, self._after = lab.signature, after
        self._expression = Expression(condition)
        #: Spellings of options that it names.
        self._keys = frozenset(constant_arguments(self._expression, "has"))
        self._names = self._expression.names

    def reason(self) -> str:
        """Go through the rules of this module in their order."""
        lost = next(iter(self._lost()), "")
        if lost:
            return f"no accepted case with {lost} was found; give an example of one"
        values = dict(comparisons(self._expression))
        numbers = [name for name, each in values.items() if isinstance(each, int | float)]
        if numbers and not self._keys and len(self._names) == 1:
            return f"a single value of {numbers[0]} may be refused since the sample does not suit it"
        operands = "is not None" in self._expression.source and not self._keys and not values
        if operands and not self._speaks_of_it():
            return "the message does not say that they exclude each other; add an example with both"
        return self._unseen()

    def _lost(self) -> Iterator[str]:
        """Yield the options and operands named that had an accepted vector before, and have none
        now."""
        for key in sorted(self._keys):
            if _has_option(self._before, key) and not _has_option(self._after, key):
                yield key
        for name in self._before.operand_names:
            is_named = identifier(name) in self._names
            if is_named and _has_operand(self._before, name) and not _has_operand(self._after, name):
                yield name

    def _speaks_of_it(self) -> bool:
        known = self._lab.experiments.known
        said = [known[each.words].said for each in self._finding.shown if each.words in known]
        return any(ABOUT_GOING_TOGETHER.search(each) for each in said)

    def _unseen(self) -> str:
        """Launch pairs of vectors, until the condition was seen both ways in enough
        surroundings."""
        seen: set[object] = set()
        pairs = 0
        for broken, kept in islice(self._pairs(), MOST_TRIED):
            pairs += 1
            bad, good = self._lab.answers([broken.words(), kept.words()])
            if bad.works:
                return "a call that breaks it was accepted elsewhere"
            # Where the changed vector is refused as well, something else around it is.
            if good.works and bad.record.verdict not in BROKEN:
                seen.add(self._around(broken))
            if len(seen) >= SURROUNDINGS:
                return ""
        if not pairs:
            return ""  # nothing that a run launches breaks it: it takes nothing away
        if not seen:
            return "no two calls were seen that differ in this alone, one accepted and one refused"
        return "" if pairs < MOST_TRIED else "it was seen both ways in one surrounding only"

    def _pairs(self) -> Iterator[tuple[Request, Request]]:
        """Yield vectors that break the condition and nothing else, each with one made of it by one
        change that keeps the condition; of each surroundings one."""
        done: set[object] = set()
        for builder in builders(self._before):
            named = [
                each
                for each in plain_options(self._before, builder.form)
                if not self._keys.isdisjoint(each.spellings)
            ]
            # Alone first: beside others it may be those that are refused.
            alone = (builder.smallest(named), *(builder.smallest([each]) for each in named))
            made = (request for _, _, request in accepted_requests(self._before, builder))
            for request in islice(chain(alone, made), MOST_LOOKED_THROUGH):
                if request is None or (around := self._around(request)) in done:
                    continue
                words = request.words()
                if (
                    self._before.judge(words).status != "accepted"
                    or self._after.judge(words).status != "refused"
                ):
                    continue
                kept = next((each for each in self._changed(builder, request) if self._is_kept(each)), None)
                if kept is not None:
                    done.add(around)
                    yield request, kept

    def _is_kept(self, request: Request) -> bool:
        return self._after.judge(request.words()).status == "accepted"

    def _changed(self, builder: Builder, request: Request) -> Iterator[Request]:
        """Yield requests that differ from one in a single thing that the condition speaks of."""
        for option in plain_options(self._before, builder.form):
            if self._keys.isdisjoint(option.spellings):
                continue
            there = any(part.option is option for part in request.options)
            if there:
                yield request.without_option(option)
            else:
                values = tuple(
                    builder.usual(option.name_of(number), number) for number in range(option.least)
                )
                yield request.with_option(OptionPart(option, option.key, values))
        for place, number, name, word in request.slots():
            if identifier(name) in self._names:
                for other in builder.legal(name):
                    if other != word:
                        yield request.with_value(place, number, other)
        given = {part.name for part in request.operands}
        for name in self._before.operand_names:
            if identifier(name) in self._names and name not in given:
                keys = {part.option.key for part in request.options}
                more = builder.wished(Wish(keys, full=False, counts={name: 1}))
                if more is not None:
                    yield more
        for at, part in enumerate(request.operands):
            if identifier(part.name or "") in self._names:
                fewer = (*request.operands[:at], *request.operands[at + 1 :])
                yield replace(request, operands=fewer)

    def _around(self, request: Request) -> object:
        """Return what is in a request beside what the condition speaks of."""
        options = frozenset(
            (part.option.key, part.values)
            for part in request.options
            if self._keys.isdisjoint(part.option.spellings)
            and not any(identifier(name) in self._names for name in part.option.value_names)
        )
        operands = tuple(
            part.word for part in request.operands if identifier(part.name or "") not in self._names
        )
        return id(request.form), options, operands


def _has_option(signature: Signature, key: str) -> bool:
    for builder in builders(signature):
        wanted = [each for each in plain_options(signature, builder.form) if key in each.spellings]
        if not wanted:
            continue
        keys = {each.key for each in wanted}
        counted = (
            builder.wished(Wish(keys, full=False, counts={name: 1})) for name in signature.operand_names
        )
        for request in (builder.smallest(wanted), builder.fullest(wanted), *counted):
            if request is not None and any(key in each.option.spellings for each in request.options):
                return True
    return False


def _has_operand(signature: Signature, name: str) -> bool:
    def there(requests: Iterable[Request | None]) -> bool:
        return any(part.name == name for each in requests if each is not None for part in each.operands)

    return any(
        there((builder.smallest(), builder.with_counts(name, 1), builder.fullest()))
        for builder in builders(signature)
    )
