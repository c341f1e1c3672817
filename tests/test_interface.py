"""Habits of command lines that users bring along: options before the command, help as a command, - for standard
streams, partners of options, exit statuses, colours by the environment."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest

from keen_matrix.cli import COMMANDS
from keen_matrix.wording.rules import RULE_IDS, rule_id
from tests.conftest import Place
from tests.test_wording import MESSAGES

SPEC = """
[program]
launch = "sh -c 'test $1 -lt 3' sh"
[[matrix]]
name = "numbers"
line = "{n}"
tags = ["slow"]
axes.n = [1, 2, 3, 4]
expect.exit = 0
[[matrix]]
name = "other"
line = "0"
expect.exit = 0
"""


@pytest.fixture(scope="module")
def ran(tmp_path_factory: pytest.TempPathFactory) -> Place:
    place = Place(tmp_path_factory.mktemp("interface"))
    place.write("t.matrix.toml", SPEC)
    assert place.call("run").status == 1
    return place


def test_options_may_come_before_the_command(ran: Place) -> None:
    for words in (["-q", "run"], ["--color", "never", "run", "-q"], ["--no-color", "-q", "run", "-j", "1"]):
        came = ran.call(*words)
        assert came.status == 1 and came.out.startswith("5 cases: 3 passed, 2 failed. ") and came.out.count("\n") == 1, came


@pytest.mark.parametrize("words", [["help"], ["--help"], ["-h"]])
def test_help_of_everything(ran: Place, words: list[str]) -> None:
    came = ran.call(*words)
    assert came.status == 0 and all(f"\n    {name} " in came.out for name in COMMANDS)


@pytest.mark.parametrize("words", [["help", "lint"], ["lint", "--help"], ["lint", "-h"]])
def test_help_of_a_command(ran: Place, words: list[str]) -> None:
    assert ran.call(*words).out.startswith("usage: keen-matrix lint ")


def test_the_version(ran: Place) -> None:
    assert ran.call("-V").out == ran.call("--version").out != ""


@pytest.mark.parametrize(("words", "first"), [
    ("run --bogus", "keen-matrix run: unknown option --bogus"),
    ("run --fialed", "keen-matrix run: unknown option --fialed; did you mean --failed?"),
    ("run --order slow", "keen-matrix run: --order: found 'slow'; expected failed, new or quick"),
    ("rnu", "keen-matrix: there is no command 'rnu'; did you mean run?"),
    ("help rnu", "keen-matrix: there is no command 'rnu'; did you mean run?"),
    ("report html", "keen-matrix report: a report is written with keen-matrix report --format html -o report.html"),
    ("report --html x.html", "keen-matrix report: a report is written with keen-matrix report --format html -o x.html"),
])  # fmt: skip
def test_a_wrong_word_answers_in_two_lines(ran: Place, words: str, first: str) -> None:
    came = ran.call(*words.split())
    assert (came.status, came.out) == (2, "") and came.err.splitlines()[0] == first
    assert [line.startswith("see keen-matrix") for line in came.err.splitlines()[1:]] == [True], came.err


@pytest.mark.parametrize(("words", "text"), [
    ("--cluster-shared", "--cluster-shared goes with --cluster only"), ("--notify x", "--notify goes with --watch only"),
    ("--cold --warm-check 5", "--warm-check does not go with --cold"), ("--budget 5s --order quick", "does not go with --order quick"),
    ("-q --all", "does not go together with"), ("--resume --changed", "--changed does not go with --resume"),
])  # fmt: skip
def test_an_option_without_its_partner_is_an_error(ran: Place, words: str, text: str) -> None:
    came = ran.call("run", *words.split())
    assert (came.status, came.out) == (2, "") and text in came.err


def test_a_line_for_each_case(ran: Place) -> None:
    out = ran.call("run", "--verbose", "--order", "failed", "-j", "1").out
    lines = [line.split() for line in out.splitlines() if line.startswith(("  = ", "  ≠ "))]
    assert [(line[0], *line[2:3]) for line in lines if len(line[1]) == 6] == [("≠", "3"), ("≠", "4"), ("=", "1"), ("=", "2"), ("=", "0")]


def test_tags_choose_and_leave_out(ran: Place) -> None:
    assert "4 cases: " in ran.call("run", "-q", "--tag", "slow").out
    assert "1 case: " in ran.call("run", "-q", "--not-tag", "slow").out
    assert "no matrix has the tag \"sow\"" in ran.call("run", "--not-tag", "sow").err
    ran.call("run")


def test_a_spec_from_standard_input(ran: Place) -> None:
    assert "1 spec: no errors" in ran.call("lint", "-", stdin=SPEC).out
    assert ran.call("unfold", "-", "--only", "other", "--format", "shell", stdin=SPEC).out.count("sh -c") == 1
    came = ran.call("run", "-", "-q", "--journal", "stdin.jsonl", stdin=SPEC)
    assert came.status == 1 and came.out.startswith("5 cases: 3 passed, 2 failed"), came
    wrong = ran.call("lint", "-", stdin=SPEC.replace("axes.n", "axis.n"))
    assert wrong.status == 1 and "-:8:1: unknown key" in wrong.out


def test_a_report_to_standard_output_has_it_to_itself(ran: Place) -> None:
    came = ran.call("run", "--report", "json=-")
    assert len(json.loads(came.out)) == 5 and "5 cases: 3 passed, 2 failed" in came.err


def test_lint_ends_with_1_for_errors_and_2_for_wrong_usage(ran: Place) -> None:
    ran.write("wrong.toml", SPEC.replace("expect.exit", "expect.exot"))
    ran.write("warned.toml", SPEC.replace("[1, 2, 3, 4]", "[1]"))
    for words, status in ((["wrong.toml"], 1), (["warned.toml"], 0), (["warned.toml", "--strict"], 1), (["gone.toml"], 2)):
        assert ran.call("lint", *words).status == status, words
    assert ran.call("lint", "-q", "wrong.toml").out.count("\n") == 1


def test_nothing_to_do_is_no_failure(place: Place) -> None:
    place.write("t.matrix.toml", SPEC.replace("[1, 2, 3, 4]", "[1, 2]"))
    assert place.call("run").status == 0
    for words in (["narrow"], ["fill"], ["run", "--failed"], ["suspects"]):
        came = place.call(*words)
        assert came.status == 0 and came.err == "", (words, came)


@pytest.mark.parametrize(("environment", "is_coloured"), [
    ({}, False), ({"FORCE_COLOR": "1"}, True), ({"CLICOLOR_FORCE": "1"}, True), ({"FORCE_COLOR": "0"}, False),
    ({"FORCE_COLOR": "1", "NO_COLOR": "1"}, False),
])  # fmt: skip
def test_the_environment_chooses_colours(ran: Place, environment: dict[str, str], is_coloured: bool) -> None:
    env = {"NO_COLOR": "", "FORCE_COLOR": "", "CLICOLOR_FORCE": "", **environment}
    assert ("\x1b[" in ran.call("report", env=env).out) is is_coloured
    assert "\x1b[" not in ran.call("report", "--no-color", env=env).out


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_the_completion_script(ran: Place, shell: str, tmp_path: Path) -> None:
    script = ran.call("completion", shell).out
    assert "keen-matrix" in script
    if shell == "bash":
        (tmp_path / "script").write_text(script)
        assert subprocess.run(["bash", "-n", str(tmp_path / "script")], check=False).returncode == 0
    assert ran.call("completion", "tcl").status == 2


def test_every_problem_of_a_spec_has_an_id_of_ours() -> None:
    of_specs = [text for module, text in MESSAGES["errors"]() if module.startswith(("core/spec/", "core/notation/", "core/vectors/"))]
    found = {rule_id(text) for text in of_specs}
    assert len(of_specs) > 80 and found <= set(RULE_IDS) and len(found) > 10
    assert rule_id('unknown key "lime" in [matrix[1]]') == "unknown-key" and rule_id("300 is not an exit code") == "wrong-value"
