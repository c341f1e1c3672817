"""The values that NAMEs take: found by words of several kinds, of which the program's own messages
ask for some."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

from keen_matrix.core.insight.settling.edits import OBSERVED, Edit, KeyEdit, ValueEdit
from keen_matrix.core.insight.settling.findings import Finding
from keen_matrix.core.insight.settling.lab import Lab, came
from keen_matrix.core.notation.synopsis import Operand
from keen_matrix.core.runs.experiments import Answer
from keen_matrix.core.runs.stating import choices_told, types_told
from keen_matrix.core.signature.helptext import range_in
from keen_matrix.core.signature.requests import Builder, Request, plain_options
from keen_matrix.core.signature.values import ABSENT_FILE, Text, ValueType
from keen_matrix.core.spec.drafted import SAMPLE_FILE, SAMPLE_LINES

USUAL = {
    "int": "2", "float": "1.5", "file": SAMPLE_FILE, "dir": ".", "date": "2025-06-01",
    "bool": "true", "duration": "5s",
}  # fmt: skip
"""Type → a word of it."""
OTHER_WORDS = (",", "1-2", "a=b", "a:b", "12:30", "0", "10", "%d")
"""Words that are of no type and that programs ask for."""
PLAIN_WORD = "word"
MOST_TRIES = 60
"""Launches that one refused vector gets for finding words that it is accepted with."""
MOST_CHOICES = 12
"""Choices of a message that are tried."""
FAR = "1000000000"


class Slot(NamedTuple):
    """Where a value stands in a request."""

    place: int | str
    number: int
    name: str


def settle_smallest(lab: Lab) -> Iterator[Finding]:
    """Find words with which the smallest vector of each form is accepted."""
    for builder in lab.builders(grounded=False):
        request = builder.smallest()
        if request is None or lab.works(request):
            continue
        slots = [each for each in _slots(request) if _is_open(lab, each.name)]
        yield from _typed(lab, request, slots)


def settle_types(lab: Lab) -> Iterator[Finding]:
    """Find the types of values that are open, or only guessed."""
    for name in lab.signature.values:
        if not _is_open(lab, name):
            continue
        found = _context(lab, name)
        if found is None:
            continue
        request, slots = found
        if lab.works(request):
            if lab.is_guessed(name):
                yield from _checked(lab, request, slots[0])
        else:
            yield from _typed(lab, request, slots)


def _is_open(lab: Lab, name: str) -> bool:
    """Tell whether nothing sure is said of a NAME's values."""
    kind = lab.signature.values[name]
    plain = isinstance(kind, Text) and kind.example is None and kind.matches is None
    return plain or lab.is_guessed(name)


def _slots(request: Request) -> list[Slot]:
    return [Slot(place, number, name) for place, number, name, _ in request.slots()]


def _context(lab: Lab, name: str) -> tuple[Request, list[Slot]] | None:
    """Return the smallest request in which a NAME has a value, and the open slots that are its own,
    or its option's; None where the rest of it is not accepted either."""
    for builder in lab.builders():
        smallest = builder.smallest()
        if smallest is None or not lab.works(smallest):
            continue
        own = [each for each in _slots(smallest) if each.name == name]
        if own:
            return smallest, own
        request = _with_name(builder, name)
        if request is not None:
            part = next((p for p in request.options if name in p.option.value_names), None)
            names = part.option.value_names if part else (name,)
            return request, [each for each in _slots(request) if each.name in names]
    return None


def _with_name(builder: Builder, name: str) -> Request | None:
    """Return the smallest request with a value of a NAME that may be left out."""
    alone = builder.grounds.actions
    for option in plain_options(builder.signature, builder.form):
        if name in option.value_names and not option.optional_value and option.key not in alone:
            # whatever is known of it: this is about its value
            return Builder(builder.signature, builder.form).smallest([option])
    operands = (item for item in builder.form.form.walk() if isinstance(item, Operand))
    if any(item.name.name == name for item in operands):
        return builder.with_counts(name, 1)
    return None


# --- words that are accepted ---


def _typed(lab: Lab, request: Request, slots: Sequence[Slot]) -> Iterator[Finding]:
    """Yield the types of the values with which a refused request is accepted."""
    if not slots:
        return
    with_file = lab.with_sample()
    found = accepted(with_file, request, slots)
    lab.experiments.launches = with_file.experiments.launches
    if found is None:
        return
    words = {
        each: value for each in slots if (value := _value(found, each)) != _value(request, each)
    }
    for slot in words:
        table, tried = _table_at(with_file, found, slot)
        edits: list[Edit] = [ValueEdit(slot.name, table, _note(with_file, tried))]
        if table.get("type") == "file" and with_file is not lab:
            edits.append(KeyEdit(("files", SAMPLE_FILE), SAMPLE_LINES))
        text = f"{slot.name} is {described(table)}"
        yield Finding(text=text, shown=with_file.shown(*tried), edits=tuple(edits))
    lab.experiments.launches = with_file.experiments.launches


def _value(request: Request, slot: Slot) -> str:
    return next(word for place, number, _, word in request.slots() if (place, number) == slot[:2])


def accepted(lab: Lab, request: Request, slots: Sequence[Slot]) -> Request | None:
    """Return a refused request with other words in some slots, with which it is accepted.

    A word is kept where the program accepts it, or complains of something else with it: so
    several that are wrong are mended one after another.
    """
    current, answer = request, lab.answer(request.words())
    left = MOST_TRIES
    mended: set[Slot] = set()
    while left > 0:
        before = current
        for slot in slots:
            if slot in mended:
                continue
            for word in _candidates(answer, lab.signature.values[slot.name]):
                tried = current.with_value(slot.place, slot.number, word)
                left -= 1
                found = lab.answer(tried.words())
                if found.works:
                    return tried
                if left <= 0:
                    return None
                if _complaint(found, word) != _complaint(answer, _value(current, slot)):
                    current, answer = tried, found
                    mended.add(slot)
                    break
        if current is before:
            return None
    return None


def _candidates(answer: Answer, kind: ValueType) -> list[str]:
    """Return words to try, those first that a message asks for."""
    told = choices_told(answer.said)[:2]
    told += [USUAL[each] for each in types_told(answer.said) if each in USUAL]
    bounds = range_in(answer.said)
    told += [str(bounds[0])] if bounds else []
    return list(dict.fromkeys([*told, *USUAL.values(), PLAIN_WORD, *OTHER_WORDS, kind.usual]))


def _complaint(answer: Answer, word: str) -> str:
    """Return what a program says of a vector, whatever the word is."""
    return answer.said.replace(word, "·")


# --- what type they are of ---


def _table_at(
    lab: Lab, request: Request, slot: Slot
) -> tuple[dict[str, object], list[tuple[str, ...]]]:
    """Return the table of a value with which a request is accepted, and the vectors that show it."""

    def words(value: str) -> tuple[str, ...]:
        return request.with_value(slot.place, slot.number, value).words()

    value = _value(request, slot)
    refused = words(PLAIN_WORD)
    listed = choices_told(lab.answer(refused).said)[:MOST_CHOICES]
    if len(listed) > 1:
        answers = zip(listed, lab.answers(map(words, listed)), strict=True)
        taken = [each for each, answer in answers if answer.works]
        if len(taken) > 1:
            return {"of": taken}, [words(taken[0]), refused]
    if lab.answer(words(USUAL["int"])).works:
        if lab.answer(words(USUAL["float"])).works:
            return {"type": "float"}, [words(USUAL["float"]), refused]
        bounds, shown = bounds_at(lab, request, slot)
        return {"type": "int", **bounds}, [words(USUAL["int"]), refused, *shown]
    for kind in ("file", "dir", "date", "bool", "duration"):
        tried = [words(USUAL[kind]), words(ABSENT_FILE if kind in ("file", "dir") else PLAIN_WORD)]
        if value == USUAL[kind] or lab.answer(tried[0]).works:
            wrong = lab.answer(tried[1])
            if not wrong.works:
                return {"type": kind}, tried
    if value.isdigit():  # 2 was refused, another number was not
        bounds, shown = bounds_at(lab, request, slot)
        return {"type": "int", **bounds, "example": value}, [words(value), refused, *shown]
    return {"example": value}, [words(value), refused]


def bounds_at(
    lab: Lab, request: Request, slot: Slot
) -> tuple[dict[str, object], list[tuple[str, ...]]]:
    """Return the bounds of a whole number, and the vectors that show them: those that a message
    names, once they are seen to be kept, else 0 or 1 where the numbers below are refused."""

    def words(value: int | str) -> tuple[str, ...]:
        changed = request.with_value(slot.place, slot.number, str(value))
        if str(value).startswith("-") and isinstance(slot.place, int):
            parts = list(changed.options)
            if len(parts[slot.place].values) == 1:  # so that it is no option to any reader
                parts[slot.place] = replace(parts[slot.place], writing="joined")
            changed = replace(changed, options=tuple(parts))
        return changed.words()

    for value in ("-1", "0", FAR):
        answer = lab.answer(words(value))
        told = None if answer.works else range_in(answer.said)
        if told is not None:
            low, high = told
            inside, outside = [words(low), words(high)], [words(low - 1), words(high + 1)]
            if all(each.works for each in lab.answers(inside)) and not any(
                each.works for each in lab.answers(outside)
            ):
                return {"min": low, "max": high}, [*inside, *outside]
    if lab.answer(words("-1")).works:
        return {}, []
    if lab.answer(words("0")).works:
        return {"min": 0}, [words("0"), words("-1")]
    if lab.answer(words("1")).works:
        return {"min": 1}, [words("1"), words("0")]
    return {}, []


# --- types that are only guessed ---


def _checked(lab: Lab, request: Request, slot: Slot) -> Iterator[Finding]:
    """Yield what is otherwise of a type that was guessed, or that it is right."""
    kind = lab.signature.values[slot.name]
    legal, bad = kind.legal()[:6], kind.bad()[:5]

    def words(value: str) -> tuple[str, ...]:
        return request.with_value(slot.place, slot.number, value).words()

    answers = dict(zip([*legal, *bad], lab.answers(map(words, [*legal, *bad])), strict=True))
    refused = [each for each in legal if not answers[each].works]
    taken = [each for each in bad if answers[each].works and each]
    table = _table_of(kind)
    told = [*refused[:1], *taken[:1]]
    if kind.type in ("int", "float"):
        table, told = _number(lab, request, slot, taken, refused)
    elif kind.type == "choice" and (taken or refused):
        left = [each for each in legal if each not in refused]
        table = {"of": left, **({"open": True} if taken else {})} if left else {}
    elif kind.type == "file" and ABSENT_FILE in taken:
        table = {"type": "path"}
    elif kind.type == "file" and taken:
        table = {"of": legal, "open": True}  # a folder does as well: no type of ours
    elif taken:
        table = {}
    shown = lab.shown(words(legal[0]), *map(words, told))
    text = f"{slot.name} is {described(table)}"
    edit = ValueEdit(slot.name, table, _note(lab, [words(told[0])] if told else []))
    yield Finding(text=text, shown=shown, edits=(edit,))


def _number(
    lab: Lab, request: Request, slot: Slot, taken: list[str], refused: list[str]
) -> tuple[dict[str, object], list[str]]:
    """Return the table of a number that was guessed, and the values that show it."""
    kind = lab.signature.values[slot.name]
    table = _table_of(kind)
    words = [each for each in taken if not each[:1].isdigit()]
    if words:
        return {}, words[:1]
    if kind.type == "int" and "1.5" in taken:
        return {**table, "type": "float"}, ["1.5"]
    if kind.type == "int" and (refused or "min" not in table):
        bounds, _ = bounds_at(lab, request, slot)
        kept = {} if refused else {key: table[key] for key in table if key in ("min", "max")}
        default = {"default": table["default"]} if "default" in table else {}
        return {"type": "int", **kept, **bounds, **default}, refused[:1]
    return table, refused[:1]


def _table_of(kind: ValueType) -> dict[str, object]:
    """Return the table of a type as a spec has it, as far as a draft states one."""
    found: dict[str, object] = {"type": kind.type}
    for key in ("min", "max", "of", "default"):
        value = getattr(kind, key, None)
        if value is not None:
            found[key] = list(value) if key == "of" else value
    return found


def _note(lab: Lab, tried: Sequence[tuple[str, ...]]) -> str:
    """Return a comment with the vector that shows a finding best: one that was refused."""
    for words in reversed(tried):
        answer = lab.answer(words)
        if not answer.works:
            return f"{OBSERVED}: {' '.join(words)[:40]}: {came(answer)[:60]}"
    return OBSERVED


NOUNS = {
    "int": "a whole number", "float": "a number", "file": "a file that exists", "date": "a date",
    "dir": "a folder that exists", "bool": "true or false", "duration": "a duration",
    "path": "any path", "text": "a text",
}  # fmt: skip


def described(table: dict[str, object]) -> str:
    """Return a type in words."""
    listed = table.get("of")
    if isinstance(listed, list):
        others = ", or something else" if table.get("open") else ""
        return "one of " + ", ".join(map(str, listed)) + others
    low, high = table.get("min"), table.get("max")
    bounds = f" from {low}" if low is not None else ""
    bounds += f" to {high}" if high is not None else ""
    if "type" not in table and "example" in table:
        return f"a text such as {table['example']}"
    return NOUNS[str(table.get("type", "text"))] + bounds if table else "any text"
