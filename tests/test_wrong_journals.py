"""Journals that somebody has changed: every reader says where and what, and none falls over."""

from __future__ import annotations

import copy
import json
import os
import random
from contextlib import redirect_stderr, redirect_stdout
from io import StringIO
from pathlib import Path
from typing import Any

import pytest

from keen_matrix import cli
from keen_matrix.core.errors import RunFault
from keen_matrix.core.model.record import Finished
from keen_matrix.core.results import journal as journals
from keen_matrix.core.results.journal import Journal
from keen_matrix.core.results.reading import cases_of, read_journal
from tests.conftest import Place

SPEC = """
[program]
launch = "sh {here}/p.sh"
[[matrix]]
name = "lines"
line = "{port} {day}"
axes.port = ["Skerry", "Holm", "Voe"]
axes.day = [1, 2, 7]
expect.stdout = "{port} {day}"
expect.exit = 0
"""
READERS = [
    ["report"], ["report", "--format", "junit"], ["report", "--format", "html"], ["report", "--format", "csv"], ["report", "--format", "tap"],
    ["report", "--format", "markdown"], ["report", "--format", "json"], ["report", "--format", "annotations"], ["compare", "other.jsonl"],
]  # fmt: skip
BY_SPEC = [["suspects"], ["doubt"], ["run", "--failed"], ["run", "--resume"]]
GONE = object()
VALUES: list[Any] = [None, 3, -1, "x", "", [], {}, True, 1e300, [[]], {"a": 1}, ["x"], GONE]


@pytest.fixture(scope="module")
def journal(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, list[dict[str, Any]]]:
    place = Place(tmp_path_factory.mktemp("journals"))
    place.write("t.matrix.toml", SPEC)
    place.write("p.sh", 'case $1 in Voe) echo no; exit 3;; esac; echo "$1 $2"; test $2 = 7 && kill -SEGV $$; exit 0')
    assert place.call("run").status == 1
    lines = place.journal()
    write(place.directory / "other.jsonl", lines)
    return place.directory, lines


def write(path: Path, lines: list[dict[str, Any]]) -> None:
    path.write_text("".join(json.dumps(each) + "\n" for each in lines))


def changed(lines: list[dict[str, Any]], chance: random.Random) -> list[dict[str, Any]]:
    """Return the lines with one value, of a header, a case or an aspect, made another or taken away."""
    lines = copy.deepcopy(lines)
    target = lines[chance.randrange(len(lines) - 1)]
    if target.get("aspects") and chance.random() < 0.4:
        target = chance.choice(target["aspects"])
    key, value = chance.choice(list(target)), chance.choice(VALUES)
    if value is GONE:
        del target[key]
    else:
        target[key] = value
    return lines


@pytest.mark.parametrize("seed", range(4))
def test_a_changed_journal_makes_no_reader_fall_over(
    journal: tuple[Path, list[dict[str, Any]]], monkeypatch: pytest.MonkeyPatch, seed: int
) -> None:
    directory, lines = journal
    monkeypatch.chdir(directory)
    chance = random.Random(seed)
    refused = 0
    for number in range(40):
        write(directory / f"changed{seed}.jsonl", changed(lines, chance))
        words = READERS[number % len(READERS)]
        output = ["-o", f"out{seed}"] if "--format" in words else []
        with redirect_stderr(StringIO()) as told, redirect_stdout(StringIO()):
            status = cli.main(
                [words[0], f"changed{seed}.jsonl", *words[1:], *output]
            )  # an exception would come through
        error = told.getvalue()
        assert status in (0, 1, 3) and (status != 3 or f"changed{seed}.jsonl:" in error or "is not a journal" in error)
        refused += status == 3
    assert 5 < refused < 40


WRONG = [
    (1, "started", 3, ':1: this is not a line of a journal: "started" is a whole number; expected a text'),
    (1, "axes", {"lines": []}, '"axes, one of its values" is an array; expected an object'),
    (1, "launch", [3], '"launch[0]" is a whole number; expected a text'),
    (2, "verdict", "good", "\"verdict\" is 'good', which is not one of its values"),
    (2, "argv", [1], '"argv[0]" is a whole number; expected a text'),
    (2, "exit", "0", '"exit" is a text; expected a whole number or null'),
    (2, "signal", "TREM", "'TREM' is not a signal"),
    (2, "aspects", [{"aspect": "exit"}], '"aspects[0].met" is missing'),
    (
        2,
        "aspects",
        [{"aspect": "exit", "met": False, "form": "is"}],
        'the aspect "exit" is not met; expected its "form", "expected" and "actual"',
    ),
    (2, "files", {"x": 3}, '"files, one of its values" is a whole number; expected an object'),
    (2, "seconds", GONE, ':2: this is not a line of a journal: "seconds" is missing'),
]


@pytest.mark.parametrize(
    ("line", "key", "value", "message"), WRONG, ids=[f"{each[1]}-{n}" for n, each in enumerate(WRONG)]
)
def test_what_is_wrong_is_told_with_its_line(
    journal: tuple[Path, list[dict[str, Any]]], tmp_path: Path, line: int, key: str, value: Any, message: str
) -> None:
    lines = copy.deepcopy(journal[1])
    if value is GONE:
        del lines[line - 1][key]
    else:
        lines[line - 1][key] = value
    write(tmp_path / "j.jsonl", lines)
    for read in (lambda path: list(read_journal(path)), lambda path: list(cases_of([path]))):
        with pytest.raises(RunFault) as caught:
            read(str(tmp_path / "j.jsonl"))
        assert message in str(caught.value)


@pytest.mark.parametrize("words", BY_SPEC, ids=[each[-1] for each in BY_SPEC])
def test_commands_that_go_by_the_last_run_say_it_too(
    journal: tuple[Path, list[dict[str, Any]]], place: Place, words: list[str]
) -> None:
    for name in ("t.matrix.toml", "p.sh"):
        place.write(name, (journal[0] / name).read_text())
    assert place.call("run").status == 1
    lines = place.journal()
    lines[2]["seconds"] = "long"
    write(place.directory / ".keen-matrix" / "last.jsonl", lines)
    came = place.call(*words)
    assert (
        came.status == 3
        and 'last.jsonl:3: this is not a line of a journal: "seconds" is a text; expected a number' in came.err
    )
    assert "Traceback" not in came.err


def test_a_journal_that_was_sound_is_looked_at_again_once_it_has_changed(tmp_path: Path) -> None:
    path = tmp_path / "j.jsonl"
    header = {"journal": 1, "spec": "s", "started": "2026-01-01"}
    record = {
        "id": "a", "matrix": "m", "family": None, "kind": None, "argv": [], "values": {}, "judgement": None, "verdict": "passed",
        "exit": 0, "signal": None, "seconds": 0.1, "user_seconds": 0, "system_seconds": 0, "peak_bytes": None, "files": {},
        "aspects": [],
    }  # fmt: skip
    lines = [json.dumps(each) for each in (header, record, {**record, "id": "b"})]
    path.write_text("\n".join(lines) + "\n")
    for _ in range(2):
        assert [fields.id for _, fields in cases_of([str(path)])] == ["a", "b"]
    path.write_text("\n".join([*lines, json.dumps({**record, "argv": 3})]) + "\n")
    with pytest.raises(RunFault, match=r'j\.jsonl:4: .*"argv" is a whole number; expected an array'):
        list(cases_of([str(path)]))
    wrong = json.dumps({**record, "aspects": [{"aspect": "exit", "met": False}]})
    path.write_text("\n".join([*lines, wrong]) + "\n")
    for _ in range(2):  # also when a line of this shape has been seen before
        with pytest.raises(RunFault, match='expected its "form"'):
            list(cases_of([str(path)]))


def test_a_journal_is_read_to_its_end_in_blocks_of_any_size(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "j.jsonl"
    with Journal(str(path), keep=True) as journal:
        for number in range(40):
            journal.write_line(Finished(finished="é" * number, counts={}))
        for size in (1, 7, 64, 1 << 20):
            monkeypatch.setattr(journals, "READ_BYTES", size)
            read = list(journal.lines())
            assert [said.finished for _, _, said in read if isinstance(said, Finished)] == [
                "é" * number for number in range(40)
            ]
            assert b"".join(line for _, line, _ in read) == path.read_bytes()
            assert all(path.read_bytes()[offset : offset + len(line)] == line for offset, line, _ in read)


def test_half_surrogates_and_deep_nesting_are_no_traceback(place: Place) -> None:
    place.write("t.matrix.toml", SPEC)
    place.write("p.sh", 'echo "$1 $2"')
    place.call("run")
    lines = place.journal()
    lines[1]["argv"] = ["\ud800"]
    lines[1]["stdout"] = "\udcff"
    (place.directory / "odd.jsonl").write_text("".join(json.dumps(each, separators=(",", ":")) + "\n" for each in lines))
    nested = json.dumps(lines[0]) + "\n" + "[" * 100_000 + "\n"
    (place.directory / "deep.jsonl").write_text(nested)
    for words in (*READERS[:-1], ["compare", "odd.jsonl"]):
        came = place.call(words[0], "odd.jsonl", *words[1:])
        assert came.status in (0, 1) and "Keen Matrix itself" not in came.err, (words, came)
        came = place.call(words[0], "deep.jsonl", *words[1:])
        assert came.status == 3 and "deep.jsonl:2: this is not a line of a journal" in came.err, (words, came)


PIPES = [
    ("lint", "pipe.matrix.toml"), ("run", "zero.matrix.toml"), ("report", "pipe"), ("report", "zero"), ("compare", "zero", "pipe"),
    ("history", "--history", "pipe"), ("history", "--history", "zero"), ("suspects", "--journal", "pipe"), ("run", "--failed", "t.matrix.toml", "--journal", "zero"),
    ("baseline", "t.matrix.toml", "--journal", "pipe"), ("fill", "pipe.matrix.toml"), ("settle", "pipe.matrix.toml"), ("coverage", "pipe.matrix.toml"),
    ("unfold", "zero.matrix.toml"), ("try", "pipe.matrix.toml", "--", "a"), ("run", "t.matrix.toml"),
]  # fmt: skip


@pytest.mark.parametrize("words", PIPES, ids=" ".join)
def test_what_is_only_read_is_a_regular_file(place: Place, words: tuple[str, ...]) -> None:
    for name in ("pipe", "pipe.matrix.toml"):
        os.mkfifo(place.directory / name)
    for name in ("zero", "zero.matrix.toml"):
        (place.directory / name).symlink_to("/dev/zero")
    place.write("t.matrix.toml", '[program]\nlaunch = "echo"\n[[matrix]]\nname = "m"\nline = "a"\nexpect.stdout.baseline = true\n')
    (place.directory / "t.baselines").mkdir()
    os.mkfifo(place.directory / "t.baselines/m.txt")
    came = place.call(*words, timeout=30)
    assert came.status in (1, 2, 3) and "it is not a regular file" in came.err + came.out
