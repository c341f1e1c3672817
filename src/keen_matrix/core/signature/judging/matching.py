"""Pass 3: operands run through a pattern, in all its readings at once.

The pattern becomes a small program of splits and words (Thompson's construction, "Regular
Expression Search Algorithm", 1968). Every place of it that words so far can lead to is a thread;
threads stand in order of preference, the fullest reading first, and no place has two, so the time
is that of words times places, however the groups are nested.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple, TypeAlias

from keen_matrix.core.notation.synopsis import Keyword, Operand
from keen_matrix.core.signature.judging.resolving import Part, PatternGroup


class Take(NamedTuple):
    """Take a word: any for an operand, itself for a keyword."""

    kind: Literal["operand", "keyword"]
    name: str


class Split(NamedTuple):
    """Go on at several places, in order of preference."""

    places: tuple[int, ...]


class End(NamedTuple):
    """All of the pattern is matched."""


Instruction: TypeAlias = Take | Split | End


class Binding(NamedTuple):
    """A word that was taken, and what for."""

    kind: Literal["operand", "keyword"]
    name: str
    word: str


class Trail(NamedTuple):
    """The words that a thread has taken, the last first. Threads share what they have in common."""

    binding: Binding
    before: Trail | None


class Thread(NamedTuple):
    """A place in the program, and how words led there."""

    at: int
    trail: Trail | None


class Matched(NamedTuple):
    """The result of matching: what words were bound to, the word that did not fit (and keywords
    that would), what is missing."""

    bound: list[Binding]
    unexpected: str | None = None
    keywords: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()


def match(pattern: Sequence[Part], words: Sequence[str]) -> Matched:
    """Return how the operands fit a pattern."""
    code: list[Instruction] = []
    _compile(pattern, code)
    code.append(End())
    threads = _closure(code, [Thread(0, None)])
    for word in words:
        following = []
        for at, trail in threads:
            step = code[at]
            if isinstance(step, Take) and (step.kind == "operand" or step.name == word):
                binding = Binding(step.kind, step.name, word)
                following.append(Thread(at + 1, Trail(binding, trail)))
        if not following:
            return _unexpected(code, threads, word)
        threads = _closure(code, following)
    for at, trail in threads:
        if isinstance(code[at], End):
            return Matched(_unwound(trail))
    shortest = min((_shortest(code, at) for at, _ in threads), key=len)
    return Matched(_unwound(threads[0].trail), missing=shortest)


def _compile(parts: Sequence[Part], code: list[Instruction]) -> None:
    """Write the program of some parts behind what is there."""
    for part in parts:
        if isinstance(part, Operand):
            code.append(Take("operand", part.name.name))
        elif isinstance(part, Keyword):
            code.append(Take("keyword", part.word))
        else:
            _compile_group(part, code)


def _compile_group(group: PatternGroup, code: list[Instruction]) -> None:
    """split → each alternative in turn → (back to the split when it may come again) → after."""
    start = len(code)
    code.append(End())  # replaced once the places are known
    starts, ends = [], []
    for alternative in group.alternatives:
        starts.append(len(code))
        _compile(alternative, code)
        ends.append(len(code))
        code.append(End())
    after = len(code)
    code[start] = Split((*starts, *([after] if group.optional else ())))
    for end in ends:
        code[end] = Split((start, after) if group.several else (after,))


def _closure(code: Sequence[Instruction], threads: Sequence[Thread]) -> list[Thread]:
    """Return the threads at words or the end that these lead to without a word, in order, each
    place once."""
    found: list[Thread] = []
    seen: set[int] = set()
    stack = list(reversed(threads))
    while stack:
        thread = stack.pop()
        if thread.at in seen:
            continue
        seen.add(thread.at)
        step = code[thread.at]
        if isinstance(step, Split):
            # the first is to be on top
            stack += [Thread(place, thread.trail) for place in reversed(step.places)]
        else:
            found.append(thread)
    return found


def _unexpected(code: Sequence[Instruction], threads: Sequence[Thread], word: str) -> Matched:
    """Return how far the words fit. Keywords are of use only where one must come."""
    steps = [code[at] for at, _ in threads]
    keywords = [each.name for each in steps if isinstance(each, Take) and each.kind == "keyword"]
    if any(isinstance(each, End) for each in steps):
        keywords = []
    trail = threads[0].trail if threads else None
    return Matched(_unwound(trail), word, tuple(dict.fromkeys(keywords)))


def _shortest(code: Sequence[Instruction], start: int) -> tuple[str, ...]:
    """Return the names on the shortest way from a place to the end, by breadth first."""
    waves: list[tuple[int, tuple[str, ...]]] = [(start, ())]
    seen: set[int] = set()
    while waves:
        following: list[tuple[int, tuple[str, ...]]] = []
        for at, names in waves:
            reached = [place for place, _ in _closure(code, [Thread(at, None)])]
            if any(isinstance(code[place], End) for place in reached):
                return names
            for place in reached:
                step = code[place]
                if isinstance(step, Take) and place not in seen:
                    seen.add(place)
                    following.append((place + 1, (*names, step.name)))
        waves = following
    return ()


def _unwound(trail: Trail | None) -> list[Binding]:
    """Return the words of a trail, the first first."""
    found = []
    while trail is not None:
        found.append(trail.binding)
        trail = trail.before
    return found[::-1]
