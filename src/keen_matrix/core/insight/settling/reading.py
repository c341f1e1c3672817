"""How the program reads its words: calls on which readers differ are launched until one is left
that does all that the program does; where there is none, habit by habit."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations, islice
from typing import Any, NamedTuple

from keen_matrix.core.experiments.ask import Answer
from keen_matrix.core.experiments.edits import (
    GUESSED,
    OBSERVED,
    Edit,
    KeyEdit,
    RemoveEdit,
    is_stated,
    note_of,
    observed_at,
)
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.insight.settling.lab import Lab, complains, refused_or_accepted
from keen_matrix.core.insight.settling.program import language_of_program, script_of
from keen_matrix.core.notation.synopsis import Keyword, Operand, OptionUse
from keen_matrix.core.runs.starting.scripts import names_reader
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.habits import SWITCH_NAMES
from keen_matrix.core.signature.model import Option, habits_of_switches
from keen_matrix.core.signature.readers import READERS, Reader, can_spell
from keen_matrix.core.signature.requests import Builder, OptionPart, Request, plain_options
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.spec.drafted import value_text
from keen_matrix.core.structs import replace

#: Forms of a synopsis that vectors are made of: one reader reads them all.
MOST_FORMS = 3
#: Vectors that a reader is checked against once it is the only one left.
MOST_CHECKS = 40
MOST_SHOWN = 3
#: Ways to write a number that readers differ in.
NUMBERS = ("0x2", " 2", "+2", "2_0", "02")
NO_NUMBER, PLAIN_WORD = "no-number", "word"
#: Pairs of flags of which one is looked for that the program accepts together.
MOST_PAIRS = 6


class ReaderProbe(NamedTuple):
    """A vector on which readers differ, and the switch that says what it is, if it gets through and
    if it does not."""

    words: Words
    habit: str = ""
    accepted: bool | str | None = None
    refused: bool | str | None = None


def settle_reader(lab: Lab) -> Iterator[Finding]:
    """Find the reader that does what the program does. One that is only guessed, from the layout of
    the help, is checked against the program as the others are."""
    guessed = lab.signature.reader if _is_guessed(lab) else ""
    if (lab.signature.reader and not guessed) or _is_by_hand(lab):
        return
    probes = sound_probes(lab)
    fit = (language_of_program(lab), "any")
    spelt = [each for option in lab.signature.options for each in option.spellings]
    script = script_of(lab)
    if not spelt and not guessed and not any(names_reader(script, row) for row in READERS.values()):
        return  # of what all readers do with operands alone no reader can be told
    natives = {
        name: row
        for name, row in sorted(READERS.items(), key=lambda each: _rank(script, each[1]))
        if row.runtime in fit and can_spell(spelt, row)
    }
    if guessed:  # of several that do the same, it is the one
        natives = {guessed: READERS[guessed], **natives}
    candidates = {name: _read_by(lab.signature, name, row) for name, row in natives.items()}
    seen: dict[Words, str] = {}
    left = _left(lab, candidates, probes, seen)
    if not seen:
        return  # nothing was accepted to make vectors of
    if not left:
        tried = {guessed: candidates[guessed]} if guessed else candidates
        varied = _with_switches(lab, tried, probes, seen)
        if varied is not None:
            yield _read_with(lab, *varied, seen)
        elif guessed:
            yield _taken_back(lab, guessed, seen)
        return
    name = next(iter(left))
    telling = [each for each in seen if _differ(candidates, each)][-MOST_SHOWN:]
    why = f"{OBSERVED}: agrees with the program on {len(seen)} calls on which readers differ"
    edits: list[Edit] = [KeyEdit(("signature", "reader"), name, why)]
    edits = [*_without_style(lab, name), *edits]
    rest = list(left)[1:]
    others = f" (so {'does' if len(rest) == 1 else 'do'} {', '.join(rest)})" if rest else ""
    yield Finding(
        text=f"it reads its words as {name} does{others}", shown=lab.shown(*telling), edits=tuple(edits)
    )


def _without_style(lab: Lab, name: str) -> Iterator[Edit]:
    """Yield what takes away what a reader says otherwise: the style, and options set aside that are
    none where one dash precedes words, as `-m` of `-man`."""
    if is_stated(lab.text, "signature", "style"):
        yield RemoveEdit(("signature", "style"))
    is_other = READERS[name].style != lab.signature.style
    if is_other and observed_at(lab.text, "signature", "aside") is not None:
        yield RemoveEdit(("signature", "aside"))


def _rank(script: str, row: Reader) -> int:
    """Return which of several readers that do the same is taken: one that the script names, one of
    no language, any other. What is no script names none."""
    if names_reader(script, row):
        return 0
    return 1 if row.runtime == "any" else 2


#: Habits of its own that a program may have beside those of its reader, and beside those of one
#: that its script names: it may go on where the reader complains, which changes all that is
#: refused.
MOST_SWITCHES, MOST_OF_NAMED = 2, 5


def _with_switches(
    lab: Lab, candidates: Mapping[str, Signature], probes: Sequence[ReaderProbe], seen: dict[Words, str]
) -> tuple[str, dict[str, bool | str], list[Words]] | None:
    """Return the reader that does what the program does except for the fewest single habits, with
    what these are and the vectors that show them; None where there is none. What is left of the
    words may be the program's own: it may pass over operands that it has no use for."""
    script = script_of(lab)
    vectors = list(dict.fromkeys(each.words for each in probes))[:MOST_CHECKS]
    lab.answers([each for each in vectors if each not in seen])
    for words in vectors:
        seen[words] = refused_or_accepted(lab.answer(words))
    found: list[tuple[int, int, str, dict[str, bool | str], list[Words]]] = []
    for name, signature in candidates.items():
        most = MOST_SWITCHES if _rank(script, READERS[name]) else MOST_OF_NAMED
        switches, against, varied = _switched(lab, signature, probes, seen)
        if _is_mixed(lab, probes, seen) and "repeat" in switches:
            switches["repeat"] = "open"
            varied = _varied(signature, switches)
        if not 0 < len(against) <= most or any(_is_against(varied, w, seen) for w in vectors):
            continue
        found.append((len(against), _rank(script, READERS[name]), name, switches, against))
    best = min(found, key=lambda each: each[:2], default=None)
    return None if best is None else (best[2], best[3], best[4])


def _switched(
    lab: Lab, signature: Signature, probes: Sequence[ReaderProbe], seen: Mapping[Words, str]
) -> tuple[dict[str, bool | str], list[Words], Signature]:
    """Return the habits with which a signature says what the program did, the vector that showed
    each, and the signature with them. They are found one after another: where unknown options are
    taken, two flags in one word are one of these, and no bundle."""
    switches: dict[str, bool | str] = {}
    against: list[Words] = []
    varied = signature
    for probe in sorted(probes, key=lambda each: each.habit != "unknown_options"):
        if not probe.habit or probe.habit in switches or probe.words not in seen:
            continue
        told = said(lab, probe)
        if told is not None and _is_against(varied, probe.words, seen):
            switches[probe.habit] = told
            against.append(probe.words)
            if (probe.habit, told) == ("unknown_options", "take"):
                # other letter case and beginnings are unknown options as well, which tells nothing
                # of them
                switches |= {"ignore_case": False, "abbreviations": False}
            varied = _varied(signature, switches)
    return switches, against, varied


def _varied(signature: Signature, switches: Mapping[str, bool | str]) -> Signature:
    habits: Mapping[str, Any] = habits_of_switches(switches)
    return replace(signature, habits=replace(signature.habits, **habits))


def _is_mixed(lab: Lab, probes: Sequence[ReaderProbe], seen: Mapping[Words, str]) -> bool:
    """Tell whether some options may be given again and others not."""
    uses = [each for each in probes if each.habit == "repeat" and each.words in seen]
    return len({said(lab, each) for each in uses} - {None}) > 1


def _is_against(signature: Signature, words: Words, seen: Mapping[Words, str]) -> bool:
    """Tell whether a signature says of a vector what the program was seen not to do."""
    return seen.get(words, "unknown") != "unknown" and signature.judge(words).status not in (
        seen[words],
        "unspecified",
    )


def _read_with(
    lab: Lab,
    name: str,
    switches: Mapping[str, bool | str],
    against: Sequence[Words],
    seen: Mapping[Words, str],
) -> Finding:
    """Return that a reader reads the words, with some habits that are the program's own."""
    told = [f"{habit.replace('_', '-')} = {value_text(value)}" for habit, value in switches.items()]
    why = f"{OBSERVED}: apart from the switches below it agrees with the program on {len(seen)} calls"
    edits: list[Edit] = [KeyEdit(("signature", "reader"), name, why)]
    edits = [*_without_style(lab, name), *edits]
    for habit, value in switches.items():
        edits.append(KeyEdit(("signature", habit.replace("_", "-")), value, OBSERVED))
    return Finding(
        text=f"it reads its words as {name} does, except for {' and '.join(told)}",
        shown=lab.shown(*list(against)[:MOST_SHOWN]),
        edits=tuple(edits),
    )


def _is_guessed(lab: Lab) -> bool:
    """Tell whether the spec marks its reader as a guess."""
    return note_of(lab.text, "signature", "reader").startswith(GUESSED)


def _is_by_hand(lab: Lab) -> bool:
    """Tell whether the spec states single habits, or a style that is no guess: whoever wrote that
    knows that the words are read by hand, and what is written is not written over."""
    keys = [name.replace("_", "-") for name in SWITCH_NAMES]
    stated = any(
        is_stated(lab.text, "signature", key) and not note_of(lab.text, "signature", key).startswith(OBSERVED)
        for key in keys
    )
    has_style = is_stated(lab.text, "signature", "style")
    return stated or (
        has_style and not note_of(lab.text, "signature", "style").startswith((GUESSED, OBSERVED))
    )


def _taken_back(lab: Lab, guessed: str, seen: Mapping[Words, str]) -> Finding:
    """Return that a guessed reader reads otherwise than the program, with a vector that shows it:
    nothing is said of the reader then, and habits are found one by one."""
    against = [
        words
        for words, found in seen.items()
        if lab.signature.judge(words).status not in (found, "unspecified") and found != "unknown"
    ]
    row = READERS[guessed]
    return Finding(
        text=f"it does not read its words as {guessed} does, though its help is laid out so",
        shown=lab.shown(*against[:MOST_SHOWN]),
        edits=(RemoveEdit(("signature", "reader")), KeyEdit(("signature", "style"), row.style, OBSERVED)),
    )


def _read_by(signature: Signature, name: str, row: Reader) -> Signature:
    """Return a signature as a reader would read it."""
    values = {each: kind.read_by(row.habits) for each, kind in signature.values.items()}
    help = signature.help or row.help
    return replace(signature, reader=name, habits=row.habits, values=values, help=help, style=row.style)


def _left(
    lab: Lab, candidates: Mapping[str, Signature], probes: Sequence[ReaderProbe], seen: dict[Words, str]
) -> dict[str, Signature]:
    """Return the candidates that agree with the program on all that it was given: first on the
    vectors that tell most of them apart, then on others."""
    left = dict(candidates)
    vectors = list(dict.fromkeys(each.words for each in probes))
    while len(left) > 1:
        # The vector that tells most of them apart, whatever comes of it.
        best = max(
            (each for each in vectors if each not in seen), key=lambda each: _splits(left, each), default=None
        )
        if best is None or _splits(left, best) == 0:
            break
        left = _agreeing(lab, left, best, seen)
    # one that is alone is no right one yet: it is checked against the rest as well
    rest = [each for each in vectors if each not in seen][:MOST_CHECKS]
    if left:
        lab.answers(rest)  # side by side
    for words in rest:
        if not left:
            return {}
        left = _agreeing(lab, left, words, seen)
    return left


def _agreeing(
    lab: Lab, left: Mapping[str, Signature], words: Words, seen: dict[Words, str]
) -> dict[str, Signature]:
    """Launch a vector, and return the candidates that say of it what came."""
    found = refused_or_accepted(lab.answer(words))
    seen[words] = found
    # A crash says nothing of how words are read.
    if found == "unknown":
        return dict(left)
    return {name: each for name, each in left.items() if each.judge(words).status in (found, "unspecified")}


def _splits(left: Mapping[str, Signature], words: Words) -> int:
    """Return how many candidates a vector rules out at least, whatever comes of it."""
    statuses = [each.judge(words).status for each in left.values()]
    return min(statuses.count("accepted"), statuses.count("refused"))


def _differ(candidates: Mapping[str, Signature], words: Words) -> bool:
    return _splits(candidates, words) > 0


# --- habit by habit ---


def said(lab: Lab, probe: ReaderProbe) -> bool | str | None:
    """Return what a probe says its habit is; None where it says nothing."""
    answer = lab.answer(probe.words)
    found = refused_or_accepted(answer)
    if found == "accepted" and probe.accepted is True and (complains(answer) or _is_carried(answer)):
        return None  # it goes on after all that it refuses, or takes it for an operand
    if found == "accepted" and probe.habit == "unknown_options" and _is_carried(answer):
        return "operand"
    return {"accepted": probe.accepted, "refused": probe.refused}.get(found)


def _is_carried(answer: Answer) -> bool:
    """Tell whether a word with dashes that is no option is among what a program printed or made: it
    was an operand to it."""
    words = [each for each in answer.record.argv if each.startswith("-")]
    names = {part for name in answer.record.files or {} for part in name.split("/")}
    return any(each in names or each in (answer.record.stdout or "").split() for each in words[-1:])


# --- the vectors ---


def probes_of(lab: Lab) -> Iterator[ReaderProbe]:
    """Yield calls on which readers differ, made of accepted ones."""
    for builder in [each for each in lab.forms.builders() if each.grounds.works][:MOST_FORMS]:
        base = builder.smallest()
        if base is None or not lab.works(base):
            continue
        parts = sound_parts(lab, builder, base)
        flags = [part for part in parts if not part.option.takes_value]
        valued = [part for part in parts if len(part.values) == 1]
        yield from _bundled(lab, base, flags)
        yield from _with_flags(base, flags)
        for part in _of_both_kinds(valued):
            yield from _with_value(lab, builder, base, part)
        behind = _with_operand(lab, builder, base)
        yield from _with_operands(builder, behind, [*flags[:1], *valued[:1]])
        yield from _with_unknown(base)


def sound_probes(lab: Lab) -> list[ReaderProbe]:
    """Return the calls on which readers differ, without those that a program complains of and ends
    with 0 all the same: that it takes them is not to be concluded from a status that is wrong."""
    probes = list(dict.fromkeys(probes_of(lab)))
    lenient = dict.fromkeys(each.words for each in probes if each.accepted in ("take", "ignore"))
    lab.answers(list(lenient))
    return [each for each in probes if each.words not in lenient or not _complains(lab, each.words)]


def _complains(lab: Lab, words: Words) -> bool:
    """Tell whether all that came of an accepted vector is a message, though accepted ones have
    output."""
    answer = lab.answer(words)
    if not answer.works or answer.record.stdout or not answer.record.stderr:
        return False
    made = (each.smallest() for each in lab.forms.builders() if each.grounds.works)
    smallest = [lab.answer(each.words()) for each in made if each is not None]
    return any(each.works and each.record.stdout and not each.record.stderr for each in smallest)


def sound_parts(lab: Lab, builder: Builder, base: Request) -> list[OptionPart]:
    """Return the options that were seen to be accepted beside the smallest vector."""
    found = []
    for option in plain_options(lab.signature, builder.form):
        there = any(part.option is option for part in base.options)
        if there or option.key in builder.grounds.alone or option.optional_value:
            continue
        request = builder.smallest([option])
        own = [part for part in request.options if part.option is option] if request else []
        if request is None or not own or not lab.works(request):
            continue
        # what needs another option beside it, or excludes one of the base, is no part for vectors
        # made of the base
        beside = beside_other(base, own[0].words())
        if lab.signature.judge(beside).status == "accepted" and lab.answer(beside).works:
            found.append(own[0])
    return found


def _of_both_kinds(parts: Sequence[OptionPart]) -> list[OptionPart]:
    """Return an option with a letter and one with a long name, where there are such."""
    plain = sorted(parts, key=lambda each: each.values[0] != PLAIN_WORD)
    short = next((each for each in plain if _letter(each.option)), None)
    long = next((each for each in plain if _long(each.option) or _one_dash(each.option)), None)
    return list(dict.fromkeys(each for each in (short, long) if each is not None))


def _letter(option: Option) -> str:
    return next((each for each in option.spellings if len(each) == 2), "")


def _long(option: Option) -> str:
    return next((each for each in option.spellings if each.startswith("--") and len(each) > 3), "")


def _one_dash(option: Option) -> str:
    """Return a name of more than a letter after one dash."""
    return next((each for each in option.spellings if re.match(r"-[^-].", each)), "")


def beside_other(base: Request, words: Sequence[str]) -> Words:
    """Return the words of a request with others in front of its operands."""
    whole = base.words()
    behind = len(whole) - sum(1 for part in base.operands if part.name)
    return (*whole[:behind], *words, *whole[behind:])


def _bundled(lab: Lab, base: Request, flags: Sequence[OptionPart]) -> Iterator[ReaderProbe]:
    """Two flags in one word, which are accepted in two."""
    letters = [letter for each in flags if (letter := _letter(each.option))]
    for first, second in islice(combinations(letters, 2), MOST_PAIRS):
        if lab.answer(beside_other(base, [first, second])).works:
            yield ReaderProbe(beside_other(base, [f"{first}{second[1]}"]), "bundling", True, False)
            return


def _with_flags(base: Request, flags: Sequence[OptionPart]) -> Iterator[ReaderProbe]:
    """Flags: shortened, with a value, twice, with other dashes, taken back."""
    for part in flags[:1]:
        if not part.option.again:
            yield ReaderProbe(beside_other(base, [part.spelling, part.spelling]), "repeat", "last", "refuse")
    for part in [each for each in flags if not _long(each.option) and len(each.spelling) > 2][:1]:
        # a word after one dash
        if (capitals := part.spelling.upper()) not in base.form.by_spelling:
            yield ReaderProbe(beside_other(base, [capitals]), "ignore_case", True, False)
    for part in [each for each in flags if _long(each.option)][:2]:
        long = _long(part.option)
        yield from _shortened(base, flags, long, ())
        if not part.option.again:  # a count may take a number where others take no value
            yield ReaderProbe(beside_other(base, [f"{long}=x"]), "flag_values", "ignore", "refuse")
            yield ReaderProbe(beside_other(base, [f"{long}=true"]))
        if f"-{long[2]}" not in base.form.by_spelling:
            yield ReaderProbe(beside_other(base, [long[1:]]))  # else it may be a letter and its value
        yield ReaderProbe(beside_other(base, [long.upper()]), "ignore_case", True, False)
        yield ReaderProbe(beside_other(base, [f"--no-{long[2:]}"]))


def _shortened(base: Request, parts: Sequence[OptionPart], long: str, values: Words) -> Iterator[ReaderProbe]:
    """A long option by its beginning, where no other begins so."""
    known = {spelling for each in base.form.options for spelling in each.spellings}
    for length in range(len(long) - 1, 3, -1):
        short = long[:length]
        if sum(1 for each in known if each.startswith(short)) == 1:
            yield ReaderProbe(beside_other(base, [short, *values]), "abbreviations", True, False)
            return


def _with_value(lab: Lab, builder: Builder, base: Request, part: OptionPart) -> Iterator[ReaderProbe]:
    """An option with its value: joined, empty, missing, with a dash, twice, in other spellings."""
    (value,) = part.values
    name = part.option.name_of(0)
    kind = lab.signature.values[name]
    letter, long = _letter(part.option), _long(part.option)
    # of a text that must be a certain one nothing is known but that one
    is_any = kind.type in ("int", "float") or value == PLAIN_WORD
    if letter:
        yield ReaderProbe(beside_other(base, [f"{letter}{value}"]), "joined", True, False)
        if is_any:
            yield ReaderProbe(beside_other(base, [f"{letter}={value}"]))
        yield ReaderProbe(beside_other(base, [f"-{letter}", value]))
    one_dash = _one_dash(part.option)
    if one_dash and not long:
        yield ReaderProbe(beside_other(base, [f"{one_dash}={value}"]), "joined", True, False)
    if long:
        yield ReaderProbe(beside_other(base, [f"{long}={value}"]), "joined", True, False)
        if kind.type == "text" and is_any:  # whether another type takes it is for the program
            yield ReaderProbe(beside_other(base, [f"{long}="]))
        yield ReaderProbe(beside_other(base, [long[1:], value]))
        yield from _shortened(base, [part], long, (value,))
    if not part.option.again:
        other = next((each for each in builder.legal(name) if each != value), value)
        yield ReaderProbe(
            beside_other(base, [part.spelling, value, part.spelling, other]), "repeat", "last", "refuse"
        )
    if _ends_behind(base, part.option):
        yield ReaderProbe((*base.words(), part.spelling), "missing_values", "ignore", "refuse")
    if kind.type == "text" and is_any and kind.read("-x").status == "legal":
        yield ReaderProbe(beside_other(base, [part.spelling, "-x"]), "dash_values", "take", "refuse")
    if kind.type in ("int", "float"):
        if kind.read("-5").status == "legal":
            yield ReaderProbe(beside_other(base, [part.spelling, "-5"]), "negative_numbers", True, False)
        # A program that takes any word for a number says nothing of how its reader reads numbers,
        # and what a shell script does with one is its own.
        takes_any = lab.answer(beside_other(base, [part.spelling, NO_NUMBER])).works
        is_checked = not takes_any and language_of_program(lab) != "shell"
        for text in NUMBERS if is_checked else ():
            yield ReaderProbe(beside_other(base, [part.spelling, text]))


def _ends_behind(base: Request, option: Option) -> bool:
    """Tell whether an option follows the subcommand of its form, if that has one."""
    items = list(base.form.form.walk())
    last = max((n for n, each in enumerate(items) if isinstance(each, Keyword)), default=-1)
    uses = [
        n
        for n, each in enumerate(items)
        if isinstance(each, OptionUse) and base.form.option_of(each) is option
    ]
    return min(uses, default=-1) > last or base.form.keywords == 0


def _with_operand(lab: Lab, builder: Builder, base: Request) -> Request:
    """Return an accepted request with an operand, an optional one where the smallest has none: only
    after one is it seen whether options may follow."""
    if any(part.name for part in base.operands):
        return base
    for item in builder.form.form.walk():
        request = builder.with_counts(item.name.name, 1) if isinstance(item, Operand) else None
        if request is not None and lab.works(request):
            return request
    return base


def _with_operands(builder: Builder, base: Request, parts: Sequence[OptionPart]) -> Iterator[ReaderProbe]:
    """Operands: options after them, delimiters, one too many, a lone dash."""
    plain = [part for part in base.operands if part.name]
    if plain:
        for part in parts:
            words = replace(base, options=(*base.options, part)).words("last")
            yield ReaderProbe(words, "interleaved", True, False)
        yield ReaderProbe(replace(base, delimiter=True).words(), "delimiter", True, False)
        yield ReaderProbe((*base.words(), "--"))
    else:
        yield ReaderProbe((*base.words(), "--"))
    extra = (*base.words(), plain[-1].word if plain else "word")
    if builder.signature.judge(extra).status == "refused":
        yield ReaderProbe(extra, "superfluous_operands", "ignore", "refuse")


def _with_unknown(base: Request) -> Iterator[ReaderProbe]:
    """Options that no program has."""
    for word in ("--no-such-option", "-Z"):
        if word not in base.form.by_spelling:
            yield ReaderProbe(beside_other(base, [word]), "unknown_options", "take", "refuse")
    yield ReaderProbe(beside_other(base, ["--no-such-option=x"]), "unknown_options", "take", "refuse")


__all__ = ["ReaderProbe", "settle_reader"]
