"""What stands in the failure itself: the message, the launcher, what is there instead of a file; and what expectations see."""

from __future__ import annotations

import subprocess

import pytest

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expressions import Expression, Scope
from tests.conftest import Place

PROGRAM = """
    case "$1" in
    fail) printf 'cannot open the harbour\\n\\ntry later\\n3\\n4\\n' >&2; exit 4 ;;
    crash) exec python3 -S -c 'def find():
      raise KeyError("port")
    find()' ;;
    files) echo a > a.txt; chmod 600 names.txt; echo c >> names.txt ;;
    sum) printf 'a\\nb\\n' ;;
    pi) echo 3.1415 ;;
    esac
    """
HEAD = '[program]\nlaunch = "sh {here}/p.sh"\n'


@pytest.fixture
def told(place: Place) -> Place:
    place.write("p.sh", PROGRAM)
    return place


def out_of(place: Place, rest: str, head: str = HEAD) -> str:
    (place.directory / "t.matrix.toml").write_text(f'{head}[[matrix]]\nname = "m"\n{rest}')
    return place.call("run").out


def test_what_a_program_says_stands_beside_an_unexpected_exit(told: Place) -> None:
    out = out_of(told, 'line = "fail"\nexpect.exit = 0\n')
    rows = "  it says     cannot open the harbour\n              try later\n              3\n"
    assert rows + "              (1 more line; --all shows them)\n" in out
    assert 'File "<string>", line 2, in find\n              KeyError: \'port\'\n' in out_of(told, 'line = "crash"\nexpect.exit = 0\n')
    out = out_of(told, 'line = "fail"\nexpect = { exit = 0, stderr = "x" }\n')
    assert "it says" not in out, "the difference shows it already"


def test_a_file_that_is_missing_says_what_is_there(told: Place) -> None:
    put = 'line = "files"\nfiles."names.txt" = "x"\nfiles.".dot/deep" = "x"\n'
    out = out_of(told, put + 'expect.files."*.log" = "x"\n')
    assert "expected  a file named *.log" in out and "found     none; there is .dot/deep, a.txt, names.txt" in out
    out = out_of(told, put + 'expect.files."b.txt".size = 3\n')
    assert "found     absent; there is .dot/deep, a.txt, names.txt" in out
    out = out_of(told, put + 'expect.files."names.txt".unchanged = true\n')
    assert "expected  mode 644 as before" in out and "found     mode 600" in out and "the same as before the launch" in out
    assert "nothing is there" in out_of(told, 'line = "sum"\nexpect.files."b.txt" = "x"\n')


def test_names_of_files_are_templates(told: Place) -> None:
    line = 'line = "files"\naxes.port = ["names"]\nfiles."{port}.txt" = "x"\nexpect.other-files = "none"\n'
    out = out_of(told, line + 'expect.files."{port}.txt" = "xc\\n"\nexpect.files."{port[0]}*.txt".size = 3\nexpect.files."a.txt" = "a"\n')
    assert "1 case: all passed" in out, out


@pytest.mark.parametrize(("command", "keys", "verdict"), [
    ("cat port.txt", "", "passed"), ("sh -c 'echo $PORT; echo b'", "", "passed"), ("cat spec.txt", ', command-in = "spec"', "passed"),
    ("cat port.txt", ', command-in = "spec"', "failed"),
])  # fmt: skip
def test_a_command_of_an_expectation_runs_where_the_case_ran(told: Place, command: str, keys: str, verdict: str) -> None:
    told.write("spec.txt", "a\nb\n")
    rest = f'line = "sum"\nfiles."port.txt" = "a\\nb\\n"\nenv.PORT = "a"\nexpect.stdout = {{ command = "{command}"{keys} }}\n'
    out = out_of(told, rest)
    assert [each["verdict"] for each in told.cases()] == [verdict], out
    if verdict == "failed":
        assert "the command cat ended with exit 1: cat: port.txt: No such file or directory" in out


def test_a_launcher_that_differs_is_named_with_its_line(told: Place) -> None:
    told.write("q.sh", PROGRAM.replace("a\\nb", "a\\nc"))
    head = HEAD + 'launchers.other = "env X=1 sh {here}/q.sh"\n'
    out = out_of(told, 'line = "sum"\nexpect.alike.launchers = true\n', head)
    assert f"compared  started by other: env X=1 sh {told.directory}/q.sh" in out


@pytest.mark.parametrize(("keys", "passed"), [
    ("", 0), ("any-order = true", 1), ("tolerance = 0.001", 1), ("any-order = true\ntolerance = { relative = 0.01 }", 2),
    ("aspects = ['exit']", 2),
])  # fmt: skip
def test_a_reference_is_compared_as_far_as_it_is_asked(told: Place, keys: str, passed: int) -> None:
    told.write("ref.sh", 'case "$1" in sum) printf "b\\na\\n" ;; pi) echo 3.14159 ;; esac\n')
    head = f'{HEAD}[reference]\nlaunch = "sh {{here}}/ref.sh"\n{keys}\n'
    out_of(told, 'line = "{x}"\naxes.x = ["sum", "pi"]\nexpect.exit = 0\n', head)
    assert sum(each["verdict"] == "passed" for each in told.cases()) == passed


def test_joined_streams_keep_the_order(place: Place) -> None:
    place.write("p.sh", "for n in 1 2 3; do echo out $n; echo err $n >&2; done\n")
    out = out_of(place, 'line = ""\nstreams = "joined"\nexpect.stderr = ""\nexpect.stdout = "out 1\\nerr 1\\nout 2\\nerr 2\\nout 3\\nerr 3\\n"\n')
    assert "all passed" in out, out
    out_of(place, 'line = ""\nexpect.exit = 0\n')
    shown = place.call("replay", place.cases()[0]["id"]).out
    assert "~ at about the same time: two pipes do not show the order" in shown


def test_a_dialogue_is_shown_and_its_script_can_be_answered(place: Place) -> None:
    place.write("p.sh", 'printf "Name? "; read name; printf "Port? "; read port; echo "$name to $port"\n')
    replies = 'dialogue = [{ prompt = "Name?", reply = "Ada" }, { prompt = "Port?", reply = "Holm" }]\n'
    out_of(place, f'line = ""\nterminal = {{}}\n{replies}expect.stdout.ends = "Ada to Holm"\n')
    id = place.cases()[0]["id"]
    shown = place.call("replay", id).out
    order = [shown.index(each) for each in ("│ Name?", "typed  Ada", "│ Port?", "typed  Holm", "│ Ada to Holm")]
    assert order == sorted(order)
    assert place.call("replay", id, "--script", "again.sh").status == 0
    assert "# Port? is answered with: Holm" in (place.directory / "again.sh").read_text()
    ran = subprocess.run(["sh", "again.sh"], cwd=place.directory, input="Ola\nVoe\n", capture_output=True, text=True)
    assert ran.stdout == "Name? Port? Ola to Voe\n", ran


TYPED = """
[program]
launch = "python3 -S {here}/p.py"
[signature]
reader = "argparse"
synopsis = "[-n,--count COUNT] [LOAF...]"
values.COUNT = { type = "int", default = 2 }
values.LOAF.type = "int"
derive = []
[[matrix]]
name = "t"
line = "{w}"
axes.w = [[], ["1"], ["1", "2"], ["-n", "3", "4"]]
expect.stdout = "{sum(LOAF) * COUNT} {len(LOAF)}\\n"
"""


def test_names_are_of_their_types_in_lists_and_when_they_are_absent(place: Place) -> None:
    place.write("p.py", """
        import argparse
        parser = argparse.ArgumentParser()
        parser.add_argument("loaf", nargs="*", type=int)
        parser.add_argument("-n", "--count", type=int, default=2)
        given = parser.parse_args()
        print(sum(given.loaf) * given.count, len(given.loaf))
        """)  # fmt: skip
    place.write("t.matrix.toml", TYPED)
    assert "4 cases: all passed" in place.call("run").out


@pytest.mark.parametrize(("source", "told_as"), [
    ("GRAMS + 1", "these values do not go together: GRAMS is a list of 2 texts"), ("GRAMS * 1.5", "these values do not go together: GRAMS is"),
    ("GRAMS[7]", "there is no such item: GRAMS is a list of 2 texts"), ("NONE + 1", "a value that is missing from the call is used: NONE is not given"),
    ("N < 'a'", "these values cannot be compared: N is a number"), ("1 / ZERO", "a division by 0"), ("int('x')", "'x' is not a whole number"),
    ("float('x')", "'x' is not a number"), ("(N)(1)", "there is no function N"), ("EMPTY[0]", "EMPTY is an empty list"),
])  # fmt: skip
def test_what_is_wrong_with_an_expression_is_told_in_words_of_the_spec(source: str, told_as: str) -> None:
    names = {"GRAMS": ["1", "2"], "NONE": None, "N": 1, "ZERO": 0, "EMPTY": []}
    with pytest.raises(ExpressionFault) as caught:
        Expression(source).evaluate(Scope({key: value for key, value in names.items() if key in source}))
    assert told_as in str(caught.value)


def test_what_cannot_stand_in_an_expression_is_named() -> None:
    with pytest.raises(ExpressionFault, match=r"a function without a name \(lambda\) cannot be used in an expression"):
        Expression("(lambda x: x)(1)")
