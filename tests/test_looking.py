"""Many calls side by side: read as people type them, shown in a table, for others, and written as rows of a spec."""

from __future__ import annotations

import csv
import io
import json
import re
import shutil
import signal
import subprocess
import time
import tomllib
from pathlib import Path

import jsonschema
import pytest

from keen_matrix.core.errors import Misuse
from keen_matrix.core.runs.keeping.calls import Call, read_calls
from tests.conftest import Place

PROGRAM = """\
case "$*" in
    crash) kill -SEGV $$ ;;
    long) seq 1 40 ;;
    when) date +%N ;;
    raw) printf 'a\\377b' ;;
    write) echo x > made.txt ;;
    env) echo "$COLOUR $(cat)" ;;
    "") echo "usage: fare PORT" >&2; exit 2 ;;
    -*) echo "fare: unknown option $1" >&2; exit 2 ;;
    *) echo "fare to $1${2:+ and $2}" ;;
esac
"""
CALLS = """\
# the calls that I always type
Skerry
Holm
"two words"
# with a name
Skerry 'Ada T.'
Voe x  # and a remark
-q
COLOUR=red env < names.txt
echo hello | COLOUR=blue env
"""


@pytest.fixture
def office(place: Place) -> Place:
    place.write("fare.sh", PROGRAM)
    place.write("calls.txt", CALLS)
    place.write("names.txt", "Ola B.\n")
    return place


TYPED = [
    ("Skerry", Call(words=("Skerry",))), ("'two words' \"a b\" c\\ d", Call(words=("two words", "a b", "c d"))), ('""', Call(words=("",))),
    ("$HOME *.txt ~", Call(words=("$HOME", "*.txt", "~"))), ("a#b # c", Call(words=("a#b",))), ("'a | b'", Call(words=("a | b",))),
    ("A=1 B='x y' c", Call(words=("c",), env=(("A", "1"), ("B", "x y")))), ("A=1", Call(words=(), env=(("A", "1"),))),
    ("a < f.txt", Call(words=("a",), stdin_file="f.txt")), ("echo a b | c", Call(words=("c",), stdin="a b\n")),
    ("echo -n a | c", Call(words=("c",), stdin="a")), ("printf 'a\\nb\\n' | c", Call(words=("c",), stdin="a\nb\n")),
    ('"a\\"b\\\\c"', Call(words=('a"b\\c',))), ("--n=3 -x", Call(words=("--n=3", "-x"))), ("'' ''", Call(words=("", ""))),
]  # fmt: skip


@pytest.mark.parametrize(("line", "call"), TYPED, ids=[line for line, _ in TYPED])
def test_a_line_is_read_as_it_is_typed(line: str, call: Call) -> None:
    assert read_calls(f"# first\n\n{line}\n", "calls.txt") == [call]
    if not re.search(r"[$*~<|=#]", line):  # where a shell would do more than split
        split = subprocess.run(["sh", "-c", f"printf '%s\\n' {line}"], capture_output=True, text=True, check=True).stdout
        assert split.split("\n")[:-1] == list(call.words)


WITHOUT = {
    "\nSkerry\n": [(), ("Skerry",)], "Skerry\n\nHolm\n\nVoe": [("Skerry",), (), ("Holm",), ("Voe",)], "Skerry\n:none\n": [("Skerry",), ()],
    "a\n\n# more\nb\n": [("a",), ("b",)], "# all\n\na\n": [("a",)], "a\n\n\nb": [("a",), ("b",)], "':none'\n": [(":none",)], "\n\n": [], "": [],
}  # fmt: skip


@pytest.mark.parametrize("text", WITHOUT)
def test_an_empty_line_is_the_call_without_words(text: str) -> None:
    assert [call.words for call in read_calls(text, "calls.txt")] == WITHOUT[text]


@pytest.mark.parametrize(("line", "place"), [
    ("a | b", "2:3: | needs a shell"), ("a && b", "2:3: && needs a shell"), ("a > f", "2:3: > needs a shell"), ("cat f | a", "2:7: | needs a shell"),
    ("a 'b", "2:3: this quote is never closed"), ("a; b", "2:2: ; needs a shell"), ("echo a | b < f", "2:12: the input is piped in already"),
    ("printf '%s' a | b", "2:15: | needs a shell"), ("a <", "2:3: < needs a shell"),
])  # fmt: skip
def test_what_needs_a_shell_is_an_error_with_its_place(line: str, place: str) -> None:
    with pytest.raises(Misuse, match=re.escape(f"calls.txt:{place}")):
        read_calls(f"ok\n{line}\n", "calls.txt")


def test_calls_are_shown_side_by_side(office: Place) -> None:
    out = office.call("try", "--calls", "calls.txt", "--", "sh", "fare.sh").out
    rows = [re.split(r"\s{2,}", line.strip()) for line in out.splitlines()[1:9]]
    assert [row[0] for row in rows] == ["Skerry", "Holm", "'two words'", "Skerry 'Ada T.'", "Voe x", "-q", "COLOUR=red env < names.txt", "COLOUR=blue env < 'hello\\n'"]
    assert "fare to two words" in out and "2> fare: unknown option -q" in out and "red Ola B." in out and "blue hello" in out
    assert out.splitlines()[6].count("▸") == 2, "another exit and another output than the row before"
    assert "--new FILE" in out.splitlines()[-1]


def test_equal_results_are_joined_and_whole_output_is_shown(office: Place) -> None:
    office.write("same.txt", "-q\nSkerry\n-q\nlong\n")
    out = office.call("try", "--calls", "same.txt", "--group", "--", "sh", "fare.sh").out
    assert out.count("unknown option") == 1 and out.count("  -q") == 2 and "… 36 more lines" in out
    full = office.call("try", "--calls", "same.txt", "--full", "--", "sh", "fare.sh").out
    assert full.count("$ ") == 4 and "│ 40\n" in full and "exit 2" in full
    assert "1 'two words'" in office.call("try", "--calls", "calls.txt", "--words", "--", "sh", "fare.sh").out


def test_a_pattern_with_axes_and_a_matrix_of_a_spec(office: Place) -> None:
    out = office.call("try", "--line", "{port} [{name}]", "--axis", "port=Skerry,Holm", "--axis", "name=Ada,Ola", "--", "sh", "fare.sh").out
    assert out.count("fare to") == 6
    office.write("f.matrix.toml", '[program]\nlaunch = "sh {here}/fare.sh"\n[[matrix]]\nname = "ports"\nline = "{p}"\naxes.p = ["Voe", "Holm"]\n')
    assert office.call("try", "f.matrix.toml", "--matrix", "ports").out.count("fare to") == 2
    wrong = office.call("try", "f.matrix.toml", "--matrix", "port")
    assert wrong.status == 2 and 'did you mean "ports"?' in wrong.err


def test_what_a_call_gets(office: Place) -> None:
    came = office.call("try", "--input", "hello", "--env", "COLOUR=red", "--", "sh", "fare.sh", "env")
    assert "│ red hello" in came.out
    came = office.call("try", "--input-file", "names.txt", "--file", "put.txt=names.txt", "--calls", "-", "--", "sh", "fare.sh", stdin="env\nCOLOUR=b env\n")
    assert "Ola B." in came.out and "b Ola B." in came.out


@pytest.mark.parametrize(("words", "text"), [
    (["--axis", "a=1", "--", "sh"], "--axis needs --line"), (["--full", "--", "sh", "fare.sh"], "--full needs --calls or --line or --matrix"),
    (["--calls", "none.txt", "--", "sh"], "none.txt cannot be read"), (["--calls", "empty.txt", "--", "sh"], "empty.txt has no calls"),
    (["--calls", "calls.txt", "--line", "a", "--", "sh"], "--calls does not go with --line"), (["--calls", "calls.txt"], "needs the words that start a program"),
    (["--matrix", "m", "--", "sh"], "--matrix needs the spec"), (["-o", "x", "--calls", "calls.txt", "--", "sh"], "-o needs --format"),
    (["--env", "x", "--", "sh", "fare.sh"], "expected NAME=VALUE"), (["--file", "a=none", "--", "sh", "fare.sh"], "a file that exists"),
    (["--calls", "calls.txt", "--write", "x", "--", "sh"], "--write needs the spec to write into"),
    (["--by-hand", "--calls", "calls.txt", "--", "sh"], "--by-hand does not go with --calls"), (["--by-hand"], "--by-hand needs the words"),
    (["--matrix", "m", "--input", "", "f.toml"], "--matrix does not go with --input"), (["--in-place", "f.toml", "--", "a"], "a program without a spec"),
    (["--in-place", "--new", "sub/f.toml", "--", "sh", "fare.sh"], "--new begins a spec in it"),
])  # fmt: skip
def test_options_that_do_not_fit(office: Place, words: list[str], text: str) -> None:
    office.write("empty.txt", "# nothing\n")
    came = office.call("try", *words)
    assert came.status == 2 and text in came.err, came


def test_an_option_of_ours_after_the_dashes_is_said(office: Place) -> None:
    assert "--write after -- is a word of the program" in office.call("try", "--", "sh", "fare.sh", "--write").err


def test_from_calls_to_a_green_spec_elsewhere_that_notices_a_change(office: Place, tmp_path: Path) -> None:
    office.write("more.txt", CALLS + "long\nraw\nwhen\ncrash\n")
    came = office.call("try", "--calls", "more.txt", "--new", "fare.matrix.toml", "--", "sh", "fare.sh")
    assert "fare.matrix.toml written" in came.out and "not saved, since it crashed: crash" in came.err
    spec = tomllib.loads((office.directory / "fare.matrix.toml").read_text())
    names = [matrix["name"] for matrix in spec["matrix"]]
    assert names == ["one word", "two words", "one word, with COLOUR=red, input", "one word, with COLOUR=blue, input", "long", "raw"]
    assert [len(matrix.get("rows", [])) for matrix in spec["matrix"]] == [5, 2, 1, 1, 0, 0], "calls of one shape are rows of one matrix"
    assert (office.directory / "expected/long.stdout.txt").read_text().count("\n") == 40
    ran = office.call("run")
    assert ran.status == 1 and "10 passed, 1 unchecked" in ran.out, "what varied is left to be filled in"
    text = (office.directory / "fare.matrix.toml").read_text()
    office.write("fare.matrix.toml", "\n".join(line for line in text.split("\n") if '["when"' not in line))
    there = Place(tmp_path / "elsewhere")
    shutil.copytree(office.directory, there.directory, ignore=shutil.ignore_patterns(".keen-matrix"))
    assert there.call("run").status == 0
    there.write("fare.sh", PROGRAM.replace("fare to", "a fare to"))
    assert there.call("run").status == 1
    again = office.call("try", "--calls", "calls.txt", "--new", "fare.matrix.toml", "--", "sh", "fare.sh")
    assert again.status == 2 and "exists already" in again.err


def test_later_calls_join_their_matrix(office: Place) -> None:
    office.call("try", "--calls", "calls.txt", "--new", "fare.matrix.toml", "--", "sh", "fare.sh")
    came = office.call("try", "--calls", "-", "--write", "fare.matrix.toml", stdin="Voe\n-x y\na b c\n")
    assert 'rows of "one word", rows of "two words", the matrix "three words"' in came.out, came
    single = office.call("try", "fare.matrix.toml", "--write", "--", "d", "e", "f")
    assert 'a row of "three words"' in single.out, single
    assert office.call("run").status == 0 and len(office.cases()) == 12


SHOWN = [("json", '"kind": "calls"'), ("csv", "call,exit,signal"), ("markdown", "### 8 calls of sh fare.sh"), ("html", "<h1>8 calls of")]


@pytest.mark.parametrize(("format", "start"), SHOWN)
def test_calls_for_others(office: Place, format: str, start: str) -> None:
    words = ["try", "--calls", "calls.txt", "--format", format]
    came = office.call(*words, "--", "sh", "fare.sh")
    assert start in came.out and "fare to two words" in came.out and came.err == ""
    assert office.call(*words, "-o", "out", "--", "sh", "fare.sh").status == 0
    assert office.call(*words, "-o", "out", "--", "sh", "fare.sh").status == 0, "an earlier one is replaced"
    refused = office.call(*words, "-o", "names.txt", "--", "sh", "fare.sh")
    assert refused.status == 3 and (office.directory / "names.txt").read_text() == "Ola B.\n"


def test_what_a_program_prints_is_only_text_on_the_page_and_in_tables(office: Place) -> None:
    office.write("calls.txt", "'<script>alert(1)</script>'\n'=1+1'\n")
    page = office.call("try", "--calls", "calls.txt", "--format", "html", "--", "echo").out
    assert "<script>alert" not in page and "script-src 'sha256-" in page
    rows = list(csv.reader(io.StringIO(office.call("try", "--calls", "calls.txt", "--format", "csv", "--", "echo").out)))
    assert rows[2][0] == "'=1+1" and rows[2][3] == "'=1+1\n"
    found = json.loads(office.call("try", "--calls", "calls.txt", "--format", "json", "--", "echo").out)
    jsonschema.validate(found, json.loads(office.call("schema", "--of", "calls").out))
    assert found["calls"][1]["argv"] == ["=1+1"] and found["calls"][1]["stdout"] == "=1+1\n"


def test_a_run_without_expectations_shows_the_results(office: Place) -> None:
    office.write("f.matrix.toml", '[program]\nlaunch = "sh {here}/fare.sh"\n[[matrix]]\nname = "ports"\nline = "{p}"\naxes.p = ["Voe", "Holm"]\n')
    came = office.call("run")
    assert came.status == 1 and "fare to Voe" in came.out and "fare to Holm" in came.out and "2 unchecked" in came.out
    assert "keen-matrix try --matrix ports --write f.matrix.toml" in came.out
    assert office.call("try", "--matrix", "ports", "--write", "f.matrix.toml").status == 0
    assert "1 unchecked" not in office.call("run", "--only", "one word").out


def test_a_program_alone_is_a_spec(office: Place) -> None:
    office.write("f.matrix.toml", '[program]\nlaunch = "sh {here}/fare.sh"\n')
    assert "no cases yet" in (came := office.call("lint")).out and came.status == 0
    ran = office.call("run")
    assert ran.status == 3 and "keen-matrix try --write" in ran.err and "keen-matrix draft" in ran.err
    assert office.call("try", "f.matrix.toml", "--write", "--", "Skerry").status == 0 and office.call("run").status == 0


def test_a_program_is_connected_to_whoever_calls(office: Place) -> None:
    office.write("ask.sh", 'printf "Name? "; read name; echo "hello $name, $COLOUR in $(ls)"; [ "$name" != Ola ]\n')
    office.write("a.toml", '[program]\nlaunch = "sh {here}/ask.sh"\nenv.COLOUR = "red"\n[files]\n"put.txt" = "x"\n[[matrix]]\nname = "m"\nline = "x"\nexpect.exit = 0\n')
    came = office.call("try", "a.toml", "--by-hand", "--", "x", stdin="Ada\n")
    assert came.status == 0 and "Name? hello Ada, red in put.txt" in came.out and "exit 0   run by hand" in came.out
    assert "hello Ada" in office.call("try", "--by-hand", "--", "sh", "ask.sh", stdin="Ada\n").out
    office.call("run", "a.toml")
    id = office.cases()[0]["id"][:6]
    assert "exit 1   run by hand" in office.call("replay", id, "a.toml", "--by-hand", stdin="Ola\n").out
    under = office.call("replay", id, "a.toml", "--under", "env COLOUR=blue", stdin="Ada\n")
    assert "hello Ada, blue in put.txt" in under.out
    assert "there is no program nosuch" in office.call("replay", id, "a.toml", "--under", "nosuch -x").err
    assert office.call("replay", id, "a.toml", "--by-hand", "--script", "s.sh").status == 2


def test_what_a_matrix_puts_around_its_calls_is_saved_with_them(office: Place) -> None:
    matrix = '[[matrix]]\nname = "m"\nline = "env {p}"\naxes.p = ["a", "b"]\n'
    office.write("fare.sh", 'echo "$COLOUR $2 $(cat)"\n')
    office.write("f.matrix.toml", f'[program]\nlaunch = "sh {{here}}/fare.sh"\n{matrix}env.COLOUR = "red"\nstdin = "hello"\n')
    came = office.call("try", "--matrix", "m", "--write", "f.matrix.toml")
    assert 'the matrix "two words"' in came.out, came
    assert office.call("run", "--only", "two words").status == 0
    office.write("g.matrix.toml", f'[program]\nlaunch = "sh {{here}}/fare.sh"\n{matrix}stdin = "{{p}}"\n')
    refused = office.call("try", "--matrix", "m", "--write", "g.matrix.toml")
    assert refused.status == 2 and 'stdin of the matrix "m" depends on p' in refused.err and "keen-matrix fill" in refused.err


def test_a_row_joins_a_matrix_only_where_the_same_is_put_around_it(office: Place) -> None:
    rows = 'line = "{a}"\nstdin = "hello"\ncolumns = ["a", "exit", "stdout"]\nrows = [["Voe", 0, "fare to Voe\\n"]]\nexpect = { exit = "{exit}", stdout = "{stdout}" }\n'
    office.write("f.matrix.toml", f'[program]\nlaunch = "sh {{here}}/fare.sh"\n[[matrix]]\nname = "rows"\n{rows}')
    assert 'the matrix "one word"' in office.call("try", "f.matrix.toml", "--write", "--", "env").out
    assert 'rows of "rows"' in office.call("try", "f.matrix.toml", "--input", "hello", "--write", "--", "Holm").out
    assert "there must be the same" in office.call("try", "f.matrix.toml", "--write", "rows", "--", "Skerry").err
    assert office.call("run").status == 0 and len(office.cases()) == 3


def test_a_call_is_saved_once(office: Place) -> None:
    office.call("try", "--calls", "-", "--new", "f.matrix.toml", "--", "sh", "fare.sh", stdin="Voe\nVoe\nHolm\n")
    assert office.call("run").status == 0 and len(office.cases()) == 2
    came = office.call("try", "--calls", "-", "--write", "f.matrix.toml", stdin="Holm\nSkerry\nSkerry\n")
    assert "not saved, since the spec has it already: Holm" in came.err and came.out.count("+  [") == 1
    assert office.call("run").status == 0 and len(office.cases()) == 3


def test_a_spec_is_begun_from_one_whatever_its_texts_say(office: Place) -> None:
    office.write("f.matrix.toml", '[program]\nlaunch = "sh {here}/fare.sh"\nenv.NOTE = "[[matrix]]"\n[[matrix]]\nname = "m"\nline = "a"\n[[mask]]\nmatches = "x"\nas = "y"\n')
    assert office.call("try", "f.matrix.toml", "--calls", "calls.txt", "--new", "g.matrix.toml").status == 0
    spec = tomllib.loads((office.directory / "g.matrix.toml").read_text())
    assert spec["program"]["env"] == {"NOTE": "[[matrix]]"} and len(spec["mask"]) == 1 and "m" not in [each["name"] for each in spec["matrix"]]


def test_calls_in_place_begin_a_spec_that_runs_there(office: Place) -> None:
    came = office.call("try", "--in-place", "--new", "f.matrix.toml", "--", "sh", "fare.sh", "ls")
    assert came.status == 0 and 'directory = "spec"' in (office.directory / "f.matrix.toml").read_text()
    assert office.call("run").status == 0


def test_a_file_is_replaced_only_if_it_begins_as_such_a_report(office: Place) -> None:
    office.write("notes.md", "my notes: 8 calls of `sh fare.sh`\n")
    words = ["try", "--calls", "calls.txt", "--format", "markdown", "-o"]
    assert office.call(*words, "notes.md", "--", "sh", "fare.sh").status == 3
    assert "### 8 calls of" in office.call(*words, "/dev/stdout", "--", "sh", "fare.sh").out


def test_an_interruption_shows_the_calls_that_had_finished(office: Place) -> None:
    # the one that waits gives the other's record, which is only milliseconds away, two seconds
    office.write("wait.sh", 'if [ "$1" = wait ]; then until [ -e "$PLACE/done" ]; do sleep 0.05; done; sleep 2; touch "$PLACE/waits"; sleep 60; fi\necho "was $1"; touch "$PLACE/done"\n')
    office.write("calls.txt", "Skerry\nwait\n")
    ran = office.start_anew("try", "--calls", "calls.txt", "--env", f"PLACE={office.directory}", "--new", "f.matrix.toml", "--", "sh", "wait.sh", stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    while not (office.directory / "waits").exists():
        assert ran.poll() is None
        time.sleep(0.02)
    ran.send_signal(signal.SIGINT)
    out, err = (each.decode() for each in ran.communicate(timeout=30))
    assert ran.returncode == 130 and "was Skerry" in out and "was wait" not in out
    assert "1 call had not finished" in err and "nothing is written" in err and not (office.directory / "f.matrix.toml").exists()


def test_a_page_has_every_case_with_what_it_printed(office: Place) -> None:
    office.write("fare.sh", 'echo "to $1 <b>&"; echo "note $1" >&2; [ "$1" != Voe ]')
    office.write("fare.matrix.toml", """
        [program]
        launch = "sh {here}/fare.sh"
        [[matrix]]
        name = "ports <i>"
        line = "{port}"
        axes.port = ["Holm", "Voe"]
        note = "to {port}, by night"
        expect.exit = 0
        [[matrix]]
        name = "one"
        line = "Skerry"
        expect.stdout.contains = "Skerry"
    """)  # fmt: skip
    office.call("run", "fare.matrix.toml")
    came = office.call("report", "--format", "html", "--results", "-o", "r.html")
    assert came.status == 0, came.err
    page = (office.directory / "r.html").read_text()
    ids = [each["id"] for each in office.cases()]
    assert all(f'id="c{id}"' in page and f'href="#c{id}"' in page for id in ids) and len(ids) == 3
    for text in ("to Holm &lt;b&gt;&amp;", "note Voe", "to Voe, by night", "ports &lt;i&gt;", "3 cases with their output: 2 passed, 1 failed"):
        assert text in page
    assert "<b>" not in page and "http" not in page.replace("http-equiv", "")
    markdown = office.call("report", "--format", "markdown", "--results").out
    assert markdown.startswith("### 3 cases with their output") and "to Skerry <b>&" in markdown and markdown.count("<details>") == 3
    assert office.call("report", "--format", "html", "--results", "-o", "r.html").status == 0, "an earlier one is replaced"
    for words in (["--results"], ["--format", "junit", "--results"]):
        assert "--results needs --format html or markdown" in office.call("report", *words).err


def test_a_crash_is_saved_as_one_if_that_is_asked_for_and_a_hang_never(office: Place) -> None:
    office.write("bad.py", "import sys, time\nif sys.argv[1] == 'hang': time.sleep(60)\nprint(int(sys.argv[1]))\n")
    office.write("bad.txt", "1\nx\n")
    office.call("try", "--calls", "bad.txt", "--new", "bad.toml", "--", "python3", "bad.py")
    assert "crash" not in (office.directory / "bad.toml").read_text() and "1 case: all passed" in office.call("run", "bad.toml").out
    office.call("try", "--calls", "bad.txt", "--new", "all.toml", "--broken", "--", "python3", "bad.py")
    assert "2 cases: all passed" in office.call("run", "all.toml").out
    office.write("slow.toml", '[program]\nlaunch = "python3 {here}/bad.py"\ntimeout = 0.3\n')
    came = office.call("try", "slow.toml", "--write", "--broken", "--calls", "-", stdin="1\nhang\n")
    assert "did not end in time: hang" in came.err and "--broken" not in came.err
    assert "None" not in (office.directory / "slow.toml").read_text() and "1 case: all passed" in office.call("run", "slow.toml").out


def test_files_of_long_output_never_take_each_others_place(office: Place) -> None:
    office.write("long.sh", 'echo "$1"; seq 30')
    for name in ("one.toml", "two.toml"):
        office.call("try", "--new", name, "--calls", "-", "--", "sh", "long.sh", stdin='"a b"\na-b\n')
        assert "2 cases: all passed" in office.call("run", name).out
    files = sorted(each.name for each in (office.directory / "expected").iterdir())
    assert files == ["a-b.stdout-2.txt", "a-b.stdout.txt"], "the second spec has the same two texts"
    office.write("long.sh", 'echo "other $1"; seq 30')
    office.call("try", "--new", "three.toml", "--calls", "-", "--", "sh", "long.sh", stdin='"a b"\n')
    assert "1 case: all passed" in office.call("run", "three.toml").out and "1 failed" in office.call("run", "one.toml").out.replace("2 failed", "1 failed")
    came = office.call("try", "--new", "one.toml", "--calls", "-", "--", "touch", "launched", stdin='"a b"\n')
    assert came.status == 2 and "exists already" in came.err and came.out == "", "nothing is launched first"
