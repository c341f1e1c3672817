"""What can be said of a vector that might be to blame: values, options, and traits of its words."""

from __future__ import annotations

import contextlib
import itertools
import math
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from keen_matrix.core.expressions import as_text
from keen_matrix.core.model.record import PASSING, CaseFields, Record
from keen_matrix.core.signature.judging.findings import Judgement
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.signature.values import Text
from keen_matrix.core.structs import Struct, field

#: Kinds of refusal whose culprit is a value.
OF_A_VALUE = frozenset({"bad-type", "out-of-range", "not-a-choice"})
#: Different numbers of one value between which limits are tried.
MOST_THRESHOLDS = 24


class Feature(NamedTuple):
    """A trait of a vector: what it concerns, how, and with which value."""

    subject: str
    relation: str
    value: str = ""

    def __str__(self) -> str:
        if self.relation == "given":
            return self.subject
        if self.relation == "absent":
            return f"no {self.subject}"
        return f"{self.subject} {self.relation} {self.value}".rstrip()


class Observed(Struct):
    """A case as it was observed: its features, and whether it passed."""

    id: str
    words: tuple[str, ...]
    passed: bool
    features: set[Feature] = field(default_factory=set)
    #: Subject → number, from which limits are made once all cases are known.
    numbers: dict[str, float] = field(default_factory=dict)
    refused: bool = False
    weight: int = 1


def observe(
    fields: CaseFields, signature: Signature | None, judgement: Judgement | None, *, with_values: bool
) -> Observed:
    """Return what can be said of a case; one without an outcome counts as passed.

    `with_values` adds the axes and columns of its matrix.
    """
    words = fields.argv
    case = Observed(fields.id, words, not isinstance(fields, Record) or fields.verdict in PASSING)
    if judgement is not None and signature is not None:
        case.refused = judgement.status == "refused"
        if case.refused:
            _add_refusal(case, fields, judgement)
        else:
            _add_bindings(case, signature, judgement)
            _add_spellings(case, signature, words)
    if with_values:
        if fields.family and fields.culprit:
            case.features.add(Feature("it", "is about", str(fields.culprit)))
        for name, value in fields.values.items():
            _add_value(case, name, value)
    case.features |= set(_word_traits(words))
    return case


def _add_refusal(case: Observed, fields: CaseFields, judgement: Judgement) -> None:
    for refusal in judgement.refusals:
        case.features.add(Feature("the refusal", "is", refusal.kind))
        for name in refusal.mentions[1:3] or refusal.mentions[:1]:
            case.features.add(Feature("the culprit", "is", name))
        if refusal.kind in OF_A_VALUE and refusal.culprit:
            case.features.add(Feature("the refused value", "is", refusal.culprit))
            with contextlib.suppress(ValueError):
                number = float(refusal.culprit)
                if math.isfinite(number):
                    case.numbers["the refused value"] = number
    if (
        not judgement.refusals[0].mentions[:1]
        or judgement.refusals[0].culprit != judgement.refusals[0].mentions[0]
    ):
        return
    if fields.detail and "joined" in str(fields.detail):
        case.features.add(Feature("the value", "is", "joined to its option"))


def _add_bindings(case: Observed, signature: Signature, judgement: Judgement) -> None:
    for option in signature.options:
        given = option.key in judgement.bindings
        case.features.add(Feature(option.key, "given" if given else "absent"))
        value = judgement.bindings.get(option.key)
        if given and option.takes_value and value is not True:
            for text in value if isinstance(value, list) else [value]:
                _add_text(case, signature, option.name_of(0), str(text))
    for name in signature.operand_names:
        value = judgement.bindings.get(name)
        if value is None:
            case.features.add(Feature(name, "absent"))
        elif isinstance(value, list):
            case.numbers[f"the count of {name}"] = len(value)
        else:
            _add_text(case, signature, name, str(value))


def _add_text(case: Observed, signature: Signature, name: str, text: str) -> None:
    kind = signature.values[name]
    value = kind.converted(text)
    if isinstance(value, (int, float)) and not isinstance(value, bool):
        case.numbers[name] = value
        if text in kind.edges and not isinstance(kind, Text):
            case.features.add(Feature(name, "is at", "an edge"))
    case.features.add(Feature(name, "is", text if text else "''"))


def _add_value(case: Observed, name: str, value: object) -> None:
    if value is None or value is True:
        case.features.add(Feature(name, "absent" if value is None else "given"))
    elif value is False:
        case.features.add(Feature(name, "is", "false"))
    elif isinstance(value, (int, float)):
        case.numbers[name] = value
        case.features.add(Feature(name, "is", as_text(value)))
    else:
        shown = " ".join(map(as_text, value)) if isinstance(value, (list, tuple)) else as_text(value)
        case.features.add(Feature(name, "is", shown if shown else "''"))


def _add_spellings(case: Observed, signature: Signature, words: Sequence[str]) -> None:
    operand_seen = False
    for word in words:
        if word == "--":
            case.features.add(Feature("--", "is", "among the words"))
            break
        if not word.startswith("-") or word == "-":
            operand_seen = True
            continue
        if operand_seen:
            case.features.add(Feature("an option", "comes after", "an operand"))
        if word.startswith("--") and "=" in word:
            case.features.add(Feature("a value", "is", "joined by ="))
        elif not word.startswith("--"):
            case.features.add(Feature("an option", "is", "spelt short"))
            if len(word) > 2:
                case.features.add(Feature("a short option", "has", "more in its word"))


def _word_traits(words: Iterable[str]) -> Iterator[Feature]:
    for word in words:
        if word == "":
            yield Feature("a word", "is", "empty")
        if " " in word:
            yield Feature("a word", "has", "a space")
        if not word.isascii():
            yield Feature("a word", "has", "other letters than ASCII")
        if len(word) > 1 and word[0] == "-" and word[1].isdigit():
            yield Feature("a word", "is", "a negative number")
        if any(each in word for each in "*?[]$`\\\"'"):
            yield Feature("a word", "has", "a sign that shells know")


def add_limits(cases: Sequence[Observed]) -> None:
    """Add to each case on which side of the limits its numbers are: halfway between numbers of
    failing and passing cases."""
    subjects = {subject for case in cases for subject in case.numbers}
    for subject in subjects:
        seen = sorted({case.numbers[subject] for case in cases if subject in case.numbers})
        if len(seen) < 2:
            continue
        step = max(1, len(seen) // MOST_THRESHOLDS)
        for low, high in list(itertools.pairwise(seen))[::step]:
            above = Feature(subject, "is at least", f"{high:g}")
            below = Feature(subject, "is at most", f"{low:g}")
            for case in cases:
                number = case.numbers.get(subject)
                if number is not None:
                    case.features.add(above if number >= high else below)
