"""Specs as items of the real pytest, and a run from a script."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

import keen_matrix
from keen_matrix.core.launch.workers.wire import ResultFrame
from keen_matrix.core.model.spec import Spec
from tests.conftest import zygote
from tests.started import PYTEST

SPEC = """\
[program]
launch = "sh {here}/fare.sh"
[[matrix]]
name = "fares"
line = "{island}"
columns = ["island", "known", "exit"]
rows = [["Holm", "", 0], ["Skerry", "", 1], ["Ry", "as agreed", 1], ["Reef", "", 0]]
expect.exit = "{exit}"
[[matrix]]
name = "elsewhere"
line = "x"
tags = ["winter"]
skip = { because = "no ferry in winter" }
expect.exit = 0
"""
SCRIPT = 'echo "$1" >> "$(dirname "$0")/launched"; exit 0\n'


@pytest.fixture
def office(tmp_path: Path) -> Path:
    (tmp_path / "fare.matrix.toml").write_text(SPEC)
    (tmp_path / "fare.sh").write_text(SCRIPT)
    (tmp_path / "pytest.ini").write_text("[pytest]\nkeen_matrix = true\n")
    (tmp_path / "test_beside.py").write_text("def test_beside(): pass\n")
    return tmp_path


def call(office: Path, *words: str, installed: bool = False) -> tuple[int, str]:
    """Call pytest with the plugins of this test alone, as a fork; or anew, with all that are `installed`."""
    cache = "no:cacheprovider" if "--lf" not in words and "first" not in words else "cacheprovider"
    given = ["-p", cache, *[each for each in words if each != "first"]]
    if installed:
        words_of_all = [sys.executable, "-m", "pytest", *given]
        done = subprocess.run(words_of_all, cwd=office, capture_output=True, text=True, timeout=120, check=False)
        return done.returncode, done.stdout + done.stderr
    own = ["-p", "keen_matrix.pytest_plugin", *(["-p", "xdist"] if "-n" in words else [])]
    env = {**os.environ, "PYTEST_DISABLE_PLUGIN_AUTOLOAD": "1"}
    status, out, err = zygote().call(PYTEST, [*own, *given], str(office), env, b"", 120)
    return status, (out + err).decode()


def launched(office: Path) -> list[str]:
    log = office / "launched"
    words = sorted(log.read_text().split()) if log.exists() else []
    log.unlink(missing_ok=True)
    return words


def test_each_case_is_an_item_and_one_run_launches_them(office: Path) -> None:
    status, out = call(office, "-rA")
    assert status == 1
    assert "1 failed, 3 passed, 1 skipped, 1 xfailed" in out
    assert "no ferry in winter" in out
    assert "as agreed" in out
    assert "fare.matrix.toml::fares::" in out
    assert "expected  1" in " ".join(out.split()).replace("expected 1", "expected  1")
    assert "sh fare.sh Skerry" in out
    assert "Traceback" not in out
    assert launched(office) == ["Holm", "Reef", "Ry", "Skerry"], "each once"


def test_it_is_off_unless_asked_for_and_collecting_launches_nothing(office: Path) -> None:
    (office / "pytest.ini").write_text("[pytest]\n")
    assert call(office)[1].count("1 passed") == 1
    (office / "pytest.ini").write_text("[pytest]\nkeen_matrix = true\n")
    status, out = call(office, "--collect-only", "-q", installed=True)
    assert (status, out.count("fare.matrix.toml::")) == (0, 5)
    assert launched(office) == []


@pytest.mark.parametrize(("words", "expected"), [
    (["-k", "Holm"], ["Holm"]), (["-k", "fares and not Skerry"], ["Holm", "Reef", "Ry"]), (["-k", "winter"], []),
])
def test_what_is_selected_is_launched_once(office: Path, words: list[str], expected: list[str]) -> None:
    call(office, *words)
    assert launched(office) == expected


def test_xdist_comes_to_the_same_and_each_time_runs_anew(office: Path) -> None:
    for words in ((), ("-n", "2")):
        status, out = call(office, *words)
        assert (status, "1 failed, 3 passed, 1 skipped, 1 xfailed" in out) == (1, True), out
        assert launched(office) == ["Holm", "Reef", "Ry", "Skerry"]


def test_the_last_failures_and_the_first(office: Path) -> None:
    call(office, "first")
    launched(office)
    status, out = call(office, "--lf")
    assert (status, "1 failed" in out, launched(office)) == (1, True, ["Skerry"])
    status, out = call(office, "-x")
    assert (status, "stopping after 1 failures" in out) == (1, True)


def test_a_wrong_spec_is_an_error_of_collecting_and_a_missing_program_a_failure(office: Path) -> None:
    (office / "fare.matrix.toml").write_text(SPEC.replace("line =", "lime =", 1))
    status, out = call(office)
    assert status == 2
    assert "fare.matrix.toml:5:1" in out
    assert "Traceback" not in out
    (office / "fare.matrix.toml").write_text(SPEC.replace("sh {here}/fare.sh", "no-such-program"))
    status, out = call(office)
    assert (status, 'no program "no-such-program" was found in PATH' in out) == (1, True)


def test_a_script_hears_of_every_record(office: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(office)
    heard: list[tuple[str, str]] = []

    class Watch(keen_matrix.RunWatch):
        def came(self, spec: Spec, result: ResultFrame, offset: int) -> None:
            heard.append((result.record.argv[0], result.record.verdict))

    found = keen_matrix.run_specs("fare.matrix.toml", only=["fares"], watch=Watch(), journal="own.jsonl")
    assert sorted(heard) == [("Holm", "passed"), ("Reef", "passed"), ("Ry", "known"), ("Skerry", "failed")]
    assert found.counts == {"passed": 2, "failed": 1, "known": 1}
    lines = list(keen_matrix.read_journal("own.jsonl"))
    assert [line.verdict for line in lines if isinstance(line, keen_matrix.Record)].count("passed") == 2
