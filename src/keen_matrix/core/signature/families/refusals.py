"""The family `refusals`: for every kind that applies, vectors that have exactly that one fault.

Each fault comes in the smallest vector that is otherwise legal; the first of each kind and place
also beside full use. That a vector has this one fault and no other is the judgement's word, not
this module's.
"""

from __future__ import annotations

import string
from collections.abc import Iterator
from itertools import combinations, islice, product
from typing import NamedTuple

from keen_matrix.core.expressions import Expression
from keen_matrix.core.notation.synopsis import Choice, Keyword, Operand, OptionUse, Usage
from keen_matrix.core.signature.families import Making, Vector
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.model import Option
from keen_matrix.core.signature.requests import (
    MOST_TRIED,
    Builder,
    OptionPart,
    Request,
    Writing,
    fitting,
    is_aside,
    operand_count,
    plain_options,
)
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.signature.values import Existing
from keen_matrix.core.structs import replace

EXTRA = "superfluous"
UNKNOWN_LONG = "--no-such-option"


class _OneFault(NamedTuple):
    """A vector that should have one fault of a kind; `place` is the option, operand or condition
    that it concerns, `control` the vector without the fault."""

    kind: str
    place: str
    words: Words
    control: Words
    detail: str = ""


def vectors(making: Making) -> Iterator[Vector]:
    """Yield vectors that every conforming program refuses, each for one reason."""
    signature, notes = making.signature, making.notes
    for builder in making.builders:
        for fault in _faults(signature, builder):
            judgement = signature.judge(fault.words)
            # Two faults at once say nothing of either: the program may have seen the other one.
            # What the judgement does not settle promises nothing.
            if judgement.status != "refused" or len(judgement.refusals) != 1:
                notes.unsettled += 1
                continue
            refusal = judgement.refusals[0]
            if refusal.kind == fault.kind:
                yield Vector(
                    words=fault.words,
                    kind=fault.kind,
                    culprit=refusal.culprit,
                    mentions=refusal.mentions,
                    detail=fault.detail or fault.place,
                    control=builder.control(fault.control),
                )


def _faults(signature: Signature, builder: Builder) -> Iterator[_OneFault]:
    small, full = builder.smallest(), builder.fullest()
    bases = [each for each in dict.fromkeys([small, full]) if each is not None]
    # Beside full use too: a program that counts words, or stops at the first fault, refuses the
    # smallest vector and takes the same fault among others.
    for number, base in enumerate(bases):
        yield from _operand_counts(signature, builder, base)
        yield from _unknown(signature, builder, base, every=number == 0)
        yield from _missing_options(base)
        yield from _keywords(base)
        yield from _flags_with_values(builder, base, signature)
    yield from _values(signature, builder, full)
    yield from _missing_values(signature, builder, bases)
    yield from _conflicts(signature, builder)
    yield from _repeated(signature, builder)
    yield from _conditions(signature, builder)


def _operand_counts(signature: Signature, builder: Builder, base: Request) -> Iterator[_OneFault]:
    """One operand after another taken away, down to none; one too many."""
    named = [number for number, part in enumerate(base.operands) if part.name]
    for count in range(len(named) - 1, -1, -1):
        kept = [
            part for number, part in enumerate(base.operands) if not part.name or named.index(number) < count
        ]
        gone = base.operands[named[count]].name
        yield _OneFault(
            "too-few",
            gone,
            Request(base.form, base.options, tuple(kept), base.delimiter).words(),
            base.words(),
        )
    counts = [item for item in builder.form.form.walk() if isinstance(item, (Operand, Keyword))]
    # With a form that takes options alone, a word too many is an operand that there is not.
    if counts or not named:
        words = base.words()
        yield _OneFault("too-many", "operand", (*words, EXTRA), words)
    for item in counts:
        most = operand_count(signature, item)[1] if isinstance(item, Operand) else 1
        if isinstance(item, Operand) and most is not None and most > 1:
            name = item.name.name
            if (counted := builder.with_counts(name, most)) is not None:
                yield _OneFault(
                    "too-many",
                    name,
                    (*counted.words(), builder.usual(name, most)),
                    counted.words(),
                    f"{most + 1} {name}",
                )


def _unknown(signature: Signature, builder: Builder, base: Request, *, every: bool) -> Iterator[_OneFault]:
    """An option that is none, short and long; each long option misspelt by a dropped, a doubled
    and a swapped letter."""
    known = builder.form.by_spelling
    # Rare letters first: a hidden option of the program's is likelier among the common ones.
    letter = next((each for each in "zqxjkwyZQXJKW" if f"-{each}" not in known), None)
    # With one dash before long names, -z may be the beginning of -zip.
    if letter and not any(each.startswith(f"-{letter}") for each in known):
        yield _OneFault("unknown-option", f"-{letter}", _with_front(base, f"-{letter}"), base.words())
    long = "-no-such-option" if signature.style == "one-dash" else UNKNOWN_LONG
    if signature.style != "posix" or any(
        each.startswith("--") for each in known
    ):  # getopts sees only a letter "-"
        yield _OneFault("unknown-option", long, _with_front(base, long), base.words())
    # Misspellings come once, in the smallest vector; beside full use they would be as many again
    # and show nothing new.
    if not every:
        return
    yield from _in_capitals(signature, builder, base)
    for option in plain_options(signature, builder.form):
        for spelling in option.spellings:
            for wrong in misspelt(spelling):
                value = (
                    builder.usual(option.name_of(0))
                    if option.takes_value and not option.optional_value
                    else ""
                )
                # With its value joined, or the value would be an operand too many, and the vector
                # would have two faults.
                word = f"{wrong}={value}" if value and spelling.startswith("--") else wrong
                yield _OneFault(
                    "unknown-option",
                    spelling,
                    _with_front(base, word),
                    base.words(),
                    f"{wrong} for {spelling}",
                )


#: Long options of a form that are tried in capitals: readers that take one take all.
MOST_CASES = 2


def _in_capitals(signature: Signature, builder: Builder, base: Request) -> Iterator[_OneFault]:
    """Long flags in the wrong letter case."""
    known = builder.form.by_spelling
    flags = [
        spelling
        for option in plain_options(signature, builder.form)
        if not option.takes_value
        for spelling in option.spellings
        if spelling.startswith("--") and spelling.upper() not in known
    ]
    for spelling in flags[:MOST_CASES]:
        words = _with_front(base, spelling.upper())
        yield _OneFault("unknown-option", spelling, words, base.words(), f"{spelling.upper()} for {spelling}")


def misspelt(spelling: str) -> list[str]:
    """Return a long option with a letter dropped, doubled, and two swapped, near its middle."""
    dashes = len(spelling) - len(spelling.lstrip("-"))
    name = spelling[dashes:]
    if len(name) < 3:
        return []
    # Near the middle, where neither an abbreviation nor a glued value explains the word.
    middle = len(name) // 2
    wrong = [name[:middle] + name[middle + 1 :], name[: middle + 1] + name[middle:]]
    swap = next((at for at in (middle - 1, *range(len(name) - 1)) if name[at] != name[at + 1]), None)
    if swap is not None:
        wrong.append(name[:swap] + name[swap + 1] + name[swap] + name[swap + 2 :])
    return [
        spelling[:dashes] + each
        for each in dict.fromkeys(wrong)
        if each != name and each[0] in string.ascii_letters
    ]


def _with_front(base: Request, *words: str) -> tuple[str, ...]:
    """Return the words of a request with more words before its operands (after its keywords)."""
    made = list(base.words())
    # Behind the subcommand, which reads its own options: in front of it the fault would be another
    # reader's.
    at = base.form.keywords
    if at:
        keywords = [part.word for part in base.operands if not part.name][:at]
        at = next((made.index(word) + 1 for word in reversed(keywords) if word in made), 0)
    return (*made[:at], *words, *made[at:])


def _missing_options(base: Request) -> Iterator[_OneFault]:
    for part in base.options:
        without = base.without_option(part.option).words()
        yield _OneFault("missing-option", part.option.key, without, base.words())


def _keywords(base: Request) -> Iterator[_OneFault]:
    for number, part in enumerate(base.operands):
        if not part.name:
            # A subcommand may be taken by its beginning, so one that is misspelt is tried beside
            # one that is no word of it.
            for wrong in ("nonesuch", *misspelt(f"--{part.word}")):
                yield _OneFault(
                    "not-a-choice",
                    part.word,
                    base.with_value("operand", number, wrong.lstrip("-")).words(),
                    base.words(),
                )


def _flags_with_values(builder: Builder, base: Request, signature: Signature) -> Iterator[_OneFault]:
    for option in plain_options(signature, builder.form):
        if option.takes_value:
            continue
        request = builder.smallest([option])
        for spelling in option.spellings:
            if request is not None and spelling.startswith("--"):
                # The flag itself goes, or it would be given twice: once with a value, once without.
                bare = request.without_option(option)
                words = _with_front(bare, f"{spelling}=value")
                yield _OneFault("unexpected-value", spelling, words, request.words())


def _values(signature: Signature, builder: Builder, full: Request | None) -> Iterator[_OneFault]:
    """Every bad value of every NAME: of operands, and of options, apart and joined."""
    done: set[tuple[str, str]] = set()
    for request in _with_each_value(signature, builder):
        for place, number, name, _ in request.slots() if request else ():
            assert request is not None
            owner = request.options[place].option.key if isinstance(place, int) else ""
            # One NAME may be an operand in several forms and the value of several options; each use
            # of it is read by other code.
            if (name, owner) in done:
                continue
            done.add((name, owner))
            yield from _bad_values(signature, request, place, number, name, every=True)
            if full is not None:
                yield from _bad_in_full(signature, full, name, owner)


def _with_each_value(signature: Signature, builder: Builder) -> Iterator[Request | None]:
    """Yield requests in which each NAME has a value somewhere: the smallest, the smallest with each
    option, with the value that an option may do without, and with each operand that may be left
    out."""
    yield builder.smallest()
    for option in plain_options(signature, builder.form):
        request = builder.smallest([option])
        yield request
        if request is not None and option.takes_value and not option.least:
            value = (builder.usual(option.name_of(0)),)
            parts = tuple(
                replace(part, values=value, writing="joined") if part.option is option else part
                for part in request.options
            )
            yield replace(request, options=parts)
    smallest = builder.smallest()
    there = {part.name for part in smallest.operands} if smallest is not None else set()
    for item in builder.form.form.walk():
        if isinstance(item, Operand) and item.name.name not in there:
            yield builder.with_counts(item.name.name, 1)


def _bad_values(
    signature: Signature, request: Request, place: int | str, number: int, name: str, *, every: bool
) -> Iterator[_OneFault]:
    subtle = signature.values[name].subtly_bad() if every else []
    # Getopt reads `-n x` and `-nx` by different branches, hand-written loops even more so.
    writings: tuple[Writing, ...] = ("apart", "joined")
    for value in (*signature.values[name].bad()[: None if every else 1], *subtle):
        kind = signature.values[name].read(value).kind
        changed = request.with_value(place, number, value)
        detail = f"{name} {value!r}"
        if isinstance(place, str):
            yield _OneFault(kind, name, changed.words(), request.words(), detail)
            continue
        part = changed.options[place]
        once = not every or value in subtle
        for spelling in part.option.spellings[:1] if once else part.option.spellings:
            for writing in writings[:1] if value in subtle else writings:
                # Only the first value can be joined, and an empty one joined is no value at all.
                if writing == "joined" and (number or not value):
                    continue
                parts = list(changed.options)
                parts[place] = OptionPart(part.option, spelling, part.values, writing)
                again = Request(changed.form, tuple(parts), changed.operands, changed.delimiter)
                yield _OneFault(
                    kind,
                    part.option.key,
                    again.words(),
                    request.words(),
                    f"{detail}, {writing} with {spelling}",
                )


def _bad_in_full(signature: Signature, full: Request, name: str, owner: str) -> Iterator[_OneFault]:
    """The first bad value of each kind, beside full use."""
    for place, number, found, _ in full.slots():
        if (
            found == name
            # one bad file among several: a program may well deal with the others
            and not (place == "operand" and _is_one_of_several(signature, full, name))
            and (full.options[place].option.key if isinstance(place, int) else "") == owner
        ):
            seen: set[str] = set()
            for value in signature.values[name].bad():
                kind = signature.values[name].read(value).kind
                # One of each kind: what the value is was tried beside the smallest vector already.
                if kind not in seen:
                    seen.add(kind)
                    yield _OneFault(
                        kind,
                        owner or name,
                        full.with_value(place, number, value).words(),
                        full.words(),
                        f"{name} {value!r}",
                    )
            return


def _is_one_of_several(signature: Signature, request: Request, name: str) -> bool:
    several = sum(part.name == name for part in request.operands) > 1
    return several and isinstance(signature.values[name], Existing)


def _missing_values(signature: Signature, builder: Builder, bases: list[Request]) -> Iterator[_OneFault]:
    """Each valued option last, without its value; and before another option."""
    flags = [each for each in plain_options(signature, builder.form) if not each.takes_value]
    for option in plain_options(signature, builder.form):
        # An option whose value may be left out cannot miss it.
        if not option.least:
            continue
        for base in bases:
            bare = base.without_option(option)
            request = (
                builder.plain([option], full=False).without_option(option) if not bare.operands else bare
            )
            given = builder.smallest([option])
            control = request.words() if given is None else given.words()
            for spelling in option.spellings:
                yield _OneFault("missing-value", spelling, (*request.words(), spelling), control)
            # Where a word with a dash may be a value, the next option is taken for one, and nothing
            # is missing.
            if signature.habits.dash_values == "refuse":
                # an option without its value in the middle, another option after it
                flag = next((each for each in flags if each is not option), None)
                if flag is not None:
                    words = _with_front(bare, option.key, flag.key)
                    yield _OneFault("missing-value", option.key, words, control, f"{option.key} {flag.key}")
            if option.least > 1:
                values = [builder.usual(option.name_of(number), number) for number in range(option.least - 1)]
                words = (*request.words(), option.key, *values)
                yield _OneFault("missing-value", option.key, words, control)


def _conflicts(signature: Signature, builder: Builder) -> Iterator[_OneFault]:
    """Each pair of options that exclude each other, in both orders and with every spelling."""
    for choice in (
        item for item in builder.form.form.walk() if isinstance(item, Choice) and not item.several
    ):
        heads = [
            option
            for each in choice.alternatives
            if (option := _first_option(builder, each)) is not None and not is_aside(signature, option)
        ]
        for first, second in combinations(heads, 2):
            if first is second:
                continue
            base = builder.smallest([first]) or builder.plain([first], full=False)
            bare = base.without_option(first).without_option(second)
            for left in first.spellings:
                for right in second.spellings:
                    one, two = (
                        _part(builder, option, spelling)
                        for option, spelling in ((first, left), (second, right))
                    )
                    for order in ((one, two), (two, one)):
                        made = Request(bare.form, (*bare.options, *order), bare.operands, bare.delimiter)
                        yield _OneFault("conflict", f"{left} {right}", made.words(), base.words())
            full = builder.fullest([first])
            if full is not None:
                both = full.with_option(_part(builder, second, second.key)).words()
                yield _OneFault("conflict", f"{first.key} {second.key}", both, full.words())


def _first_option(builder: Builder, form: Usage) -> Option | None:
    items = form.walk()
    return next((builder.form.option_of(item) for item in items if isinstance(item, OptionUse)), None)


def _part(builder: Builder, option: Option, spelling: str) -> OptionPart:
    values = tuple(builder.usual(option.name_of(number), number) for number in range(option.least))
    return OptionPart(option, spelling, values)


def _repeated(signature: Signature, builder: Builder) -> Iterator[_OneFault]:
    if signature.habits.repeat != "refuse":
        return
    for option in plain_options(signature, builder.form):
        request = builder.smallest([option])
        if request is not None:
            for spelling in option.spellings:
                yield _OneFault(
                    "repeated",
                    option.key,
                    request.with_option(_part(builder, option, spelling)).words(),
                    request.words(),
                )


def _conditions(signature: Signature, builder: Builder) -> Iterator[_OneFault]:
    """Values that are legal one by one and break one condition of the signature."""
    conditions = [("condition", each) for each in signature.only_if] + [
        (own.kind, own.when) for own in signature.refuse
    ]
    for kind, condition in conditions:
        yield from _without_what_it_needs(signature, builder, kind, condition)
        owners = [
            option
            for option in plain_options(signature, builder.form)
            if any(name.replace("-", "_") in condition.names for name in option.value_names)
        ]
        found = 0
        for full in (False, True):
            base = builder.plain(owners, full=full)
            fits = fitting(signature, base)
            slots = [each for each in base.slots() if each[2].replace("-", "_") in condition.names]
            if not slots:  # no value decides it, and nothing that is changed here
                continue
            choices = [signature.values[name].legal()[:6] for _, _, name, _ in slots]
            for picks in islice(product(*choices), MOST_TRIED):
                tried = base
                for (place, number, _, _), value in zip(slots, picks, strict=True):
                    tried = tried.with_value(place, number, value)
                judgement = signature.judge(tried.words())
                if judgement.status == "refused" and [each.kind for each in judgement.refusals] == [kind]:
                    found += 1
                    control = base if fits is None else fits
                    words = tried.words()
                    yield _OneFault(kind, condition.source, words, control.words(), condition.source)
                    if found >= (3 if not full else 4):
                        break


def _without_what_it_needs(
    signature: Signature, builder: Builder, kind: str, condition: Expression
) -> Iterator[_OneFault]:
    """Options by themselves that a condition on what is given allows beside others only, and those
    together that it names and does not allow."""
    smallest = builder.smallest()
    if smallest is None or "has(" not in condition.source:
        return
    options = plain_options(signature, builder.form)
    named = [each for each in options if any(f"has('{one}')" in condition.source for one in each.spellings)]
    for some in [*([each] for each in options), *([named] if len(named) > 1 else [])]:
        tried = builder.plain(some, full=False)
        judgement = signature.judge(tried.words())
        if judgement.status == "refused" and [each.kind for each in judgement.refusals] == [kind]:
            without = builder.smallest(some[1:]) or smallest
            words, control = tried.words(), without.words()
            yield _OneFault(kind, condition.source, words, control, condition.source)
