"""Forms of expectations by tables: numbers, JSON, large outputs, masks, references, baselines."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from keen_matrix.core.expect.baselines import read_baselines, write_baselines, written_baselines
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.forms.json_value import JsonForm, parse_pointer, pointer
from keen_matrix.core.expect.forms.lines import LinesForm
from keen_matrix.core.expect.numbers import Tolerance, texts_alike
from keen_matrix.core.expressions import Scope, Template
from tests.conftest import Place


@pytest.mark.parametrize(
    ("expected", "came", "tolerance", "alike"),
    [
        ("4.5", "4.50", Tolerance(0.0), True), ("4.5", "4.51", Tolerance(0.01), True), ("4.5", "4.52", Tolerance(0.01), False),
        ("1e3 x", "1000.0 x", Tolerance(0.1), True), ("a 1 b 2", "a 1 b 3", Tolerance(0.5), False),
        ("a 1 b", "a 1 c", Tolerance(5), False), ("100", "101", Tolerance(0, 0.01), True), ("v1", "v2", Tolerance(5), False),
        ("-0.5", "0.5", Tolerance(0.9), False), ("3 4", "3", Tolerance(9), False),
    ],
)  # fmt: skip
def test_numbers_in_texts_within_a_tolerance(expected: str, came: str, tolerance: Tolerance, alike: bool) -> None:
    assert texts_alike(expected, came, tolerance) is alike


def pointers(form: JsonForm, text: str) -> list[str]:
    found = list(form.check(text.encode(), CheckContext()))
    return [line.partition(": ")[0] for each in found for line in each.expected.split("\n")]


@pytest.mark.parametrize(
    ("form", "text", "differs"),
    [
        (JsonForm({"a": 1}), '{"a": 1.0}', []), (JsonForm({"a": 1}), '{"a": true}', ["/a"]), (JsonForm([1, 2]), "[2, 1]", ["/0", "/1"]),
        (JsonForm([1, 2], any_order=True), "[2, 1]", []), (JsonForm({"a": [1], "b": [1, 2]}, any_order=(("b",),)), '{"a": [1], "b": [2, 1]}', []),
        (JsonForm({"a": 1}), '{"a": 1, "b": 2}', ["/b"]), (JsonForm({"a": 1}, ignore=(("b",),)), '{"a": 1, "b": 2}', []),
        (JsonForm([{"id": 1, "n": 2}], ignore=(("*", "id"),)), '[{"id": 9, "n": 2}]', []), (JsonForm(1.5, tolerance=Tolerance(0.1)), "1.55", []),
        (JsonForm(2**70), str(2**70), []), (JsonForm(2**70), str(2**70 + 1), ["/"]), (JsonForm(float("nan")), "NaN", []),
        (JsonForm({"a/b": {"~": 1}}), '{"a/b": {"~": 2}}', ["/a~1b/~0"]), (JsonForm([1]), "[1, 2", ["Expecting ',' delimiter"]),
        (JsonForm([{"a": 1}], lines=True), '{"a": 1}\n', []), (JsonForm({"a": 1}), '{"a": 1, "a": 2}', ['the key "a" occurs twice']),
    ],
)  # fmt: skip
def test_json_by_value(form: JsonForm, text: str, differs: list[str]) -> None:
    found = pointers(form, text)
    assert len(found) == len(differs) and all(
        each.startswith(want) for each, want in zip(found, differs, strict=True)
    ), found


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(), lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner), max_leaves=8
)  # fmt: skip


@given(VALUES)
def test_a_value_is_like_its_own_json_and_pointers_read_back(value: Any) -> None:
    assert not pointers(JsonForm(value), json.dumps(value))
    if isinstance(value, dict):
        for key in value:
            assert parse_pointer(pointer((key,))) == (key,)


@given(
    st.dictionaries(
        st.text("0123456789abcdef", min_size=4, max_size=10),
        st.dictionaries(
            st.sampled_from(["stdout", "files.a b", "files.a\nb:", "files.\udcff"]), st.binary(), min_size=1
        ),
    )
)
def test_recorded_outputs_read_back_whatever_the_bytes(entries: dict[str, dict[str, bytes]]) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as directory:
        path = f"{directory}/b/m.txt"
        write_baselines(path, written_baselines("m", "s", entries, dict.fromkeys(entries, "a 'b' case x")))
        assert read_baselines(path) == entries
        assert all(32 <= each < 127 or each >= 128 or each in (9, 10) for each in Path(path).read_bytes())


def test_large_outputs_are_compared_in_seconds(place: Place) -> None:
    place.write("p.py", """
        import sys
        kind = sys.argv[1]
        if kind == "lines":
            for number in range(200_000):
                print(number if number != 150_000 else "odd")
        elif kind == "long":
            print("x" * 5_000_000 + "y")
        else:
            sys.stdout.write("ab\\n" * 2_700_000)
        """)  # fmt: skip
    place.write("t.matrix.toml", """
        [program]
        launch = "python3 {here}/p.py"
        [[matrix]]
        name = "lines"
        line = "lines"
        expect.stdout.command = "seq 0 199999"
        [[matrix]]
        name = "long"
        line = "long"
        expect.stdout.file = "long.txt"
        [[matrix]]
        name = "much"
        line = "much"
        expect.stdout = { lines-any-order = ["ab"], lacks = "abc" }
        """)  # fmt: skip
    place.write("long.txt", "x" * 5_000_001)
    came = place.call("run", timeout=50)
    assert came.status == 1
    assert "differs in 1 of 200,000 lines" in came.out and "found    150001  odd" in came.out, came.out
    assert "not expected  ab" in came.out and "and 2,699,979 more" in came.out
    assert "…x" in came.out and "xy\n" in came.out


def test_a_slow_pattern_is_given_up_and_says_so(place: Place) -> None:
    spec(place, "[[matrix]]\nname = \"m\"\nline = \"x\"\nexpect.stdout.matches = '^(?:0|00|000)+(?<!0)$'", "printf '%040d' 0")
    came = place.call("run")
    assert "^(?:0|00|000)+(?<!0)$ (gave up after 2 s)" in came.out


def test_lines_are_templates_and_may_hold_several() -> None:
    form = LinesForm((Template("a {n}"), Template("b\nc")))
    assert not list(form.check(b"a 1\nb\nc", CheckContext(Scope({"n": 1}))))
    assert list(form.check(b"a 1\nb\nc\n\n", CheckContext(Scope({"n": 1}))))


def spec(place: Place, body: str, script: str) -> None:
    place.write("p.sh", script)
    place.write("t.matrix.toml", '[program]\nlaunch = "sh {here}/p.sh"\n' + body)


def test_an_oracle_that_fails_is_an_error_of_its_case_alone_and_is_asked_once(place: Place) -> None:
    place.write("oracle.py", "def half(n):\n    open('/dev/stderr', 'w').write('asked\\n')\n    return 4 // n\n")
    spec(place, """
oracle = "oracle.py"
[[matrix]]
name = "m"
line = "{n}"
axes.n = [1, 0, 2]
expect = { stdout = "{half(n)}", exit = "{half(n) * 0}" }
""", 'echo $((4 / $1))')  # fmt: skip
    came = place.call("run", "--jobs", "1")
    assert "found     the expression half(n) failed: a division by 0" in came.out and "with n = 0" in came.out
    assert came.err.count("asked") == 4, "once a case; again where it failed"


def test_a_reference_program_says_what_is_expected(place: Place) -> None:
    body = """
[reference]
launch = "sh -c 'test $1 -lt 3 && echo $1' old"
aspects = ["exit", "stdout"]
[[matrix]]
name = "m"
line = "{n}"
axes.n = [1, 2, 3]
"""
    spec(place, body, "echo $1")
    assert place.call("run").status == 1
    assert [case["verdict"] for case in sorted(place.cases(), key=lambda case: case["argv"])] == [
        "passed",
        "passed",
        "failed",
    ]
    spec(place, body.replace("[[matrix]]", "only-accepted = true\n[[matrix]]") + "expect.stderr = ''\n", "echo $1")
    assert place.call("run").status == 0
    spec(place, body, "echo $(( $1 / 2 * 2 ))")
    came = place.call("run", "--only", "1")
    assert 'expected  "1"' in came.out and 'found     "0"' in came.out


def test_masks_hide_what_varies_and_an_idle_one_is_pointed_out(place: Place) -> None:
    spec(place, """
[[mask]]
matches = '\\d+ ns'
as = "<time>"
[[matrix]]
name = "m"
line = "x"
mask = [{ matches = "zebra", as = "?", in = ["stderr"] }]
expect = { stdout = "took 5 ns", files.log = "at <time>" }
""", 'echo "took $(date +%N) ns"; echo "at 99 ns" > log')  # fmt: skip
    came = place.call("run", "--repeat", "1")
    assert came.status == 0, came.out
    assert "the mask zebra found nothing in the whole run   t.matrix.toml:10" in came.out and r"\d+ ns" not in came.out
    assert "ns" in place.cases()[0]["stdout"], "the journal keeps what was found"


def test_recorded_outputs_are_told_shown_accepted_and_dropped(place: Place) -> None:
    body = """
[[matrix]]
name = "m"
line = "{n}"
axes.n = ["1", "2"]
expect = { stdout.baseline = true, files.log.baseline = true }
"""
    spec(place, body, 'printf "got %s" $1; echo log > log')
    assert place.call("run").status == 1 and not list(place.directory.glob("*.baselines")), "run records nothing"
    came = place.call("baseline")
    assert came.status == 1 and "4 new" in came.out
    came = place.call("baseline", "--ask", stdin="y\nn\ny\ny\n")
    assert came.status == 1 and "3 outputs accepted" in came.out
    place.call("run")
    assert place.call("baseline", "--accept").status == 0
    assert place.call("run").status == 0
    text = (place.directory / "t.baselines/m.txt").read_text()
    assert text.count("\ncase ") == 2 and "\nstdout:\n| got 1\n^\n" in text
    spec(place, body, 'printf "made %s\\033[0m" $1; echo log > log')
    place.call("run")
    came = place.call("baseline", "--show")
    assert "2 changed" in came.out and "got 1" in came.out and "made 1\\e[0m" in came.out
    assert place.call("baseline", "--accept", "--only", "1").status == 0
    spec(place, body.replace('["1", "2"]', '["2"]'), 'printf "got %s" $1; echo log > log')
    place.call("run")
    came = place.call("baseline")
    assert "2 unused" in came.out and came.status == 1
    assert place.call("baseline", "--accept").status == 0
    assert (place.directory / "t.baselines/m.txt").read_text().count("\ncase ") == 1
    (place.directory / "t.baselines/m.txt").write_text("rubbish\n")
    assert "m.txt:1: this line does not belong in a file of baselines" in place.call("run").out
    assert place.call("baseline").status == 2


def test_an_output_of_a_crash_is_not_accepted_unless_told_to(place: Place) -> None:
    spec(place, '[[matrix]]\nname = "m"\nline = "x"\nexpect.stdout.baseline = true\n', "echo half; kill -SEGV $$")
    place.call("run")
    assert "not accepted: it crashed" in place.call("baseline", "--accept").out
    assert place.call("baseline", "--accept", "--broken").status == 0


def test_outputs_accepted_in_two_branches_merge(place: Place) -> None:
    spec(
        place,
        '[[matrix]]\nname = "m"\nline = "{n}"\naxes.n = { from = 1, to = 12 }\nexpect.stdout.baseline = true\n',
        "echo $1",
    )
    place.call("run")

    def git(*words: str) -> None:
        subprocess.run(
            ["git", "-c", "user.name=x", "-c", "user.email=x@x", *words],
            cwd=place.directory,
            check=True,
            capture_output=True,
        )

    ids = sorted(case["id"] for case in place.cases())
    place.call("baseline", "--accept", *(word for id in ids[::2] for word in ("--only", id)))
    git("init", "-q", "-b", "main")
    git("add", "t.baselines")
    git("commit", "-qm", "base")
    for branch, id in (("one", ids[1]), ("two", ids[9])):
        git("checkout", "-q", "-b", branch, "main")
        place.call("baseline", "--accept", "--only", id)
        git("commit", "-qam", branch)
    git("merge", "one")
    assert len(read_baselines(str(place.directory / "t.baselines/m.txt"))) == 8


LINT = {
    "stdout.holds = ['h > 1']": '"holds" is given without "matches"',
    "stdout.tolerance = 1": '"tolerance" is given without',
    "stdout = { is = 'x', ignore = '/a' }": '"ignore" is given without "json" or "json-lines"',
    "stdout = { json = 1, ignore = 'a' }": "'a' is not a JSON Pointer",
    "stdout.file = 'none.txt'": "none.txt does not exist beside the spec",
    "stdout.bytes = 'md5:12'": "a md5 digest has 32 hex digits, this one 2",
    "duration = '< 2 d'": 'expected a limit such as "< 2 s"',
    "alike = { again = true, line = 'x' }": "expected exactly one of launchers, again, line (with stdin, dialogue or terminal), found again and line",
    "alike = { launchers = true }": "the spec has no [program.launchers]",
    "differs = { again = true }": 'unknown key "again"',
    "alike = { line = '[-a] x' }": "the line of another launch has no groups",
    "stdout = { matches = '(?<h>x)', holds = ['k > 1'] }": '"k" is neither an axis nor a column',
}


@pytest.mark.parametrize("text", LINT)
def test_lint_knows_the_forms(place: Place, text: str) -> None:
    spec(place, f'[[matrix]]\nname = "m"\nline = "x"\nexpect.{text}\n', "")
    came = place.call("lint")
    assert came.status == 1 and LINT[text] in came.out and "t.matrix.toml:6:" in came.out, came.out


def test_a_list_in_a_list_of_texts_is_spliced_and_is_no_text_elsewhere(place: Place) -> None:
    axes = 'line = "{words}"\naxes.words = [["b", "a"], ["c"]]\n'
    wanted = ['lines = ["{words}"]', 'contains = ["{words}"]', 'lines-any-order = ["{sorted(words)}"]']
    text = "".join(f'[[matrix]]\nname = "m{number}"\n{axes}expect.stdout.{each}\n' for number, each in enumerate(wanted))
    place.write("t.matrix.toml", '[program]\nlaunch = ["printf", "%s\\\\n"]\n' + text)
    came = place.call("run")
    assert came.status == 0 and "6 cases: all passed" in came.out
    place.write("t.matrix.toml", f'[program]\nlaunch = ["printf", "%s\\\\n"]\n[[matrix]]\nname = "m"\n{axes}expect.stdout = "{{words}}"\n')
    assert "its value is a list, and not a text; ' '.join(…) makes one" in place.call("lint").out


def test_the_lines_of_a_command_may_come_in_any_order(place: Place) -> None:
    order = 'stdout = { command = ["printf", "%s\\\\n", "b", "a"], any-order = true }'
    place.write("t.matrix.toml", f'[program]\nlaunch = ["printf", "%s\\\\n"]\n[[matrix]]\nname = "m"\nline = "{{word}} b"\naxes.word = ["a", "c"]\nexpect.{order}\n')
    came = place.call("run")
    assert came.status == 1 and "1 passed, 1 failed" in came.out and "not expected  c" in came.out
    place.write("t.matrix.toml", (place.directory / "t.matrix.toml").read_text().replace("= true", '= ["/a"]'))
    assert "any-order of file and command is true" in place.call("lint").out


def test_a_column_in_a_part_that_is_left_out_is_none(place: Place) -> None:
    rows = 'line = "x [--port {port}]"\ncolumns = ["port"]\nrows = [["Holm"], ["Voe"]]\n'
    place.write("t.matrix.toml", f'[program]\nlaunch = ["echo"]\n[[matrix]]\nname = "m"\n{rows}expect.stdout = "{{\'x\' if port is None else \'x --port \' + port}}"\n')
    assert "3 cases: all passed" in place.call("run").out
