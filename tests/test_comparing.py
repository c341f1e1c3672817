"""Comparing runs, by its own parts: what became of a case, what differs first, speeds, names of specs, groups."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from keen_matrix.core.model.lines import encode
from keen_matrix.core.model.record import FileChange, Header, Record, Repeats
from keen_matrix.core.results import compare
from keen_matrix.core.results.compare import (
    Change,
    Comparison,
    change_of,
    common_names,
    compare_runs,
    difference_of,
)


def record(id: str = "c", **more: Any) -> Record:
    base: dict[str, Any] = {"matrix": "m", "argv": ("x",), "values": {}, "verdict": "passed", "exit": 0, "seconds": 0.1, "aspects": []}
    return Record(id=id, **{**base, **more})


def journal(path: Path, *records: Record, spec: str = "a.matrix.toml") -> str:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(b"".join([encode(Header(journal=1, spec=spec, started="2026-01-01T00:00:00+00:00")), *map(encode, records)]))
    return str(path)


# --- what became of a case ---

WROTE = {"log": FileChange(state="created", kind="file", size=3)}
CHANGES: list[tuple[dict[str, Any], dict[str, Any], str, str]] = [
    ({}, {"verdict": "failed", "exit": 1}, "newly failing", "exit 0 → exit 1"),
    ({"verdict": "failed", "exit": 1}, {}, "newly passing", "exit 1 → exit 0"),
    ({"verdict": "blocked", "exit": None}, {}, "newly passing", "blocked → exit 0"),
    ({}, {"verdict": "timed-out", "exit": None}, "newly failing", "exit 0 → timed out"),
    ({"verdict": "timed-out", "exit": None}, {"verdict": "not-started", "exit": None}, "other verdict", ""),
    ({}, {"verdict": "known"}, "newly failing", ""),
    ({"verdict": "crashed", "exit": None, "signal": "SEGV"}, {"verdict": "crashed", "exit": None, "signal": "ABRT"}, "other output", "signal SEGV → signal ABRT"),
    ({"stdout": "one\ntwo\n"}, {"stdout": "one\n2\n"}, "other output", 'line 2 of standard output: "two" → "2"'),
    ({"stdout": "one\n"}, {"stdout": "one\ntwo"}, "other output", 'line 2 of standard output: an empty line → "two"'),
    ({"stdout": "one"}, {"stdout": "one\ntwo"}, "other output", 'line 2 of standard output: no such line → "two"'),
    ({"stderr": "a", "stdout": "b"}, {"stderr": "c", "stdout": "d"}, "other output", 'line 1 of standard error: "a" → "c"'),
    ({}, {"files": WROTE}, "other output", 'the files: an empty line → "log created"'),
    ({"files": WROTE}, {"files": {"log": FileChange(state="changed", kind="file", size=3)}}, "other output", 'the files: "created" → "changed"'),
    ({"stdout": "a" * 2_000 + "b"}, {"stdout": "a" * 2_000 + "c"}, "other output", "beyond what is compared"),
]  # fmt: skip


@pytest.mark.parametrize(("before", "after", "kind", "told"), CHANGES)
def test_what_became_of_a_case_and_what_differs_first(before: dict[str, Any], after: dict[str, Any], kind: str, told: str) -> None:
    found = change_of(record(**before), record(argv=("x", "y"), **after))
    assert found is not None
    came, change = found
    assert (came, change.argv) == (kind, ("x", "y")) and (change.before, change.after) == (before.get("verdict", "passed"), after.get("verdict", "passed"))
    if told:
        assert change.difference == told


def test_a_case_that_did_the_same_is_no_change() -> None:
    assert change_of(record(stdout="x", seconds=0.1), record(stdout="x", seconds=9.0)) is None
    masked = change_of(record(stdout="at 10:00", stdout_masked="at …"), record(stdout="at 11:00", stdout_masked="at …"))
    assert masked is None, "what a mask covers is no difference"


MIDDLES = [
    ("fare.py: no port", "fare: no port", '"fare.py" → "fare"'), ("4.50 all told", "5.50 all told", '"4.50" → "5.50"'),
    ("no port 'Skerry' here", "no port 'Holm' there", '"here" → "there"'), ("no port 'Skerry'", "no port 'Holm'", '"Skerry" → "Holm"'),
    ("a b", "a b c", '"" → " c"'), ("x a x", "x x", '"a " → ""'), ("a" * 50, "b", f'"{"a" * 40}…" → "b"'),
    ("a a", "a a a", '"" → " a"'), ("one", "one, two", '"" → ", two"'),
]  # fmt: skip


@pytest.mark.parametrize(("one", "other", "told"), MIDDLES)
def test_of_two_lines_it_is_told_what_stands_between_what_is_alike(one: str, other: str, told: str) -> None:
    sides = [{"end": "exit 0", "stderr": "", "stdout": text, "files": ""} for text in (one, other)]
    told = told.replace('""', "an empty line")
    assert difference_of(*sides) == f"line 1 of standard output: {told}"
    old, _, new = told.partition(" → ")
    assert difference_of(*sides[::-1]) == f"line 1 of standard output: {new} → {old}"


# --- speed ---

SPEEDS = [
    (0.1, 0.31, [], [], "slower"), (0.31, 0.1, [], [], "faster"), (0.1, 0.2, [], [], ""), (0.2, 0.1, [], [], ""),
    (0.01, 0.1, [], [], ""), (0.1, 0.01, [], [], ""),  # ten times, and less than a tenth of a second
    (0.0, 0.1, [], [], ""), (0.1, 0.0, [], [], ""), (0.0, 0.101, [], [], "slower"), (0.101, 0.0, [], [], "faster"), (0.125, 0.25, [], [], ""),
    (1, 1, [1, 1.1, 1.2], [1.3, 1.4, 1.5], "slower"), (1, 1, [1.3, 1.4, 1.5], [1, 1.1, 1.2], "faster"),
    (1, 1, [1, 1.1, 1.3], [1.3, 1.4, 1.5], ""), (1, 1, [1.3, 1.4, 1.5], [1, 1.1, 1.3], ""),  # one repetition is no slower
    (1, 1, [1, 1, 1], [1.05, 1.05, 1.05], ""), (1, 1, [1.05, 1.05, 1.05], [1, 1, 1], ""),  # each slower, and less than a tenth
    (0.1, 0.9, [1, 1, 1], [1, 1, 1], ""),  # repetitions say more than one time does
    (0.1, 0.9, [1, 1], [1, 1, 1], "slower"), (0.1, 0.9, [1, 1, 1], [1, 1], "slower"), (0.9, 0.1, [1, 1, 1], [1, 1], "faster"),
]  # fmt: skip


@pytest.mark.parametrize(("before", "after", "times", "later", "kind"), SPEEDS)
def test_a_case_is_slower_or_faster_beyond_what_noise_explains(
    tmp_path: Path, before: float, after: float, times: list[float], later: list[float], kind: str
) -> None:
    paths = []
    for name, seconds, several in (("a", before, times), ("b", after, later)):
        repeats = Repeats(times=len(several), different=1, seconds=[float(each) for each in several]) if several else None
        paths.append(journal(tmp_path / name, record(seconds=float(seconds), repeats=repeats)))
    found = compare_runs(paths[:1], paths[1:])
    assert found.counts == ({kind: 1} if kind else {}) and found.both == 1
    if kind:
        (change,) = found.changes[kind]
        assert (change.before, change.after) == (f"{before:.3f} s", f"{after:.3f} s")
    assert found.pace == (pytest.approx(after / before) if before else None)


# --- all of them ---


def test_what_is_new_and_gone_has_its_verdict_on_its_side(tmp_path: Path) -> None:
    old = journal(tmp_path / "a", record("both"), record("old", verdict="failed", exit=1))
    new = journal(tmp_path / "b", record("both"), record("new"), record("both", matrix="other"))
    found = compare_runs([old], [new])
    assert found.both == 1 and found.counts == {"gone": 1, "new": 2}
    assert [(each.before, each.after) for each in found.changes["gone"]] == [("failed", "")]
    assert {(each.matrix, each.before, each.after) for each in found.changes["new"]} == {("m", "", "passed"), ("other", "", "passed")}


def test_changes_of_one_kind_are_a_group_with_its_shortest_vector_and_lists_end(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(compare, "MOST_LISTED", 2)
    found = Comparison()
    for argv, difference in [(("a", "b"), "x"), (("c",), "x"), (("b",), "x"), (("d",), "y"), (("e",), "z"), (("a",), "y")]:
        found.add("other output", Change("id", "m", argv, "passed", "passed", difference))
    assert found.counts == {"other output": 6} and [each.argv for each in found.changes["other output"]] == [("a", "b"), ("c",)]
    groups = {name: (count, change.argv) for name, (count, change) in found.groups["other output"].items()}
    assert groups == {"x": (3, ("b",)), "y": (2, ("a",))}, "the shortest vector, of these the first by its words; no third group"


NAMED = [
    (["a/f.toml"], ["a/f.toml"], {"a/f.toml": "a/f.toml"}), (["a/f.toml"], ["./a//f.toml"], {"a/f.toml": "a/f.toml"}),
    (["a/f.toml"], ["b/f.toml"], {"a/f.toml": "*/f.toml", "b/f.toml": "*/f.toml"}), (["a/f.toml"], ["b/g.toml"], {"a/f.toml": "a/f.toml", "b/g.toml": "b/g.toml"}),
    (["a/f.toml", "c/f.toml"], ["b/f.toml"], {each: each for each in ("a/f.toml", "b/f.toml", "c/f.toml")}),
    (["a/f.toml", "c/f.toml"], ["b/f.toml", "c/f.toml"], {"a/f.toml": "*/f.toml", "b/f.toml": "*/f.toml", "c/f.toml": "c/f.toml"}),
]  # fmt: skip


@pytest.mark.parametrize(("before", "after", "names"), NAMED)
def test_a_spec_in_another_place_is_the_same_where_no_other_has_its_name(
    tmp_path: Path, before: list[str], after: list[str], names: dict[str, str]
) -> None:
    runs = [[journal(tmp_path / f"{run}{at}", record(), spec=spec) for at, spec in enumerate(specs)] for run, specs in (("a", before), ("b", after))]
    assert common_names(*runs) == names
