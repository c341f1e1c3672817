"""The values that NAMEs take: found by words of several kinds, of which the program's own messages
ask for some."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from keen_matrix.core.experiments.ask import Answer
from keen_matrix.core.experiments.edits import (
    GUESSED,
    OBSERVED,
    Edit,
    KeyEdit,
    ValueEdit,
    is_guessed,
    is_stated,
    value_at,
)
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.experiments.stating import asks_for_a_character, choices_told, types_told
from keen_matrix.core.insight.settling.lab import Lab, came, waits
from keen_matrix.core.insight.settling.lines import (
    asked_for,
    operands_left_out,
    spellings_of_keys,
    synopsis_edit,
)
from keen_matrix.core.insight.settling.program import has_input, has_sample, script_of, with_edit, with_sample
from keen_matrix.core.insight.settling.sources import lines_told, words_of_script
from keen_matrix.core.launch.process.waiting import can_be_seen
from keen_matrix.core.notation.synopsis import Operand
from keen_matrix.core.signature.drafting import TypeGuess, count_text
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.helptext import range_in
from keen_matrix.core.signature.model import value_type
from keen_matrix.core.signature.requests import Builder, Request, Wish, plain_options
from keen_matrix.core.signature.values import ABSENT_FILE, Existing, Text, ValueType
from keen_matrix.core.spec.drafted import SAMPLE_FILE, SAMPLE_LINES
from keen_matrix.core.structs import replace

#: Type → a word of it.
USUAL = {
    "int": "2",
    "float": "1.5",
    "file": SAMPLE_FILE,
    "dir": ".",
    "date": "2025-06-01",
    "bool": "true",
    "duration": "5s",
}
#: Words that are of no type and that programs ask for.
OTHER_WORDS = (",", "1-2", "a=b", "%f", "10", "0", "a:b", "12:30")
PLAIN_WORD = "word"
#: Launches that each value of a refused vector gets for finding words that it is accepted with.
MOST_TRIES = 18
#: Files put in place beside the sample, where a program takes away what it reads.
MORE_FILES = ("second.txt", "third.txt")
#: Words that are launched together: where time is what is short, one more than needed takes
#: none.
SIDE_BY_SIDE = 2
#: Choices of a message that are tried.
MOST_CHOICES = 12
FAR = "1000000000"


class ValueSlot(NamedTuple):
    """Where a value stands in a request."""

    place: int | str
    number: int
    name: str


def settle_smallest(lab: Lab) -> Iterator[Finding]:
    """Find words with which the smallest vector of each form is accepted."""
    for builder in lab.forms.builders(grounded=False):
        request = builder.smallest()
        if request is None or lab.works(request):
            continue
        # Before types: a program that waits for input refuses no word.
        yield from _with_input(lab, builder)
        found = list(typed_findings(lab, request, open_slots(lab, request)))
        yield from found or _with_operand(lab, builder)
        if any(lab.signature.values[each.name].type == "file" for each in _slots(request)):
            yield from _with_content(lab, request)


#: What a file may be of → one of it.
SAMPLES = {
    "JSON": '{"port": "Skerry", "riders": [1, 2]}\n',
    "CSV": "port,riders\nSkerry,1\nHolm,2\n",
    "XML": "<crossing><port>Skerry</port></crossing>\n",
    "TOML": 'port = "Skerry"\nriders = 2\n',
    "INI": "[crossing]\nport = Skerry\n",
    "Python": "riders = 2\nprint(riders)\n",
    "POD": "=head1 NAME\n\nferry - what crosses\n\n=cut\n",
}


def _with_content(lab: Lab, request: Request) -> Iterator[Finding]:
    """Find what the file that is there has to contain for the program to take it."""
    if not has_sample(lab):
        return
    # A message may ask for certain lines, as a missing header; that is tried before any format.
    told = [("lines", each) for each in lines_told(lab.answer(request.words()).said)]
    for kind, content in (*told, *_contents()):
        other = with_sample(lab, content)
        works = other.works(request)
        lab.experiments.count(other.experiments)
        if works:
            shown = (*lab.shown(request.words()), *other.shown(request.words()))
            edit = KeyEdit(("files", SAMPLE_FILE), content, OBSERVED)
            yield Finding(text=f"it reads {kind}", shown=shown, edits=(edit,))
            return


def _contents() -> Iterator[tuple[str, str]]:
    """Yield what a text may be of, and one of it as a spec writes it."""
    for kind, content in SAMPLES.items():
        yield kind, content.replace("{", "{{").replace("}", "}}")


def _with_input(lab: Lab, builder: Builder) -> Iterator[Finding]:
    """Find what standard input has to contain for a program that reads it."""
    smallest = builder.smallest()
    if smallest is None or not can_be_seen() or has_input(lab):
        return
    words = smallest.words()
    if not waits(lab, words):  # it does not read at all, so nothing that stands there helps
        return
    for kind, content in [("text", SAMPLE_LINES), *_contents()]:
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
            found = list(_with_content(lab, request))
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
    note = "; ".join(filter(None, [GUESSED * is_guessed(lab.text, name), _note(lab, [against])]))
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
    tells that it is one, and the program behind it which it takes."""
    for name, kind in lab.signature.values.items():
        is_number = kind.type == "int" and table_of(kind).keys().isdisjoint(("min", "max"))
        if not (_is_open(lab, name) or kind.type == "file" or is_number):
            continue
        found = _context(lab, name)
        if found is None:
            continue
        request, slots = found
        if kind.type == "file" and not lab.works(request):
            yield from _with_content(lab, request)
        if not _is_open(lab, name):
            if is_number and lab.works(request):
                yield from _bounded(lab, request, slots[0])
            continue
        if lab.works(request):
            if is_guessed(lab.text, name):
                yield from _checked(lab, request, slots[0])
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
        edit = ValueEdit(slot.name, table, _note(lab, refused))
        text = f"{slot.name} is {type_text(table)}"
        yield Finding(text=text, shown=lab.shown(*vectors), edits=(edit,))
    yield from _against_message(lab, request, slot)


def _not_any_text(lab: Lab, request: Request, slot: ValueSlot) -> Iterator[Finding]:
    """Find that of the texts that stand for a NAME without a type some are refused: one with a
    space, say."""
    kind = lab.signature.values[slot.name]
    if not isinstance(kind, Text):
        return
    tried = {each: request.with_value(slot.place, slot.number, each).words() for each in kind.legal()[:4]}
    lab.answers(tried.values())  # side by side
    refused = [each for each, words in tried.items() if not lab.answer(words).works]
    taken = [each for each in tried if each not in refused]
    if not (refused and taken):
        return
    table: TypeGuess = {"of": taken, "open": True}
    shown = lab.shown(tried[taken[0]], tried[refused[0]])
    edit = ValueEdit(slot.name, table, _note(lab, [tried[refused[0]]]))
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
            return request, [each for each in _slots(request) if each.name in names]
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
    words = {each: value for each in slots if (value := _value(found, each)) != _value(request, each)}
    for slot in words:
        table, tried = _table_at(with_file, found, slot)
        edits: list[Edit] = [ValueEdit(slot.name, table, _note(with_file, tried))]
        if table.get("type") == "file" and with_file is not lab:
            edits.append(KeyEdit(("files", SAMPLE_FILE), SAMPLE_LINES))
        text = f"{slot.name} is {type_text(table)}"
        yield Finding(text=text, shown=with_file.shown(*tried), edits=tuple(edits))
        if table.get("type") == "int":
            yield from _against_message(with_file, found, slot)
    lab.experiments.count(with_file.experiments)


def _value(request: Request, slot: ValueSlot) -> str:
    return next(word for place, number, _, word in request.slots() if (place, number) == slot[:2])


def accepted(
    lab: Lab, request: Request, slots: Sequence[ValueSlot], *, is_told: bool = False
) -> Request | None:
    """Return a refused request with other words in some slots, with which it is accepted.

    A word is kept where the program accepts it, or complains of something else with it: so
    several that are wrong are mended one after another.
    """
    current, answer = request, lab.answer(request.words())
    own = [] if is_told else words_of_script(script_of(lab))
    left = (MOST_TRIES + len(own)) * len(slots)
    mended: set[ValueSlot] = set()
    tried: set[tuple[ValueSlot, str]] = set()
    while True:
        before = current
        for slot in slots:
            if slot in mended:
                continue
            kind = lab.signature.values[slot.name]
            tries = words_told(answer) if is_told else [*_candidates(answer, kind), *own]
            tries = [each for each in tries if (slot, each) not in tried]
            for word, changed, found in _with_words(lab, current, slot, tries[:left]):
                left -= 1
                tried.add((slot, word))
                if found.works:
                    return changed
                if _complaint(found, word) != _complaint(answer, _value(current, slot)):
                    current, answer = changed, found
                    mended.add(slot)
                    break
            if left <= 0:
                return None
        if current is before:
            if not mended:
                return None
            # The other complaint may have been of the same word: of files that differ behind a
            # number of bytes, say. The words behind it are tried as well.
            mended.clear()


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
    told += ["x" * least for least, _ in _lengths_told(answer)]
    bounds = range_in(answer.said)
    told += [str(bounds[0])] if bounds else []
    return told


def _lengths_told(answer: Answer) -> Iterator[tuple[int, int]]:
    """Yield how long a text may be, least and most, where a message says it: "should be 1 or 2
    chars"."""
    pattern = r"\b(\d{1,2})(?: (?:or|to|and) |\.\.|-)(\d{1,2}) char"
    for least, most in re.findall(pattern, answer.said):
        yield int(least), int(most)


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


# --- what type they are of ---


def _table_at(lab: Lab, request: Request, slot: ValueSlot) -> tuple[TypeGuess, list[Words]]:
    """Return the table of a value with which a request is accepted, and the vectors that show it:
    the first type whose legal values are accepted and whose bad ones are refused."""

    def words(value: str) -> Words:
        return request.with_value(slot.place, slot.number, value).words()

    value = _value(request, slot)
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

    value = _value(request, slot)
    refused = lab.answer(request.with_value(slot.place, slot.number, PLAIN_WORD).words())
    listed = choices_told(refused.said)[:MOST_CHOICES]
    if len(listed) > 1:
        taken = [each for each in listed if works(each)]
        if len(taken) > 1:
            yield {"of": taken}, taken[:1]
    for least, most in _lengths_told(refused):
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
        if kind == "dir" and not _speaks_of_folders(lab, request, slot):
            continue
        if (value == USUAL[kind] or works(USUAL[kind])) and complains(wrong):
            yield {"type": kind}, [USUAL[kind], wrong]
            if kind == "file":
                yield {"type": kind, "folders": True}, [USUAL[kind], ".", wrong]


_FOLDERS = re.compile(r"dir(?:ector|s?\b|_|-)|folder", re.IGNORECASE)


def _speaks_of_folders(lab: Lab, request: Request, slot: ValueSlot) -> bool:
    """Tell whether a NAME, its option, or what the program says of a file in its place speaks of
    directories."""
    names = [slot.name]
    if isinstance(slot.place, int):
        names += request.options[slot.place].option.spellings
    words = [request.with_value(slot.place, slot.number, each).words() for each in (SAMPLE_FILE, ABSENT_FILE)]
    names += [each.said for each in lab.answers(words)]
    return any(_FOLDERS.search(each) for each in names)


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


def _against_message(lab: Lab, request: Request, slot: ValueSlot) -> Iterator[Finding]:
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


# --- types that are only guessed ---


def _checked(lab: Lab, request: Request, slot: ValueSlot) -> Iterator[Finding]:
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
        # a folder does as well, or any name: but beside some option it may have to be a file
        table = {"of": legal, "open": True}
    elif taken:
        table = {}
    if count is not None:
        table = {**table, "count": count}
    # where nothing speaks against it, what the program refuses speaks for it
    told = told or [each for each in bad if each and not answers[each].works][-1:]
    shown = lab.shown(words(legal[0]), *map(words, told))
    text = f"{slot.name} is {type_text(table)}"
    edit = ValueEdit(slot.name, table, _note(lab, [words(told[0])] if told else []))
    yield Finding(text=text, shown=shown, edits=(edit,))
    if table.get("type") == "int":
        yield from _against_message(lab, request, slot)


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
    for key in ("min", "max", "of", "default", "folders"):
        value = getattr(kind, key, None)
        if value is not None and (key != "folders" or value):
            found[key] = list(value) if key == "of" else value
    if (counted := getattr(kind, "count", None)) is not None:
        found["count"] = count_text(*counted)
    return found


def _note(lab: Lab, tried: Sequence[Words]) -> str:
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
    "dir": "a folder that exists",
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
    if table.get("folders"):
        return "a file or a folder that exists"
    is_open = not table.keys() - {"count"}
    return "any text" if is_open else NOUNS[str(table.get("type", "text"))] + bounds
