"""What a spec says of cases beside what they must do: notes, tags, known differences, skips, rows."""

from __future__ import annotations

import json
import xml.etree.ElementTree as ElementTree
from datetime import date, timedelta

import pytest

from tests.conftest import Place

FARE = """
    case "$1" in Skerry) echo 4.50 ;; Holm) echo 7.25 ;; Voe) echo "${2:-9}" ;; *) echo "unknown port: $1" >&2; exit 2 ;; esac
    """
HEAD = '[program]\nlaunch = "sh {here}/fare.sh"\n'


@pytest.fixture
def fare(place: Place) -> Place:
    place.write("fare.sh", FARE)
    return place


def verdicts(place: Place) -> dict[str, str]:
    return {" ".join(each["argv"]): each["verdict"] for each in place.cases()}


def spec(place: Place, rest: str) -> None:
    (place.directory / "f.matrix.toml").write_text(HEAD + rest)


KNOWN = """
[[matrix]]
name = "prices"
line = "{port}"
axes.port = ["Skerry", "Holm", "Nowhere"]
known = { because = "rounding of {port}", when = "port != 'Nowhere'"%s }
expect.stdout = "7.25\\n"
"""


def test_what_is_known_to_differ_fails_no_run_and_says_when_it_is_mended(fare: Place) -> None:
    spec(fare, KNOWN % "")
    came = fare.call("run")
    assert verdicts(fare) == {"Skerry": "known", "Holm": "passed", "Nowhere": "failed"}
    assert "1 case known: rounding of Skerry" in came.out
    assert "a case marked as known passes now; remove the mark (rounding of Holm)" in came.out
    assert came.status == 1
    spec(fare, KNOWN.replace(', "Nowhere"', "") % "")
    assert fare.call("run").status == 0
    # what is known is not run again as failed, and reports tell it with its reason
    assert "everything passed last time" in fare.call("run", "--failed").out
    suite = ElementTree.fromstring(fare.call("report", "--format", "junit").out)
    assert [each.get("message") for each in suite.iter("skipped")] == ["known: rounding of Skerry"]
    assert (suite.get("failures"), suite.get("skipped")) == ("0", "1")
    assert " - prices: Skerry # TODO rounding of Skerry" in fare.call("report", "--format", "tap").out
    rows = json.loads(fare.call("report", "--format", "json").out)
    assert {each["known"] for each in rows} == {"rounding of Skerry", "rounding of Holm"}


@pytest.mark.parametrize(("days", "status", "verdict"), [(0, 0, "known"), (-1, 1, "failed")])
def test_a_known_difference_counts_after_its_day(fare: Place, days: int, status: int, verdict: str) -> None:
    day = date.today() + timedelta(days=days)
    spec(fare, KNOWN.replace(', "Holm", "Nowhere"', "") % f", until = {day}")
    came = fare.call("run")
    assert (came.status, verdicts(fare)) == (status, {"Skerry": verdict})
    assert ("that day is past, so it counts" in came.out) == bool(days)


def test_what_is_known_by_ids_reaches_derived_vectors(fare: Place) -> None:
    fare.write("strict.sh", '[ $# = 1 ] || { echo "usage: strict PORT" >&2; exit 2; }; echo "$1"\n')
    rest = '[signature]\nsynopsis = "PORT"\nhelp = []\nderive = ["refusals"]\n[refusal]\nexit = 1\n'
    (fare.directory / "f.matrix.toml").write_text(HEAD.replace("fare.sh", "strict.sh") + rest)
    assert fare.call("run").status == 1
    ids = [each["id"][:6] for each in fare.cases() if each["verdict"] == "failed"]
    with (fare.directory / "f.matrix.toml").open("a") as file:
        file.write(f"[[known]]\nids = {json.dumps(ids)}\nbecause = 'its usage says 2'\n")
    came = fare.call("run")
    assert came.status == 0, came.out
    assert f"{len(ids)} case" in came.out and "known: its usage says 2" in came.out


def test_a_crash_that_is_known_is_known_and_what_cannot_be_launched_is_not(fare: Place) -> None:
    fare.write("fare.sh", 'kill -SEGV $$\n')
    spec(fare, '[[matrix]]\nname = "a"\nline = "x"\nknown = { because = "to be mended", verdict = "crashed" }\nexpect.exit = 0\n')
    assert fare.call("run").status == 0
    assert verdicts(fare) == {"x": "known"}
    text = (fare.directory / "f.matrix.toml").read_text().replace("sh {here}/fare.sh", "{here}/gone")
    (fare.directory / "f.matrix.toml").write_text(text)
    assert fare.call("run").status == 3


SKIPPED = """
[[matrix]]
name = "winter"
line = "{port}"
axes.port = ["Skerry", "Holm"]
skip = [{ because = "no ferry to {port} on {platform}", when = "port == 'Holm' and platform in ('linux', 'darwin')" }]
expect.exit = 0
[[matrix]]
name = "store"
line = "Voe"
requires-programs = ["sh", "no-such-program"]
expect.exit = 0
"""


def test_what_is_skipped_is_not_launched_and_told(fare: Place) -> None:
    fare.write("fare.sh", 'echo "$1" >> "$LOG"\n')
    spec(fare, f'env.LOG = "{fare.directory}/log"\n{SKIPPED}')
    came = fare.call("run")
    assert came.status == 0
    assert (fare.directory / "log").read_text() == "Skerry\n"
    assert "1 case skipped: no ferry to Holm on" in came.out
    assert "1 case skipped: no program no-such-program was found in PATH" in came.out
    assert "3 cases: 1 passed, 2 skipped" in came.out
    suite = ElementTree.fromstring(fare.call("report", "--format", "junit").out)
    assert suite.get("skipped") == "2"
    assert fare.call("report", "--format", "tap").out.count("# SKIP") == 2
    assert "| 1 |  | 1 |" in fare.call("report", "--format", "markdown").out


def test_notes_and_rows_are_told_where_a_case_does_not_hold(fare: Place) -> None:
    fare.write("tickets.csv", "\ufeffport;price;note\nSkerry;4.50;\n\nHolm;\"7.00\";\"as agreed; by word\"\nVoe;8;\n")
    rest = '[[matrix]]\nname = "prices"\nline = "{port}"\nrows = "tickets.csv"\nnote = "for {port}"\nexpect.stdout = "{price}\\n"\n'
    spec(fare, rest)
    out = fare.call("run").out
    assert "row         tickets.csv:4\n  note        as agreed; by word\n" in out
    assert "row         tickets.csv:5\n  note        for Voe\n" in out
    assert "tickets.csv:2" not in out
    for format in ("junit", "tap", "markdown", "annotations"):
        assert "tickets.csv:4" in fare.call("report", "--format", format).out, format
    row = next(each for each in json.loads(fare.call("report", "--format", "json").out) if each["call"] == "Holm")
    assert (row["row"], row["note"]) == ("tickets.csv:4", "as agreed; by word")
    assert "no warnings" in fare.call("lint").out


TAGGED = "".join(
    f'[[matrix]]\nname = "{name}"\nline = "{port}"\ntags = {tags}\nexpect.exit = 0\n'
    for name, port, tags in (("a", "Skerry", '["slow", "winter"]'), ("b", "Holm", '["slow"]'), ("c", "Voe", "[]"))
)


@pytest.mark.parametrize(("tags", "words"), [
    (["slow"], ["Skerry", "Holm"]), (["winter"], ["Skerry"]), (["no slow"], ["Voe"]), (["slow", "no winter"], ["Holm"]),
    (["no slow", "no winter"], ["Voe"]), (["winter", "slow"], ["Skerry", "Holm"]),
])  # fmt: skip
def test_tags_choose_matrices(fare: Place, tags: list[str], words: list[str]) -> None:
    spec(fare, TAGGED)
    options = [word for tag in tags for word in (("--not-tag", tag[3:]) if tag.startswith("no ") else ("--tag", tag))]
    assert fare.call("run", *options).status == 0
    assert set(verdicts(fare)) == set(words)
    shown = fare.call("unfold", "--format", "json", *options).out
    assert [json.loads(line)["argv"][0] for line in shown.splitlines()] == words


def test_a_tag_that_no_matrix_has_is_refused_with_the_nearest(fare: Place) -> None:
    spec(fare, TAGGED)
    for command in ("run", "unfold"):
        came = fare.call(command, "--tag", "wintr")
        assert came.status == 2
        assert 'no matrix has the tag "wintr"; did you mean "winter"?' in came.err


LEFT_OUT = """
[[matrix]]
name = "cells"
line = "{port} [-n {count}] (-a {one} | -b {two})"
rows = { file = "t.csv", empty = "left out" }
expect.exit = "0..125"
"""


def test_a_cell_that_is_left_out_leaves_out_its_part_of_the_line(fare: Place) -> None:
    fare.write("t.csv", "port,count,one,two\nSkerry,2,x,\nHolm,,,y\nVoe,3,p,q\n")
    spec(fare, LEFT_OUT)
    fare.call("run")
    assert sorted(verdicts(fare)) == ["Holm -b y", "Skerry -n 2 -a x", "Voe -n 3 -a p", "Voe -n 3 -b q"]
    assert "no errors" in fare.call("lint").out
    fare.write("t.csv", "port,count,one,two\nSkerry,2,,\n")
    came = fare.call("lint")
    assert came.status == 1
    assert "t.csv:2" in came.out and "needs a cell" in came.out


@pytest.mark.parametrize(("text", "keys", "told"), [
    ("a,b\n1,2\n3\n4,5,6\n", "", "t.csv:3: 1 fields; expected 2, as in the header (separated by a comma, as its header is)"),
    ('a;b\n"1\n2";3\n4\n', "", "t.csv:4: 1 fields; expected 2, as in the header (separated by a semicolon, as its header is)"),
    ("a;b\n1;2\n", ', separator = ","', ""),
    ("a\tb|c\n1\t2|3\n4\n", ', separator = "|"', "t.csv:3: 1 fields; expected 2, as in the header (separated by |, as `separator` says)"),
])  # fmt: skip
def test_a_wrong_line_of_a_table_is_one_error(fare: Place, text: str, keys: str, told: str) -> None:
    fare.write("t.csv", text)
    line = "{a} {b}" if told else "{words}"
    spec(fare, f'[[matrix]]\nname = "m"\nline = "{line}"\nrows = {{ file = "t.csv"{keys} }}\nexpect.exit = 0\n')
    out = fare.call("lint").out
    assert told in out
    if told:
        assert "1 error" in out


@pytest.mark.parametrize(("keys", "words"), [("", {"1;x", "2;y"}), (', separator = ";"', {"1", "2"})])
def test_an_axis_of_a_table_may_name_its_separator(fare: Place, keys: str, words: set[str]) -> None:
    fare.write("t.csv", "a;b,c,d\n1;x,2,3\n2;y,3,4\n" if not keys else "a;b,c,d\n1;x\n2;y\n")
    column = "a" if keys else "a;b"
    spec(fare, f'[[matrix]]\nname = "m"\nline = "{{a}}"\naxes.a = {{ table = "t.csv", column = "{column}"{keys} }}\nexpect.exit = 2\n')
    fare.call("run")
    assert set(verdicts(fare)) == words


@pytest.mark.parametrize(("text", "line", "told"), [
    ('[program]\nlaunch = "x"\n[[matrix]]\nname = "a"\nexpect = { exit = 0 }\nexpect.stdout = "x"\n', 5, 'or expect.KEY = … in a line each'),
    ('[program]\nlaunch = "x"\n[matrix]\n[program]\nwarm = true\n', 1, "[program] is here and again in line 4"),
    ('[signature]\nvalues = { A = { of = ["a"] } }\nvalues.A.open = true', 2, '"signature.values.A" is complete here, and line 3 adds to it'),
])  # fmt: skip
def test_a_table_written_in_two_ways_is_explained_at_the_first(fare: Place, text: str, line: int, told: str) -> None:
    fare.write("f.matrix.toml", text)
    out = fare.call("lint").out
    assert out.startswith(f"f.matrix.toml:{line}:") and told in out, out


TWICE = {
    'launch = "echo"\nlaunch = "cat"\n': '2:1: "launch" is here and also in line 1',
    '[program]\nlaunch = "echo"\n[[program]]\n': "3:1: line 1 gives program already: [program]",
    '[[matrix]]\nexpect.exit = 0\n[[matrix.expect]]\n': "3:1: line 2 gives matrix.expect already: expect.exit = 0",
    '[[matrix]]\nexpect = { exit = 0 }\n[[matrix.expect]]\n': "where there are several, [[matrix.expect]] and a key a line",
}


@pytest.mark.parametrize("text", TWICE)
def test_what_toml_has_given_twice_is_told_with_both_places(place: Place, text: str) -> None:
    place.write("t.matrix.toml", text)
    came = place.call("lint")
    assert came.status == 1 and TWICE[text] in came.out and "overwrite" not in came.out
