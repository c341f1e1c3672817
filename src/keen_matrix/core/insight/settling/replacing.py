"""Options that stand in for an operand: with `-e PATTERN` no other pattern is asked for. Such an
option begins a line of the synopsis of its own."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import combinations

from keen_matrix.core.experiments.edits import OBSERVED, AppendEdit, SynopsisEdit
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.experiments.forms import UNKNOWN, with_unknown
from keen_matrix.core.insight.settling.lab import Lab
from keen_matrix.core.insight.settling.lines import (
    grouped,
    spellings_in,
    spellings_of_keys,
    with_operand,
    without_brackets,
    without_option,
)
from keen_matrix.core.notation.synopsis import Choice, Item, Operand, Usage
from keen_matrix.core.signature.model import Option
from keen_matrix.core.signature.requests import Builder, Request, operand_count, plain_options
from keen_matrix.core.structs import replace


def settle_replacing(lab: Lab) -> Iterator[Finding]:
    """Find options with which the program does without an operand that it asks for otherwise."""
    for number, form in enumerate(lab.signature.lines):
        builder = lab.forms.sound_builder(number)
        if builder is None:
            continue
        operands = [item for item in form.items if isinstance(item, Operand)]
        # The value of an option stands for the operand that comes first, `-e PATTERN [FILE]`; a
        # flag says that there is less to do, and what is behind is not asked for, as of `tr -d`.
        for item in operands:
            yield from _replacing(lab, number, builder, item, valued=True)
        for item in reversed(operands):
            yield from _replacing(lab, number, builder, item, valued=False)


def _replacing(lab: Lab, number: int, builder: Builder, item: Operand, *, valued: bool) -> Iterator[Finding]:
    smallest = builder.smallest()
    bare = _with_fewer(smallest, item)
    # Without a refusal of the line that has a word too few, nothing tells that an option makes up
    # for it.
    if smallest is None or bare is None or not lab.works(smallest) or not _is_refused(lab, bare):
        return
    options = plain_options(lab.signature, builder.form)
    there = {part.option.key for part in smallest.options}
    tried = {
        each.key: fewer
        for each in options
        if each.key not in there
        and each.takes_value == valued
        and (fewer := _with_fewer(builder.smallest([each]), item)) is not None
        and {part.option.key for part in fewer.options} == {*there, each.key}
    }
    lab.answers(each.words() for each in tried.values())  # side by side
    found = [
        each
        for each in options
        if each.key in tried
        and lab.works(tried[each.key])
        and lab.signature.judge(tried[each.key].words()).status == "refused"
        and not _ends_the_call(lab, smallest, each, tried[each.key])
    ]
    if found:
        yield _stated(lab, number, builder, item, found, [tried[each.key] for each in found])


def _with_fewer(request: Request | None, item: Operand) -> Request | None:
    """Return a request without its last word of an operand; None where it has none."""
    places = [
        at
        for at, part in enumerate(request.operands if request is not None else ())
        if part.name == item.name.name
    ]
    if request is None or not places:
        return None
    operands = [part for at, part in enumerate(request.operands) if at != places[-1]]
    return replace(request, operands=tuple(operands))


def _is_refused(lab: Lab, request: Request) -> bool:
    """Tell whether the program refuses a request, as its signature does: one that waits for input
    is none that it refuses."""
    refused = lab.signature.judge(request.words()).status == "refused"
    return refused and lab.answer(request.words()).record.verdict == "failed"


def _ends_the_call(lab: Lab, smallest: Request, option: Option, fewer: Request) -> bool:
    """Tell whether nothing beside an option counts any more: an unknown one is accepted after it,
    or, of a flag, a word too many. What takes a value takes what was the operand's before."""
    unknown = next(each for each in UNKNOWN if each.startswith("--"))
    if lab.answer(with_unknown(fewer, unknown)).works:
        return True
    if option.takes_value:
        return False
    superfluous = (*smallest.words(), *smallest.words()[-1:])
    if lab.signature.judge(superfluous).status != "refused":
        return True  # any number of words is taken: which of both it is cannot be seen
    return lab.answer((option.key, *superfluous)).works


def _stated(
    lab: Lab,
    number: int,
    builder: Builder,
    item: Operand,
    options: Sequence[Option],
    vectors: Sequence[Request],
) -> Finding:
    """Return that some options stand in for an operand, with the line in which one of them is
    required."""
    name, form = item.name.name, lab.signature.lines[number]
    keys = [each.key for each in options]
    names = " or ".join(keys)
    text = f"with {names} it asks for {'one word less of ' if _least(lab, item) > 1 else 'no '}{name}"
    shown = lab.shown(*(each.words() for each in vectors[:MOST_SHOWN]))
    own = _line_of_its_own(lab, form, options, builder)
    if _least(lab, item) > 1:
        # how many words there are belongs to the NAME, and another NAME would be in no help
        aside = (AppendEdit(("signature", "aside"), key, f"{OBSERVED}: {text}") for key in keys)
        return Finding(text=text, shown=shown, edits=tuple(aside))
    other = _left_of(lab, builder, item, options)
    line = None if own is None else with_operand(own, name, other)
    if line is None:
        return Finding(text=text, shown=shown)
    lines: list[Usage] = [*lab.signature.lines]
    for option in options:
        if not lab.works(builder.smallest([option])):  # it takes the place, and nothing else may
            spellings = spellings_of_keys(lab, number, {option.key})
            lines[number] = without_option(lines[number], spellings) or lines[number]
    lines.insert(number + 1, line)
    return Finding(text=text, shown=shown, edits=(SynopsisEdit(tuple(map(str, lines))),))


MOST_SHOWN = 3


def _least(lab: Lab, item: Operand) -> int:
    return operand_count(lab.signature, item)[0]


def _line_of_its_own(lab: Lab, form: Usage, options: Sequence[Option], builder: Builder) -> Usage | None:
    """Return a line in which one of some options is required, with dots where several of them go
    together; None where they stand in groups with others."""
    spellings = [set(each.spellings) for each in options]
    if len(options) == 1:
        line = without_brackets(form, spellings[0], set())
        return line if line != form else None
    grouping = grouped(form, spellings)
    if grouping is None:
        return None
    together = any(lab.works(builder.smallest(pair)) for pair in combinations(options, 2))
    items = [
        replace(each, optional=False, several=together)
        if isinstance(each, Choice) and spellings[0] <= set(spellings_in(each))
        else each
        for each in grouping.items
    ]
    return Usage(tuple(items))


def _left_of(lab: Lab, builder: Builder, item: Operand, options: Sequence[Option]) -> Item | None:
    """Return what is in the place of an operand beside options that stand in for it: any number
    of words where one was enough and more are taken, else none."""
    if item.name.several and any(lab.works(builder.smallest([each])) for each in options):
        return Choice((Usage((item,)),), optional=True)
    return None
