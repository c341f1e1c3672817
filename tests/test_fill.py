"""What is left open is unchecked until it is filled in with what came."""

from __future__ import annotations

import pytest

from tests.conftest import Place

FARE = """\
    case $1 in
      crash) kill -SEGV $$ ;;
      vary) date +%N ;;
      raw) printf '\\377\\n' ;;
      none) exit 0 ;;
      nine) exit 9 ;;
      *) printf 'from %s\\nfare %5.2f crowns\\n' "$1" "${#1}" ;;
    esac
    """


@pytest.fixture
def office(place: Place) -> Place:
    place.write("fare.sh", FARE)
    return place


def spec(office: Place, text: str) -> str:
    path = office.write("fare.matrix.toml", '[program]\nlaunch = "sh {here}/fare.sh"\n[[matrix]]\nname = "fares"\n' + text)
    return path.read_text()


def after(office: Place) -> str:
    """Return what stands in the spec behind the head that they all have."""
    return (office.directory / "fare.matrix.toml").read_text().split('name = "fares"\n', 1)[1]


OPEN = {
    "a literal of each kind": (
        'line = "Holm"\nexpect.exit = "<fill>" # code\nexpect.stderr = "<fill>"\nexpect.stdout = { is = "<fill>" }\n',
        'line = "Holm"\nexpect.exit = 0 # code\nexpect.stderr = ""\nexpect.stdout = { is = """\nfrom Holm\nfare  4.00 crowns\n""" }\n',
    ),
    "cells of a row, and a row without its last ones": (
        'line = "{a}"\ncolumns = ["a", "fare", "exit"]\nrows = [["Holm", "<fill>", 0], ["Ry"], # short\n  ["None", 4, "<fill>"]]\n'
        'expect = { exit = "{exit}", stdout.lines = ["from {a}", "fare {fare:5.2f} crowns"] }\n',
        'line = "{a}"\ncolumns = ["a", "fare", "exit"]\nrows = [["Holm", 4.00, 0], ["Ry", 2.00, 0], # short\n  ["None", 4, 0]]\n'
        'expect = { exit = "{exit}", stdout.lines = ["from {a}", "fare {fare:5.2f} crowns"] }\n',
    ),
    "an empty cell that is not met, and not one that is": (
        'line = "{a}"\ncolumns = ["a", "out"]\nrows = [["none", ""], ["Ry", ""]]\nexpect.stdout = "{out}"\n',
        'line = "{a}"\ncolumns = ["a", "out"]\nrows = [["none", ""], ["Ry", "from Ry\\nfare  2.00 crowns"]]\nexpect.stdout = "{out}"\n',
    ),
    "a part of a text": (
        'line = "{a}"\ncolumns = ["a", "part"]\nrows = [["Skerry", "<fill>"]]\nexpect.stdout.contains = "fare  {part} crowns"\n',
        'line = "{a}"\ncolumns = ["a", "part"]\nrows = [["Skerry", "6.00"]]\nexpect.stdout.contains = "fare  {part} crowns"\n',
    ),
    "a step": (
        'steps = [{ line = "Ry", expect.exit = "<fill>" }, { line = "nine", expect.exit = "<fill>" }]\n',
        'steps = [{ line = "Ry", expect.exit = 0 }, { line = "nine", expect.exit = 9 }]\n',
    ),
    "one literal for all": (
        'line = "{a}"\naxes.a = ["Holm", "Rysk"]\nexpect.exit = "<fill>"\n',
        'line = "{a}"\naxes.a = ["Holm", "Rysk"]\nexpect.exit = 0\n',
    ),
}


@pytest.mark.parametrize("name", OPEN)
def test_what_is_open_is_unchecked_and_then_filled_in(office: Place, name: str) -> None:
    before, expected = OPEN[name]
    text = spec(office, before)
    came = office.call("run")
    assert came.status == 1
    if "empty" not in name:
        assert "still <fill>: " in came.out
        assert "unchecked" in came.out
    shown = office.call("fill")
    assert (shown.status, (office.directory / "fare.matrix.toml").read_text()) == (1, text), "shown first, and not written"
    assert "--write" in shown.out
    assert office.call("fill", "--write").status == 0
    assert after(office) == expected
    assert office.call("run").status == 0
    assert office.call("fill").out.count("nothing to fill: no expectation says <fill>") == ("empty" not in name)


@pytest.mark.parametrize(("before", "expected"), [
    ("island;fare\nHolm;<fill>\nRy;2.00\n", "island;fare\nHolm;4.00\nRy;2.00\n"),
    ('island,note,fare\r\n"Holm, a",x,\r\nRy,"a ""b""",2.00\r\n', 'island,note,fare\r\n"Holm, a",x,7.00\r\nRy,"a ""b""",2.00\r\n'),
    ("fare\tisland\n<fill>\tHolm", "fare\tisland\n4.00\tHolm"),
])
def test_a_cell_of_a_table(office: Place, before: str, expected: str) -> None:
    (office.directory / "fares.csv").write_text(before, newline="")
    spec(office, 'line = "{island}"\nrows = "fares.csv"\nexpect.stdout.lines = ["from {island}", "fare  {fare} crowns"]\n')
    assert office.call("fill", "--write").status == 0
    assert (office.directory / "fares.csv").read_bytes().decode() == expected
    assert office.call("run").status == 0


REPLACED = {
    "an exit": ("expect.exit = 3", "expect.exit = 0"),
    "a text": ('expect.stdout = """\nfrom nowhere\nx\n"""', 'expect.stdout = """\nfrom Holm\nfare  4.00 crowns\n"""'),
    "lines": ('expect.stdout.lines = ["a"]', 'expect.stdout.lines = ["from Holm", "fare  4.00 crowns"]'),
    "a number of lines": ("expect.stdout.number-of-lines = 7", "expect.stdout.number-of-lines = 2"),
    "whether it is empty": ("expect.stdout.empty = true", "expect.stdout.empty = false"),
}


@pytest.mark.parametrize("name", REPLACED)
def test_the_literal_of_a_case_is_replaced_by_what_came(office: Place, name: str) -> None:
    before, expected = REPLACED[name]
    spec(office, f'line = "Holm"  # as agreed\n{before}\n')
    assert office.call("run").status == 1
    id = office.cases()[0]["id"]
    assert office.call("fill", id[:6], "--write").status == 0
    assert after(office) == f'line = "Holm"  # as agreed\n{expected}\n'


def test_a_file_that_is_compared_with(office: Place) -> None:
    office.write("expected/holm.txt", "another\n")
    spec(office, 'line = "Holm"\nexpect.stdout.file = "expected/holm.txt"\n')
    office.call("run")
    came = office.call("fill", office.cases()[0]["id"], "--write")
    assert came.status == 0
    assert (office.directory / "expected/holm.txt").read_text() == "from Holm\nfare  4.00 crowns\n"


def test_long_output_goes_to_a_file_of_its_own(office: Place) -> None:
    office.write("fare.sh", "seq 40\n")
    spec(office, 'line = ""\nexpect.stdout = "<fill>"\n')
    assert office.call("fill", "--write").status == 0
    assert after(office) == 'line = ""\nexpect.stdout = { file = "expected/fares.stdout.txt" }\n'
    assert office.call("run").status == 0


@pytest.mark.parametrize(("text", "reason"), [
    ('line = "crash"\nexpect.exit = "<fill>"\n', "it crashed, which is no result to expect (--broken records it all the same)"),
    ('line = "vary"\nexpect.stdout = "<fill>"\n', "two launches of it gave different results"),
    ('line = "raw"\nexpect.stdout = "<fill>"\n', "the output is not text"),
    ('line = "{a}"\naxes.a = ["Holm", "Ry"]\nexpect.stdout = "<fill>"\n', "covers 2 cases with different results"),
    ('line = "Ry"\ncolumns = ["f"]\nrows = [["<fill>"]]\nexpect.stdout = "{f * 2}"\n', "cannot be reversed"),
    ('line = "Ry"\ncolumns = ["f"]\nrows = [["<fill>"]]\nexpect.stdout = "to {f}"\n', "does not fit the rest of 'to {f}'"),
])
def test_what_cannot_be_filled_in_is_told_and_left(office: Place, text: str, reason: str) -> None:
    whole = spec(office, text)
    came = office.call("fill", "--write")
    assert came.status == 1
    assert "left as it is" in came.out
    assert reason in came.out
    assert "no cases filled in, of" in came.out
    assert (office.directory / "fare.matrix.toml").read_text() == whole


def test_a_crash_is_filled_in_when_that_is_asked_for(office: Place) -> None:
    spec(office, 'line = "crash"\nexpect.exit = "<fill>"\nexpect.stdout = "<fill>"\n')
    came = office.call("fill", "--broken", "--write")
    assert "ended by signal SEGV" in came.out
    assert 'expect.stdout = ""' in after(office)


def test_an_expectation_of_another_file_is_left_there(office: Place) -> None:
    office.write("shop.toml", '[expect]\nexit = "<fill>"\n')
    office.write("fare.matrix.toml", 'include = ["shop.toml"]\n[program]\nlaunch = "sh {here}/fare.sh"\n[[matrix]]\nname = "a"\nline = "x"\n')
    came = office.call("fill", "--write")
    assert (came.status, "shop.toml:2" in came.out) == (1, True)


def test_a_short_row_lacks_what_makes_its_vector(office: Place) -> None:
    spec(office, 'line = "{a} {b}"\ncolumns = ["a", "b", "exit"]\nrows = [["Holm"]]\nexpect.exit = "{exit}"\n')
    came = office.call("lint")
    assert (came.status, "this row has 1 values" in came.out + came.err) == (1, True)


def test_an_id_that_no_vector_has(office: Place) -> None:
    spec(office, 'line = "x"\nexpect.exit = 0\n')
    assert office.call("fill", "zzzzzz").status == 3
