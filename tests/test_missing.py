"""A result that is not there is no good result: every reader of a journal says what is missing."""

from __future__ import annotations

import json
import xml.etree.ElementTree as ET

import pytest

from tests.conftest import Place

SPEC = """
    [program]
    launch = "true"
    [[matrix]]
    name = "m"
    line = "{n}"
    axes.n = [1, 2, 3, 4]
    expect.exit = 0
    """
JOURNAL = ".keen-matrix/last.jsonl"
SAYS = "2 cases of t.matrix.toml have no result: the run was cut off"


@pytest.fixture
def cut(place: Place) -> Place:
    """A run that was killed after two of its four cases."""
    place.write("t.matrix.toml", SPEC)
    assert place.call("run", "--journal", "whole.jsonl").status == 0
    lines = (place.directory / "whole.jsonl").read_text().splitlines(keepends=True)
    place.write(JOURNAL, "".join(lines[:3]))
    return place


@pytest.mark.parametrize("format", ["junit", "tap", "markdown", "csv", "json", "annotations", "html"])
def test_each_format_says_what_has_no_result(cut: Place, format: str) -> None:
    came = cut.call("report", "--format", format)
    assert came.status == 1 and SAYS in came.out.replace("\\", "") and SAYS in came.err


def test_a_ci_server_shows_red_for_what_has_no_result(cut: Place) -> None:
    root = ET.fromstring(cut.call("report", "--format", "junit").out)
    assert root.get("errors") == "1" and root.get("tests") == "3"
    assert cut.call("report", "--format", "tap").out.splitlines()[-1].startswith("Bail out! 2 cases")
    rows = json.loads(cut.call("report", "--format", "json").out)
    assert [each["verdict"] for each in rows] == ["passed", "passed", "no result"]
    came = cut.call("report")
    assert came.status == 1 and SAYS in came.out and SAYS not in came.err


def test_failed_runs_what_has_no_result(cut: Place) -> None:
    came = cut.call("run", "--failed")
    assert came.status == 0 and "2 cases: all passed" in came.out
    assert "everything passed last time" in cut.call("run", "--failed").out


def test_failed_takes_what_a_cut_off_run_never_came_to(place: Place) -> None:
    place.write("a.matrix.toml", SPEC)
    place.write("b.matrix.toml", SPEC)
    place.write("c.matrix.toml", SPEC)
    assert place.call("run", "a.matrix.toml", "b.matrix.toml").status == 0
    lines = (place.directory / JOURNAL).read_text().splitlines(keepends=True)
    place.write(JOURNAL, "".join(lines[:6]))  # all of the first, nothing of the second
    came = place.call("report", "--format", "tap")
    assert came.status == 1 and "b.matrix.toml have no result: the run ended before it reached this spec" in came.out
    came = place.call("run", "--failed")
    assert "4 cases: all passed" in came.out and "b.matrix.toml" in came.out and "a.matrix.toml" not in came.out
    assert "not in the last run, so not run now: c.matrix.toml" in place.call("run", "--failed").out


@pytest.mark.parametrize("file", ["empty.jsonl", "/dev/null"])
@pytest.mark.parametrize("command", [("report",), ("report", "--format", "junit"), ("compare", "whole.jsonl")])
def test_a_journal_without_a_line_is_none(cut: Place, command: tuple[str, ...], file: str) -> None:
    cut.write("empty.jsonl", "")
    came = cut.call(*command, file)
    assert came.status == 3 and ("is empty, so it is not a journal" if file == "empty.jsonl" else "it is not a regular file") in came.err


def test_compare_ends_badly_when_what_held_is_gone_skipped_or_known(cut: Place) -> None:
    came = cut.call("compare", "whole.jsonl")
    assert came.status == 1 and "2 cases that passed before have no result in the later run" in came.out
    for mark in ('skip.because = "no tide"\nexpect.exit = 0', 'known.because = "the tide"\nexpect.stdout = "no"'):
        cut.write("t.matrix.toml", SPEC.replace("expect.exit = 0", mark))
        cut.call("run", "--journal", "later.jsonl")
        came = cut.call("compare", "whole.jsonl", "later.jsonl", "--format", "json")
        assert came.status == 1 and json.loads(came.out)["counts"]["newly failing"] == 4, came


def test_a_run_that_launches_nothing_does_not_pass(place: Place) -> None:
    place.write("t.matrix.toml", SPEC + '\n    requires-programs = ["no-such-program"]')
    came = place.call("run")
    assert came.status == 3 and "4 cases: all skipped, so nothing was launched" in came.out


def test_the_summary_counts_specs_that_could_not_be_run(place: Place) -> None:
    place.write("good.matrix.toml", SPEC)
    place.write("bad.matrix.toml", SPEC.replace('"true"', '"no-such-program"'))
    came = place.call("run")
    assert came.status == 3 and "4 cases: passed; 1 spec could not be run" in came.out
    # it never ran, so there is nothing to go on with
    came = place.call("report", "--format", "junit")
    assert came.status == 1 and "--resume" not in came.out + came.err


def test_a_shard_without_cases_is_a_run_of_none(place: Place) -> None:
    place.write("t.matrix.toml", SPEC.replace("[1, 2, 3, 4]", "[1]"))
    parts = [place.call("run", "--shard", f"{number}/3", "--journal", f"p{number}.jsonl") for number in (1, 2, 3)]
    assert [each.status for each in parts] == [0, 0, 0]
    assert sum("has no cases" in each.out for each in parts) == 2
    came = place.call("report", "p1.jsonl", "p2.jsonl", "p3.jsonl")
    assert came.status == 0 and "1 passed" in came.out and not came.err
