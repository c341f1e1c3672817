"""A spec with every kind of table in it, made wrong in every place in turn: always problems with a place, never a crash."""

from __future__ import annotations

import copy
import datetime
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from keen_matrix.core.spec import load
from keen_matrix.core.spec.source import Source, read_source

SPEC = r"""
[program]
launch = "python3 {here}/p.py"
timeout = 5
env = { TARIFF = "summer", X = false }
env-from-caller = ["PATH"]
directory = "fresh"
build = "true"
output-cap = "1 MiB"
stdin = "text"
warm = false
terminal = { columns = 80, rows = 24 }
dialogue = [ { prompt = "Sail?", reply = "yes", within = 1 } ]
[program.launchers]
isolated = "python3 -S {here}/p.py"
[reference]
launch = "python3 {here}/q.py"
aspects = ["exit", "stdout"]
only-accepted = true
[files]
"a.txt" = "text"
"b" = { dir = true, mode = "755" }
"c" = { bytes = "base64:AAEC" }
[[mask]]
matches = "[0-9]+ ms"
as = "<time>"
[signature]
synopsis = ["[-n,--riders RIDERS] [--bike | --car] ORIGIN DESTINATION", "list [PORT...]"]
style = "gnu"
help = ["-h", "--help"]
only-if = ["ORIGIN != DESTINATION"]
derive = ["help", "accepted", "refusals", "rephrasings", "effects"]
abbreviations = true
repeat = "refuse"
[[signature.refuse]]
when = "RIDERS == 13"
kind = "unlucky"
[signature.values]
RIDERS = { type = "int", min = 1, max = 60, default = 1, example = 3 }
ORIGIN = { type = "choice", of = ["Skerry", "Holm"] }
DESTINATION = { type = "choice", of = ["Skerry", "Holm"], example = "Holm" }
PORT = { type = "text", count = "0..2" }
[expect]
exit = 0
stderr = ""
[refusal]
exit = 2
stdout = ""
stderr.contains = ["usage:", "{culprit}"]
blame = "culprit"
[refusal.too-few]
stderr.contains = "required"
[[matrix]]
name = "fares"
line = "{origin} {destination} [-n {riders}] [--bike | --car]"
combine = "pairs"
seed = 3
effort = "quick"
limit = 1000
only-if = ["origin != destination"]
always = [ { origin = "Holm" } ]
denser = [ { axes = ["origin", "destination"], strength = 2 } ]
axes.origin = ["Skerry", "Holm"]
axes.destination = ["Skerry", "Holm"]
axes.riders = { from = 1, to = 60, step = 59 }
axes.s = { sample = 2, of = [1, 2, 3], seed = 7 }
axes.r = { repeat = "w", times = "0..2" }
axes.e = { edges = "RIDERS" }
axes.b = { bad = "RIDERS" }
stdin = { command = ["echo a", "cat"] }
env = { A = "{origin}" }
files."d" = { copy = "x.txt" }
stop = { after = 2, signal = "INT" }
expect.exit = [0, 3]
expect.stdout = { contains = ["{origin}"], lacks = "x", starts = "a", ends = "b", matches = "(?P<n>a+)", holds = ["n"], is = "a", number-of-lines = "1..3", tolerance = 0.1 }
expect.stderr.json = { a = [1, "{origin}"] }
expect.files."t" = { is = "x", mode = "644", unchanged = true }
expect.other-files = "none"
expect.duration = "< 2 s"
expect.memory = "< 64 MiB"
expect.alike = { line = "{destination} {origin}", aspects = ["exit"] }
[[matrix]]
name = "known"
line = "{a}"
columns = ["a", "exit"]
rows = [ ["Skerry", 0], ["Holm", 2] ]
[[matrix.expect]]
when = "exit == 0"
exit = "{exit}"
stdout = { lines = ["a", "{a}"], literal = false }
crash = "allowed"
leftovers = "allowed"
[[matrix]]
name = "steps"
steps = [ { line = "a", stdin = "x", expect = { exit = 0 } }, { line = "b", expect = { signal = "TERM" } } ]
"""
GONE = object()
WRONG: list[Any] = [
    3, -1, "", " ", "x", "{", "[a", "{x}", "a'", True, False, [], {}, [1], [[]], ["x", 3], datetime.date(2026, 1, 2),
    float("inf"), float("nan"), 1e300, 10**30, {"zzz": 1}, [{}], GONE, "\0", "9..1", "< 1", "0..9999999", "ééé",
]  # fmt: skip
PARTS = 8
FOREIGN = re.compile(r"input should|should match|valid (dictionary|string|number|list)|instance of|Error|\\n|object at")
"""Words of a library's own messages, which are not for users."""


@pytest.fixture(scope="module")
def source(tmp_path_factory: pytest.TempPathFactory) -> Source:
    directory = tmp_path_factory.mktemp("wrong")
    for name in ("p.py", "q.py", "x.txt"):
        (directory / name).write_text("")
    (directory / "t.matrix.toml").write_text(SPEC)
    return read_source(str(directory / "t.matrix.toml"))


def places(data: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Yield the path of every key and item."""
    if path:
        yield path
    items = data.items() if isinstance(data, dict) else enumerate(data) if isinstance(data, list) else ()
    for key, value in items:
        yield from places(value, (*path, key))


def with_wrong(data: Any, path: tuple[Any, ...], value: Any) -> Any:
    """Return the data with another value in a place; what is beside the way to it is shared."""
    (key, *further), changed = path, copy.copy(data)
    if further:
        changed[key] = with_wrong(data[key], tuple(further), value)
    elif value is GONE:
        del changed[key]
    else:
        changed[key] = value
    return changed


def test_the_spec_itself_is_right(source: Source) -> None:
    spec, problems = load.read_spec(source.path, deep=True)
    assert spec is not None and [each for each in problems if each.severity == "error"] == []
    assert len(list(places(source.data))) > 200


@pytest.mark.parametrize("part", range(PARTS))
def test_a_wrong_value_anywhere_is_a_problem_with_a_place(
    source: Source, monkeypatch: pytest.MonkeyPatch, part: int
) -> None:
    told = tried = 0
    for number, path in enumerate(places(source.data)):
        if number % PARTS != part:
            continue
        for step in range(1 + number // PARTS % 2):
            value = WRONG[(number * 7 + step * 11) % len(WRONG)]
            wrong = Source(source.path, source.text, with_wrong(source.data, path, value), source.digest)
            monkeypatch.setattr(load, "whole_source", lambda *_, wrong=wrong: wrong)
            # what is no mistake is thought through as a right spec is, which takes longest
            spec, problems = load.read_spec(source.path, deep=step == 0)
            errors = [each for each in problems if each.severity == "error"]
            assert (spec is None) is bool(errors), (path, value)
            for each in errors:
                where = (path, value, each.message)
                assert each.line >= 1 and each.column >= 1 and each.path == source.path, where
                assert not FOREIGN.search(f"{each.message} {each.expected or ''}"), where
            told, tried = told + bool(errors), tried + 1
    assert tried > 30 and told > tried / 2


@pytest.mark.parametrize(("key", "value", "message"), [
    ("to", 10**30, "has more than 1,000,000,000,000,000"), ("to", float("inf"), "expected a finite number, found inf"),
    ("from", float("nan"), "expected a finite number, found nan"), ("step", 0, "a step of 0 never"),
])  # fmt: skip
def test_ranges_without_end_are_told_of(
    source: Source, monkeypatch: pytest.MonkeyPatch, key: str, value: Any, message: str
) -> None:
    wrong = with_wrong(source.data, ("matrix", 0, "axes", "riders", key), value)
    monkeypatch.setattr(load, "whole_source", lambda *_: Source(source.path, source.text, wrong, source.digest))
    (problem,) = [each for each in load.read_spec(source.path)[1] if each.severity == "error"]
    assert message in problem.message and Path(problem.path).name == "t.matrix.toml"
