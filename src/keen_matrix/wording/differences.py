"""Texts against each other, and what a program printed, as rows."""

from __future__ import annotations

from collections.abc import Iterator

from keen_matrix.core.expect.differences import Difference, difference, first_difference, split_lines
from keen_matrix.core.model.record import Record, StepRecord, kept_bytes
from keen_matrix.core.width import cells
from keen_matrix.wording.counts import counted
from keen_matrix.wording.safe import quoted, visible_line
from keen_matrix.wording.signs import Look, Segment


def expected_row(text: str) -> list[Segment]:
    """Return the row of what was expected."""
    return [("expected  ", "dim"), (text, "expected")]


def found_row(text: str) -> list[Segment]:
    """Return the row of what was found."""
    return [("found     ", "dim"), (text, "found")]


def text_rows(look: Look, expected: str, found: str, *, everything: bool) -> Iterator[list[Segment]]:
    """Yield a whole text against another: short ones side by side with a caret, longer ones line
    by line."""
    space = look.sign("space")
    if expected != found and expected.removesuffix("\n") == found.removesuffix("\n"):
        yield expected_row("a newline at the end" if expected.endswith("\n") else "no newline at the end")
        yield found_row("the same text without one" if expected.endswith("\n") else "the same text with one")
        return
    if len(split_lines(expected)) <= 1 and len(split_lines(found)) <= 1:
        left, right = expected.removesuffix("\n"), found.removesuffix("\n")
        yield expected_row(quoted(left, look.width - 24, space) if left else "nothing")
        yield found_row(quoted(right, look.width - 24, space) if right else "nothing")
        shown = quoted(right[: first_difference(left, right)], 10_000)
        if left and right and cells(shown) < look.width - 26:
            yield [" " * (10 + cells(shown) - 1), ("^", "bad")]
        return
    yield from difference_rows(look, expected, found, everything=everything)


def difference_rows(
    look: Look, expected: str, found: str, *, everything: bool = False
) -> Iterator[list[Segment]]:
    """Yield how two texts differ, line by line: the first places and their surroundings, with
    counts of the rest."""
    most = 1_000 if everything else 14
    yield from shown_difference(look, difference(expected, found, most), most)


def shown_difference(look: Look, found: Difference, most: int) -> Iterator[list[Segment]]:
    """Yield a difference as rows."""
    space = look.sign("space")
    yield [("differs", "bad"), f" in {found.differing:,} of {found.of:,} lines"]
    names = {"same": "", "expected": "expected", "found": "found"}
    for line in found.lines:
        text = visible_line(line.text[:500], space if line.kind != "same" else " ")
        yield [(f"{names[line.kind]:9}{line.number:>4}  ", "dim"), (text, line.kind)]
    if len(found.lines) == most:
        yield [("         ", ""), ("more lines are left out here; --all shows them", "dim")]


def stream_rows(look: Look, fields: Record | StepRecord, *, whole: bool) -> Iterator[list[Segment]]:
    """Yield what the program printed, escaped; only the last lines unless `whole`."""
    for name in ("stdout", "stderr"):
        lines = split_lines(kept_bytes(fields, name).decode("utf-8", "surrogateescape"))
        label = f"complete {name}" if whole else f"{name} so far"
        if not lines:
            yield ["  ", (label, "dim"), "  nothing"]
            continue
        shown = lines if whole else lines[-4:]
        skipped = len(lines) - len(shown)
        yield ["  ", (label, "dim"), f"  ({counted(skipped, 'line')} before)" if skipped else ""]
        for line in shown:
            yield ["    ", (f"{look.sign('bar')} ", "dim"), visible_line(line[:2_000], look.sign("space"))]
