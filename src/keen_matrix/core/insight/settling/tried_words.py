"""Words with which a request is accepted: those that the program's own messages ask for first."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from keen_matrix.core.experiments.ask import Answer
from keen_matrix.core.experiments.edits import Edit, KeyEdit, ValueEdit
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.experiments.stating import asks_for_a_character, choices_told, types_told
from keen_matrix.core.insight.settling.lab import Lab
from keen_matrix.core.insight.settling.program import own_texts, script_of, with_sample
from keen_matrix.core.insight.settling.slots import MOST_TRIES, OTHER_WORDS, PLAIN_WORD, USUAL, ValueSlot
from keen_matrix.core.insight.settling.sources import words_near, words_of_script
from keen_matrix.core.insight.settling.types import (
    against_message,
    lengths_told,
    observed_note,
    table_at,
    type_text,
    value_in,
)
from keen_matrix.core.signature.drafting import TypeGuess
from keen_matrix.core.signature.helptext import range_in
from keen_matrix.core.signature.requests import Request
from keen_matrix.core.signature.values import ValueType
from keen_matrix.core.spec.drafted import SAMPLE_FILE, SAMPLE_LINES

#: Words that are launched together: where time is what is short, one more than needed takes
#: none.
SIDE_BY_SIDE = 2


def typed_findings(
    lab: Lab, request: Request, slots: Sequence[ValueSlot], *, is_told: bool = False
) -> Iterator[Finding]:
    """Yield the types of the values with which a refused request is accepted; `is_told` tries only
    those that messages tell of."""
    if not slots:
        return
    with_file = with_sample(lab)
    found = accepted(with_file, request, slots, is_told=is_told)
    lab.experiments.count(with_file.experiments)
    if found is None:
        return
    words = {each: value for each in slots if (value := value_in(found, each)) != value_in(request, each)}
    for slot in words:
        table, tried = table_at(with_file, found, slot)
        table = _with_seen(table, with_file.signature.values[slot.name], value_in(found, slot))
        edits: list[Edit] = [ValueEdit(slot.name, table, observed_note(with_file, tried))]
        if table.get("type") == "file" and with_file is not lab:
            edits.append(KeyEdit(("files", SAMPLE_FILE), SAMPLE_LINES))
        text = f"{slot.name} is {type_text(table)}"
        yield Finding(text=text, shown=with_file.shown(*tried), edits=tuple(edits))
        if table.get("type") == "int":
            yield from against_message(with_file, found, slot)
    lab.experiments.count(with_file.experiments)


def _with_seen(table: TypeGuess, kind: ValueType, word: str) -> TypeGuess:
    """Return a table of words of which others may be taken with those of examples beside it."""
    if "of" not in table or not table.get("open"):
        return table
    more = [each for each in kind.seen if each not in table["of"]]
    return {**table, "of": [*table["of"], *more], "example": word} if more else table


def accepted(
    lab: Lab, request: Request, slots: Sequence[ValueSlot], *, is_told: bool = False
) -> Request | None:
    """Return a refused request with other words in some slots, with which it is accepted; None
    where there are none."""
    changed, works = mended(lab, request, slots, is_told=is_told)
    return changed if works else None


def mended(
    lab: Lab, request: Request, slots: Sequence[ValueSlot], *, is_told: bool = False
) -> tuple[Request, bool]:
    """Return a refused request with other words in some slots, and whether it is accepted so.

    A word is kept where the program accepts it, or complains of something else with it: so
    several that are wrong are mended one after another.
    """
    current, answer = request, lab.answer(request.words())
    own = [] if is_told else words_of_script(script_of(lab))
    texts = "" if is_told else own_texts(lab)
    near = {slot: words_near(texts, slot.name) for slot in slots}
    left = (MOST_TRIES + len(own)) * len(slots) + sum(map(len, near.values()))
    done: set[ValueSlot] = set()
    tried: set[tuple[ValueSlot, str]] = set()
    complaints = {_complaint(answer, value_in(request, each)) for each in slots}
    while True:
        before = current
        for slot in slots:
            if slot in done:
                continue
            kind = lab.signature.values[slot.name]
            tries = words_told(answer) if is_told else [*_candidates(answer, kind), *own, *near[slot]]
            tries = [each for each in tries if (slot, each) not in tried]
            for word, changed, found in _with_words(lab, current, slot, tries[:left]):
                left -= 1
                tried.add((slot, word))
                if found.works:
                    return changed, True
                complaint = _complaint(found, word)
                # one that was mended before is no step on
                if complaint != _complaint(answer, value_in(current, slot)) and complaint not in complaints:
                    complaints.add(complaint)
                    current, answer = changed, found
                    done.add(slot)
                    break
            if left <= 0:
                return current, False
        if current is before:
            if not done:
                return current, False
            # The other complaint may have been of the same word: of files that differ after a
            # number of bytes, say. The words after it are tried as well.
            done.clear()


def _with_words(
    lab: Lab, request: Request, slot: ValueSlot, tries: Sequence[str]
) -> Iterator[tuple[str, Request, Answer]]:
    """Yield words, each with the request that has it in a slot, and what came."""
    together = 1 if lab.is_given else SIDE_BY_SIDE
    for at, word in enumerate(tries):
        if at % together == 0:
            some = tries[at : at + together]
            lab.answers(request.with_value(slot.place, slot.number, each).words() for each in some)
        changed = request.with_value(slot.place, slot.number, word)
        yield word, changed, lab.answer(changed.words())


def words_told(answer: Answer) -> list[str]:
    """Return words that a message asks for."""
    told = choices_told(answer.said)[:2]
    told += [USUAL[each] for each in types_told(answer.said) if each in USUAL]
    if asks_for_a_character(answer.said):
        told.append(",")
    told += ["x" * least for least, _ in lengths_told(answer)]
    bounds = range_in(answer.said)
    told += [str(bounds[0])] if bounds else []
    return told


def _candidates(answer: Answer, kind: ValueType) -> list[str]:
    """Return words to try, those first that a message asks for."""
    told = words_told(answer)
    return list(dict.fromkeys([*told, *USUAL.values(), PLAIN_WORD, *OTHER_WORDS, kind.usual]))


def _complaint(answer: Answer, word: str) -> tuple[int | None, str]:
    """Return how a program refuses a vector, whatever the word is: its status, and what it says."""
    said, bare = answer.said.partition("\n")[2], re.escape(word)
    if word[:1].isalnum() and word[-1:].isalnum():
        pattern = rf"(?<!\w){bare}(?!\w)"
    else:  # signs stand everywhere in a text: only where they are set apart
        pattern = rf"(?<!\S){bare}(?!\S)|(?<=['\"‘`]){bare}(?=['\"’`])"
    return answer.record.exit, re.sub(pattern, "·", said)
