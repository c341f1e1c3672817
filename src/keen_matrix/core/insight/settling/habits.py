"""How the program reads its words, habit by habit, where no reader does all that it does."""

from __future__ import annotations

import shlex
from collections.abc import Iterator

from keen_matrix.core.experiments.ask import Answer
from keen_matrix.core.experiments.edits import GUESSED, OBSERVED, KeyEdit, is_stated, note_of
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.insight.settling.lab import Lab, came, refused_or_accepted
from keen_matrix.core.insight.settling.lines import several_times, synopsis_edit
from keen_matrix.core.insight.settling.reading import (
    MOST_FORMS,
    MOST_SHOWN,
    ReaderProbe,
    beside_other,
    probes_of,
    said,
    sound_parts,
    sound_probes,
)
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.readers import BY_HAND
from keen_matrix.core.structs import replace


def settle_habits(lab: Lab) -> Iterator[Finding]:
    """Find single habits of a program that no known reader reads the words of."""
    if lab.signature.reader:
        return  # one that was guessed is taken back by now, or stated
    yield from _style(lab)
    by_habit: dict[str, list[ReaderProbe]] = {}
    for probe in sound_probes(lab):
        if probe.habit:
            by_habit.setdefault(probe.habit, []).append(probe)
    for habit, probes in by_habit.items():
        if is_stated(lab.text, "signature", habit.replace("_", "-")):
            continue
        told = {said(lab, each) for each in probes}
        if len(told) != 1 or None in told:
            continue  # it is one thing here and another there: nothing to be stated
        value = told.pop()
        if any(
            lab.signature.judge(each.words).status == refused_or_accepted(lab.answer(each.words))
            for each in probes
        ):
            continue  # it says so already
        key = habit.replace("_", "-")
        shown = lab.shown(*(each.words for each in probes[:MOST_SHOWN]))
        note = f"{OBSERVED}: {shlex.join(probes[0].words)[:50]}: {came(lab.answer(probes[0].words))[:50]}"
        edit = KeyEdit(("signature", key), value, note)
        written = str(value).lower() if isinstance(value, bool) else f'"{value}"'
        yield Finding(text=f"{key} = {written}", shown=shown, edits=(edit,))


#: Options that are given twice to see whether each of them may be.
MOST_REPEATED = 40


def settle_repeats(lab: Lab) -> Iterator[Finding]:
    """Find options that may not be given again though others may: it is another matter for each
    then."""
    key = ("signature", "repeat")
    by_hand = is_stated(lab.text, *key) and not note_of(lab.text, *key).startswith(OBSERVED)
    if lab.signature.habits.repeat != "last" or by_hand:
        return
    yield from _collected(lab)
    vectors: list[Words] = []
    for builder in [each for each in lab.forms.builders() if each.grounds.works][:MOST_FORMS]:
        base = builder.smallest()
        if base is None or not lab.works(base):
            continue
        for part in sound_parts(lab, builder, base):
            if part.option.again or len(part.values) > 1:
                continue
            legal = builder.legal(part.option.name_of(0)) if part.values else []
            # one that is refused on its own tells nothing of a second use
            others = [replace(part, values=(each,)) for each in legal if each != part.values[0]]
            sound = (each for each in others if lab.answer(beside_other(base, each.words())).works)
            other = next((each.values[0] for each in sound), None)
            second = [other] if other is not None else list(part.values)
            vectors.append(beside_other(base, [*part.words(), part.spelling, *second]))
    vectors = list(dict.fromkeys(vectors))[:MOST_REPEATED]
    refused = [
        words
        for words, each in zip(vectors, lab.answers(vectors), strict=True)
        if refused_or_accepted(each) == "refused"
    ]
    if refused and len(refused) < len(vectors):
        note = f"{OBSERVED}: {shlex.join(refused[0])[:50]}: {came(lab.answer(refused[0]))[:50]}"
        edit = KeyEdit(("signature", "repeat"), "open", note)
        text = "some options may not be repeated"
        yield Finding(text=text, shown=lab.shown(*refused[:MOST_SHOWN]), edits=(edit,))


def _collected(lab: Lab) -> Iterator[Finding]:
    """Find options whose values add up where others' last one counts: `-a one -a two` is neither
    `-a one` nor `-a two`."""
    for number, builder in enumerate(lab.forms.builders()):
        base = builder.smallest() if builder.grounds.works else None
        if base is None or not lab.works(base):
            continue
        for part in sound_parts(lab, builder, base)[:MOST_REPEATED]:
            if part.option.again or len(part.values) != 1:
                continue
            legal = [each for each in builder.legal(part.option.name_of(0)) if each != part.values[0]]
            other = next((replace(part, values=(each,)) for each in legal), None)
            if other is None:
                continue
            first, second = beside_other(base, part.words()), beside_other(base, other.words())
            both = beside_other(base, [*part.words(), *other.words()])
            answers = lab.answers([first, second, both])
            if not all(each.works for each in answers) or _did(answers[2]) in map(_did, answers[:2]):
                continue
            if not _is_steady(lab, second):
                continue
            line = several_times(lab.signature.lines[number], part.option.spellings)
            if line != lab.signature.lines[number]:
                yield Finding(
                    text=f"each {part.option.key} counts",
                    shown=lab.shown(first, second, both),
                    edits=(synopsis_edit(lab, number, line),),
                )


def _did(answer: Answer) -> tuple[object, ...]:
    """Return what tells two results apart."""
    record = answer.record
    # the content of a file may have the time in it
    files = {name: getattr(each, "size", each) for name, each in (record.files or {}).items()}
    return (record.exit, record.stdout, record.stderr, files)


def _is_steady(lab: Lab, words: Words) -> bool:
    """Tell whether a call does the same a second time."""
    return _did(lab.experiments.launched([words])[words]) == _did(lab.answer(words))


def _style(lab: Lab) -> Iterator[Finding]:
    """Find whether options may follow operands, which tells the styles apart, where the style is
    only guessed."""
    guessed = note_of(lab.text, "signature", "style").startswith(GUESSED)
    if not guessed or lab.signature.style == "one-dash":
        return
    probes = [each for each in probes_of(lab) if each.habit == "interleaved"]
    told = {said(lab, each) for each in probes}
    if len(told) != 1 or None in told:
        return
    style = "gnu" if True in told else "posix"
    if style == lab.signature.style or style not in BY_HAND:
        return
    shown = lab.shown(*(each.words for each in probes[:MOST_SHOWN]))
    edit = KeyEdit(("signature", "style"), style, OBSERVED)
    yield Finding(text=f"its options are written in the {style} style", shown=shown, edits=(edit,))
