"""Covering arrays: few rows in which every combination of values of any so many axes appears.

The design follows what the field has found to work: starts from algebra, growth axis by axis and
greedy rows, then rows are taken away one by one and tabu search repairs what they covered (see the
modules of `arrays`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from itertools import combinations
from math import prod
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from keen_matrix.core.covering import fields
from keen_matrix.core.covering.blocks import Blocks, Ints, block_axes, lower_bound
from keen_matrix.core.covering.feasible import Feasible, OpaquePredicate, Predicate, clashing, rules_of
from keen_matrix.core.covering.greedy import Greedy
from keen_matrix.core.covering.growth import OPEN, grow
from keen_matrix.core.covering.joining import Inside, Joined
from keen_matrix.core.covering.shrink import Shrinker, WorkBudget
from keen_matrix.core.covering.size import SHRINK_TUPLES, refuse_too_large, tuple_count
from keen_matrix.core.structs import Struct, replace

Effort = Literal["quick", "normal", "thorough"]

#: Work for shrinking, in cells gathered: nothing, one to two seconds, about ten (on one core of a
#: small machine).
EFFORTS: Mapping[str, int] = {"quick": 0, "normal": 40_000_000, "thorough": 360_000_000}
#: Systems with no more tuples (8 axes of 5 values have 700), or with no more pairs and no
#: conditions (10 axes of 6 values have 1,620), get a part of the work, so that they are answered at
#: once: more of it takes no row away from any of those that are measured.
SMALL_TUPLES, SMALL_PAIRS = 800, 2_000
SMALL_WORK = 2_700_000
#: Rows of a start beside those of the smallest up to which it gets a part of the work.
WORTH_A_TRIAL = 1.6
#: Parts of the work that the smallest starts get; what is left goes to the best result. The
#: smallest start mostly wins.
TRIAL_SHARES = (0.6, 0.12, 0.08)
#: Rows that are made at all; a system that needs more is too large for any strength above 1.
MOST_ROWS = 2_000_000


class NoRows(ValueError):
    """No row meets every constraint; `clash` has the numbers of rules that cannot be met
    together."""

    def __init__(self, clash: Sequence[int]) -> None:
        self.clash = tuple(clash)
        super().__init__("no row meets every constraint")


class Covering(Struct, frozen=True, kw_only=True):
    """A covering array and what is known about it."""

    rows: NDArray[np.int32]
    #: Tuples that have to be covered and can be.
    tuples: int
    #: Tuples that no allowed row contains.
    impossible: int
    #: Rows that no array without constraints can go below.
    bound: int


def _nothing(_: str) -> None:
    """Tell nobody."""


class Demand(Struct, frozen=True, kw_only=True):
    """What a covering array is to cover, and what may be spent on it."""

    #: The number of values of each axis.
    levels: Sequence[int]
    strength: int
    rules: Sequence[Predicate] = ()
    #: Axes that are there only where another has a certain level.
    inside: Sequence[Inside] = ()
    #: Combinations, axis to value, that must be among the rows.
    always: Sequence[Mapping[int, int]] = ()
    #: Sets of axes with a strength of their own.
    denser: Sequence[tuple[Sequence[int], int]] = ()
    effort: Effort = "normal"
    seed: int = 0
    #: Called with how far the search is, in words.
    told: Callable[[str], None] = _nothing


def covering_rows(
    levels: Sequence[int],
    strength: int,
    *,
    allowed: Callable[[object], bool] | Sequence[Callable[[object], bool]] | None = None,
    always: Iterable[Mapping[int, int]] = (),
    denser: Iterable[tuple[Sequence[int], int]] = (),
    effort: Effort = "normal",
) -> NDArray[np.int32]:
    """Return rows in which every tuple of `strength` axes' values appears that some allowed row
    can contain.

    `levels[axis]` is the number of values of an axis; a row has the number of a value for each
    axis, counted from 0. `allowed(row)` tells whether a row may be taken; it reads `row[axis]` and
    is asked on partial rows, so it should read no more axes than it needs. Several conditions are
    better given as a list of functions than as one: each is followed along the axes that it reads,
    and one that reads ten of them has ten axes' worth of paths. `always` lists combinations (axis
    → value) that must be among the rows. `denser` gives sets of axes a strength of their own.
    `effort` is "quick", "normal" (one to two seconds) or "thorough" (about ten).

    The result is rows × axes, sorted, the same on every machine for the same arguments. Raises
    ValueError for a strength below 1 or above the number of axes, or levels below 1, and NoRows
    when nothing is allowed.
    """
    predicates = [] if allowed is None else [allowed] if callable(allowed) else list(allowed)
    found = [rules_of(predicate, levels) for predicate in predicates]
    # A predicate kept as a whole can only be completed on its own; beside other rules the two
    # searches would not see each other, so all conditions become one predicate.
    if len(found) > 1 and any(isinstance(rule, OpaquePredicate) for rules in found for rule in rules):
        found = [rules_of(lambda row: all(predicate(row) for predicate in predicates), levels)]
    rules = [rule for rules in found for rule in rules]
    demand = Demand(
        levels=levels,
        strength=strength,
        rules=rules,
        always=tuple(always),
        denser=tuple(denser),
        effort=effort,
    )
    return cover(demand).rows


def cover(demand: Demand) -> Covering:
    """Return a covering array with what is known about it.

    Raises ValueError for a strength below 1 or above the number of axes, levels below 1, or a
    system that is too large, and NoRows when nothing is allowed.
    """
    levels, strength = [int(level) for level in demand.levels], demand.strength
    if not levels or min(levels) < 1:
        raise ValueError("every axis needs at least one value")
    if not 1 <= strength <= len(levels):
        raise ValueError(f"a strength of {strength} needs at least as many axes; there are {len(levels)}")
    if demand.inside:
        return _joined(replace(demand, levels=levels))
    return _Search(replace(demand, levels=levels)).covering()


def _joined(demand: Demand) -> Covering:
    """Return a covering array for a system with axes inside others, made for the joined axes."""
    named = {axis for each in demand.always for axis in each}
    named |= {axis for axes, _ in demand.denser for axis in axes}
    joined = Joined(demand.levels, demand.rules, demand.inside, frozenset(named))
    strength = min(demand.strength, len(joined.levels))
    inner = replace(
        demand,
        levels=joined.levels,
        strength=strength,
        rules=joined.rules,
        inside=(),
        always=[joined.combination(each) for each in demand.always],
        denser=[(joined.axes(axes), own) for axes, own in demand.denser],
    )
    try:
        found = cover(inner)
    except NoRows as none:
        raise NoRows([each for each in none.clash if each < len(demand.rules)]) from None
    rows = _sorted(joined.rows(found.rows))
    # Every combination that an allowed row can have is in one of these; so they are counted there.
    axes = block_axes(len(demand.levels), demand.strength, demand.denser)
    blocks = Blocks(demand.levels, axes)
    covered = int(np.count_nonzero(blocks.counted(rows)[:-1]))
    return replace(found, rows=rows, tuples=covered, impossible=blocks.total - covered)


class _Search:
    """One call: the system, its constraints and fixed rows, and the work that may be done."""

    def __init__(self, demand: Demand) -> None:
        self.demand = demand
        levels, strength, effort = demand.levels, demand.strength, demand.effort
        rules, denser = demand.rules, demand.denser
        self.levels = levels
        self.feasible = Feasible(levels, rules) if rules else None
        if self.feasible is not None and not self.feasible.is_met():
            raise NoRows(clashing(levels, rules))
        # The product of the largest axes is a lower bound for every array, and known before
        # anything is built.
        least = prod(sorted(levels)[-strength:])
        if least > MOST_ROWS:
            raise ValueError(
                f"{least:,} rows at least are needed for a strength of {strength}; at most "
                f"{MOST_ROWS:,} are made"
            )
        refuse_too_large(levels, strength, constrained=bool(rules))
        for among, own in denser:
            refuse_too_large(
                [levels[axis] for axis in set(among)], min(own, len(set(among))), constrained=bool(rules)
            )
        self.axes = block_axes(len(levels), strength, denser)
        self.total = sum(prod(levels[axis] for axis in block) for block in self.axes)
        limit = EFFORTS[effort]
        # Small systems are to be answered at once, and reach their smallest size with little.
        few = SMALL_PAIRS if strength == 2 and self.feasible is None else SMALL_TUPLES
        if self.total <= few and effort == "normal":
            limit = SMALL_WORK
        self._parts: dict[tuple[tuple[int, int], ...], bool] = {}
        self.work = WorkBudget(limit)

    def covering(self) -> Covering:
        """Return the best array found."""
        bound = lower_bound(self.levels, self.axes)
        # Growth keeps only the tuples that end at the axis in hand; everything below counts all of
        # them.
        if self.feasible is None and self.total > SHRINK_TUPLES:
            rows = _closed(self._grown(self._fixed_rows(), 0, _order(self.levels)), self.levels)
            return Covering(rows=_sorted(rows), tuples=self.total, impossible=0, bound=bound)
        self.blocks = Blocks(self.levels, self.axes)
        self.demand.told("which combinations are possible")
        skip = self._impossible()
        self.demand.told("first rows")
        fixed_rows = self._fixed_rows()
        starts = list(self._starts(fixed_rows, skip))
        # With constraints fewer rows than the bound may do: it counts tuples that are impossible.
        best = self._shrunk(starts, fixed_rows != OPEN, skip, bound if self.feasible is None else 1)
        impossible = int(skip.sum()) if skip is not None else 0
        return Covering(
            rows=_sorted(best), tuples=self.blocks.total - impossible, impossible=impossible, bound=bound
        )

    def _impossible(self) -> np.ndarray | None:
        """Return which tuples no allowed row contains; None without constraints.

        A row that proves one tuple possible proves all tuples in it, so only few have to be asked
        for; what is impossible for two axes need not be proven again for each third.
        """
        feasible, blocks = self.feasible, self.blocks
        if feasible is None:
            return None
        skip, seen = np.zeros(blocks.total, dtype=bool), np.zeros(blocks.total + 1, dtype=bool)
        for number, axes in enumerate(self.axes):
            # Tuples of free axes are always possible; asking for each would be most of the time of
            # a system with one constraint.
            if not any(axis in feasible.component for axis in axes):
                continue
            base = int(blocks.bases[number])
            for offset in range(prod(self.levels[axis] for axis in axes)):
                # A row found for one tuple has proven this one on the way.
                if seen[base + offset]:
                    continue
                _, values = blocks.decode(base + offset)
                if self._part_impossible(feasible, axes, values):
                    skip[base + offset] = True
                    continue
                row = feasible.any_row(dict(zip(axes, values, strict=True)))
                if row is None:
                    skip[base + offset] = True
                else:
                    seen[blocks.numbers(row[None, :])[0]] = True
        return skip

    def _part_impossible(self, feasible: Feasible, axes: Sequence[int], values: Sequence[int]) -> bool:
        """Tell whether fewer of the values are impossible together already."""
        # From single values up: the smallest impossible part decides most tuples that contain it.
        for size in range(1, len(axes)):
            for chosen in combinations(range(len(axes)), size):
                key = tuple((axes[at], values[at]) for at in chosen)
                if key not in self._parts:
                    self._parts[key] = not feasible.possible(
                        [axis for axis, _ in key], [value for _, value in key]
                    )
                if self._parts[key]:
                    return True
        return False

    def _fixed_rows(self) -> Ints:
        """Return the rows that must be in, with open cells where they say nothing."""
        rows = np.full((len(self.demand.always), len(self.levels)), OPEN, dtype=np.int32)
        for number, combination in enumerate(self.demand.always):
            for axis, value in combination.items():
                rows[number, axis] = value
            if self.feasible is not None and self.feasible.any_row(dict(combination)) is None:
                raise NoRows(())
        return rows

    def _grown(self, rows: Ints, done: int, order: list[int]) -> Ints:
        return grow(self.levels, self.axes, order, rows, done)

    def _starts(self, fixed: Ints, skip: np.ndarray | None) -> Iterable[Ints]:
        """Yield complete arrays to begin with, cheapest first."""
        if self.feasible is not None:
            # More tries a row end with fewer rows and take as many times as long; quick takes the
            # first.
            candidates = 1 if self.demand.effort == "quick" else 4
            # Algebra and growth know nothing of constraints, and repairing their rows ends larger
            # than building allowed ones.
            rows = _closed_feasibly(fixed, self.feasible, len(self.levels))
            yield Greedy(self.blocks, self.feasible, self.demand.seed, candidates).completed(rows, skip)
            return
        bound = lower_bound(self.levels, self.axes)
        # Arrays from algebra have no room for rows that somebody wants, nor for blocks of several
        # sizes.
        if len(fixed) == 0 and not self.demand.denser:
            sizes: list[int] = []
            algebraic = _algebraic(
                self.levels, self.demand.strength, lambda: int(min(sizes, default=MOST_ROWS) * WORTH_A_TRIAL)
            )
            for rows, columns in algebraic:
                start = self._completed(self._grown(rows, columns, _order(self.levels)))
                sizes.append(len(start))
                yield start
                # Optimal: no other start, and no shrinking, can do better.
                if len(start) <= bound:
                    return
        yield self._completed(self._grown(fixed.copy(), 0, _order(self.levels)))
        # Greedy rows may be the better start for mixed levels; for large systems they take long.
        if self.demand.effort != "quick" and self.blocks.total <= 20_000:
            yield Greedy(self.blocks, None, self.demand.seed, 5).completed(_closed(fixed, self.levels), None)

    def _completed(self, rows: Ints) -> Ints:
        """Close open cells, then add what a denser set or an open cell may have left uncovered."""
        return Greedy(self.blocks, None, self.demand.seed, 1).completed(_closed(rows, self.levels), None)

    def _shrunk(self, starts: list[Ints], fixed: np.ndarray, skip: np.ndarray | None, bound: int) -> Ints:
        """Return the smallest array that short trials on a few starts, and a long one on the best,
        lead to."""
        starts.sort(key=len)
        best = starts[0]
        if len(best) <= bound or not self.work.limit:
            return best
        most = int(len(best) * WORTH_A_TRIAL)
        promising = [each for each in starts if len(each) <= most][: len(TRIAL_SHARES)]
        trials = []
        self.demand.told(f"{len(best)} rows so far")
        for number, (rows, share) in enumerate(zip(promising, TRIAL_SHARES, strict=False)):
            # Parts of work and not of time: two machines stop at the same move.
            part = self.work.share(int(self.work.limit * share))
            trials.append((self._trial(rows, fixed, skip, number, part, bound), number))
            self.work.spend(part.used)
            if len(trials[-1][0]) <= bound:
                break
        trials.sort(key=lambda each: len(each[0]))
        best = trials[0][0]
        self.demand.told(f"{len(best)} rows so far")
        if len(best) > bound and self.work.left:
            # Another salt: the same random numbers on the same array would only repeat the trial.
            best = self._trial(best, fixed, skip, 17, self.work, bound)
        return best

    def _trial(
        self, rows: Ints, fixed: np.ndarray, skip: np.ndarray | None, salt: int, work: WorkBudget, bound: int
    ) -> Ints:
        shrinker = Shrinker(
            self.blocks,
            rows,
            fixed=fixed,
            skip=skip,
            feasible=self.feasible,
            seed=self.demand.seed * 1009 + salt,
        )
        return shrinker.shrink(work, bound)


def _order(levels: Sequence[int]) -> list[int]:
    """Return the axes with most values first: growth from them ends with fewest rows."""
    return sorted(range(len(levels)), key=lambda axis: (-levels[axis], axis))


def _algebraic(levels: Sequence[int], strength: int, most: Callable[[], int]) -> Iterable[tuple[Ints, int]]:
    """Yield arrays from algebra over the first axes of the order, values beyond an axis's own
    left open; those of more rows than are worth looking at by then are not made."""
    order, count = _order(levels), len(levels)
    if max(levels) == 2 and strength == 2 and count > 3:
        yield _on_axes(fields.binary(count), range(count), levels), count
    if count == strength + 1:
        sums = fields.zero_sum([levels[axis] for axis in order], strength)
        yield _on_axes(sums, order, levels), count
    largest = levels[order[0]]
    # The order of the field is chosen by the strength-th largest axis, so that no more than that
    # many axes lose values; the next two orders are sometimes better, since more columns fit.
    for size in fields.field_orders(max(2, levels[order[min(strength, count) - 1]]))[:3]:
        # Fields are tried from small to large, so the ones after it are no smaller.
        if size**strength > min(20_000, most()):
            return
        # axes with more values than the field has elements come after it in the order, and are
        # grown
        fitting = [axis for axis in order if levels[axis] <= size]
        if size < largest or len(fitting) <= strength:
            continue
        arrays = [fields.orthogonal(size, strength)]
        if strength == 2 and len(fitting) > size + 1:
            small = fields.paired(size, size + 2)
            large = fields.paired(size, len(fitting))
            arrays += [each for each in (small, large) if each is not None]
        for array in arrays:
            if len(array) > most():
                continue
            columns = min(array.shape[1], len(fitting))
            yield _on_axes(array[:, :columns], fitting[:columns], levels), columns


def _on_axes(array: Ints, axes: Sequence[int], levels: Sequence[int]) -> Ints:
    """Return rows with the columns of an array on the axes given, values beyond an axis's own
    left open."""
    rows = np.full((len(array), len(levels)), OPEN, dtype=np.int32)
    rows[:, axes] = array
    for axis in axes:
        rows[rows[:, axis] >= levels[axis], axis] = OPEN
    return rows


def _closed_feasibly(rows: Ints, feasible: Feasible, axes: int) -> Ints:
    """Return rows with every open cell set so that the row is allowed."""
    closed = [
        feasible.any_row({axis: int(value) for axis, value in enumerate(row) if value != OPEN})
        for row in rows
    ]
    empty = np.empty((0, axes), dtype=np.int32)
    return np.vstack([each for each in closed if each is not None]) if closed else empty


def _closed(rows: Ints, levels: Sequence[int]) -> Ints:
    """Return rows with every open cell set: values in turn, so that the fill covers something
    too."""
    closed = rows.copy()
    for axis, level in enumerate(levels):
        at = np.flatnonzero(closed[:, axis] == OPEN)
        closed[at, axis] = (at + axis) % level
    return closed


def _sorted(rows: Ints) -> Ints:
    """Return the rows in the order of their values, each once."""
    # The order in which rows were found depends on the starts; users compare runs, so it must not
    # show.
    # Not np.unique, which imports numpy.ma: that takes longer than a small search.
    ordered: Ints = rows[np.lexsort(rows.T[::-1])].astype(np.int32)
    is_first = np.ones(len(ordered), dtype=bool)
    is_first[1:] = (ordered[1:] != ordered[:-1]).any(axis=1)
    return ordered[is_first]


__all__ = ["Covering", "Demand", "Inside", "NoRows", "Predicate", "cover", "covering_rows", "tuple_count"]
