"""Numbers, tables, order: what people would write a regular expression for."""

from __future__ import annotations

import pytest

from tests.conftest import Place

CASES = [
    ("3.149", "number = { about = 3.14, within = 0.01 }", ""),
    ("3.16", "number = { about = 3.14, within = 0.01 }", "a number: 3.14, at most 0.01 off"),
    (" 7\\n", "number = 7", ""),
    ("7.0", 'number = "{want}"', ""),
    ("7x", 'number = "{want}"', "a number: 7"),
    ("12", 'number = { min = 1, max = "{want + 4}" }', "at most 11"),
    ("nan", "number = { min = 0 }", "a number: at least 0"),
    ("0.1", "number = 0.1", ""),
    ("٣", "number = 3", "a number: 3"),
    ("fare 4.5 kr", "{ matches = 'fare (?P<kr>\\S+)', number = { group = 'kr', max = 5 } }", ""),
    ("fare 5.5 kr", "{ matches = 'fare (?P<kr>\\S+)', number = { group = 'kr', max = 5 } }", "the group kr to be a number: at most 5"),
    ("a b\\nx 1\\n", "columns = { names = ['a', 'b'], types = ['text', 'int'], count = 1 }", ""),
    ("a b\\nx 1.5\\n", "columns = { names = ['a', 'b'], types = ['text', 'int'] }", "an int as b in line 2"),
    ("b a\\nx 1\\n", "columns.names = ['a', 'b']", "the header a | b"),
    ("a b\\nx\\n", "columns.names = ['a', 'b']", "2 columns in line 2"),
    ("x 2025-06-01\\ny 1\\n", "columns.types = ['text', 'date']", "a date as column 2 in line 2"),
    ("| x | 1 |\\n| y z | 2 |\\n", "columns = { types = ['text', 'float'], separator = '|', count = '1..2' }", ""),
    ("x,,1\\n", "columns = { types = ['text', 'text', 'int'], separator = ',' }", ""),
    ("a b\\nx 1\\n", "columns = { names = ['a', 'b'], count = 2 }", "2 rows"),
    ("", "columns = { names = ['a'] }", "the header a"),
    ("a\\nb\\nb\\n", "sorted = true", ""),
    ("b\\na\\n", "sorted = true", 'line 2, "a", after "b"'),
    ("b\\na\\n", "sorted = 'down'", ""),
    ("9 x\\n10 y\\n", "sorted = 'numbers'", ""),
    ("9 x\\n10 y\\n", "sorted = 'numbers-down'", "numbers down"),
    ("9 x\\nten y\\n", "sorted = 'numbers'", "line 2 begins with no number"),
    ("a\\nb\\na\\n", "unique = true", '"a" in lines 1 and 3'),
    ("a\\nb\\n", "unique = true", ""),
    ("b\\na\\n", "{ any = [{ sorted = true }, { unique = true }] }", ""),
    ("b\\na\\n", "{ not = { sorted = true } }", ""),
]  # fmt: skip


def test_figures_are_read_as_what_they_are(place: Place) -> None:
    matrices = "".join(
        f'[[matrix]]\nname = "m{number}"\nline = "{{text}}"\naxes.want = [7]\naxes.text = ["{text}"]\n'
        f"expect.stdout{' = ' if form.startswith('{') else '.'}{form}\n"
        for number, (text, form, _) in enumerate(CASES)
    )
    place.write("f.matrix.toml", "[program]\nlaunch = [\"printf\", \"%s\"]\n" + matrices)
    out = place.call("run", "--all").out
    came = {each["matrix"]: each for each in place.cases()}
    for number, (text, form, told) in enumerate(CASES):
        case = came[f"m{number}"]
        assert case["verdict"] == ("failed" if told else "passed"), (text, form, case["aspects"])
        said = " ".join(f"{each.get('expected')} {each.get('actual')}" for each in case["aspects"])
        assert told in said, (form, said)
        assert not told or told.partition("in lines")[0].partition(", after")[0] in out


@pytest.mark.parametrize(("form", "told"), [
    ("number = { group = 'x' }", '"matches" has no group "x"'),
    ("columns = { names = ['a'], types = ['int', 'int'] }", "1 names and 2 types; expected as many"),
    ("columns = { separator = ',' }", "expected names, types or count"),
    ("columns.types = ['integer']", 'expected "text", "int", "float" or "date"'),
    ("sorted = false", "expected"),
    ("number.about = '{nothing}'", '"nothing" is neither an axis nor a column here'),
])  # fmt: skip
def test_figures_that_make_no_sense_are_pointed_out(place: Place, form: str, told: str) -> None:
    place.write("f.matrix.toml", f'[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = ""\nexpect.stdout.{form}\n')
    assert told in place.call("lint").out


def test_a_condition_on_the_outcome_is_explained(place: Place) -> None:
    rule = 'expect = [{ when = "exit == 0", stdout = "x" }]'
    place.write("f.matrix.toml", f'[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = ""\n{rule}\n')
    came = place.call("lint")
    assert 'a condition is evaluated before the launch, so "exit" has no value here yet' in came.out
    assert "any = [" in came.out
