"""How large a covering array becomes, told before anything is made."""

from __future__ import annotations

from collections.abc import Sequence
from math import comb, log, prod

#: Bytes that a search may take.
MOST_MEMORY = 1 << 30
#: Above so many tuples only growth is used: counting how often each is covered would take too much
#: memory.
SHRINK_TUPLES = 3_000_000


def tuple_count(levels: Sequence[int], strength: int) -> int:
    """Return how many tuples all blocks of one strength have, without listing them: an elementary
    symmetric sum."""
    sums = [1] + [0] * strength
    for level in levels:
        # From the largest size down, so that one axis never counts twice in a product.
        for size in range(strength, 0, -1):
            sums[size] += sums[size - 1] * level
    return sums[strength] if strength <= len(levels) else prod(levels)


def memory_needed(levels: Sequence[int], strength: int, *, constrained: bool) -> int:
    """Return about how many bytes a search takes at most.

    A set of axes takes some 200 bytes; where rows are shrunk or constraints are kept, the numbers
    of every row's tuples stand in memory up to four times, and there are about as many rows as the
    largest block has values times the logarithm of all tuples (the bound of greedy covering:
    "Approximation algorithms for combinatorial problems", 1974).
    """
    blocks, tuples = comb(len(levels), strength), tuple_count(levels, strength)
    needed = blocks * (200 + 16 * strength) + tuples * 2
    if constrained or tuples <= SHRINK_TUPLES:
        rows = prod(sorted(levels)[-strength:]) * max(1.0, log(max(tuples, 2)))
        needed += int(rows) * blocks * 16 + tuples * 16
    return needed


def refuse_too_large(levels: Sequence[int], strength: int, *, constrained: bool) -> None:
    """Raise ValueError when a search would take more memory than MOST_MEMORY, with the size and a
    strength that fits."""
    needed = memory_needed(levels, strength, constrained=constrained)
    if needed <= MOST_MEMORY:
        return
    fits = next(
        each
        for each in range(strength - 1, 0, -1)
        if each == 1 or memory_needed(levels, each, constrained=constrained) <= MOST_MEMORY
    )
    raise ValueError(
        f"a strength of {strength} over {len(levels)} axes has {tuple_count(levels, strength):,} "
        f"combinations to cover, which need about {needed / 1024**3:.1f} GiB of memory, but "
        f"{MOST_MEMORY / 1024**3:.0f} GiB are allowed; a strength of {fits} fits"
    )
