"""Comparing launches of one case with each other: they must be alike, or an option must make a
difference."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import TypeAlias

from keen_matrix.core.expect.aspects import describe_end
from keen_matrix.core.expect.cascade import AspectResult, Judged
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expect.numbers import Tolerance, texts_alike
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.relation import Relation

Launched: TypeAlias = tuple[tuple[str, ...], Outcome, Judged]
#: Files that are named when directories differ.
MOST_NAMED = 6


def compare(relation: Relation, launches: Sequence[Launched]) -> Iterator[tuple[int, AspectResult]]:
    """Yield how launches compare: the number of the launch that is compared, counted from 1, and
    the result."""
    name, aspects = relation.name, relation.aspects
    if name == "renamed":
        yield from _renamed(launches[0][1])
    elif name == "unheard":
        yield from _unheard(launches)
    elif name == "unmoved":
        yield from _unmoved(launches[0][1])
    elif name == "differs":
        yield from _differs(launches, aspects)
    elif name in ("reference", "reference-accepted"):
        yield from _reference(launches, relation, only_accepted=name == "reference-accepted")
    else:
        for number, (_, outcome, _) in enumerate(launches[1:], 2):
            for result in _alike(launches[0][1], outcome, aspects):
                yield number, result


def _alike(first: Outcome, other: Outcome, aspects: Sequence[str]) -> Iterator[AspectResult]:
    """Yield one result that all is alike, or one for each aspect that is not."""
    found = list(differences_of(first, other, aspects))
    if not found:
        yield AspectResult(aspect="alike", met=True)
    for mismatch in found:
        yield AspectResult(aspect="alike", met=False, mismatch=mismatch)


def differences_of(first: Outcome, other: Outcome, aspects: Sequence[str]) -> Iterator[Mismatch]:
    """Yield what is not alike in two outcomes; the form names the aspect."""
    if "exit" in aspects and describe_end(first) != describe_end(other):
        yield Mismatch(form="exit", expected=describe_end(first), actual=describe_end(other))
    for stream in ("stdout", "stderr"):
        left, right = (each.masked.get(stream, getattr(each, stream)) for each in (first, other))
        if stream in aspects and left != right:
            texts = [each.decode("utf-8", "surrogateescape") for each in (left, right)]
            yield Mismatch(form=stream, expected=texts[0], actual=texts[1])
    if "files" in aspects and first.state != other.state:
        names = sorted({*first.state, *other.state})
        changed = [name for name in names if first.state.get(name) != other.state.get(name)]
        shown = [f"{name} {_change(first, other, name)}" for name in changed[:MOST_NAMED]]
        more = f" and {len(changed) - MOST_NAMED} more" if len(changed) > MOST_NAMED else ""
        yield Mismatch(form="files", expected="", actual=", ".join(shown) + more)


def _change(first: Outcome, other: Outcome, name: str) -> str:
    if name not in other.state:
        return "is missing"
    if name not in first.state:
        return "is new"
    before, after = first.state[name], other.state[name]
    if before[1] != after[1]:
        return f"has {after[1]:,} bytes instead of {before[1]:,}"
    return "has other content" if before[3] != after[3] else f"has mode {after[2]} instead of {before[2]}"


def _differs(launches: Sequence[Launched], aspects: Sequence[str]) -> Iterator[tuple[int, AspectResult]]:
    pairs = list(zip(launches[::2], launches[1::2], strict=False))
    if any(next(differences_of(first[1], other[1], aspects), None) for first, other in pairs):
        yield 1, AspectResult(aspect="effect", met=True)
    elif pairs:
        text = " ".join(pairs[0][1][0])
        mismatch = Mismatch(form="effect", expected=text, actual=str(len(pairs)))
        yield 2, AspectResult(aspect="effect", met=False, mismatch=mismatch)


def _reference(
    launches: Sequence[Launched], relation: Relation, *, only_accepted: bool
) -> Iterator[tuple[int, AspectResult]]:
    """Compare the program with the reference: what the reference did is what is expected."""
    if len(launches) < 2:
        return
    (_, ours, _), (_, reference, _) = launches
    if only_accepted and reference.exit != 0:
        return
    found = [
        each
        for each in differences_of(reference, ours, relation.aspects)
        if each.form not in ("stdout", "stderr") or not _is_near(each.expected, each.actual, relation)
    ]
    if not found:
        yield 2, AspectResult(aspect="reference", met=True)
    for mismatch in found:
        yield 2, AspectResult(aspect="reference", met=False, mismatch=mismatch)


def _is_near(expected: str, actual: str, relation: Relation) -> bool:
    """Tell whether two texts are the same as far as a relation asks for it."""
    tolerance = Tolerance(*relation.tolerance)
    if not relation.any_order:
        return texts_alike(expected, actual, tolerance)
    left, right = (sorted(each.splitlines()) for each in (expected, actual))
    return len(left) == len(right) and all(
        texts_alike(one, other, tolerance) for one, other in zip(left, right, strict=True)
    )


def _unheard(launches: Sequence[Launched]) -> Iterator[tuple[int, AspectResult]]:
    """A launch whose output could not be written must not end as if it had been."""
    if len(launches) < 2:
        return
    (_, first, _), (_, other, _) = launches
    if first.stdout and other.exit == 0 and not other.stderr:
        mismatch = Mismatch(form="unheard", expected="", actual="exit 0, and no word of it")
        yield 2, AspectResult(aspect="output", met=False, mismatch=mismatch)
    else:
        yield 2, AspectResult(aspect="output", met=True)


def _unmoved(outcome: Outcome) -> Iterator[tuple[int, AspectResult]]:
    """A question that nobody answered is no consent: nothing may be changed."""
    if outcome.files:
        shown = [f"{name} {each.state}" for name, each in list(outcome.files.items())[:MOST_NAMED]]
        mismatch = Mismatch(form="unmoved", expected="", actual=", ".join(shown))
        yield 1, AspectResult(aspect="consent", met=False, mismatch=mismatch)
    else:
        yield 1, AspectResult(aspect="consent", met=True)


def _renamed(outcome: Outcome) -> Iterator[tuple[int, AspectResult]]:
    from keen_matrix.core.signature.families.renamed import RENAMED

    text = (outcome.stdout + outcome.stderr).decode("utf-8", "replace")
    if re.search(re.escape(RENAMED), text):
        yield 1, AspectResult(aspect="renamed", met=True)
    else:
        yield (
            1,
            AspectResult(
                aspect="renamed", met=False, mismatch=Mismatch(form="renamed", expected=RENAMED, actual=text)
            ),
        )
