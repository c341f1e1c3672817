"""The values that NAMEs take: found by words of several kinds, of which the program's own messages
ask for some."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from keen_matrix.core.experiments.edits import (
    GUESSED,
    OBSERVED,
    KeyEdit,
    ValueEdit,
    is_guessed,
    is_stated,
    value_at,
)
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.insight.settling.contents import contents, with_content, with_named_files
from keen_matrix.core.insight.settling.lab import Lab, waits
from keen_matrix.core.insight.settling.lines import (
    asked_for,
    operands_left_out,
    spellings_of_keys,
    synopsis_edit,
)
from keen_matrix.core.insight.settling.program import has_input, with_edit
from keen_matrix.core.insight.settling.slots import ValueSlot
from keen_matrix.core.insight.settling.tried_words import mended, typed_findings
from keen_matrix.core.insight.settling.types import (
    against_message,
    bounds_at,
    checked_type,
    observed_note,
    table_of,
    type_text,
)
from keen_matrix.core.launch.process.waiting import can_be_seen
from keen_matrix.core.notation.synopsis import Operand
from keen_matrix.core.signature.drafting import TypeGuess, count_text
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.requests import Builder, Request, Wish, plain_options
from keen_matrix.core.signature.values import Text
from keen_matrix.core.spec.drafted import SAMPLE_LINES
from keen_matrix.core.structs import replace

#: Files put in place beside the sample, where a program takes away what it reads.
MORE_FILES = ("second.txt", "third.txt")


def settle_smallest(lab: Lab) -> Iterator[Finding]:
    """Find words with which the smallest vector of each form is accepted."""
    for builder in lab.forms.builders(grounded=False):
        request = builder.smallest()
        if request is None or lab.works(request):
            continue
        yield from with_named_files(lab, request)
        # Before types: a program that waits for input refuses no word.
        yield from _with_input(lab, builder)
        found = list(typed_findings(lab, request, open_slots(lab, request)))
        yield from found or _with_operand(lab, builder)
        if any(lab.signature.values[each.name].type == "file" for each in _slots(request)):
            yield from found or _with_word_and_content(lab, request)


def _with_word_and_content(lab: Lab, request: Request) -> Iterator[Finding]:
    """Find what the file that is there has to contain, where a word has to be another one as well:
    with that the program complains of the file."""
    plain = list(with_content(lab, request))
    if plain:
        yield from plain
        return
    words = [e for e in open_slots(lab, request) if lab.signature.values[e.name].type != "file"]
    changed, _ = mended(lab, request, words) if words else (request, False)
    if changed == request:
        return
    edits = tuple(
        ValueEdit(name, {"of": [word], "open": True}, OBSERVED)
        for (_, _, name, word), (_, _, _, old) in zip(changed.slots(), request.slots(), strict=True)
        if word != old
    )
    for finding in with_content(lab, changed):
        yield replace(finding, edits=(*finding.edits, *edits))


def _with_input(lab: Lab, builder: Builder) -> Iterator[Finding]:
    """Find what standard input has to contain for a program that reads it."""
    smallest = builder.smallest()
    if smallest is None or not can_be_seen() or has_input(lab):
        return
    words = smallest.words()
    if not waits(lab, words):  # it does not read at all, so nothing that stands there helps
        return
    for kind, content in [("text", SAMPLE_LINES), *contents()]:
        edit = KeyEdit(("program", "stdin"), content, OBSERVED)
        other = with_edit(lab, edit)
        works = other.works(smallest)
        lab.experiments.count(other.experiments)
        if works:
            shown = (*lab.shown(words), *other.shown(words))
            yield Finding(text=f"it reads {kind} from standard input", shown=shown, edits=(edit,))
            return


def _with_operand(lab: Lab, builder: Builder) -> Iterator[Finding]:
    """Find words that are accepted where an operand is given that the synopsis lets one leave
    out."""
    for name in operands_left_out(builder):
        request = builder.with_counts(name, 1)
        if request is None:
            continue
        if lab.works(request):
            return
        found = list(typed_findings(lab, request, open_slots(lab, request)))
        if not found and lab.signature.values[name].type == "file":
            found = list(with_content(lab, request))
        yield from found
        if found:
            return


def open_slots(lab: Lab, request: Request) -> list[ValueSlot]:
    """Return the places of values of which nothing sure is said."""
    return [each for each in _slots(request) if _is_open(lab, each.name)]


#: Words of an operand that are tried beside each other.
MOST_WORDS = 4


def settle_counts(lab: Lab) -> Iterator[Finding]:
    """Find how many words an operand must have, and may have, that the synopsis lets have any
    number."""
    for number, builder in enumerate(lab.forms.builders(grounded=False)):
        for item in builder.form.form.walk():
            if isinstance(item, Operand) and item.name.several:
                yield from _counted(lab, builder, item.name.name, number)


def _taken_away(lab: Lab, name: str, file: str, vectors: Sequence[Words]) -> Finding:
    """Return that a program takes a file away, as a packer does: the same one once more is refused
    since it is gone."""
    content = value_at(lab.text, "files", file) or SAMPLE_LINES
    fresh = [each for each in MORE_FILES if not is_stated(lab.text, "files", each)]
    return Finding(
        text=f"it takes {file} away: several {name} are several files",
        shown=lab.shown(*vectors),
        edits=tuple(KeyEdit(("files", each), content, OBSERVED) for each in fresh),
    )


def _counted(lab: Lab, builder: Builder, name: str, number: int) -> Iterator[Finding]:
    if getattr(lab.signature.values[name], "count", None) is not None:
        return
    requests = [builder.with_counts(name, count) for count in range(1, MOST_WORDS + 1)]
    vectors = [each.words() for each in requests if each is not None]
    if len(vectors) < MOST_WORDS:
        return
    works = [lab.answer(each).works for each in vectors[:2]]
    if works == [True, True] and lab.answer(vectors[-1]).works:
        return
    works += [each.works for each in lab.answers(vectors[2:])]
    if not any(works):
        return
    least = works.index(True) + 1
    most = MOST_WORDS - works[::-1].index(True)
    if not all(works[least - 1 : most]) or (least == 1 and most == MOST_WORDS):
        return
    asking = _asked_for_many(lab, number, name, vectors[-1])
    if asking is not None:
        yield asking
        return
    count = count_text(least, most if most < MOST_WORDS or least == most else None)
    table = {**table_of(lab.signature.values[name]), "count": count}
    table = {key: value for key, value in table.items() if (key, value) != ("type", "text")}
    against = next(each for each, taken in zip(vectors, works, strict=True) if not taken)
    changed = lab.answer(vectors[least - 1]).record.files
    gone = [word for word in dict.fromkeys(against) if word in changed]
    if gone:
        yield _taken_away(lab, name, gone[0], (vectors[least - 1], against))
        return
    shown = lab.shown(vectors[least - 1], against)
    # how many they are says nothing of their type: one that was guessed is to be tried still
    note = "; ".join(filter(None, [GUESSED * is_guessed(lab.text, name), observed_note(lab, [against])]))
    edit = ValueEdit(name, table, note)
    words = f"{count} words" if least == most or most == MOST_WORDS else f"{least} to {most} words"
    yield Finding(text=f"{name} has {words.replace('..', ' or more')}", shown=shown, edits=(edit,))


def _asked_for_many(lab: Lab, number: int, name: str, refused: Words) -> Finding | None:
    """Return that a line asks for one of the options with which it takes many words, where another
    line has few of them: of `NAME [SUFFIX]` and `OPTION... NAME...` the second is none without its
    options."""
    forms = lab.signature.forms
    lines = [each.form for at, each in enumerate(forms) if at != number]
    operands = (item for line in lines for item in line.walk() if isinstance(item, Operand))
    if name not in {item.name.name for item in operands if not item.name.several}:
        return None
    builder = Builder(lab.signature, forms[number])
    tried = {
        option.key: made.words()
        for option in plain_options(lab.signature, builder.form)
        if (made := builder.wished(Wish({option.key}, full=False, counts={name: MOST_WORDS})))
    }
    answers = lab.answers(tried.values())
    keys = [key for key, answer in zip(tried, answers, strict=True) if answer.works]
    spellings = [spellings_of_keys(lab, number, {key}) for key in keys]
    changed = asked_for(forms[number].form, spellings, several=len(keys) > 1) if keys else None
    if changed is None:
        return None
    return Finding(
        text=f"many {name} need {' or '.join(keys)}",
        shown=lab.shown(tried[keys[0]], refused),
        edits=(synopsis_edit(lab, number, changed),),
    )


def settle_told(lab: Lab) -> Iterator[Finding]:
    """Find the values of which the refusal of any other says what they are: that takes a launch or
    two each, where others take many, and of a slow program the launches end before all were
    tried."""
    for name in lab.signature.values:
        found = _context(lab, name) if _is_open(lab, name) else None
        if found is not None and not lab.works(found[0]):
            yield from typed_findings(lab, *found, is_told=True)


def settle_types(lab: Lab) -> Iterator[Finding]:
    """Find the types of values that are open, or only guessed, and the bounds of numbers: a parser
    tells that it is one, and the program after it which it takes."""
    for name, kind in lab.signature.values.items():
        is_number = kind.type == "int" and table_of(kind).keys().isdisjoint(("min", "max"))
        if not (_is_open(lab, name) or kind.type == "file" or is_number):
            continue
        found = _context(lab, name)
        if found is None:
            continue
        request, slots = found
        if kind.type == "file" and not lab.works(request):
            yield from with_content(lab, request)
        if not _is_open(lab, name):
            if is_number and lab.works(request):
                yield from _bounded(lab, request, slots[0])
            continue
        if lab.works(request):
            if is_guessed(lab.text, name):
                yield from checked_type(lab, request, slots[0])
            else:
                yield from _not_any_text(lab, request, slots[0])
        else:
            yield from typed_findings(lab, request, slots)


def _bounded(lab: Lab, request: Request, slot: ValueSlot) -> Iterator[Finding]:
    """Find the bounds of a number of which nothing else is open, where legal ones are refused."""
    kind = lab.signature.values[slot.name]
    tried = [request.with_value(slot.place, slot.number, each).words() for each in kind.legal()[:4]]
    if all(each.works for each in lab.answers(tried)):
        return
    bounds, told = bounds_at(lab, request, slot)
    if bounds:
        table = {**table_of(kind), **bounds}
        vectors = [request.with_value(slot.place, slot.number, each).words() for each in told]
        refused = [each for each in vectors if not lab.answer(each).works]
        edit = ValueEdit(slot.name, table, observed_note(lab, refused))
        text = f"{slot.name} is {type_text(table)}"
        yield Finding(text=text, shown=lab.shown(*vectors), edits=(edit,))
    yield from against_message(lab, request, slot)


def _not_any_text(lab: Lab, request: Request, slot: ValueSlot) -> Iterator[Finding]:
    """Find that of the texts that stand for a NAME without a type some are refused: one with a
    space, say."""
    kind = lab.signature.values[slot.name]
    if not isinstance(kind, Text) or kind.only_seen:
        return  # of a NAME with examples nothing else is tried anyway
    tried = {each: request.with_value(slot.place, slot.number, each).words() for each in kind.legal()[:4]}
    lab.answers(tried.values())  # side by side
    refused = [each for each, words in tried.items() if not lab.answer(words).works]
    taken = [each for each in tried if each not in refused]
    if not (refused and taken):
        return
    table: TypeGuess = {"of": taken, "open": True}
    shown = lab.shown(tried[taken[0]], tried[refused[0]])
    edit = ValueEdit(slot.name, table, observed_note(lab, [tried[refused[0]]]))
    yield Finding(text=f"{slot.name} is {type_text(table)}", shown=shown, edits=(edit,))


def _is_open(lab: Lab, name: str) -> bool:
    """Tell whether nothing sure is said of a NAME's values."""
    kind = lab.signature.values[name]
    plain = isinstance(kind, Text) and kind.example is None and kind.matches is None
    return plain or is_guessed(lab.text, name)


def _slots(request: Request) -> list[ValueSlot]:
    return [ValueSlot(place, number, name) for place, number, name, _ in request.slots()]


def _context(lab: Lab, name: str) -> tuple[Request, list[ValueSlot]] | None:
    """Return the smallest request in which a NAME has a value, and the open slots that are its own,
    or its option's; None where the rest of it is not accepted either."""
    for number in range(len(lab.signature.forms)):
        builder = lab.forms.sound_builder(number)
        smallest = builder.smallest() if builder is not None else None
        if builder is None or smallest is None:
            continue
        own = [each for each in _slots(smallest) if each.name == name]
        if own:
            return smallest, own
        request = _with_name(builder, name)
        if request is not None:
            part = next((p for p in request.options if name in p.option.value_names), None)
            names = part.option.value_names if part else (name,)
            slots = [each for each in _slots(request) if each.name in names]
            if slots:
                return request, slots
    return None


def _with_name(builder: Builder, name: str) -> Request | None:
    """Return the smallest request with a value of a NAME that may be left out."""
    alone = builder.grounds.actions
    for option in plain_options(builder.signature, builder.form):
        if name in option.value_names and option.key not in alone:
            # whatever is known of it: this is about its value
            return Builder(builder.signature, builder.form).smallest([option])
    operands = (item for item in builder.form.form.walk() if isinstance(item, Operand))
    if any(item.name.name == name for item in operands):
        return builder.with_counts(name, 1)
    return None


# --- words that are accepted ---


# --- what type they are of ---


# --- types that are only guessed ---
