"""The family `rephrasings`: an accepted vector and each of its rephrasings that the style allows
must do the same."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from keen_matrix.core.expressions import as_text
from keen_matrix.core.signature.families import Making, Vector, alike
from keen_matrix.core.signature.requests import (
    Builder,
    OptionPart,
    Request,
    plain_options,
)
from keen_matrix.core.signature.signature import Signature


def vectors(making: Making) -> Iterator[Vector]:
    """Yield pairs of vectors that say the same: judged accepted, both, with the same bindings."""
    signature, notes = making.signature, making.notes
    for builder in making.builders:
        bases = [builder.smallest([option]) for option in plain_options(signature, builder.form)]
        for base in dict.fromkeys([builder.fullest(), builder.smallest(), *bases]):
            if base is None:
                continue
            words = base.words()
            judged = signature.judge(words)
            for kind, culprit, other in _rephrased(signature, builder, base):
                if other == words:
                    continue
                again = signature.judge(other)
                same = kind == STATED or judged.bindings == again.bindings
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
        if part.values and not part.option.optional_value and len(part.values) == 1:
            for spelling in part.option.spellings:
                changed = replace(part, spelling=spelling, writing="joined")
                yield "joined value", spelling, _with_part(base, number, changed).words()
    if 1 < len(base.options) <= MOST_REORDERED:
        yield "other order", "", replace(base, options=base.options[::-1]).words()
    if base.options and base.operands:
        yield "moved behind the operands", "", base.words("last")
    if base.operands and not base.delimiter and any(part.name for part in base.operands):
        yield "after --", "", replace(base, delimiter=True).words()
    yield from _stated(signature, builder, base)
    yield from _repeated(signature, base)
    yield from _bundled(base)
    yield from _shortened(signature, base)


MOST_REORDERED = 6
"""Options up to which their order is turned round: among many some override others, and the last
one counts."""
STATED = "default stated"
"""The kind of a rephrasing in which an option is given with its default."""


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
    others = [each for each in legal if each != part.values[0]]
    if others:
        first = replace(part, values=(others[0],))
        yield "repeated", part.option.key, replace(base, options=(first, part)).words()


def _with_part(base: Request, number: int, part: OptionPart) -> Request:
    return replace(base, options=(*base.options[:number], part, *base.options[number + 1 :]))


def _bundled(base: Request) -> Iterator[tuple[str, str, tuple[str, ...]]]:
    """Flags that share one dash, a valued option at the end of them."""
    letters = [
        (part, next((each for each in part.option.spellings if len(each) == 2), None))
        for part in base.options
    ]
    flags = [
        (part, letter)
        for part, letter in letters
        if letter and not part.values and not part.option.takes_value
    ]
    if len(flags) < 2:
        return
    rest = tuple(part for part in base.options if part not in [flag for flag, _ in flags])
    bundle = "-" + "".join(letter[1] for _, letter in flags)
    words = replace(base, options=rest).words()
    at = next((words.index(part.word) + 1 for part in reversed(base.operands) if not part.name), 0)
    yield "bundled flags", bundle, (*words[:at], bundle, *words[at:])


def _shortened(signature: Signature, base: Request) -> Iterator[tuple[str, str, tuple[str, ...]]]:
    """Long options cut to a beginning that no other has, where the signature allows it."""
    if not signature.habits.abbreviations:
        return
    known = [each for each in base.form.by_spelling if each.startswith("--")]
    for number, part in enumerate(base.options):
        if not part.spelling.startswith("--"):
            continue
        for length in range(3, len(part.spelling)):
            short = part.spelling[:length]
            if sum(each.startswith(short) for each in known) == 1:
                yield (
                    "shortened",
                    short,
                    _with_part(base, number, replace(part, spelling=short)).words(),
                )
                break
