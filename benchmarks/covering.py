"""Sizes and times of covering arrays for the systems that the literature compares: python benchmarks/covering.py [EFFORT …]."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable, Iterator
from itertools import combinations
from math import prod
from typing import Any

from results import write_section

from keen_matrix.core.covering.blocks import block_axes, lower_bound
from keen_matrix.core.covering.search import covering_rows

PUBLISHED = (
    "Best published: the smallest size in the published tables of covering arrays for systems of one kind of axis, and in "
    "articles on their construction for mixed ones, as collected in 2026 and not checked again here; - where none is known."
)

# name, levels, strength, best published size
SYSTEMS = [
    ("3^4", [3] * 4, 2, 9),
    ("3^13", [3] * 13, 2, 15),
    ("4^15 3^17 2^29", [4] * 15 + [3] * 17 + [2] * 29, 2, 29),
    ("4^1 3^39 2^35", [4] + [3] * 39 + [2] * 35, 2, 21),
    ("2^100", [2] * 100, 2, 10),
    ("10^20", [10] * 20, 2, 180),
    ("5^10", [5] * 10, 2, 36),
    ("6^6 5^5 4^4", [6] * 6 + [5] * 5 + [4] * 4, 2, None),
    ("10^10", [10] * 10, 2, 118),
    ("4^20", [4] * 20, 2, None),
    ("4^50", [4] * 50, 2, None),
    ("4^75", [4] * 75, 2, None),
    ("4^100", [4] * 100, 2, None),
    ("4^200", [4] * 200, 2, None),
    ("3^6", [3] * 6, 3, 33),
    ("4^6", [4] * 6, 3, 64),
    ("5^6", [5] * 6, 3, 125),
    ("5^7", [5] * 7, 3, 180),
    ("6^6", [6] * 6, 3, 260),
    ("3^5 2^10", [3] * 5 + [2] * 10, 3, None),
    ("2^10", [2] * 10, 4, 24),
    ("3^6", [3] * 6, 4, 111),
    ("2^20", [2] * 20, 5, None),
]
EVERYDAY = [
    ("5^8", [5] * 8, 2),
    ("3^5", [3] * 5, 2),
    ("5^4 3^4", [5] * 4 + [3] * 4, 2),
    ("2^8", [2] * 8, 3),
]


def is_complete(rows: list[list[int]], levels: list[int], strength: int) -> bool:
    """The plainest possible check: every combination of every so many axes."""
    for axes in combinations(range(len(levels)), strength):
        if len({tuple(row[axis] for axis in axes) for row in rows}) < prod(
            levels[axis] for axis in axes
        ):
            return False
    return True


CONSTRAINED_LEVELS = [2, 3, 4, 5, 2, 3, 4, 5, 2, 3, 4, 5]
FORBIDDEN = [
    {0: 0, 1: 2}, {1: 0, 2: 3}, {2: 1, 3: 4}, {3: 0, 4: 1}, {4: 0, 5: 0}, {5: 1, 6: 2}, {6: 0, 7: 3}, {7: 1, 8: 0},
    {8: 1, 9: 2}, {9: 0, 10: 1}, {10: 3, 11: 0}, {0: 1, 5: 2, 10: 2}, {1: 1, 6: 1, 11: 4}, {2: 2, 7: 4, 9: 1},
    {3: 3, 8: 0, 11: 2},
]  # fmt: skip


def not_all(each: dict[int, int]) -> Callable[[Any], bool]:
    return lambda row: not all(row[axis] == value for axis, value in each.items())


ALLOWED = [
    *(not_all(each) for each in FORBIDDEN),
    lambda row: row[0] != 1 or row[3] >= 2,
    lambda row: row[6] != 3 or row[4] == 0,
    lambda row: row[11] != 1 or row[2] <= 1,
]


def allowed(row: Any) -> bool:
    """15 forbidden pairs and triples, and three implications."""
    return all(each(row) for each in ALLOWED)


def line(name: str, levels: list[int], strength: int, published: int | None, effort: str) -> str:
    started = time.perf_counter()
    rows = covering_rows(levels, strength, effort=effort).tolist()  # type: ignore[arg-type]
    seconds = time.perf_counter() - started
    bound = lower_bound(levels, block_axes(len(levels), strength, []))
    complete = is_complete(rows, levels, strength)
    return (
        f"| {name} | {strength} | {bound} | {published or '-'} | {len(rows)} | {seconds:.2f} | "
        f"{'yes' if complete else 'NO'} |"
    )


def main() -> None:
    words = sys.argv[1:]
    only = [word for word in words if word not in ("quick", "normal", "thorough")]
    for effort in [word for word in words if word in ("quick", "normal", "thorough")] or ["normal"]:
        lines = list(head_and_rows(effort, only))
        if not only:
            write_section(
                f"Covering arrays, effort {effort}",
                f"python benchmarks/covering.py {effort}",
                lines,
            )


def head_and_rows(effort: str, only: list[str]) -> Iterator[str]:
    """Yield the table of one effort, printing it as it is made."""
    for text in rows_of(effort, only):
        print(text, flush=True)
        yield text


def rows_of(effort: str, only: list[str]) -> Iterator[str]:
    yield PUBLISHED
    yield ""
    yield "| system | strength | bound | best published | rows | seconds | complete |"
    yield "|---|---|---|---|---|---|---|"
    for name, levels, strength, published in SYSTEMS:
        if not only or name in only:
            yield line(name, levels, strength, published, effort)
    for name, levels, strength in EVERYDAY if not only else []:
        yield line(name, levels, strength, None, effort)
    for strength in (2, 3) if not only else ():
        started = time.perf_counter()
        rows = covering_rows(CONSTRAINED_LEVELS, strength, allowed=ALLOWED, effort=effort)  # type: ignore[arg-type]
        seconds = time.perf_counter() - started
        bound = prod(sorted(CONSTRAINED_LEVELS)[-strength:])
        fine = "yes" if all(allowed(row) for row in rows) else "NO"
        yield (f"| 12 axes, constraints | {strength} | {bound} | - | {len(rows)} | "
               f"{seconds:.2f} | {fine} |")  # fmt: skip


if __name__ == "__main__":
    main()
