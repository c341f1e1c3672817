"""Of what type the words are that a program takes for a NAME."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator, Mapping, Sequence

from keen_matrix.core.experiments.ask import Answer
from keen_matrix.core.experiments.edits import OBSERVED, ValueEdit
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.experiments.stating import choices_told
from keen_matrix.core.insight.settling.lab import Lab, came, waits
from keen_matrix.core.insight.settling.program import script_of
from keen_matrix.core.insight.settling.slots import FAR, MOST_CHOICES, PLAIN_WORD, USUAL, ValueSlot
from keen_matrix.core.insight.settling.sources import words_of_script
from keen_matrix.core.launch.process.waiting import can_be_seen
from keen_matrix.core.signature.drafting import TypeGuess, count_text
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.helptext import range_in
from keen_matrix.core.signature.model import value_type
from keen_matrix.core.signature.requests import Request
from keen_matrix.core.signature.values import ABSENT_FILE, Existing, ValueType
from keen_matrix.core.spec.drafted import SAMPLE_FILE
from keen_matrix.core.structs import replace


def value_in(request: Request, slot: ValueSlot) -> str:
    """Return the value of a request at a place."""
    return next(word for place, number, _, word in request.slots() if (place, number) == slot[:2])


def lengths_told(answer: Answer) -> Iterator[tuple[int, int]]:
    """Yield how long a text may be, least and most, where a message says it: "should be 1 or 2
    chars"."""
    pattern = r"\b(\d{1,2})(?: (?:or|to|and) |\.\.|-)(\d{1,2}) char"
    for least, most in re.findall(pattern, answer.said):
        yield int(least), int(most)


def table_at(lab: Lab, request: Request, slot: ValueSlot) -> tuple[TypeGuess, list[Words]]:
    """Return the table of a value with which a request is accepted, and the vectors that show it:
    the first type whose legal values are accepted and whose bad ones are refused."""

    def words(value: str) -> Words:
        return request.with_value(slot.place, slot.number, value).words()

    value = value_in(request, slot)
    for table, shown in _tables(lab, request, slot):
        if _is_kept(lab, request, slot, table):
            return table, [*map(words, shown), words(PLAIN_WORD)]
    own = words_of_script(script_of(lab))
    others = [each for each in own if each != value] if value in own else []
    answers = lab.answers(map(words, others))
    taken = [each for each, answer in zip(others, answers, strict=True) if answer.works]
    return {"of": [value, *taken], "open": True}, [*map(words, (value, *taken[:1])), words(PLAIN_WORD)]


def _tables(lab: Lab, request: Request, slot: ValueSlot) -> Iterator[tuple[TypeGuess, list[str]]]:
    """Yield tables that a value may have, each with words that show it."""

    def works(value: str) -> bool:
        return lab.answer(request.with_value(slot.place, slot.number, value).words()).works

    def complains(value: str) -> bool:
        """Tell whether a value is refused with a message. A status alone can be an answer, as that
        of a search that finds nothing."""
        answer = lab.answer(request.with_value(slot.place, slot.number, value).words())
        return not answer.works and bool(answer.said.partition("\n")[2].strip())

    value = value_in(request, slot)
    refused = lab.answer(request.with_value(slot.place, slot.number, PLAIN_WORD).words())
    listed = choices_told(refused.said)[:MOST_CHOICES]
    if len(listed) > 1:
        taken = [each for each in listed if works(each)]
        if len(taken) > 1:
            yield {"of": taken}, taken[:1]
    for least, most in lengths_told(refused):
        if works("x" * least):
            yield {"min": least, "max": most}, ["x" * least, "x" * (most + 1)]
    if value == "," and works("x"):
        yield {"max": 1} if works("") else {"min": 1, "max": 1}, ["x", "xx"]
    if works(USUAL["int"]) and complains("x"):
        if works(USUAL["float"]):
            yield {"type": "float"}, [USUAL["float"]]
        bounds, shown = bounds_at(lab, request, slot)
        yield {"type": "int", **bounds}, [USUAL["int"], *shown]
    elif value.isdigit() and complains("x"):  # 2 was refused, another number was not
        bounds, shown = bounds_at(lab, request, slot)
        yield {"type": "int", **bounds, "example": value}, [value, *shown]
    for kind in ("file", "dir", "date", "bool", "duration"):
        wrong = ABSENT_FILE if kind in ("file", "dir") else PLAIN_WORD
        # An empty directory is accepted by many a program that wants a file of some content.
        if kind == "dir" and not _speaks_of_directories(lab, request, slot):
            continue
        if (value == USUAL[kind] or works(USUAL[kind])) and complains(wrong):
            yield {"type": kind}, [USUAL[kind], wrong]
            if kind == "file":
                yield {"type": kind, "directories": True}, [USUAL[kind], ".", wrong]


_DIRECTORIES = re.compile(r"dir(?:ector|s?\b|_|-)|folder", re.IGNORECASE)


def _speaks_of_directories(lab: Lab, request: Request, slot: ValueSlot) -> bool:
    """Tell whether a NAME, its option, or what the program says of a file in its place speaks of
    directories."""
    names = [slot.name]
    if isinstance(slot.place, int):
        names += request.options[slot.place].option.spellings
    words = [request.with_value(slot.place, slot.number, each).words() for each in (SAMPLE_FILE, ABSENT_FILE)]
    names += [each.said for each in lab.answers(words)]
    return any(_DIRECTORIES.search(each) for each in names)


def _is_kept(lab: Lab, request: Request, slot: ValueSlot, table: TypeGuess) -> bool:
    """Tell whether the program takes what a type says is legal and refuses what it says is not."""
    kind = value_type(slot.name, table).read_by(lab.signature.habits)
    if isinstance(kind, Existing):
        kind = replace(kind, known=frozenset({SAMPLE_FILE} if kind.type == "file" else ()))
    legal, bad = kind.legal()[:4], [each for each in kind.bad()[:6] if each]
    if "." in legal:  # a dot may be a sign of its own
        legal.append("./././.")
    if kind.type == "float":  # what looks like a number may be one of a list, or of a place
        bad += ["1,5", "1.2.3"]
    vectors = [request.with_value(slot.place, slot.number, each).words() for each in (*legal, *bad)]
    answers = [each.works for each in lab.answers(vectors)]
    if not all(answers[: len(legal)]) or any(answers[len(legal) :]):
        return False
    # What is refused only once there is no more input is no refusal of the word: a run tries that
    # with an input which does not end.
    return not (vectors[len(legal) :] and can_be_seen() and waits(lab, vectors[len(legal)]))


def bounds_at(lab: Lab, request: Request, slot: ValueSlot) -> tuple[TypeGuess, list[str]]:
    """Return the bounds of a whole number, and the values that show them: those that a message
    names, once they are seen to be kept, else 0 or 1 where the numbers below are refused."""

    def words(value: int | str) -> Words:
        return _with_number(request, slot, value)

    for value in ("-1", "0", FAR):
        answer = lab.answer(words(value))
        told = None if answer.works else range_in(answer.said)
        if told is not None:
            low, high = told
            inside, outside = [low, high], [low - 1, high + 1]
            if all(each.works for each in lab.answers(map(words, inside))) and not any(
                each.works for each in lab.answers(map(words, outside))
            ):
                return {"min": low, "max": high}, [str(each) for each in (*inside, *outside)]
    apart = request.with_value(slot.place, slot.number, "-1").words()
    if lab.answer(words("-1")).works or lab.answer(apart).works:
        return {}, []
    for low in (0, 1, 2):
        if lab.answer(words(low)).works:
            return {"min": low}, [str(low), str(low - 1)]
    return {}, []


def _with_number(request: Request, slot: ValueSlot, value: int | str) -> Words:
    """Return the words of a request with a number as a value; so that it is no option to any
    reader."""
    changed = request.with_value(slot.place, slot.number, str(value))
    if str(value).startswith("-") and isinstance(slot.place, int):
        parts = list(changed.options)
        if len(parts[slot.place].values) == 1:
            parts[slot.place] = replace(parts[slot.place], writing="joined")
        changed = replace(changed, options=tuple(parts))
    return changed.words()


def against_message(lab: Lab, request: Request, slot: ValueSlot) -> Iterator[Finding]:
    """Yield numbers that a program treats otherwise than its own message on them says."""
    for value in ("-1", "0", FAR):
        answer = lab.answer(_with_number(request, slot, value))
        told = None if answer.works else range_in(answer.said)
        if told is None:
            continue
        tried = {each: _with_number(request, slot, each) for each in (*told, told[0] - 1, told[1] + 1)}
        works = {each: lab.answer(words).works for each, words in tried.items()}
        if not any(works[each] for each in told):
            return  # it is about something else
        for number, words in tried.items():
            is_inside = told[0] <= number <= told[1]
            if works[number] != is_inside:
                verb = "refuses" if is_inside else "accepts"
                text = f"it {verb} {number} for {slot.name}, and its message says {told[0]} to {told[1]}"
                shown = lab.shown(words, _with_number(request, slot, value))
                yield Finding(text=text, shown=shown, defect=True)
        return


def checked_type(lab: Lab, request: Request, slot: ValueSlot) -> Iterator[Finding]:
    """Yield what is otherwise of a type that was guessed, or that it is right."""
    kind = lab.signature.values[slot.name]
    legal, bad = kind.legal()[:3], kind.bad()[:4]

    def words(value: str) -> Words:
        return request.with_value(slot.place, slot.number, value).words()

    answers = dict(zip([*legal, *bad], lab.answers(map(words, [*legal, *bad])), strict=True))
    refused = [each for each in legal if not answers[each].works]
    taken = [each for each in bad if answers[each].works and each]
    table = table_of(kind)
    told = [*refused[:1], *taken[:1]]
    yield from _contradictions(lab, slot.name, {each: words(each) for each in refused})
    count = table.get("count")
    if kind.type in ("int", "float"):
        table, told = _number(lab, request, slot, taken, refused)
    elif kind.type == "choice" and (taken or refused):
        left = [each for each in legal if each not in refused]
        table = {"of": left, **({"open": True} if taken else {})} if left else {}
    elif kind.type == "file" and taken:
        # a directory does as well, or any name: but beside some option it may have to be a file
        table = {"of": legal, "open": True}
    elif taken:
        table = {}
    if count is not None:
        table = {**table, "count": count}
    # where nothing speaks against it, what the program refuses speaks for it
    told = told or [each for each in bad if each and not answers[each].works][-1:]
    shown = lab.shown(words(legal[0]), *map(words, told))
    text = f"{slot.name} is {type_text(table)}"
    edit = ValueEdit(slot.name, table, observed_note(lab, [words(told[0])] if told else []))
    yield Finding(text=text, shown=shown, edits=(edit,))
    if table.get("type") == "int":
        yield from against_message(lab, request, slot)


def _contradictions(lab: Lab, name: str, refused: Mapping[str, Words]) -> Iterator[Finding]:
    """Yield values that the help lists, or has within bounds, and the program refuses; a defect
    where its own message asks for them."""
    table = table_of(lab.signature.values[name])
    if table.keys().isdisjoint(("of", "min", "max")):
        return  # a type alone may have been guessed from a name
    for value, words in refused.items():
        said = lab.answer(words).said
        bounds = range_in(said)
        number = int(value) if re.fullmatch(r"-?\d+", value) else None
        is_asked_for = value in choices_told(said) or (
            bounds is not None and number is not None and bounds[0] <= number <= bounds[1]
        )
        whose = "its own message asks for" if is_asked_for else "the help has"
        text = f"it refuses {value}, which {whose}: {name} is {type_text(table)}"
        yield Finding(text=text, shown=lab.shown(words), defect=is_asked_for)


def _number(
    lab: Lab, request: Request, slot: ValueSlot, taken: list[str], refused: list[str]
) -> tuple[TypeGuess, list[str]]:
    """Return the table of a number that was guessed, and the values that show it."""
    kind = lab.signature.values[slot.name]
    table = table_of(kind)
    words = [each for each in taken if not re.match(r"\d+(?:\.\d+)?[A-Za-z]*$", each)]
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


def table_of(kind: ValueType) -> TypeGuess:
    """Return the table of a type as a spec has it, as far as a draft states one."""
    found: TypeGuess = {"type": kind.type}
    for key in ("min", "max", "of", "default", "directories"):
        value = getattr(kind, key, None)
        if value is not None and (key != "directories" or value):
            found[key] = list(value) if key == "of" else value
    if (counted := getattr(kind, "count", None)) is not None:
        found["count"] = count_text(*counted)
    return found


def observed_note(lab: Lab, tried: Sequence[Words]) -> str:
    """Return a comment with the vector that shows a finding best: one that was refused."""
    for words in reversed(tried):
        answer = lab.answer(words)
        if not answer.works:
            return f"{OBSERVED}: {shlex.join(words)[:40]}: {came(answer)[:60]}"
    return OBSERVED


NOUNS = {
    "int": "a whole number",
    "float": "a number",
    "file": "a file that exists",
    "date": "a date",
    "dir": "a directory that exists",
    "bool": "true or false",
    "duration": "a duration",
    "path": "any path",
    "text": "a text",
}


def type_text(table: TypeGuess) -> str:
    """Return a type in words."""
    listed = table.get("of")
    if isinstance(listed, list):
        names = ", ".join(map(str, listed))
        return f"a text such as {names}" if table.get("open") else f"one of {names}"
    low, high = table.get("min"), table.get("max")
    bounds = f" from {low}" if low is not None else ""
    bounds += f" to {high}" if high is not None else ""
    if high == 1 and low in (None, 1) and "type" not in table:
        return "a single character" if low else "a single character or nothing"
    if "type" not in table and low is not None and high is not None:
        return f"a text of {low} to {high} characters"
    if table.get("directories"):
        return "a file or a directory that exists"
    is_open = not table.keys() - {"count"}
    return "any text" if is_open else NOUNS[str(table.get("type", "text"))] + bounds
