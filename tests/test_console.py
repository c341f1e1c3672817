"""Foreign text made safe, quoted for a shell and cut; differences of texts; the grid, by tables and laws."""

from __future__ import annotations

import re
import shutil
import subprocess

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from keen_matrix.core.errors import caret_lines, nearest
from keen_matrix.core.expect.differences import (
    CONTEXT,
    MOST_SHOWN,
    WINDOW,
    difference,
    first_difference,
    split_lines,
)
from keen_matrix.core.expect.exits import parse_exit, wording
from keen_matrix.core.expect.limits import parse_limit
from keen_matrix.core.model.quantities import SIZE_UNITS, TIME_UNITS
from keen_matrix.core.model.signals import signal_name, signal_number
from keen_matrix.core.results.axis_values import shown_value
from keen_matrix.core.width import cells
from keen_matrix.wording.safe import cut, escape, exact_line, pad, quoted, shortened, visible_line
from tests.conftest import Place

TEXTS = st.text(st.characters(exclude_categories=[]), max_size=40)


@pytest.mark.parametrize(
    ("text", "shown"),
    [("plain", "plain"), ("a\tb\n", r"a\tb\n"), ("\x1b[31m", r"\e[31m"), ("\0", r"\0"), ("\x7f", r"\x7f"), ("\x9b", r"\x9b"), ("é", "é"),
     ("\u202e", r"\u202e"), ("\u200b", r"\u200b"), ("\udc80", r"\x80"), ("\udcff", r"\xff"), ("\ud800", r"\ud800"), ("\U000e0041", r"\U000e0041"),
     ("日本", "日本"), ("\ufeffx", r"\ufeffx"), ("\r\n", r"\r\n")],
)  # fmt: skip
def test_what_has_no_shape_is_written_as_an_escape(text: str, shown: str) -> None:
    assert escape(text) == shown


@given(TEXTS)
def test_nothing_escaped_can_move_a_cursor_or_turn_a_line(text: str) -> None:
    shown = escape(text)
    assert not re.search(r"[\x00-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069\ud800-\udfff]", shown)
    assert escape(shown) == shown
    shown.encode()


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("", '""'),
        ("a", '"a"'),
        ("a ", '"a·"'),
        ('say "x"', r'"say \"x\""'),
        ("a\n", r'"a\n"'),
        ("  ", '"··"'),
        (" a", '" a"'),
    ],
)
def test_quoted(text: str, shown: str) -> None:
    assert quoted(text) == shown


def test_a_long_text_is_cut_in_the_middle_with_its_length() -> None:
    shown = quoted("a" * 5_000 + "b" * 5_000)
    assert shown.startswith('"aaa') and "bbb" in shown and shown.endswith("(10,000 characters)") and len(shown) < 250
    assert visible_line("ends in spaces  ") == "ends in spaces··"


@pytest.mark.parametrize(("text", "width"), [("", 0), ("abc", 3), ("日本", 4), ("e\u0301", 1), ("ａ", 2), ("é", 1)])
def test_cells(text: str, width: int) -> None:
    assert cells(text) == width and cells(pad(text, 10)) == 10


@given(TEXTS, st.integers(12, 60))
def test_a_cut_text_fits(text: str, width: int) -> None:
    shown = cut(text, width)
    assert cells(shown) <= max(width, 1)
    assert shown == text if cells(text) <= width else f"({len(text):,})" in shown
    short = shortened(text, width)
    assert cells(short) <= width and (short == text or (short[-1] == "…" and cells(short) >= width - 1 and text.startswith(short[:-1])))


WORDS = st.lists(
    st.text(st.characters(exclude_characters="\0", exclude_categories=["Cs"]), max_size=12), min_size=1, max_size=4
)


@pytest.mark.skipif(shutil.which("bash") is None, reason="bash is not installed")
@settings(max_examples=60)
@given(WORDS)
@example(["it's", '"', "$HOME", "`x`", "a\nb", "\x1b[0m", "\\", "*", "", "~", "-n", "!", "\u202eabc", "'\t'"])
def test_a_line_to_paste_gives_a_shell_the_same_words(words: list[str]) -> None:
    line = f"printf '%s\\0' {exact_line(words)}"
    done = subprocess.run(["bash", "-c", line], capture_output=True, check=True)
    assert done.stdout.decode().split("\0")[:-1] == words


LINES = st.lists(st.sampled_from(["one", "two", "three", "", " "]), max_size=12).map("\n".join)


@given(LINES, LINES)
def test_a_difference_holds_every_line_that_differs(expected: str, came: str) -> None:
    found = difference(expected, came, most=1_000)
    left, right = split_lines(expected), split_lines(came)
    assert (found.differing == 0) == (left == right)
    for line in found.lines:
        if line.kind in ("same", "expected"):
            assert left[line.number - 1] == line.text
        if line.kind == "found":
            assert right[line.number - 1] == line.text
    gone = [line.number for line in found.lines if line.kind == "expected"]
    new = [line.number for line in found.lines if line.kind == "found"]
    kept_left = [text for number, text in enumerate(left, 1) if number not in gone]
    kept_right = [text for number, text in enumerate(right, 1) if number not in new]
    assert kept_left == kept_right, "without what differs, both are the same"


def test_a_difference_has_a_little_of_what_surrounds_it_and_no_more_than_is_read() -> None:
    expected = "".join(f"{number}\n" for number in range(100))
    found = difference(expected, expected.replace("50\n", "fifty\n"))
    assert [line.text for line in found.lines] == ["47", "48", "49", "50", "fifty", "51", "52", "53"] and CONTEXT == 3
    assert (found.differing, found.of) == (1, 100)
    assert len(difference(expected, expected.replace("1", "x")).lines) == MOST_SHOWN


@pytest.mark.parametrize("size", [3_000, 200_000])
def test_large_texts_show_their_first_difference(size: int) -> None:
    expected = "".join(f"{number}\n" for number in range(size))
    found = difference(expected, expected.replace(f"\n{size // 2}\n", "\nother\n"))
    assert [line.text for line in found.lines if line.kind == "found"] == ["other"] and found.differing == 1


def test_a_line_of_a_megabyte_is_shown_round_its_first_difference() -> None:
    expected = "a" * 1_000_000
    found = difference(expected, expected[:700_000] + "b" + expected[700_001:])
    left, right = (line.text for line in found.lines)
    assert len(left) <= WINDOW + 2 and "b" in right and "b" not in left and left.startswith("…") and left.endswith("…")


@pytest.mark.parametrize(
    ("left", "right", "at"), [("", "", 0), ("a", "", 0), ("ab", "ac", 1), ("same", "same", 4), ("be", "begin", 2)]
)
def test_first_difference(left: str, right: str, at: int) -> None:
    assert first_difference(left, right) == at


@pytest.mark.parametrize(
    ("given_", "ranges", "words"),
    [(0, ((0, 0),), "0"), ([1, 2], ((1, 1), (2, 2)), "1 or 2"), ("1..125", ((1, 125),), "1..125"), ("nonzero", ((1, 255),), "nonzero"), (255, ((255, 255),), "255")],
)  # fmt: skip
def test_exit_codes_and_their_words(given_: object, ranges: tuple[tuple[int, int], ...], words: str) -> None:
    assert parse_exit(given_) == ranges and wording(ranges) == words


@pytest.mark.parametrize("given_", [-1, 256, "9..3", "some", [], [300], True, 1.5, None])
def test_what_is_no_exit_code_is_refused(given_: object) -> None:
    with pytest.raises(ValueError, match="expected"):
        parse_exit(given_)


@pytest.mark.parametrize(("given_", "number"), [("TERM", 15), ("SIGTERM", 15), (9, 9), ("KILL", 9), ("INT", 2)])
def test_signals_by_name_and_number(given_: object, number: int) -> None:
    assert signal_number(given_) == number and signal_number(signal_name(number)) == number


@pytest.mark.parametrize("given_", ["NONE", 0, 4_000, "", True])
def test_what_is_no_signal_is_refused(given_: object) -> None:
    with pytest.raises(ValueError):
        signal_number(given_)


@pytest.mark.parametrize(
    ("text", "units", "met", "missed"),
    [("< 2 s", TIME_UNITS, 1.99, 2.0), ("> 100 ms", TIME_UNITS, 0.2, 0.1), ("<= 1 min", TIME_UNITS, 60, 60.1), (">= 5 us", TIME_UNITS, 5e-6, 4e-6),
     ("< 64 MiB", SIZE_UNITS, 64 * 2**20 - 1, 64 * 2**20), ("> 1 KiB", SIZE_UNITS, 1025, 1024)],
)  # fmt: skip
def test_limits(text: str, units: dict[str, float], met: float, missed: float) -> None:
    limit = parse_limit(text, units)
    assert limit.met_by(met) and not limit.met_by(missed) and limit.text == text


@pytest.mark.parametrize("text", ["2 s", "< s", "< 2", "< 2 MiB", "= 2 s", "", "< -1 s", "< nan s", "<< 2 s"])
def test_what_is_no_limit_is_refused(text: str) -> None:
    with pytest.raises(ValueError):
        parse_limit(text, TIME_UNITS)


@pytest.mark.parametrize(
    ("word", "near"), [("exitt", "exit"), ("stdot", "stdout"), ("EXIT", "exit"), ("zzzz", None), ("", None)]
)
def test_the_nearest_right_word(word: str, near: str | None) -> None:
    assert nearest(word, ["exit", "stdout", "stderr"]) == near


def test_the_caret_stands_under_its_place() -> None:
    line, caret = caret_lines("a 日本 {b", caret_at := 5)
    assert line == "a 日本 {b" and caret.index("^") == cells(line[:caret_at])


@pytest.mark.parametrize(
    ("value", "shown"),
    [
        (None, "—"),
        (True, "given"),
        ("", "''"),
        (1.5, "1.5"),
        (1.0, "1.0"),
        (["a", 1], "a 1"),
        ([], "(none)"),
        ("—", "—"),
    ],
)
def test_values_of_axes_as_grids_show_them(value: object, shown: str) -> None:
    assert shown_value(value) == shown


def test_a_journal_that_is_given_as_a_spec_is_told_of(place: Place) -> None:
    place.write("t.matrix.toml", '[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "a"\nexpect.exit = 0\n')
    assert place.call("run", "--journal", "r.jsonl").status == 0
    before = (place.directory / "r.jsonl").read_bytes()
    for command in ("doubt", "suspects", "lint", "run"):
        came = place.call(command, "r.jsonl")
        assert came.status == 2 and "r.jsonl has results in it and is not a spec" in came.err, command
    assert (place.directory / "r.jsonl").read_bytes() == before


def test_a_dash_is_standard_output_and_no_file(place: Place) -> None:
    place.write("a.matrix.toml", '[program]\nlaunch = "true"\n[[matrix]]\nname = "one"\nline = "a"\nexpect.exit = 0\n')
    place.write("p.sh", "echo 'usage: p [-q] PORT'\necho '  -q  say less'\n")
    assert "[-q] PORT" in place.call("draft", "-o", "-", "--", "sh", "p.sh").out
    reported = place.call("run", "--report", "csv=-")
    assert reported.out.startswith("spec,id,matrix") and "1 case: all passed" in reported.err
    assert place.call("report", "--format", "csv", "-o", "-").out == place.call("report", "--format", "csv").out != ""
    assert not (place.directory / "-").exists()
