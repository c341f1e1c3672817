"""The family `effects`: an option must make a difference somewhere."""

from __future__ import annotations

from collections.abc import Iterator

from keen_matrix.core.model.relation import Relation
from keen_matrix.core.signature.families import Making, Vector
from keen_matrix.core.signature.model import Option
from keen_matrix.core.signature.requests import Builder, OptionPart, Request, fitting, plain_options
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.structs import replace

#: Values that are not the default, tried of one option.
MOST_VALUES = 3


def vectors(making: Making) -> Iterator[Vector]:
    """Yield for each option pairs of vectors without and with it; in one of them something must
    differ."""
    signature, notes = making.signature, making.notes
    for builder in making.builders:
        for option in plain_options(signature, builder.form):
            pairs = list(dict.fromkeys(_pairs(signature, builder, option)))
            if not pairs:
                notes.texts.append(f"{option.key}: no accepted call with it is also accepted without it")
                continue
            flat = [words for pair in pairs for words in pair]
            control = builder.control(flat[1])
            # In several pairs: a flag may do nothing in one request and a lot in another.
            relation = Relation(name="differs", fresh=(True,) * len(flat))
            yield Vector(
                words=flat[0],
                more=tuple(flat[1:]),
                kind="effect",
                culprit=option.key,
                mentions=option.spellings,
                relation=relation,
                control=control,
            )
            yield from _collected(making, builder, option)


def _collected(making: Making, builder: Builder, option: Option) -> Iterator[Vector]:
    """Yield, of an option whose values are all kept, one use and two: the first must count too."""
    signature = making.signature
    kept = option.again or signature.habits.repeat == "collect"
    request = builder.smallest([option]) if kept and option.most == 1 else None
    if request is None or option.optional_value:
        return
    part = next(each for each in request.options if each.option is option)
    others = [each for each in builder.legal(option.name_of(0)) if each != part.values[0]]
    if not others:
        return
    first = OptionPart(option, part.spelling, (others[0],))
    once = request.words()
    twice = replace(request, options=(first, *request.options)).words()
    if signature.judge(twice).status == "accepted":
        yield Vector(
            words=once,
            more=(twice,),
            kind="collected",
            culprit=option.key,
            mentions=option.spellings,
            relation=Relation(name="differs", fresh=(True, True)),
            control=builder.control(once),
        )


def _pairs(
    signature: Signature, builder: Builder, option: Option
) -> Iterator[tuple[tuple[str, ...], tuple[str, ...]]]:
    for base in (builder.smallest([option]), builder.fullest([option])):
        if base is None:
            continue
        without = fitting(signature, base.without_option(option))
        if without is None:
            continue
        for values in _values(signature, builder, option):
            parts = tuple(
                OptionPart(option, part.spelling, values) if part.option is option else part
                for part in base.options
            )
            request = Request(base.form, parts, base.operands, base.delimiter)
            if signature.judge(request.words()).status == "accepted":
                yield without.words(), request.words()


def _values(signature: Signature, builder: Builder, option: Option) -> list[tuple[str, ...]]:
    if not option.takes_value:
        return [()]
    name = option.name_of(0)
    kind = signature.values[name]
    others = [each for each in kind.legal() if kind.default is None or each != str(kind.default)][
        :MOST_VALUES
    ]
    more = tuple(builder.usual(option.name_of(number), number) for number in range(1, option.least))
    return [(each, *more) for each in others]
