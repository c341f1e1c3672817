"""Options and operands that go with one value of another NAME only: `weigh` takes a tree, `list`
takes none. Examples show both; four calls that differ in one thing each show which it is."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import NamedTuple

from keen_matrix.core.experiments.edits import OBSERVED, AppendEdit
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.insight.settling.lab import Lab
from keen_matrix.core.insight.settling.lines import name_in_conditions
from keen_matrix.core.signature.examples import named_words
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.requests import Builder, Request, Wish

#: Parts of examples that are looked at, each in some launches.
MOST_PARTS = 24


class _Extra(NamedTuple):
    """An option or an operand that an example has beside what its usage requires."""

    key: str
    is_option: bool
    words: tuple[str, ...]


def settle_going_with(lab: Lab) -> Iterator[Finding]:
    """Find options and operands that are accepted with one value of another NAME and refused with
    another, and values that require one of them."""
    left = MOST_PARTS
    for number in range(len(lab.signature.forms)):
        builder = lab.forms.sound_builder(number)
        base = builder.smallest() if builder is not None else None
        if builder is None or base is None:
            continue
        for words in lab.signature.examples:
            left -= 1
            if left < 0:
                return
            yield from _of_example(lab, number, builder, base, words)


def _of_example(lab: Lab, number: int, builder: Builder, base: Request, words: Words) -> Iterator[Finding]:
    """Find what one example shows beside the smallest call."""
    judged = lab.signature.judge(words)
    if judged.status != "accepted" or not lab.answer(words).works:
        return
    named = dict(reversed(list(named_words(lab.signature, judged))))
    differing = {
        name: (word, named[name])
        for _, _, name, word in base.slots()
        if name in named and named[name] != word
    }
    if not differing:
        return
    given = {part.option.key for part in base.options} | {part.name for part in base.operands}
    keys = {option.key for option in builder.form.options}
    for key in judged.bindings:
        if key in given or not (key in keys or key in lab.signature.values):
            continue
        extra = _Extra(key, key in keys, tuple(named[key] for key in [key] if key in named))
        yield from _of_part(lab, number, builder, differing, extra)


def _of_part(
    lab: Lab, number: int, builder: Builder, differing: Mapping[str, tuple[str, str]], extra: _Extra
) -> Iterator[Finding]:
    """Find whether one part goes with one of two values only."""
    counts = {} if extra.is_option else {extra.key: 1}
    without = builder.wished(Wish(set(), full=False))
    beside = builder.wished(Wish({extra.key} if extra.is_option else set(), full=False, counts=counts))
    if without is None or beside is None:
        return
    for name, (plain, other) in differing.items():
        calls = [_with(request, name, value) for request in (without, beside) for value in (plain, other)]
        bare_plain, bare_other, with_plain, with_other = (lab.works(each) for each in calls)
        shown = lab.shown(*(each.words() for each in calls if each is not None))
        subject, called = _said(lab, number, extra), name_in_conditions(lab, number, name)
        if not called or not subject or not (bare_plain and with_other):
            continue
        if not with_plain and bare_plain:
            condition = f"{subject[0]} or {called} == {other!r}"
            text = f"{extra.key} goes with {name} {other} only"
            edit = AppendEdit(("signature", "only-if"), condition, OBSERVED)
            yield Finding(text=text, shown=shown, edits=(edit,))
        if not bare_other:
            condition = f"{called} != {other!r} or {subject[1]}"
            text = f"{name} {other} needs {extra.key}"
            edit = AppendEdit(("signature", "only-if"), condition, OBSERVED)
            yield Finding(text=text, shown=shown, edits=(edit,))


def _said(lab: Lab, number: int, extra: _Extra) -> tuple[str, str] | None:
    """Return how a condition says that a part is not there, and that it is."""
    if extra.is_option:
        return f"not has('{extra.key}')", f"has('{extra.key}')"
    called = name_in_conditions(lab, number, extra.key)
    return (f"{called} is None", f"{called} is not None") if called else None


def _with(request: Request, name: str, value: str) -> Request | None:
    """Return a request with another value of a NAME; None where it has none."""
    slot = next((each for each in request.slots() if each[2] == name), None)
    return None if slot is None else request.with_value(slot[0], slot[1], value)
