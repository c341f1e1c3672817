"""The family `rephrasings`: an accepted vector and each of its rephrasings that the style allows
must do the same."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from keen_matrix.core.expressions import as_text
from keen_matrix.core.signature.families import Making, Vector, alike
from keen_matrix.core.signature.habits import OPERANDS
from keen_matrix.core.signature.requests import Builder, OptionPart, Request, plain_options
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.structs import replace


def vectors(making: Making) -> Iterator[Vector]:
    """Yield pairs of vectors that say the same: judged accepted, both, with the same bindings."""
    signature, notes = making.signature, making.notes
    for builder in making.builders:
        bases = [builder.smallest([option]) for option in plain_options(signature, builder.form)]
        # The fullest first: of equal pairs the one that has most in it stands for the cause.
        for base in dict.fromkeys([builder.fullest(), builder.smallest(), *bases]):
            if base is None:
                continue
            words = base.words()
            judged = signature.judge(words)
            for kind, culprit, other in _rephrased(signature, builder, base):
                if other == words:
                    continue
                again = signature.judge(other)
                # That both are accepted is not enough: what is bound must be the same, or it is
                # another request.
                same = kind in SAME_VALUES or judged.bindings == again.bindings
                if judged.status == again.status == "accepted" and same:
                    yield Vector(
                        words=words,
                        more=(other,),
                        kind=kind,
                        culprit=culprit,
                        relation=alike(2),
                        control=builder.control(words),
                    )
                else:
                    notes.unsettled += 1


def _rephrased(
    signature: Signature, builder: Builder, base: Request
) -> Iterator[tuple[str, str, tuple[str, ...]]]:
    for number, part in enumerate(base.options):
        for spelling in part.option.spellings:
            if spelling != part.spelling:
                yield (
                    "other spelling",
                    spelling,
                    _with_part(base, number, replace(part, spelling=spelling)).words(),
                )
        # An optional value has to be joined, and several cannot be.
        if part.values and not part.option.optional_value and len(part.values) == 1:
            for spelling in part.option.spellings:
                changed = replace(part, spelling=spelling, writing="joined")
                yield "joined value", spelling, _with_part(base, number, changed).words()
                if len(spelling) == 2 and signature.habits.letter_equals == "strip":
                    value = f"={part.values[0]}"
                    changed = replace(part, spelling=spelling, values=(value,), writing="joined")
                    yield "joined by =", spelling, _with_part(base, number, changed).words()
    if 1 < len(base.options) <= MOST_REORDERED and not _has_opposites(base):
        yield "other order", "", replace(base, options=base.options[::-1]).words()
    if base.options and base.operands:
        yield "moved after the operands", "", base.words("last")
    # In front of a subcommand the delimiter would make a word of it.
    if base.operands and not base.delimiter and any(part.name for part in base.operands):
        yield "after --", "", replace(base, delimiter=True).words()
    yield from _stated(signature, builder, base)
    yield from _repeated(signature, base)
    yield from _bundled(signature, base)
    yield from _shortened(signature, base)
    yield from _other_names(signature, base)
    yield from _other_numbers(signature, base)
    yield from _switched_off(signature, builder, base)


def _has_opposites(base: Request) -> bool:
    """Tell whether one option switches another off, by its name: of these the last one counts."""
    spelt = {each for part in base.options for each in part.option.spellings}
    return any(f"--no-{each[2:]}" in spelt for each in spelt if each.startswith("--"))


#: Options up to which their order is turned round: among many some override others, and the last
#: one counts.
MOST_REORDERED = 6
#: The kind of a rephrasing in which an option is given with its default.
STATED = "default written out"
OTHER_NUMBER = "number in other digits"
#: Kinds of rephrasings that are bound to other words of the same value.
SAME_VALUES = frozenset({STATED, OTHER_NUMBER})


def _stated(
    signature: Signature, builder: Builder, base: Request
) -> Iterator[tuple[str, str, tuple[str, ...]]]:
    """The smallest vector with one option given its default: the same as without it."""
    if base.options:
        return
    for option in plain_options(signature, builder.form):
        if len(option.value_names) != 1 or option.optional_value:
            continue
        kind = signature.values[option.name_of(0)]
        if kind.default is None:
            continue
        request = builder.smallest([option])
        if request is not None and len(request.options) == 1:
            part = replace(request.options[0], values=(as_text(kind.default),))
            yield STATED, option.key, _with_part(request, 0, part).words()


def _repeated(signature: Signature, base: Request) -> Iterator[tuple[str, str, tuple[str, ...]]]:
    """A valued option given twice, where the last one counts: the same as the last alone."""
    if signature.habits.repeat != "last" or len(base.options) != 1:
        return
    (part,) = base.options
    if len(part.values) != 1:
        return
    legal = signature.values[part.option.name_of(0)].legal()
    # Another value first, or it would not be seen which of the two counts.
    others = [each for each in legal if each != part.values[0]]
    if others:
        first = replace(part, values=(others[0],))
        yield "repeated", part.option.key, replace(base, options=(first, part)).words()


def _with_part(base: Request, number: int, part: OptionPart) -> Request:
    return replace(base, options=(*base.options[:number], part, *base.options[number + 1 :]))


def _bundled(signature: Signature, base: Request) -> Iterator[tuple[str, str, tuple[str, ...]]]:
    """Flags that share one dash, and a valued option at the end of them: those that are beside
    each other, since of options that override one another the last one counts."""
    letters = [next((each for each in part.option.spellings if len(each) == 2), "") for part in base.options]
    start, stop = _longest_run(
        bool(letter) and not part.values and not part.option.takes_value
        for letter, part in zip(letters, base.options, strict=True)
    )
    bundle = "-" + "".join(letter[1] for letter in letters[start:stop])
    if stop - start > 1:
        yield "bundled flags", bundle, _in_place(base, start, stop, bundle)
    last = base.options[stop] if start < stop < len(base.options) else None
    if (
        last is None
        or not letters[stop]
        or len(last.values) != 1
        or not last.values[0]
        or last.option.optional_value
        or signature.habits.joined != "any"
    ):
        return
    word = f"{bundle}{letters[stop][1]}"
    yield "bundled flags", word, _in_place(base, start, stop + 1, word, last.values[0])
    if not last.values[0].startswith("="):
        joined = f"{word}{last.values[0]}"
        yield "bundled flags", joined, _in_place(base, start, stop + 1, joined)


def _longest_run(marks: Iterable[bool]) -> tuple[int, int]:
    """Return where the first of the longest runs of marks begins, and where it ends."""
    best = (0, 0)
    start = 0
    for number, mark in enumerate([*marks, False]):
        if mark:
            continue
        if number - start > best[1] - best[0]:
            best = (start, number)
        start = number + 1
    return best


def _in_place(base: Request, start: int, stop: int, word: str, *values: str) -> tuple[str, ...]:
    """Return the words of a request in which one word, and what follows it, stands for some
    options."""
    part = replace(base.options[start], spelling=word, values=values, writing="apart")
    options = (*base.options[:start], part, *base.options[stop:])
    return replace(base, options=options).words()


def _shortened(signature: Signature, base: Request) -> Iterator[tuple[str, str, tuple[str, ...]]]:
    """Long options without their last letter, where that is a beginning that no other has and the
    signature allows it. A shorter one may be that of an option which no help tells of."""
    if not signature.habits.abbreviations:
        return
    known = [each for each in base.form.by_spelling if each.startswith("--")]
    for number, part in enumerate(base.options):
        if not part.spelling.startswith("--"):
            continue
        short = part.spelling[:-1]
        # An abbreviation of two options is ambiguous, which is a refusal and no rephrasing.
        if len(short) > 2 and sum(each.startswith(short) for each in known) == 1:
            changed = replace(part, spelling=short)
            yield "shortened", short, _with_part(base, number, changed).words()


def _other_names(signature: Signature, base: Request) -> Iterator[tuple[str, str, tuple[str, ...]]]:
    """Names with the other number of dashes, or in capitals, where the reader takes these."""
    habits, known = signature.habits, base.form.by_spelling
    for number, part in enumerate(base.options):
        bare = part.spelling.lstrip("-")
        other = f"-{bare}" if part.spelling.startswith("--") else f"--{bare}"
        either = habits.dashes == "alike" or (habits.dashes == "letters" and len(bare) == 1)
        if either and other not in known:
            changed = replace(part, spelling=other)
            yield "other dashes", other, _with_part(base, number, changed).words()
        capitals = part.spelling.upper()
        if habits.ignore_case and len(bare) > 1 and capitals not in known:
            changed = replace(part, spelling=capitals)
            yield "in capitals", capitals, _with_part(base, number, changed).words()


def _other_numbers(signature: Signature, base: Request) -> Iterator[tuple[str, str, tuple[str, ...]]]:
    """Whole numbers in other digits, where it is known what the library's function makes of
    them."""
    # What a program's own code makes of 010 nobody but it knows.
    if signature.habits.numbers in (None, "c", "script"):
        return
    for place, number, name, word in base.slots():
        kind = signature.values[name]
        is_program = place == "operand" and OPERANDS not in signature.row.refuses
        if kind.type != "int" or not word.isdigit() or is_program:
            continue
        for other in (f"+{word}", f"0{word}", f"{int(word):#x}"):
            # Some readers take 010 for eight; only what is the same number to this one is the same
            # request.
            if kind.read(other).status == "legal" and kind.converted(other) == int(word):
                yield OTHER_NUMBER, other, base.with_value(place, number, other).words()


def _switched_off(
    signature: Signature, builder: Builder, base: Request
) -> Iterator[tuple[str, str, tuple[str, ...]]]:
    """The smallest vector with a flag that is given and taken back: the same as without it."""
    # In the smallest vector alone: beside other options it would be taken back for them too.
    if base.options or not signature.habits.negated:
        return
    for option in plain_options(signature, builder.form):
        long = next((each for each in option.spellings if each.startswith("--")), "")
        request = builder.smallest([option])
        if long and not option.takes_value and request is not None:
            negated = f"--no-{long.removeprefix('--')}"
            parts = (*request.options, OptionPart(option, negated))
            yield "switched off", negated, replace(request, options=parts).words()
