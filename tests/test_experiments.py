"""Experiments by tables and by programs made up in memory: no process, no clock."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations

import pytest

from keen_matrix.core.experiments.minimal import minimal, minimal_of, parted, smaller


def asked(wanted: set[str]) -> tuple[list[list[str]], object]:
    """Return what is asked, as it is asked, of a program that fails with all of some words, and the program."""
    questions: list[list[str]] = []

    def fails(some: list[str]) -> bool:
        questions.append(some)
        return wanted <= set(some)

    return questions, fails


@pytest.mark.parametrize(
    ("items", "size", "parts"),
    [
        ("abcd", 2, ["cd", "ab"]),
        ("abcd", 1, ["bcd", "acd", "abd", "abc"]),
        ("abc", 2, ["c", "ab"]),
        ("a", 1, [""]),
        ("", 1, []),
    ],
)
def test_one_part_after_another_is_left_out(items: str, size: int, parts: list[str]) -> None:
    assert ["".join(each) for each in smaller(items, size)] == parts


@pytest.mark.parametrize(
    ("items", "wanted", "questions"),
    [
        ("ab", "b", ["b", ""]),
        ("ab", "ab", ["b", "a"]),
        ("abcd", "d", ["cd", "d", ""]),
        ("abcd", "", ["cd", "d", ""]),
        ("abcd", "ad", ["cd", "ab", "bcd", "acd", "cd", "ad", "d", "a"]),
    ],
)
def test_halves_are_asked_of_before_single_items(items: str, wanted: str, questions: list[str]) -> None:
    told, fails = asked(set(wanted))
    assert "".join(minimal(items, fails)) == wanted  # type: ignore[arg-type]
    assert ["".join(each) for each in told] == questions


@pytest.mark.parametrize("count", [0, 1, 2, 3])
def test_no_item_of_a_minimal_part_can_be_left_out(count: int) -> None:
    items = "abcdefgh"
    for wanted in combinations(items, count):
        _, fails = asked(set(wanted))
        assert tuple(minimal(items, fails)) == wanted  # type: ignore[arg-type]


def test_two_items_of_forty_take_few_questions() -> None:
    items = [str(number) for number in range(40)]
    told, fails = asked({"7", "31"})
    assert minimal(items, fails) == ["7", "31"] and len(told) <= 30  # type: ignore[arg-type]


def test_where_several_may_be_asked_of_at_a_time_the_first_is_taken() -> None:
    seen: list[list[list[str]]] = []

    def first(parts: Iterator[list[str]]) -> list[str] | None:
        seen.append(list(parts))
        return next((each for each in seen[-1] if "c" in each), None)

    assert minimal_of("abcd", first) == ["c"] and seen[0] == [["c", "d"], ["a", "b"]]


@pytest.mark.parametrize(
    ("items", "clashing", "kept", "failing"),
    [
        ("", "", "", ""),
        ("abcd", "", "abcd", ""),
        ("abcd", "b", "acd", "b"),
        ("abcd", "abcd", "", "abcd"),
        ("abcde", "ae", "bcd", "ae"),
    ],
)
def test_what_works_together_is_told_apart_from_what_does_not(items: str, clashing: str, kept: str, failing: str) -> None:
    found = parted(items, lambda some: not set(some) & set(clashing))
    assert tuple("".join(each) for each in found) == (kept, failing)


def test_of_two_that_exclude_each_other_the_first_is_kept() -> None:
    assert parted("abcd", lambda some: not {"b", "d"} <= set(some)) == (["a", "b", "c"], ["d"])
    assert parted("d", lambda some: not {"b", "d"} <= set(some), ["b"]) == (["b"], ["d"])
