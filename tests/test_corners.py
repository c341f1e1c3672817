"""Corners that whole runs seldom reach, each tried by itself: judging, verdicts, covering, the end of a journal."""

from __future__ import annotations

import errno
import json
import os
from pathlib import Path
from typing import Any
from unittest.mock import patch

import pytest

from keen_matrix import Signature
from keen_matrix.core.covering.feasible import rules_of
from keen_matrix.core.covering.search import Demand, NoRows, cover, covering_rows
from keen_matrix.core.errors import RunFault
from keen_matrix.core.expect.aspects import OtherFilesAspect
from keen_matrix.core.expect.cascade import Cascade, worst_of
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.forms.base import Form
from keen_matrix.core.expect.forms.lines import LinesForm
from keen_matrix.core.expect.numbers import Tolerance
from keen_matrix.core.expressions import Template
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.record import FileChange, Finished, Header, Verdict
from keen_matrix.core.model.spec import Rule
from keen_matrix.core.results.journal import Journal
from keen_matrix.core.results.reading import read_journal
from tests.conftest import Place


@pytest.mark.parametrize(("synopsis", "words", "status", "culprits"), [
    ("[-a]", ["-a-"], "unspecified", []),  # to some readers the second dash ends the options
    ("[--size W H]", ["--size=1", "2"], "unspecified", None),  # a value joined, another as a word
    ("[-5] [FILE]", ["-5"], "accepted", []),  # declared, so no number
    ("[-n N] [FILE]", ["-n", "-5"], "unspecified", None),
])  # fmt: skip
def test_judging(synopsis: str, words: list[str], status: str, culprits: list[str] | None) -> None:
    judged = Signature.from_synopsis(synopsis).judge(words)
    assert judged.status == status
    assert culprits is None or [each.culprit for each in judged.refusals] == culprits


def test_a_declared_digit_is_an_option_and_binds_nothing_else() -> None:
    judged = Signature.from_synopsis("[-5] [FILE]").judge(["-5"])
    assert judged.bindings == {"-5": True}


@pytest.mark.parametrize(("verdicts", "worst"), [
    (["timed-out", "not-started"], "timed-out"), (["crashed", "timed-out"], "crashed"), (["not-started", "failed"], "not-started"),
    (["passed", "unchecked"], "passed"), (["passed", "flaky", "unchecked"], "flaky"), (["unchecked"], "unchecked"),
])  # fmt: skip
def test_the_worst_of_several_verdicts(verdicts: list[Verdict], worst: str) -> None:
    assert worst_of(verdicts) == worst_of(verdicts[::-1]) == worst


def judged(outcome: Outcome, *rules: Rule) -> list[tuple[str, bool]]:
    found = Cascade(rules).judge(outcome, CheckContext(), timeout=1, cap=100)
    return [(each.aspect, each.met) for each in found.aspects]


def test_a_crash_is_not_told_beside_a_prompt_that_did_not_come() -> None:
    crash = Outcome(signal=11, stderr=b"")
    assert ("crash", False) in judged(crash)
    assert judged(Outcome(signal=11, unasked=b"Sure?")) == [("dialogue", False)]


def test_files_that_other_rules_name_are_no_others() -> None:
    from keen_matrix.core.expect.aspects import FileAspect

    named = Rule(aspects={"files.log": FileAspect("log", ())}, when=None, origins={})
    others = Rule(aspects={"other-files": OtherFilesAspect((), False)}, when=None, origins={})
    outcome = Outcome(exit=0, files={"log": FileChange("created"), "tmp": FileChange("created")})
    found = Cascade([named, others]).judge(outcome, CheckContext(), timeout=1, cap=100)
    assert [each.mismatch.actual for each in found.aspects if each.mismatch and each.aspect == "other-files"] == ["tmp created"]


def found_by(form: Form, text: str) -> list[tuple[str, str]]:
    return [(each.expected, each.actual) for each in form.check(text.encode(), CheckContext())]


def test_lines_in_any_order_are_matched_within_the_tolerance() -> None:
    form = LinesForm((Template("a 1.0\nb 2.0"),), any_order=True, tolerance=Tolerance(absolute=0.1, relative=0.0))
    assert found_by(form, "b 2.05\na 1.0\n") == []
    assert found_by(form, "b 2.5\na 1.0\n") == [("b 2.0", "b 2.5")]


def test_what_is_impossible_is_not_counted_as_covered() -> None:
    rules = rules_of(lambda row: not (row[0] == 0 and row[1] == 0), [2, 2, 2])
    found = cover(Demand(levels=[2, 2, 2], strength=2, rules=rules))
    assert (found.tuples, found.impossible) == (11, 1)
    with pytest.raises(NoRows):
        covering_rows([2, 2, 2], 2, allowed=lambda row: not (row[0] == 0 and row[1] == 0), always=[{0: 0, 1: 0}])


SPEC = """
[program]
launch = "echo"
[[matrix]]
name = "m"
line = "{n}"
axes.n = [1, 2, 3]
expect.stdout = "{n}"
"""


def test_a_torn_last_line_is_left_out_and_a_torn_one_before_is_told(place: Place) -> None:
    place.write("t.matrix.toml", SPEC)
    assert place.call("run").status == 0
    path = place.directory / ".keen-matrix/last.jsonl"
    whole = path.read_bytes()
    path.write_bytes(whole + b'{"id":"abc')
    assert len(list(read_journal(str(path)))) == 5 and place.call("run", "--failed").status == 0
    path.write_bytes(whole + b'{"id":"abc\n')
    with pytest.raises(RunFault, match=r"last\.jsonl:6: this is not a line of a journal"):
        list(read_journal(str(path)))


def header(path: str) -> Header:
    return Header(journal=1, spec=path, started="2026-01-01")


def test_the_note_of_an_interruption_goes_when_the_run_goes_on(tmp_path: Path) -> None:
    path = tmp_path / "j.jsonl"
    with Journal(str(path), keep=True) as journal:
        journal.write_line(header("a"))
        journal.write_line(Finished(finished="now", counts={}, interrupted=True))
    with Journal(str(path), keep=True) as journal:
        journal.write_line(Finished(finished="later", counts={}))
    kinds = [json.loads(line) for line in path.read_text().splitlines()]
    assert [next(iter(each)) for each in kinds] == ["journal", "finished"] and "interrupted" not in kinds[1]


def test_a_line_that_could_not_be_written_whole_is_taken_back(tmp_path: Path) -> None:
    path = tmp_path / "j.jsonl"
    write = os.write

    def half(fd: int, data: Any) -> int:
        if len(data) > 60:
            return write(fd, bytes(data)[:20])
        raise OSError(errno.ENOSPC, "No space left on device")

    with Journal(str(path), keep=True) as journal:
        journal.write_line(header("a"))
        before = path.read_bytes()
        with patch.object(os, "write", half), pytest.raises(RunFault, match="the cases finished so far are in it, complete"):
            journal.write(b'{"id":"' + b"x" * 70 + b'"}\n')
        assert path.read_bytes() == before and journal.size == len(before)


def test_another_program_prepares_before_the_program_and_checks_behind_it(place: Place) -> None:
    place.write("p.sh", 'echo "hello $1" > out.txt')
    place.write("want.txt", "other\n")
    place.write("t.matrix.toml", """[program]
launch = "sh {here}/p.sh"
[expect]
exit = 0
[[matrix]]
name = "checks"
steps = [{ line = "Ada" }, { launch = "cmp out.txt {here}/want.txt" }, { line = "Bo" }]
[[matrix]]
name = "prepares"
steps = [{ launch = "cmp out.txt {here}/want.txt" }, { line = "Ada" }]
[[matrix]]
name = "made"
steps = [{ launch = ["sh", "-c", "printf '#!/bin/sh\\\\nexit 0\\\\n' > tool; chmod +x tool"] }, { launch = "./tool" }, { line = "Ada" }]
""")
    came = place.call("run")
    assert came.status == 1 and "differ: byte 1" in came.out
    assert {each["matrix"]: each["verdict"] for each in place.cases()} == {"checks": "failed", "prepares": "not-started", "made": "passed"}
    assert len(next(each for each in place.cases() if each["matrix"] == "checks")["steps"]) == 2


def test_home_may_be_taken_over_from_the_caller(place: Place) -> None:
    place.write("t.matrix.toml", """[program]
launch = ["sh", "-c", "echo $HOME $TMPDIR"]
env-from-caller = ["PATH", "HOME"]
[[matrix]]
name = "m"
line = ""
expect.stdout = { starts = "/home/ada ", lacks = "/home/ada /home" }
""")
    assert place.call("run", env={"HOME": "/home/ada"}).status == 0
