"""Covering arrays: complete by a separate plain check, small, repeatable, exact under constraints."""

from __future__ import annotations

from collections.abc import Callable
from itertools import combinations, product
from math import prod
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from keen_matrix import covering_rows
from keen_matrix.core.covering import fields, search
from keen_matrix.core.covering.search import Demand, NoRows, cover
from keen_matrix.core.covering.size import tuple_count


def missing(rows: Any, levels: list[int], strength: int, allowed: Callable[[Any], bool] = lambda row: True) -> set[Any]:
    """The plainest check there is: every combination of every so many axes that some allowed row holds."""
    every = [row for row in product(*map(range, levels)) if allowed(row)]
    left = set()
    for axes in combinations(range(len(levels)), strength):
        left |= {(axes, tuple(row[a] for a in axes)) for row in every} - {
            (axes, tuple(row[a] for a in axes)) for row in rows
        }
    return left


SIZES = [
    ([3] * 4, 2, 9), ([3] * 13, 2, 15), ([2] * 100, 2, 10), ([10] * 10, 2, 118), ([5] * 10, 2, 41),
    ([6] * 6 + [5] * 5 + [4] * 4, 2, 51), ([4] * 6, 3, 64), ([5] * 6, 3, 125), ([3] * 6, 3, 33), ([2] * 10, 4, 24),
    ([7], 1, 7), ([2, 5, 3], 1, 5), ([4, 3], 2, 12), ([1, 1, 1], 2, 1), ([60, 2, 2], 2, 120), ([33, 33, 30], 2, 33 * 33), ([4, 3, 3, 2], 3, 36),
    ([2, 2, 1, 1, 1], 2, 4), ([2, 1, 2, 1, 2], 2, 4), ([1, 1, 1, 1], 2, 1), ([1, 3, 1, 2], 3, 6),
]  # fmt: skip


@pytest.mark.parametrize(("levels", "strength", "most"), SIZES, ids=[f"{each[0]} t{each[1]}" for each in SIZES])
def test_an_array_is_complete_and_small(levels: list[int], strength: int, most: int) -> None:
    rows = covering_rows(levels, strength).tolist()
    assert len(rows) <= most
    for axes in combinations(range(len(levels)), strength):
        assert len({tuple(row[a] for a in axes) for row in rows}) == prod(levels[a] for a in axes)


SYSTEMS = st.lists(st.integers(1, 4), min_size=2, max_size=6)


@settings(max_examples=40)
@given(SYSTEMS, st.integers(1, 3), st.integers(0, 5), st.data())
def test_any_system_with_any_constraints_is_covered_exactly(
    levels: list[int], strength: int, seed: int, data: Any
) -> None:
    strength = min(strength, len(levels))
    forbidden = data.draw(
        st.lists(
            st.dictionaries(st.integers(0, len(levels) - 1), st.integers(0, 3), min_size=1, max_size=3), max_size=6
        )
    )
    rules = [lambda row, each=each: any(row[axis] != value for axis, value in each.items()) for each in forbidden]

    def allowed(row: Any) -> bool:
        return all(rule(row) for rule in rules)

    possible = [row for row in product(*map(range, levels)) if allowed(row)]
    for given_rules in (rules, allowed):
        if not possible:
            with pytest.raises(NoRows):
                covering_rows(levels, strength, allowed=given_rules, effort="quick")
            continue
        fixed = dict(enumerate(possible[len(possible) // 2]))
        rows = covering_rows(levels, strength, allowed=given_rules, always=[fixed], effort="quick")
        assert all(allowed(row) for row in rows.tolist())
        assert list(fixed.values()) in rows.tolist()
        assert missing(rows.tolist(), levels, strength, allowed) == set()


def test_the_normal_effort_keeps_constraints_while_it_shrinks() -> None:
    levels = [2, 3, 4, 2, 3, 4]
    rules = [lambda r: r[0] != 1 or r[2] > 1, lambda r: (r[1] + r[2]) % 3 != 1 or r[3] == 0, lambda r: r[4] != r[1]]

    def allowed(row: Any) -> bool:
        return all(rule(row) for rule in rules)

    quick = covering_rows(levels, 2, allowed=rules, effort="quick")
    rows = covering_rows(levels, 2, allowed=rules)
    assert len(rows) <= len(quick) and all(map(allowed, rows.tolist()))
    assert missing(rows.tolist(), levels, 2, allowed) == set()


def test_a_focus_gets_its_own_strength_and_partial_fixed_rows_are_kept() -> None:
    levels = [3, 3, 2, 4, 2]
    rows = covering_rows(levels, 2, denser=[((0, 1, 3), 3)], always=[{0: 2, 4: 1}, {1: 0}]).tolist()
    assert missing(rows, levels, 2) == set()
    assert len({(row[0], row[1], row[3]) for row in rows}) == 36
    assert any(row[0] == 2 and row[4] == 1 for row in rows)
    assert len(rows) < 48


def test_the_same_seed_gives_the_same_rows_and_another_seed_others() -> None:
    first, again, other = (cover(Demand(levels=[5] * 8, strength=2, seed=seed)).rows for seed in (4, 4, 5))
    assert np.array_equal(first, again) and not np.array_equal(first, other)
    assert first.tolist() == sorted(first.tolist())


def test_rules_that_clash_are_named() -> None:
    from keen_matrix.core.covering.search import Predicate

    rules = [Predicate((0,), lambda v: v != (0,)), Predicate((1,), lambda v: True), Predicate((0,), lambda v: v == (0,))]
    with pytest.raises(NoRows) as caught:
        cover(Demand(levels=[2, 2], strength=2, rules=rules))
    assert caught.value.clash == (0, 2)


@pytest.mark.parametrize(("levels", "strength"), [([], 1), ([2, 0], 1), ([2, 2], 3), ([2, 2], 0)])
def test_impossible_questions_are_refused(levels: list[int], strength: int) -> None:
    with pytest.raises(ValueError):
        covering_rows(levels, strength)


@pytest.mark.parametrize("order", [2, 3, 4, 5, 7, 8, 9])
def test_a_field_is_a_field_and_its_array_orthogonal(order: int) -> None:
    adding, times = fields.field(order)
    everything = set(range(order))
    for a in range(order):
        assert set(adding[a].tolist()) == everything and adding[a, 0] == a and times[a, 1] == a
        assert a == 0 or set(times[a].tolist()) == everything
        for b in range(order):
            assert all(times[a, adding[b, c]] == adding[times[a, b], times[a, c]] for c in range(order))
    for strength in (2, 3):
        rows = fields.orthogonal(order, strength)
        assert len(rows) == order**strength
        for axes in combinations(range(rows.shape[1]), strength):
            assert len(np.unique(rows[:, axes], axis=0)) == order**strength


def test_products_and_the_binary_construction_cover() -> None:
    for rows, level in ((fields.paired(3, 40), 3), (fields.paired(4, 21), 4), (fields.binary(35), 2)):
        assert rows is not None
        for a, b in combinations(range(rows.shape[1]), 2):
            assert len(np.unique(rows[:, (a, b)], axis=0)) == level**2


def test_tuples_are_counted_without_listing_them() -> None:
    assert tuple_count([2, 3, 4], 2) == 2 * 3 + 2 * 4 + 3 * 4
    assert tuple_count([10] * 20, 2) == 190 * 100


@settings(max_examples=40)
@given(st.integers(0, 200), st.integers(1, 3))
def test_what_stands_inside_a_choice_is_covered_as_under_a_condition(seed: int, strength: int) -> None:
    """The same rows of the whole system are possible, and every combination of them is covered."""
    import random

    from keen_matrix.core.covering.feasible import Feasible, Predicate
    from keen_matrix.core.covering.joining import Inside

    draw = random.Random(seed)
    levels = [draw.randint(2, 3) for _ in range(draw.randint(2, 3))]
    inside = []
    for _ in range(draw.randint(1, 3)):
        choice = draw.randrange(len(levels))
        is_inside = any(each.axis == choice for each in inside)  # then its last level is "absent"
        inside.append(Inside(len(levels), choice, draw.randrange(levels[choice] - is_inside)))
        levels.append(draw.randint(2, 4))
    strength = min(strength, len(levels))
    barred = draw.randrange(len(levels)), draw.randrange(len(levels))
    rules = [Predicate(barred, lambda at: at != (0, 1))] if barred[0] != barred[1] and seed % 2 else []
    always = [{0: 0}] if seed % 3 == 0 else []
    found = cover(Demand(levels=levels, strength=strength, rules=rules, inside=inside, always=always))
    whole = [*rules, *(each.rule(levels) for each in inside)]

    def allowed(row: Any) -> bool:
        return all(rule.allows(row) for rule in whole)

    rows = found.rows.tolist()
    assert all(allowed(row) for row in rows)
    assert not missing(rows, levels, strength, allowed)
    assert found.tuples + found.impossible == tuple_count(levels, strength)
    assert Feasible(levels, whole).is_met()
    assert not always or any(row[0] == 0 for row in rows)


def test_twenty_options_need_no_more_rows_joined_than_under_conditions() -> None:
    from keen_matrix.core.covering.joining import Inside

    levels = [2] * 10 + [4] * 10 + [2] * 10
    inside = [Inside(10 + number, number, 1) for number in range(10)]
    joined = cover(Demand(levels=levels, strength=2, inside=inside))
    apart = cover(Demand(levels=levels, strength=2, rules=[each.rule(levels) for each in inside], effort="quick"))
    assert len(joined.rows) <= 27 and (joined.tuples, joined.impossible) == (apart.tuples, apart.impossible)


@pytest.mark.parametrize(("levels", "strength"), [([2] * 6 + [3] * 4, 2), ([3, 2, 4, 2, 3], 2)])
def test_pairs_are_counted_as_all_is(levels: list[int], strength: int, monkeypatch: pytest.MonkeyPatch) -> None:
    """Two ways to count, one for pairs and one for whatever is to be covered, come to the same rows."""
    def rows() -> np.ndarray:
        return covering_rows(levels, strength, allowed=lambda row: row[0] != 1 or row[1] == 1)

    found = rows()
    monkeypatch.setattr("keen_matrix.core.covering.greedy.MOST_VALUES", 0)
    assert np.array_equal(found, rows())


def test_an_array_from_algebra_that_no_trial_would_get_is_not_grown(monkeypatch: pytest.MonkeyPatch) -> None:
    """Those of 45, 49 and 91 rows are more than half as large again as the 28 of another."""
    grown: list[int] = []
    plain = search.grow
    monkeypatch.setattr(search, "grow", lambda levels, blocks, order, rows, done: grown.append(len(rows)) or plain(levels, blocks, order, rows, done))
    assert len(cover(Demand(levels=[2] * 10 + [4] * 10, strength=2)).rows) <= 27
    assert sorted(grown) == [0, 16, 25, 28, 28]
