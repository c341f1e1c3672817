"""The difference between two texts, as lines to be shown: where it begins, what surrounds it, how
much more there is."""

from __future__ import annotations

import difflib
from typing import Literal

from keen_matrix.core.structs import Struct

#: Equal lines shown on each side of a difference.
CONTEXT = 3
#: Lines that are aligned; in longer texts only the first difference is looked for.
MOST_LINES = 2_000
#: Characters of both texts up to which lines are aligned.
MOST_CHARACTERS = 500_000
#: Lines of a difference that are shown unless everything is asked for.
MOST_SHOWN = 14


class DiffLine(Struct, frozen=True):
    """A line of a difference; `number` counts from 1 in the text it comes from."""

    kind: Literal["same", "expected", "found"]
    number: int
    text: str


class Difference(Struct, frozen=True):
    """The lines to show, and how many differing lines there are in all."""

    lines: tuple[DiffLine, ...]
    differing: int
    #: Lines of the longer text.
    of: int


def split_lines(text: str) -> list[str]:
    """Return the lines of a text without their newlines; a final newline makes no further line."""
    lines = text.split("\n")
    if lines and lines[-1] == "":
        lines.pop()
    return lines


def difference(expected: str, came: str, most: int = MOST_SHOWN) -> Difference:
    """Return how two texts differ, line by line; at most `most` lines are in it."""
    left, right = split_lines(expected), split_lines(came)
    of = max(len(left), len(right))
    start = next(
        (at for at, (a, b) in enumerate(zip(left, right, strict=False)) if a != b), min(len(left), len(right))
    )
    if of > MOST_LINES or len(expected) + len(came) > MOST_CHARACTERS:
        differing = sum(a != b for a, b in zip(left, right, strict=False)) + abs(len(left) - len(right))
        return Difference(tuple(_first(left, right, start)), differing, of)
    lines: list[DiffLine] = []
    differing = 0
    matcher = difflib.SequenceMatcher(None, left, right, autojunk=False)
    for group in matcher.get_grouped_opcodes(CONTEXT):
        for kind, left_from, left_to, right_from, right_to in group:
            if kind == "equal":
                lines += [DiffLine("same", at + 1, left[at]) for at in range(left_from, left_to)]
            else:
                lines += [DiffLine("expected", at + 1, left[at]) for at in range(left_from, left_to)]
                lines += [DiffLine("found", at + 1, right[at]) for at in range(right_from, right_to)]
                differing += max(left_to - left_from, right_to - right_from)
    return Difference(tuple(lines[:most]), differing, of)


#: Characters of a long line that are shown round its first difference.
WINDOW = 160


def _windows(left: str, right: str) -> tuple[str, str]:
    """Return two long lines cut to what surrounds their first difference."""
    if max(len(left), len(right)) <= 3 * WINDOW:
        return left, right
    at = max(0, first_difference(left, right) - WINDOW // 2)
    shown = [
        f"{'…' if at else ''}{each[at : at + WINDOW]}{'…' if len(each) > at + WINDOW else ''}"
        for each in (left, right)
    ]
    return shown[0], shown[1]


def _first(left: list[str], right: list[str], start: int) -> list[DiffLine]:
    lines = [DiffLine("same", at + 1, left[at]) for at in range(max(0, start - CONTEXT), start)]
    expected = left[start] if start < len(left) else ""
    came = right[start] if start < len(right) else ""
    expected, came = _windows(expected, came)
    lines += [DiffLine("expected", start + 1, expected)] if start < len(left) else []
    lines += [DiffLine("found", start + 1, came)] if start < len(right) else []
    return lines


def first_difference(expected: str, came: str) -> int:
    """Return the offset of the first character in which two texts differ (the shorter one's length
    if it is a beginning)."""
    return next(
        (at for at, (a, b) in enumerate(zip(expected, came, strict=False)) if a != b),
        min(len(expected), len(came)),
    )
