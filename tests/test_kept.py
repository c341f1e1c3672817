"""Specs that are kept between calls: the same answers as a spec that is read, and no answer at all once something changed."""

from __future__ import annotations

import hashlib
import json
import os
import pickle
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from keen_matrix.core.model.lookups import look, stamp, watching
from keen_matrix.core.spec import kept
from keen_matrix.core.spec.kept import kept_spec
from keen_matrix.core.spec.load import load_spec
from keen_matrix.core.vectors.unfold import unfold
from tests.conftest import Place

SPEC = """
[program]
launch = "echo"
oracle = "oracle.py"
[signature]
synopsis = "[-n,--riders RIDERS] [--bike | --car] ORIGIN DESTINATION"
only-if = ["differ(ORIGIN, DESTINATION)"]
derive = ["refusals", "rephrasings"]
[signature.values]
RIDERS = { type = "int", min = 1, max = 60 }
ORIGIN = { type = "choice", of = ["Skerry", "Holm"] }
DESTINATION = { type = "choice", of = ["Skerry", "Holm"], example = "Holm" }
[[matrix]]
name = "lines"
line = "{port} [-n {riders}]"
axes.port = { lines = "ports.txt" }
axes.riders = [1, 2]
expect.stdout = { file = "came.txt" }
[[matrix]]
name = "table"
line = "{a}"
columns = ["a"]
rows = "rows.csv"
expect.exit = 0
"""
BESIDE = {
    "oracle.py": "def differ(a, b):\n    return a != b\n",
    "ports.txt": "Holm\nVoe\n",
    "rows.csv": "a\nx\ny\n",
    "came.txt": "Holm\n",
}


@pytest.fixture
def ferry(place: Place, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Place:
    """A directory with a spec that looks at files, all of them old enough to be kept, and a cache directory of its own."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    place.write("f.matrix.toml", SPEC)
    for name, text in BESIDE.items():
        place.write(name, text)
    monkeypatch.chdir(place.directory)
    monkeypatch.setattr(kept, "SETTLED_NS", 0)
    return place


def places() -> list[Path]:
    directory = Path(kept.directory())
    return sorted(directory.iterdir()) if directory.exists() else []


def was_read(monkeypatch: pytest.MonkeyPatch) -> bool:
    """Tell whether asking for the spec reads it anew."""
    from keen_matrix.core.spec import load

    asked: list[str] = []
    real = load.load_spec

    def noted(path: str) -> Any:
        asked.append(path)
        return real(path)

    with monkeypatch.context() as patch:
        patch.setattr(load, "load_spec", noted)
        kept_spec("f.matrix.toml")
    return bool(asked)


def shown(spec: Any) -> list[tuple[Any, ...]]:
    return [(case.id, case.argv, case.values, case.standings, case.kind, case.culprit) for case in unfold(spec)]


def test_a_kept_spec_gives_the_very_same_cases(ferry: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    assert was_read(monkeypatch) and not was_read(monkeypatch)
    again, anew = kept_spec("f.matrix.toml"), load_spec("f.matrix.toml")
    assert shown(again) == shown(anew) and len(shown(again)) > 20
    assert again.digest == anew.digest and again.here == anew.here
    assert again.signature is not None and again.signature.judge(["Holm", "Holm"]).status == "refused"


CHANGES = {
    "the spec": lambda: append("f.matrix.toml", "# a remark\n"),
    "lines of an axis": lambda: append("ports.txt", "Skerry\n"),
    "a table": lambda: append("rows.csv", "z\n"),
    "the same size": lambda: Path("ports.txt").write_text("Hulm\nVoe\n"),
    "only its time": lambda: os.utime("rows.csv", ns=(1, 1)),
    "the oracle": lambda: append("oracle.py", "def more():\n    return 1\n"),
    "what is kept is torn": lambda: places()[0].write_bytes(places()[0].read_bytes()[:100]),
    "what is kept is none of ours": lambda: places()[0].write_bytes(pickle.dumps({"spec": 1})),
    "others may write it": lambda: places()[0].chmod(0o666),
    "others may write beside it": lambda: places()[0].parent.chmod(0o777),
}


def append(name: str, text: str) -> None:
    with open(name, "a", encoding="utf-8") as file:
        file.write(text)


@pytest.mark.parametrize("what", CHANGES)
def test_whatever_changes_has_the_spec_read_anew(ferry: Place, monkeypatch: pytest.MonkeyPatch, what: str) -> None:
    kept_spec("f.matrix.toml")
    assert not was_read(monkeypatch)
    CHANGES[what]()
    assert was_read(monkeypatch)


def test_a_file_that_goes_is_told_of_as_before(ferry: Place) -> None:
    first = ferry.call("run", "--brief", "--only", "table")
    assert first.status == 0 and "2 passed" in first.out  # what the matrix states wins over the refusal
    (ferry.directory / "came.txt").unlink()
    came = ferry.call("run", "--brief", "--only", "table")
    assert came.status == 2 and "came.txt does not exist beside the spec" in came.err
    (ferry.directory / "oracle.py").write_text("def other():\n    return 1\n")
    ferry.write("came.txt", "Holm\n")
    assert "differ" in ferry.call("run", "--brief").err


def test_somebody_elses_pickle_is_never_opened(ferry: Place) -> None:
    class Trap:
        def __reduce__(self) -> Any:
            return os.mkdir, (str(ferry.directory / "trapped"),)

    kept_spec("f.matrix.toml")
    (place,) = places()
    place.write_bytes(pickle.dumps(Trap()))
    place.chmod(0o646)
    kept_spec("f.matrix.toml")
    assert not (ferry.directory / "trapped").exists()


def test_a_file_just_written_is_not_relied_on(ferry: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(kept, "SETTLED_NS", 60_000_000_000)
    kept_spec("f.matrix.toml")
    assert places() == [] and was_read(monkeypatch)


def test_another_build_reads_for_itself(ferry: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    kept_spec("f.matrix.toml")
    monkeypatch.setattr(kept, "_build", lambda: "other.py")
    assert was_read(monkeypatch) and len(places()) == 2


def test_no_more_are_kept_than_fit(ferry: Place, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(kept, "MOST_KEPT", 6)
    for number in range(20):
        Path("f.matrix.toml").write_text(SPEC + f"# {number}\n")
        kept_spec("f.matrix.toml")
        assert 1 <= len(places()) <= 6
    monkeypatch.setattr(kept, "MOST_BYTES", 100)
    before = places()
    Path("f.matrix.toml").write_text(SPEC + "# large\n")
    kept_spec("f.matrix.toml")
    assert places() == before


def test_without_a_cache_directory_everything_works(ferry: Place) -> None:
    (ferry.directory / "cache").write_text("a file where a directory should be")
    came = ferry.call("run", "--brief", "--only", "table")
    assert came.status == 0 and "2 passed" in came.out and not came.err


def test_a_second_run_needs_no_validation_and_comes_to_the_same(ferry: Place) -> None:
    time.sleep(2.1)  # the command itself keeps only what stands on settled files
    journals = []
    for number in range(2):
        words = [sys.executable, "-X", "importtime", "-m", "keen_matrix", "run", "--brief", "--jobs", "1"]
        done = subprocess.run(words, cwd=ferry.directory, capture_output=True, text=True, timeout=60)
        assert ("pydantic" in done.stderr) is (number == 0)
        journals.append([{k: case[k] for k in ("id", "argv", "verdict", "aspects")} for case in ferry.cases()])
    assert journals[0] == journals[1] and len(journals[0]) > 20


def test_what_is_looked_at_is_noted_only_while_somebody_asks(tmp_path: Path) -> None:
    look(str(tmp_path / "early"))
    with watching() as outer:
        look(str(tmp_path / "a"))
        with watching() as inner:
            look(str(tmp_path / "b"))
    assert outer == {str(tmp_path / "a"), str(tmp_path / "b")} and inner == {str(tmp_path / "b")}
    assert stamp(str(tmp_path / "a")) is None and stamp("a\0b") is None
    (tmp_path / "a").write_text("x")
    first = stamp(str(tmp_path / "a"))
    (tmp_path / "a").write_text("y")
    os.utime(tmp_path / "a", ns=(5, 5))
    assert first is not None and first != stamp(str(tmp_path / "a"))
    assert json.dumps(first)


ARRAY = """
[program]
launch = "true"
{program}
[[matrix]]
name = "m"
line = "{{a}} {{b}} {{c}} {{d}} {{e}} [--x] [--y {{f}}]"
axes = {{ a = [1, 2, 3, 4], b = [1, 2, 3, 4], c = [1, 2, 3, 4], d = [1, 2, 3, 4], e = [1, 2, 3], f = ["u", "v"] }}
combine = "pairs"
only-if = ["{only_if}"]
expect.exit = 0
"""


def test_a_covering_array_is_kept_and_found_again_by_all_that_it_depends_on(place: Place) -> None:
    env = {"XDG_CACHE_HOME": str(place.directory / "cache")}
    kept = place.directory / "cache/keen-matrix/rows"
    place.write("oracle.py", "def fits(a, b):\n    return a != b\n")

    def vectors(only_if: str = "a != b", program: str = "", seed: int = 0) -> str:
        place.write("m.matrix.toml", ARRAY.format(only_if=only_if, program=program) + f"seed = {seed}\n")
        came = place.call("unfold", "--format", "json", env=env)
        assert came.status == 0, came.err
        return came.out

    first = vectors()
    files = sorted(kept.iterdir())
    assert len(files) == 1
    body = files[0].read_bytes()
    assert vectors() == first
    assert files[0].read_bytes() == body
    # what is read is what is used: a row fewer is seen
    head, _, rows = body.partition(b"\n")
    fewer = rows[: -4 * json.loads(head)["axes"]]
    told = {**json.loads(head), "rows": json.loads(head)["rows"] - 1, "digest": hashlib.blake2b(fewer, digest_size=16).hexdigest()}
    files[0].write_bytes(json.dumps(told).encode() + b"\n" + fewer)
    assert len(vectors().splitlines()) < len(first.splitlines())
    # a damaged one is searched for anew
    files[0].write_bytes(body[:-3])
    assert vectors() == first
    for number, other in enumerate([{"only_if": "a != c"}, {"seed": 3}], 2):
        vectors(**other)
        assert len(list(kept.iterdir())) == number
    vectors(only_if="fits(a, b)", program='oracle = "oracle.py"')
    vectors(only_if="a != b and here != ''")
    assert len(list(kept.iterdir())) == 3
