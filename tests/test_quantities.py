"""Sizes, durations and ranges: read in one place, by the same rules wherever a spec or the command line has one."""

from __future__ import annotations

import pytest

from keen_matrix.core.expect.limits import parse_limit
from keen_matrix.core.model.quantities import (
    SIZE_UNITS,
    TIME_UNITS,
    bounds_text,
    parse_bounds,
    parse_duration,
    parse_size,
)
from tests.conftest import Place


@pytest.mark.parametrize(("given", "seconds"), [
    ("2 h", 7200.0), ("5 min", 300.0), ("90", 90.0), (1.5, 1.5), ("250ms", 0.25), ("3 us", 3e-6), ("1 MIN", 60.0),
])  # fmt: skip
def test_a_duration(given: object, seconds: float) -> None:
    assert parse_duration(given) == pytest.approx(seconds)


@pytest.mark.parametrize(("given", "size"), [
    ("10 kib", 10_240), ("10 KiB", 10_240), ("1.5MB", 1_500_000), (7, 7), ("2 gib", 2 * 1024**3), ("0 B", 0),
])  # fmt: skip
def test_a_size(given: object, size: int) -> None:
    assert parse_size(given) == size


@pytest.mark.parametrize("given", ["", "two", "3 fortnights", "-1 s", None, True, [], "1 2 s", "10 KiB"])
def test_what_is_no_duration_is_told_with_the_units(given: object) -> None:
    with pytest.raises(
        ValueError, match='expected a time such as "30 s" or "5 min", with one of the units us, ms, s, min, h'
    ):
        parse_duration(given)


@pytest.mark.parametrize("given", ["", "10", "3 s", "KiB", None, False, {}])
def test_what_is_no_size_is_told_with_the_units(given: object) -> None:
    with pytest.raises(ValueError, match='expected a size such as "8 MiB"'):
        parse_size(given)


@pytest.mark.parametrize(("given", "bounds", "text"), [
    (3, (3, 3), "3"), ("3", (3, 3), "3"), ("1..3", (1, 3), "1..3"), ("1..", (1, None), "1.."), (" 1 .. 3 ", (1, 3), "1..3"),
])  # fmt: skip
def test_bounds_and_their_text(given: object, bounds: tuple[int, int | None], text: str) -> None:
    assert parse_bounds(given) == bounds and bounds_text(*bounds) == text


@pytest.mark.parametrize("given", ["3..1", "..3", "a..b", "-1", -1, True, None, 1.5, "1...3"])
def test_what_is_no_bounds(given: object) -> None:
    assert parse_bounds(given) is None


def test_the_same_units_are_taken_everywhere(place: Place) -> None:
    assert parse_limit("< 2 h", TIME_UNITS).value == 7200 and parse_limit("< 10 kib", SIZE_UNITS).value == 10_240
    place.write(
        "t.matrix.toml",
        """
        [program]
        launch = "echo"
        timeout = "2 min"
        output-cap = "10 kib"
        [[matrix]]
        name = "m"
        line = "hi"
        expect = { stdout = "hi", duration = "< 2 h", memory = "< 4 gib" }
        """,
    )
    assert place.call("run", "--budget", "2 h").status == 0
    assert place.call("run", "--budget", "2 parsecs").status == 2
    place.write("t.matrix.toml", '[program]\nlaunch = "echo"\ntimeout = "soon"\n[[matrix]]\nname = "m"\nline = "hi"\n')
    assert 't.matrix.toml:3:11: program.timeout: expected a time such as "30 s"' in place.call("lint").out
