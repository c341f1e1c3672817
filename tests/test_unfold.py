"""The matrix: groups, axis sources, combining, constraints, ids, and the forms of `unfold`."""

from __future__ import annotations

import csv
import io
import json
import shlex
from itertools import product
from pathlib import Path

import jsonschema
import pytest

from keen_matrix import load_spec, unfold
from keen_matrix.core.spec.schema import json_schema
from tests.conftest import Place

ROOT = Path(__file__).parent.parent


def vectors(place: Place, matrix: str, program: str = "") -> list[list[str]]:
    """The vectors that a matrix unfolds to."""
    place.write("u.matrix.toml", f'[program]\nlaunch = "true"\n{program}\n[[matrix]]\nname = "m"\n{matrix}\n')
    return [list(case.argv) for case in unfold(load_spec(str(place.directory / "u.matrix.toml")))]


LINES = [
    ('line = "a [b] c"', ["a c", "a b c"]),
    ('line = "(a | b c) d"', ["a d", "b c d"]),
    ('line = "[a | b]"', ["", "a", "b"]),
    ('line = "[a [b]]"', ["", "a", "a b"]),
    ('line = "[[FIRST] STEP] LAST"', ["LAST", "STEP LAST", "FIRST STEP LAST"]),
    ('line = "--color[=always | =never]"', ["--color", "--color=always", "--color=never"]),
    ('line = "-[a]b"', ["-b", "-ab"]),
    ('line = "[a] [a]"', ["", "a", "a a"]),
    ('line = "[-n {x}] [-v]"\naxes.x = [1, 2]', ["", "-v", "-n 1", "-n 1 -v", "-n 2", "-n 2 -v"]),
    ('line = "[-n {x} | --n={x}]"\naxes.x = [1, 2]', ["", "-n 1", "-n 2", "--n=1", "--n=2"]),
    ('line = "{x}"\naxes.x = [[], ["a"], ["a", "b c"]]', ["", "a", "a 'b c'"]),
    ('line = "x{x}"\naxes.x = [1.5, true, "é"]', ["x1.5", "xtrue", "xé"]),
    ('line = ["a b", "{x}", "[c]"]\naxes.x = ["|", "*"]', ["'a b' '|' '[c]'", "'a b' '*' '[c]'"]),
    (r"line = '\[ \| \( {{x}} '" + "", ["'[' '|' '(' '{x}'"]),
    ('line = "{x}"\naxes.x = { from = 0, to = 0.3, step = 0.1 }', ["0.0", "0.1", "0.2", "0.3"]),
    ('line = "{x}"\naxes.x = { from = 5, to = 1, step = -2 }', ["5", "3", "1"]),
    ('line = "{x}"\naxes.x = { repeat = "Holm", times = "0..2" }', ["", "Holm", "Holm Holm"]),
    ('line = "{x}"\naxes.x = { repeat = "a b", times = 2 }', ["'a b' 'a b'"]),
    ('line = "{a} {b}"\ncombine = "zip"\naxes.a = [1, 2, 3]\naxes.b = ["x", "y", "z"]', ["1 x", "2 y", "3 z"]),
    ('line = "{a} {b}"\ncolumns = ["a"]\nrows = [["x"], ["y"]]\naxes.b = [1, 2]', ["x 1", "x 2", "y 1", "y 2"]),
    ('line = "{a} {b}"\nonly-if = ["a != b", "a < 3"]\naxes.a = [1, 2, 3]\naxes.b = [1, 2]', ["1 2", "2 1"]),
    ('line = "{a} [{b}]"\nonly-if = ["b is None or b > a"]\naxes.a = [1, 2]\naxes.b = [1, 2]', ["1", "1 2", "2"]),
    ('line = "{len(a)}"\naxes.a = ["x", "yy", "zz"]', ["1", "2"]),
]  # fmt: skip


@pytest.mark.parametrize(("matrix", "words"), LINES, ids=[each.splitlines()[0][:30] for each, _ in LINES])
def test_a_matrix_unfolds_to_exactly_these_vectors(place: Place, matrix: str, words: list[str]) -> None:
    assert vectors(place, matrix) == [shlex.split(each) for each in words]


def test_values_come_from_files_with_and_without_a_byte_order_mark(place: Place) -> None:
    (place.directory / "ports.txt").write_bytes("\ufeffSkerry\r\nHolm\n\nVoe".encode())
    (place.directory / "t.csv").write_bytes('\ufeffport,note\nSkerry,"a, ""b"""\nHolm,x\nHolm,y\n'.encode())
    assert vectors(place, 'line = "{p}"\naxes.p = { lines = "ports.txt" }') == [["Skerry"], ["Holm"], ["Voe"]]
    assert vectors(place, 'line = "{p}"\naxes.p = { table = "t.csv", column = "note" }') == [['a, "b"'], ["x"], ["y"]]
    assert vectors(place, 'line = "{p}"\naxes.p = { table = "t.csv", column = "port" }') == [["Skerry"], ["Holm"]]
    assert vectors(place, 'line = "{port} {note}"\nrows = "t.csv"')[1] == ["Holm", "x"]
    assert vectors(place, 'line = "{note}"\nrows = "t.csv"\ncolumns = ["note"]')[0] == ['a, "b"']


def test_a_sample_is_the_same_every_time_and_moves_with_its_seed(place: Place) -> None:
    line = 'line = "{{x}}"\naxes.x = {{ sample = 5, of = {{ from = 1, to = 1000 }}, seed = {} }}'
    first, again, other = (vectors(place, line.format(seed)) for seed in (7, 7, 8))
    assert first == again != other and len(first) == 5
    assert vectors(place, 'line = "{x}"\naxes.x = { sample = 2, of = ["a", "b"] }') == [["a"], ["b"]]


COMBINED = 'line = "{{a}} {{b}} {{c}} [-v | -q] [-n {{d}}]"\ncombine = {}\naxes.a = [1, 2, 3]\naxes.b = [1, 2, 3]\naxes.c = ["x", "y"]\naxes.d = [7, 8]'


@pytest.mark.parametrize(
    ("combine", "size", "most"),
    [('"each"', 1, 3), ('"pairs"', 2, 12), ('"triples"', 3, 36), ("4", 4, 90), ('"all"', 5, 162)],
)
def test_every_combination_of_so_many_choices_is_there(place: Place, combine: str, size: int, most: int) -> None:
    chosen = {
        tuple(case.values[name] for name in ("a", "b", "c", "-v|-q", "d"))
        for case in (vectors(place, COMBINED.format(combine)), unfold(load_spec(str(place.directory / "u.matrix.toml"))))[
            1
        ]
    }
    assert len(chosen) <= most
    choices = [(1, 2, 3), (1, 2, 3), ("x", "y"), (None, "-v", "-q"), (None, 7, 8)]
    from itertools import combinations

    for axes in combinations(range(5), size):
        assert {tuple(row[a] for a in axes) for row in chosen} == set(product(*(choices[a] for a in axes)))


def test_fixed_combinations_and_a_focus_are_kept(place: Place) -> None:
    more = 'always = [{ a = 3, d = 8 }]\n[[matrix.denser]]\naxes = ["a", "b", "c"]\nstrength = "all"'
    made = vectors(place, COMBINED.format('"pairs"') + "\n" + more)
    assert len({tuple(v[:3]) for v in made}) == 18 and len(made) < 27
    assert any(v[0] == "3" and v[-1] == "8" for v in made)


WARNED = [
    ('line = "{x}"\naxes.x = [1, 2]\naxes.y = [1, 2]', 'warning: the axis "y" is not used anywhere', 0),
    ('line = "{x}"\naxes.x = [1]', 'warning: the axis "x" has a single value', 0),
    ('line = "{x}"\naxes.x = [1, 2, 1]', "warning: the axis \"x\" has the value '1' twice", 0),
    ('line = "{x}"\naxes.x = [1, 2]\nonly-if = ["x > 0"]', "warning: this condition is always true", 0),
    ('line = "{x}"\naxes.x = [1, 2]\nonly-if = ["x > 2"]', 'no case is left: "x > 2" is never true', 1),
    ('line = "{x}"\naxes.x = [1, 2]\nonly-if = ["x > 1", "x < 2"]', 'no case is left; these exclude each other: "x > 1" and "x < 2"', 1),
    ('line = "{x}"\naxes.x = [1, 2, 3]\nonly-if = ["x > 1"]', "warning: the value 1 of \"x\" can never be used", 0),
    ('line = "[{x}]"\naxes.x = [1, 2]\nonly-if = ["x is None"]', 'can never be chosen', 0),
    ('line = "{x} {y}"\naxes.x = [1, "a"]\naxes.y = [1, 2]\nonly-if = ["x < y"]', "these values cannot be compared: x is a text, y is a number (with x = 'a', y = 1)", 1),
    ('line = "{x}"\ncolumns = ["x", "y"]\nrows = [[1, 2]]', 'warning: the column "y" is not used anywhere', 0),
    ('line = "{x} {y}"\naxes.x = [1, 2]\naxes.y = [1, 2]\ncombine = 3', "a strength of 3 needs at least as many axes; this matrix has 2 axes and groups", 1),
    ('line = "{x} {y}"\naxes.x = [1, 2]\naxes.y = [1, 2]\nalways = [{ x = 3 }]\ncombine = "pairs"', "3 is not a value of x", 1),
    ('line = "{x} {y} {z}"\naxes.x = { from = 1, to = 99 }\naxes.y = { from = 1, to = 99 }\naxes.z = { from = 1, to = 99 }', "has 970,299 cases", 1),
]  # fmt: skip


@pytest.mark.parametrize(("matrix", "message", "status"), WARNED, ids=[each[1][:40] for each in WARNED])
def test_lint_thinks_a_matrix_through(place: Place, matrix: str, message: str, status: int) -> None:
    place.write("w.matrix.toml", f'[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\n{matrix}\n')
    came = place.call("lint")
    assert message in came.out and came.status == status and "Traceback" not in came.err
    if "vectors" in message:
        assert "limit = 970299 to mean it" in came.out and 'combine = "pairs", which has 9,801' in came.out
    if status == 1:
        run = place.call("run")
        assert run.status == 2 and "w.matrix.toml" in run.err


BAD_TABLES = [
    ("a,b\n1\n", "t.csv:2: 1 fields; expected 2, as in the header"),
    ("a,a\n1,2\n", 't.csv:1: the column "a" occurs twice in the header'),
    ("", "t.csv is empty; expected a header line"),
    ("a,b\n", "t.csv has a header and no rows"),
    ('a,b\n"1,2\n', "this is not valid CSV"),
]


@pytest.mark.parametrize(("content", "message"), BAD_TABLES, ids=[each[1][:20] for each in BAD_TABLES])
def test_a_table_that_is_none_is_told(place: Place, content: str, message: str) -> None:
    place.write("t.csv", content)
    place.write("w.matrix.toml", '[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "{a}"\nrows = "t.csv"\n')
    came = place.call("lint")
    assert came.status == 1 and message in came.out


def test_the_first_vectors_of_a_billion_come_at_once(place: Place) -> None:
    axes = "\n".join(f"axes.{name} = {{ from = 1, to = 1000 }}" for name in "abc")
    place.write(
        "b.matrix.toml", f'[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "{{a}} {{b}} {{c}}"\n{axes}\n'
    )
    for form in ("table", "shell", "json", "csv"):
        process = place.start("unfold", "--format", form)
        assert process.stdout is not None and process.stderr is not None
        assert process.stdout.readline()
        process.stdout.close()
        process.wait(20)
        process.stderr.close()
    assert "1,000,000,000 of 1,000,000,000" in place.call("unfold", "--count", timeout=20).out


def test_the_forms_of_unfold_agree(place: Place) -> None:
    made = vectors(place, 'line = "{a} [-n {b}] --x[={a}]"\naxes.a = ["p q", "\'", "a\\tb"]\naxes.b = [1, 2]')
    lines = [json.loads(line) for line in place.call("unfold", "--format", "json").out.splitlines()]
    assert [each["argv"] for each in lines] == made
    selected = place.call("unfold", "--format", "json", "--only", "*").out.splitlines()
    assert [json.loads(line) for line in selected] == lines
    rows = list(csv.DictReader(io.StringIO(place.call("unfold", "--format", "csv").out)))
    assert [json.loads(row["argv"]) for row in rows] == made and [row["id"] for row in rows] == [e["id"] for e in lines]
    table = place.call("unfold").out
    assert all(each["id"][:6] in table for each in lines) and "18 cases" in table
    assert "18 of 18 in the full product" in place.call("unfold", "--count").out


def test_a_value_of_a_megabyte_is_cut_in_the_table(place: Place) -> None:
    vectors(place, f'line = "{{x}}"\naxes.x = ["{"y" * 1_000_000}", "z"]')
    came = place.call("unfold")
    assert "… (1,00" in came.out and max(map(len, came.out.splitlines())) < 400


def test_the_schema_describes_every_key_and_accepts_every_spec() -> None:
    import tomllib

    schema = json_schema()
    jsonschema.Draft202012Validator.check_schema(schema)
    validator = jsonschema.Draft202012Validator(schema)
    for table in (schema, *schema["$defs"].values()):
        for key, each in table["properties"].items():
            assert each.get("description") and each.get("examples"), key
    specs = [*ROOT.glob("examples/*.matrix.toml"), *ROOT.glob("src/keen_matrix/demo/office/*.matrix.toml")]
    assert len(specs) >= 6
    for path in specs:
        validator.validate(tomllib.loads(path.read_text()))
    with pytest.raises(jsonschema.ValidationError):
        validator.validate({"program": {"launch": "true", "timeot": 3}})
