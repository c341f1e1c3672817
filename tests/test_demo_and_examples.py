"""The sample ferry office, and specs for programs that nobody here wrote."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest

from keen_matrix.cli.demo import explain_failures, read_faults
from keen_matrix.core.model.record import Record
from keen_matrix.core.spec.load import load_spec
from tests.conftest import COMMAND, Place, zygote
from tests.started import Zygote

EXAMPLES = Path(__file__).parent.parent / "examples"


@pytest.mark.long
def test_the_demo_finds_exactly_the_planted_faults_and_keeps_what_is_there(place: Place) -> None:
    place.write("office/tickets.csv", "origin,destination,riders,exit,price,culprit\nSkerry,Skerry,1,2,,Skerry\n")
    came = place.call("demo", "office", timeout=300)
    assert came.status == 0, came.out
    assert "15 files written, 1 file kept as they were" in came.out
    assert "16 of 16 planted bugs found, no other findings, the sound editions passed." in came.out
    assert (place.directory / "office/tickets.csv").read_text().count("\n") == 2


def test_a_failure_that_no_planted_fault_explains_is_told(place: Place) -> None:
    office = Path(__file__).parent.parent / "src/keen_matrix/demo/office"
    faults = list(read_faults(str(office / "faults.toml")))
    spec = load_spec(str(office / "tide.matrix.toml"))
    about = {"matrix": "refusals", "values": {}, "verdict": "failed", "seconds": 0.0, "aspects": []}
    planted = Record(argv=("Voe", "Holm"), id="x", kind="too-many", culprit="Holm", **about)
    other = Record(argv=("Atlantis",), id="y", kind="not-a-choice", culprit="Atlantis", **about)
    tide = [fault for fault in faults if fault.program == "tide"]
    assert explain_failures(tide, [("refusals", planted), ("refusals", other)], spec) == [("refusals", other)]
    assert [fault.shown for fault in tide] == [1, 0, 0, 0, 0]


def test_a_check_broken_on_purpose_is_seen_to_fail(place: Place) -> None:
    office = Path(__file__).parent.parent / "src/keen_matrix/demo/office"
    shutil.copytree(office, place.directory / "office")
    spec = place.directory / "office/tide.matrix.toml"
    spec.write_text(spec.read_text().replace("high water 03:35", "high water 03:36"))
    came = place.call("run", "office/tide.matrix.toml", "--only", "units")
    assert came.status == 1 and "0 of 4 passed" in came.out


READERS = [
    "unfold", "unfold --format csv", "lint", "coverage", "doubt", "suspects", "baseline", "report", "schema",
    *(f"report --format {form}" for form in ("junit", "tap", "html", "markdown", "csv", "json")),
    "compare .keen-matrix/last.jsonl .keen-matrix/last.jsonl", "draft sh faulty/tide.sh",
]  # fmt: skip


@pytest.mark.long
def test_what_is_shown_does_not_depend_on_the_hash_seed(place: Place) -> None:
    """Sets of texts come in another order in every process: none may decide the order of what a user reads."""
    shutil.copytree(Path(__file__).parent.parent / "src/keen_matrix/demo/office", place.directory, dirs_exist_ok=True)
    assert place.call("run", "--program", "sh {here}/faulty/tide.sh", "tide.matrix.toml").status == 1
    seeded = Zygote({**os.environ, "PYTHONHASHSEED": "3"})
    env = {**os.environ, "NO_COLOR": "1"}
    for words in READERS:
        came = [each.call(COMMAND, words.split(), str(place.directory), env, b"", 60) for each in (seeded, zygote())]
        assert came[0][1] and came[0] == came[1], words
    seeded.end()


@pytest.mark.parametrize("name", sorted(each.name for each in EXAMPLES.glob("*.matrix.toml")))
def test_an_example_holds_on_the_real_program(name: str, place: Place) -> None:
    program = load_spec(str(EXAMPLES / name)).program.launch[0].constant
    if shutil.which(program or "") is None:
        pytest.skip(f"{program} is not installed")
    came = place.call("run", str(EXAMPLES / name), "--journal", "j.jsonl", timeout=120)
    assert came.status == 0, came.out


@pytest.mark.long
def test_a_first_spec_that_says_too_little_holds_once_it_is_edited_as_it_is_told(place: Place) -> None:
    shutil.copytree(Path(__file__).parent.parent / "src/keen_matrix/demo/office", place.directory, dirs_exist_ok=True)
    path = place.directory / "crossing.toml"
    path.write_text(path.read_text().replace("python3", "python3 -S", 1))
    came = place.call("run", "crossing.toml", "--warm-check", "0")
    edits = [line.split("suggested edit")[1].strip() for line in came.out.splitlines() if "suggested edit" in line]
    assert came.status == 1 and edits == [
        "synopsis: -o,--out FILE, without brackets", "synopsis: [-w,--window SIDE | -a,--any]", 'values.DECK = { of = ["car", "upper", "sun"] }',
    ]  # fmt: skip
    text = (place.directory / "crossing.toml").read_text()
    for old, new in (("[-o,--out FILE]", "-o,--out FILE"), ("[-w,--window SIDE] [-a,--any]", "[-w,--window SIDE | -a,--any]")):
        assert old in text
        text = text.replace(old, new)
    place.write("crossing.toml", f"{text}{edits[2]}\n")
    assert place.call("run", "crossing.toml", "--warm-check", "0").status == 0
