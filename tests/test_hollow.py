"""Green is only shown for what was checked: conditions that nothing meets, forms that ask nothing, accepted
vectors that show nothing of the program at work."""

from __future__ import annotations

import json

import pytest

from tests.conftest import Place
from tests.programs import in_sh

CONDITION = """
    [program]
    launch = "echo"
    [signature]
    synopsis = "[--bike] PORT"
    derive = []
    values.PORT = {{ of = ["Skerry", "Holm"] }}
    [[matrix]]
    name = "m"
    line = "Holm {{n}} [--bike]"
    axes.n = [1, 2]
    skip = {{ because = "there", when = "platform == 'plan9'" }}
    expect = [{{ exit = 0 }}, {{ when = "{when}", stdout = "x" }}]
    """


@pytest.mark.parametrize(("when", "says"), [
    ("n == '1'", "n is a number here, so it never equals '1'"),
    ("n == 3", "n is never 3"),
    ("n in (3, 4)", "n is never 4"),
    ("PORT == 'Hlm'", "PORT is never 'Hlm'"),
    ("has('--bik')", "no case meets this condition, so what the rule asks is never checked: has('--bik')"),
    ("n > 1 and n < 2", "no case meets this condition, so what the rule asks is never checked: n > 1 and n < 2"),
    ("platform == 'Linux'", "platform is never 'Linux'"),
])  # fmt: skip
def test_a_condition_that_nothing_meets_is_a_warning_of_lint_and_run(place: Place, when: str, says: str) -> None:
    place.write("t.matrix.toml", CONDITION.format(when=when))
    came = place.call("lint")
    assert came.status == 0 and f"warning: {says}" in came.err + came.out
    # what a constant tells is not told by the condition once more
    if " in " not in when:
        assert (came.err + came.out).count("warning:") == 2  # the other one is platform == 'plan9'
    assert f"warning   {says}" in place.call("run").out


@pytest.mark.parametrize("when", ["n == 1", "n == 1.0", "has('--bike')", "PORT != 'Skerry'", "n in (1, 2)", "platform != 'darwin'"])
def test_a_condition_that_some_case_meets_is_none(place: Place, when: str) -> None:
    place.write("t.matrix.toml", CONDITION.format(when=when).replace("'plan9'", "'win32'"))
    assert "no warnings" in place.call("lint").out


def test_a_row_that_makes_the_call_of_another_is_a_warning(place: Place) -> None:
    place.write("t.matrix.toml", """
        [program]
        launch = "echo"
        [[matrix]]
        name = "m"
        line = "{word}"
        columns = ["word", "note"]
        rows = [["a", "1"], ["b", "2"], ["a", "3"]]
        expect.exit = 0
        """)
    assert "row 3 (t.matrix.toml:8) makes the same call as an earlier row, so it is not run" in place.call("run").out


@pytest.mark.parametrize(("stdout", "says"), [
    ('{ contains = "" }', "an empty text"), ('{ contains = ["x", ""] }', "an empty text"), ('{ starts = "" }', "an empty text"),
    ('{ matches = "y*" }', "this pattern"), ('{ matches = "(?s).*" }', "this pattern"), ('{ number-of-lines = "0.." }', "0 or more"),
    ('{ json = { a = 1 }, ignore = "/*" }', "a JSON value of which all is ignored"), ('{ any = [{ contains = "" }] }', "an empty text"),
])  # fmt: skip
def test_a_form_that_every_output_meets_is_an_error(place: Place, stdout: str, says: str) -> None:
    place.write("t.matrix.toml", f"""
        [program]
        launch = "echo"
        [[matrix]]
        name = "m"
        line = "a"
        expect.stdout = {stdout}
        """)
    came = place.call("run")
    assert came.status == 2 and f"{says} is met by every output, so nothing is checked" in came.err


@pytest.mark.parametrize("matches", ["^$", "a|b", "x*y", r"^\d*$", "^y*$"])
def test_a_pattern_that_some_output_does_not_match_is_none(place: Place, matches: str) -> None:
    place.write("t.matrix.toml", f"""
        [program]
        launch = "echo"
        [[matrix]]
        name = "m"
        line = "a"
        expect.stdout.matches = '{matches}'
        """)
    assert place.call("lint").status == 0


@pytest.mark.parametrize(("word", "stdout", "verdict"), [
    ("a", '{ contains = "{want}" }', "unchecked"), ("a", '{ ends = "{want}" }', "unchecked"),
    ("a", '{ lacks = "{want}b" }', "passed"), ("", '{ columns.types = ["int"] }', "unchecked"), ("7", '{ columns.types = ["int"] }', "passed"),
    ("nan", '{ sorted = "numbers" }', "failed"), ("inf", "{ number = { min = 0 } }", "failed"), ("nan", "{ number = {} }", "failed"),
    ("a", '{ any = [{ is = "b" }, { contains = "{want}" }] }', "unchecked"), ("a", '{ contains = ["{want}", "a"] }', "passed"),
])  # fmt: skip
def test_what_asks_nothing_in_a_case_leaves_it_unchecked(place: Place, word: str, stdout: str, verdict: str) -> None:
    place.write("t.matrix.toml", f"""
        [program]
        launch = "sh -c 'printf %s $1' sh"
        [[matrix]]
        name = "m"
        line = "{{word}}"
        columns = ["word", "want"]
        rows = [["{word}", ""], ["z", "z"]]
        expect.stdout = {stdout}
        """)
    place.call("run")
    assert place.cases()[0]["verdict"] == verdict


def test_steps_that_never_start_the_program_are_an_error(place: Place) -> None:
    place.write("t.matrix.toml", """
        [program]
        launch = "echo"
        [[matrix]]
        name = "m"
        steps = [{ launch = "true" }, { launch = "true" }]
        """)
    came = place.call("run")
    assert came.status == 2 and "no step starts the program under test" in came.err


KNOWN = """
    [program]
    launch = "sh -c 'case $1 in c) kill -SEGV $$ ;; o) echo y ;; b) echo y; exit 3 ;; h) sleep 9 ;; esac' sh"
    [[matrix]]
    name = "m"
    timeout = "200 ms"
    line = "{word}"
    axes.word = ["c", "o", "b", "h"]
    expect = { exit = 0, stdout = "x" }
    known = { because = "rounding", MORE }
    """


@pytest.mark.parametrize(("more", "known"), [
    ("", "ob"), ('aspect = "stdout"', "o"), ('aspect = ["exit", "stdout"]', "ob"), ('verdict = "crashed"', "c"), ('verdict = "timed-out"', "h"),
])  # fmt: skip
def test_known_covers_what_it_names_and_never_a_new_crash(place: Place, more: str, known: str) -> None:
    place.write("t.matrix.toml", KNOWN.replace(", MORE", f", {more}" if more else ""))
    place.call("run")
    assert {each["argv"][0] for each in place.cases() if each["verdict"] == "known"} == {*known}


SILENT = """
    [program]
    launch = "sh {here}/p.sh"
    [signature]
    synopsis = "[--all] [--bare] [--count COUNT] PORT"
    reader = "argparse"
    derive = ["accepted", "refusals", "elsewhere"]
    values.COUNT.type = "int"
    """


@pytest.mark.parametrize(("does", "says"), [
    ("true", "accepted base calls print nothing and change no file, so only their exit status is checked"),
    ("usage; echo all of it", "accepted base calls print the same help, so none of them shows the program at work"),
])  # fmt: skip
def test_accepted_vectors_that_show_nothing_are_unchecked(place: Place, does: str, says: str) -> None:
    place.write("p.sh", in_sh({"--all": "", "--bare": "", "--count": "COUNT"}, whole=["COUNT"], says=does))
    place.write("t.matrix.toml", SILENT)
    came = place.call("run")
    accepted = {each["verdict"] for each in place.cases() if each["family"] == "accepted"}
    assert came.status == 1 and accepted == {"unchecked"} and came.out.count(says) == 1, came
    settled = place.call("settle", "--launches", "150").out
    assert "not much checked  " in settled and says.partition(" ")[2] in settled
    # unless the spec says that this is what it is to print
    place.write("t.matrix.toml", SILENT + '\n    [expect]\n    stdout.lacks = "Traceback"')
    assert place.call("run").status == 0
    # nothing is asked about output that cannot be written of a program that writes none
    elsewhere = {each["kind"] for each in place.cases() if each["family"] == "elsewhere"}
    assert ("full-device" in elsewhere) is (does != "true") and "TZ" in elsewhere


def test_a_run_says_beside_its_counts_how_little_held(place: Place) -> None:
    options = {f"--{name}": "" for name in ("all", "bare", "long", "near", "old")}
    place.write("p.sh", in_sh(options, says="echo ok"))
    place.write("t.matrix.toml", """
        [program]
        launch = "sh {here}/p.sh"
        [signature]
        synopsis = "[--all] [--bare] [--long] [--near] [--old] PORT"
        reader = "argparse"
        derive = ["accepted"]
        aside = ["--all", "--bare", "--long", "--near"]
        """)
    says = "only 1 of the 5 options of the signature are in a case that passed"
    came = place.call("run")
    assert came.status == 0 and says in came.out and "not much was checked (see above)" in came.out.splitlines()[-1]
    for format in ("junit", "tap", "markdown", "annotations", "html"):
        assert says in place.call("report", "--format", format).out.replace("\\", ""), format
    assert says in place.call("report").out
    assert f"not much checked  in the run: {says}" in place.call("coverage").out
    assert json.loads((place.directory / ".keen-matrix/last.jsonl").read_text().splitlines()[-1])["remarks"][-1] == {"kind": "hollow", "subject": says}


DECIDES = """
    [program]
    launch = "sh -c 'case $1 in make) echo x > made.txt ;; read) cat $2 || exit 2 ;; --swap) echo swapped ;; *) exit 2 ;; esac' sh"
    [signature]
    synopsis = ["make", "read FILE"]
    derive = []
    values.FILE.type = "file"
    [refusal]
    exit = 2
    """


def test_what_a_matrix_states_of_its_exit_wins_over_the_refusal_as_a_whole(place: Place) -> None:
    matrix = '[[matrix]]\nname = "m"\nline = "--swap"\nexpect = { EXIT stdout = "swapped" }\n'
    place.write("t.matrix.toml", DECIDES)
    text = (place.directory / "t.matrix.toml").read_text()
    place.write("t.matrix.toml", text + matrix.replace("EXIT", "exit = 0,"))
    assert place.call("run").status == 0
    place.write("t.matrix.toml", text + matrix.replace("EXIT ", ""))
    came = place.call("run")
    assert came.status == 1 and "signature   refuses this call: unknown-option" in came.out and "(t.matrix.toml:" in came.out
    assert "refuses this call: unknown-option" in place.call("report", "--format", "markdown").out


def test_a_file_that_an_earlier_step_made_is_not_taken_for_missing(place: Place) -> None:
    place.write("t.matrix.toml", DECIDES + """
    [[matrix]]
    name = "m"
    steps = [{ line = "make" }, { line = "read made.txt", expect = { exit = 0, stdout = "x" } }]
    [[matrix]]
    name = "filled in"
    line = "read {name}"
    axes.name = ["a.txt", "b.txt"]
    files."{name}" = "x"
    expect = { stdout = "x" }
    """)
    came = place.call("run")
    assert came.status == 0, came


def test_names_have_their_types_in_the_expectations_of_derived_cases(place: Place) -> None:
    place.write("p.sh", 'for each; do case $each in "" | *[!0-9]*) echo "bad $each" >&2; exit 2 ;; esac; s=$((s + each)); done; echo $((s)) $(($1 * 2))')
    place.write("t.matrix.toml", """
        [program]
        launch = "sh {here}/p.sh"
        [signature]
        synopsis = "NUM..."
        derive = ["accepted"]
        values.NUM = { type = "int", min = 0 }
        [expect]
        stdout = "{sum(NUM)} {NUM[0] * 2}"
        """)
    came = place.call("run")
    assert came.status == 0 and "passed" in came.out, came


def test_coverage_counts_an_aspect_where_a_rule_applies(place: Place) -> None:
    place.write("t.matrix.toml", """
        [program]
        launch = "echo"
        [[matrix]]
        name = "m"
        line = "{n}"
        axes.n = [1, 2, 3, 4]
        expect = [{ exit = 0 }, { when = "n > 3", stdout = "4" }]
        """)
    came = json.loads(place.call("coverage", "--format", "json").out)
    assert came["specs"][0]["aspects"] == {"m": {"exit": 4, "stdout": 1}}


@pytest.mark.parametrize(("does", "is_told"), [('[ -f "$1" ] && echo "$1"', True), ('cat "$1"', False)])
def test_a_sample_that_no_accepted_case_reads_is_said(place: Place, does: str, is_told: bool) -> None:
    place.write("p.sh", f"while getopts abc o; do case $o in [abc]) ;; *) exit 2;; esac; done; shift $((OPTIND-1)); {does}; echo $OPTIND")
    place.write("t.matrix.toml", """
        [program]
        launch = "sh {here}/p.sh"
        [files]
        "sample.txt" = "some text\\n"
        [signature]
        synopsis = "[-a] [-b] [-c] FILE"
        reader = "getopts"
        derive = ["accepted"]
        values.FILE.type = "file"
        """)
    came = place.call("run")
    assert came.status == 0 and ("accepted cases that name sample.txt reads it" in came.out) is is_told
    assert ("not much was checked" in came.out) is is_told


def test_a_brief_run_says_where_what_it_does_not_show_is_said(place: Place) -> None:
    place.write("t.matrix.toml", '[program]\nlaunch = "true"\n[signature]\nsynopsis = "[-a] [-b]"\nderive = ["accepted"]\n')
    assert "not much was checked (see above)" in place.call("run").out
    brief = place.call("run", "--brief").out
    assert "not much was checked (keen-matrix report says what)" in brief and "not much checked   " not in brief
    assert "not much checked   t.matrix.toml: " in place.call("report").out


def test_a_spec_that_its_program_removes_and_a_run_that_is_done_keep_what_is_remarked(place: Place) -> None:
    path = place.write("t.matrix.toml", '[program]\nlaunch = "true"\n[signature]\nsynopsis = "[-a] [-b]"\nderive = ["accepted"]\n')
    place.call("run")
    assert "not much checked   " in place.call("run", "--resume").out, "nothing was left to run"
    path.write_text(path.read_text().replace('"true"', f"\"sh -c 'rm -f {path}' sh\""))
    came = place.call("run")
    assert "finished" in (place.directory / ".keen-matrix/last.jsonl").read_text().splitlines()[-1] and "Traceback" not in came.err
