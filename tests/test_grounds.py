"""Controls: what derived vectors stand on is tried first; what clashes is told once, and nothing stands on what was refused."""

from __future__ import annotations

import json
import sys
from collections import Counter
from pathlib import Path
from typing import Any

import pytest

from keen_matrix.core.expect.naming import is_named
from keen_matrix.core.expect.varying import varying_between
from keen_matrix.core.experiments.stating import choices_told
from keen_matrix.core.launch.process.system import enter_system
from tests.conftest import Place
from tests.programs import in_sh

OPTIONS = {"-o,--output": "FILE", "-a,--all": "", "-l,--language": "LANG", "-s,--short": "", "--paging": "WHEN", "--count": "N"}
WHEN = {"WHEN": ["always", "auto", "never"]}


def fare(required: bool = False, says: str = "echo ok", exclusive: bool = True) -> str:
    """Return the program of most tests here."""
    groups = [("--language", "--short")] if exclusive else []
    return in_sh(OPTIONS, choices=WHEN, whole={"N"}, exclusive=groups, required=["--output"] if required else [], says=says)


SYNOPSIS = "[-o,--output FILE] [-a,--all] [-l,--language LANG] [-s,--short] [--paging WHEN] [--count N] PORT"
SOUND = "[-o,--output FILE] [-a,--all] [-l,--language LANG | -s,--short] [--paging WHEN] [--count N] PORT"
TYPES = 'values.WHEN = { of = ["always", "auto", "never"] }\nvalues.N = { type = "int" }\n'


def run(place: Place, synopsis: str, *words: str, required: bool = False, says: str = "echo ok", more: str = "") -> list[dict[str, Any]]:
    """Run a spec of the program above, and return the records."""
    place.write("fare.sh", fare(required, says))
    place.write("f.matrix.toml", f'[program]\nlaunch = "sh {{here}}/fare.sh"\n[signature]\nsynopsis = "{synopsis}"\n{more}')
    place.last = place.call("run", *words)  # type: ignore[attr-defined]
    return place.cases()


def told(cases: list[dict[str, Any]]) -> dict[str, str]:
    """Return what failed and was launched: what it is about, and the edit that would state it."""
    return {f"{each['kind']} {each.get('culprit', '')}".strip(): each.get("detail", "") for each in cases if each["verdict"] == "failed"}


def test_what_the_synopsis_does_not_say_is_told_once_each_with_the_edit(place: Place) -> None:
    cases = run(place, SYNOPSIS, required=True)
    assert told(cases) == {
        "clash --output": "synopsis: -o,--output FILE, without brackets",
        "clash --language --short": "synopsis: [-l,--language LANG | -s,--short]",
        "clash --paging": 'values.WHEN = { of = ["always", "auto", "never"] }',
        "clash --count": 'values.N = { type = "int" }',
    }
    assert {each["verdict"] for each in cases} == {"passed", "failed"}
    assert all("--output" in each["control"] for each in cases if each["family"] == "refusals"), "every control has what is required"
    out = place.last.out  # type: ignore[attr-defined]
    assert "it says     fare: error: argument -s/--short: not allowed with argument -l/--language" in out
    assert out.count("suggested edit") == 4


SAME = in_sh({}, ("{Skerry,Holm,Voe} {Skerry,Holm,Voe}", 2, 2), says='''
    for each in "$operand1" "$operand2"; do case $each in Skerry | Holm | Voe) ;; *) wrong "argument PORT: invalid choice: '$each'" ;; esac; done
    [ "$operand1" != "$operand2" ] || wrong "origin and destination are both $operand1"
    ''')


def test_values_that_must_differ_are_found_and_told_once(place: Place) -> None:
    place.write("fare.sh", SAME)
    values = "".join(f'values.{name} = {{ of = ["Skerry", "Holm", "Voe"] }}\n' for name in ("ORIGIN", "DESTINATION"))
    place.write("f.matrix.toml", f'[program]\nlaunch = "sh {{here}}/fare.sh"\n[signature]\nreader = "argparse"\nsynopsis = "ORIGIN DESTINATION"\n{values}')
    for _ in range(2):  # found out, and then tried again
        came = place.call("run")
        assert came.status == 0, came.out
        assert came.out.count('only-if = ["ORIGIN != DESTINATION"]') == 1 and "all passed" in came.out
    assert {each["verdict"] for each in place.cases()} == {"passed"} and len(place.cases()) > 20


def test_a_synopsis_that_says_it_all_has_nothing_told(place: Place) -> None:
    cases = run(place, SOUND, more=TYPES)
    assert {each["verdict"] for each in cases} == {"passed"} and len(cases) > 100


def test_families_of_a_form_that_is_never_accepted_are_groundless(place: Place) -> None:
    place.write("fare.sh", 'echo "fare: no such file: $*" >&2\nexit 1\n')
    place.write("f.matrix.toml", '[program]\nlaunch = "sh {here}/fare.sh"\n[signature]\nsynopsis = "[-a] FILE"\nhelp = []\n')
    came = place.call("run", "--report", "junit=j.xml", "--report", "tap=t.tap")
    cases = place.cases()
    verdicts = Counter(each["verdict"] for each in cases)
    assert came.status == 1 and verdicts["passed"] == 0 and verdicts["failed"] == 1
    (smallest,) = (each for each in cases if each["verdict"] == "failed")
    assert (smallest["kind"], smallest["detail"]) == ("smallest", 'values.FILE = { type = "file" }, and one in [files]')
    blocked = [each for each in cases if each["verdict"] == "blocked"]
    assert len(blocked) == len(cases) - 1 and {tuple(each["control"]) for each in blocked} == {("word",)}
    assert all(each["seconds"] == 0 and each["exit"] is None for each in blocked), "none of them was launched"
    assert came.out.count("not run, because this call has to work first") == 1 and "it says     fare: no such file: word" in came.out
    xml, tap = (place.directory / "j.xml").read_text(), (place.directory / "t.tap").read_text()
    assert xml.count("<failure") == 1 and xml.count("<skipped") == len(blocked)
    assert tap.count("# SKIP") == len(blocked) and tap.count("\nnot ok") == 1
    assert "blocked" in place.call("report").out and "0.0 %" in place.call("coverage").out


def test_what_was_learnt_is_kept_and_every_command_sees_the_same_vectors(place: Place) -> None:
    cases = run(place, SYNOPSIS, more=TYPES)
    (kept,) = (place.directory / ".keen-matrix/grounds").iterdir()
    assert json.loads(kept.read_text())["grounds_file"] == 1
    unfolded = {json.loads(line)["id"] for line in place.call("unfold", "--format", "json").out.splitlines()}
    assert unfolded == {each["id"] for each in cases}
    kept.unlink()
    planned = place.call("unfold").out
    assert "only a plan: the base calls of these cases were not tried yet" in planned
    assert {json.loads(line)["id"] for line in place.call("unfold", "--format", "json").out.splitlines()} != unfolded


def test_what_was_learnt_is_tried_again_and_found_out_anew_when_it_changed(place: Place) -> None:
    assert "clash --language --short" in told(run(place, SYNOPSIS, more=TYPES))
    place.write("libfare.sh", fare(exclusive=False))
    place.write("fare.sh", '. "${0%/*}/libfare.sh"\n')
    first = place.call("run")
    assert first.status == 0, first.out
    place.write("libfare.sh", fare())
    assert place.call("run").status == 1, "the program's own file is as it was, and its library is not"
    assert "clash --language --short" in told(place.cases())


def test_a_control_that_worked_once_is_tried_again_before_anything_stands_on_it(place: Place) -> None:
    """The program's own file stays; what it loads refuses an option that is no base and was no clash."""
    place.write("libfare.sh", fare())
    place.write("fare.sh", '. "${0%/*}/libfare.sh"\n')
    spec = f'[program]\nlaunch = "sh {{here}}/fare.sh"\n[signature]\nderive = ["refusals"]\nsynopsis = "{SOUND}"\n{TYPES}'
    place.write("f.matrix.toml", spec)
    assert place.call("run").status == 0
    place.write("libfare.sh", fare(says='[ -z "$is_short" ] || wrong closed\necho ok'))
    assert place.call("run").status == 1
    for each in place.cases():
        alone = "--short" in each["control"] and "--all" not in each["control"]
        assert not alone or each["verdict"] == "blocked", each


@pytest.mark.parametrize("words", [["--shard", "1/1"], ["--jobs", "1"], ["--only", "accepted", "--only", "refusals"]])
def test_parts_of_a_run_stand_on_the_same(place: Place, words: list[str]) -> None:
    whole = {each["id"]: each["verdict"] for each in run(place, SYNOPSIS, more=TYPES)}
    (place.directory / ".keen-matrix/grounds").rename(place.directory / "gone")
    place.call("run", *words)
    part = {each["id"]: each["verdict"] for each in place.cases()}
    assert part.items() <= whole.items() and len(part) > 40


def test_a_choice_that_derives_nothing_tries_nothing(place: Place) -> None:
    more = '[[matrix]]\nname = "own"\nline = "Holm"\n'
    cases = run(place, SYNOPSIS, "--only", "own", more=more)
    assert len(cases) == 1 and not (place.directory / ".keen-matrix/grounds").exists()


def test_what_varies_by_itself_is_masked_told_once_and_offered(place: Place) -> None:
    cases = run(place, SOUND, says='echo "pid $$ $operand1"', more=TYPES + 'derive = ["rephrasings", "again"]\n')
    assert {each["verdict"] for each in cases} == {"passed"}
    out = place.last.out  # type: ignore[attr-defined]
    assert out.count("varies from launch to launch") == 1 and r"[[mask]]   matches = '(?<=pid\ )\d+'" in out


def test_an_output_that_varies_wholly_is_not_compared(place: Place) -> None:
    says = 'head -c $(($$ % 40 + 20)) /dev/urandom | base64 -w 0'
    cases = run(place, SOUND, says=says, more=TYPES + 'derive = ["rephrasings"]\n')
    assert {each["verdict"] for each in cases} == {"passed"}
    assert "stdout differs completely" in place.last.out  # type: ignore[attr-defined]


# --- a program that waits for input ---

READERS = {
    "python": (f"{sys.executable} -S -c 'import sys; sys.stdin.read()' x", True),
    "a shell and its child": ("sh -c 'cat | cat' x", True),
    "one that polls": (f"{sys.executable} -S -c 'import select; p = select.poll(); p.register(0, select.POLLIN); p.poll()' x", True),
    "one that selects": (f"{sys.executable} -S -c 'import select; select.select([0], [], [])' x", True),
    "one that polls for a while": (f"{sys.executable} -S -c 'import select, sys; p = select.poll(); p.register(0, select.POLLIN); p.poll(300); sys.exit(2)' x", False),
    "the builtin read": ("sh -c 'read line' x", True),
    "a sleeper": ("sh -c 'sleep 0.2; exit 2' x", False),
    "one that works": (f"{sys.executable} -S -c 'import time, sys\nend = time.time() + 0.1\nwhile time.time() < end: pass\nsys.exit(2)' x", False),
}


@pytest.mark.skipif(not enter_system().sees_calls, reason="the kernel does not tell in which call a process is")
@pytest.mark.parametrize("name", READERS)
def test_a_program_that_waits_for_input_has_taken_the_vector(place: Place, name: str) -> None:
    launch, waits = READERS[name]
    top = f"[program]\nlaunch = {json.dumps(launch)}\ntimeout = 8\n[expect]\nexit = [0, 1, 2]\n"
    place.write("f.matrix.toml", f'{top}[signature]\nsynopsis = "[-a]"\nderive = ["refusals"]\nhelp = []\n')
    place.call("run")
    cases = place.cases()
    assert len(cases) > 3 and all(each["seconds"] < 7 for each in cases)
    for each in cases:
        assert [one["form"] for one in each["aspects"] if not one["met"]][:1] == (["waits"] if waits else ["not-empty"]), each


# --- naming ---

NAMINGS = [
    ("-c", "a 1-character string", False), ("-C", "option -c requires an argument", False), ("-c", "option -c requires an argument", True),
    ("-c", "-cword is no number", True), ("-c", "invalid option -- c", True),
    ("--no-such-option", "flag provided but not defined: -no-such-option", True), ("FROM_UNIT", "unknown from-unit 'x'", True),
    ("INPUT_STRING", "error: input string missing", True), ("-z", "invalid option -- 'z'", True), ("-z", "unknown shorthand flag: 'z' in -z", True),
    ("RA", "bad DEC: extra", False), ("abc", "invalid int value: 'abc'", True), ("", "x", False), ("--size", "Size must be positive", True),
    ("PORT", "missing ports", True), ("x", "extra", False), ("3 4", "invalid '3 4'", True), ("--mode", "a model", False), ("FILE", "profile", False),
    ("-1", "-1 is too small", True), ("--riders", "riders: too many", True), ("2", "exit 12", False),
]  # fmt: skip


@pytest.mark.parametrize(("word", "message", "named"), NAMINGS)
def test_a_word_is_named_as_people_write_it(word: str, message: str, named: bool) -> None:
    assert is_named(word, message) is named


@pytest.mark.parametrize(("message", "choices"), [
    ("argument --when: invalid choice: 'word' (choose from 'always', 'auto', 'never')", ["always", "auto", "never"]),
    ("isn't a valid value for '--when': [possible values: always, auto, never]", ["always", "auto", "never"]),
    ("'word' is not one of 'a' or 'b'.", ["a", "b"]), ("expected a number", []), ("must be one of: text|json", ["text", "json"]),
    ("DECK must be A or B, not word", ["A", "B"]), ("UNIT must be m or ft, not 'M'", ["m", "ft"]), ("must be red or blue but got green", ["red", "blue"]),
    ("no such file or directory", []), ("unknown option --when; see --help, or the manual", []),
])  # fmt: skip
def test_choices_are_read_from_the_messages_of_common_readers(message: str, choices: list[str]) -> None:
    assert choices_told(message) == choices


@pytest.mark.parametrize(("one", "other", "patterns"), [
    ("a\n", "a\n", []), ("pid 12 up\n", "pid 345 up\n", [r"(?<=pid\ )\d+"]), ("at 10:20:30\n", "at 10:20:31\n", [r"(?<=at\ )\d+:\d+:\d+"]),
    ("id deadbeef\n", "id 0123cafe\n", [r"(?<=id\ )[0-9a-fA-F]+"]), ("a\nb\n", "a\n", [""]), ("xkcd\n", "wytz\n", [""]),
])  # fmt: skip
def test_what_varies_between_two_outputs(one: str, other: str, patterns: list[str]) -> None:
    assert [each.pattern for each in varying_between("stdout", one, other)] == patterns


# --- help ---

HELPS = [
    ('synopsis = "[-a] PORT"\nhelp = ["-h", "--help"]', 'case "$*" in *--help*) echo "usage: p [-a] PORT";; *-h*) echo "see --help";; esac', {}),
    ('synopsis = "[-a] PORT"', 'case "$*" in *--help*) echo "usage: p [-a] port" >&2;; esac', {}),
    ('synopsis = "[-a] PORT"\n[help]\nstream = "stdout"', 'case "$*" in *--help*) echo "usage: p [-a] port" >&2;; esac', {"help"}),
    ('synopsis = ["add [-f] NAME", "list"]', 'case "$1" in add) echo "add [-f] NAME";; list) echo list;; *) echo "commands: add, list";; esac', {}),
    ('synopsis = ["add [-f] NAME", "list"]', 'case "$1" in add) echo "add NAME";; list) echo list;; *) echo "commands: add";; esac', {"help"}),
    ('synopsis = ["--help", "[-a] PORT"]', '[ "$*" = --help ] && echo "usage: p --help | [-a] PORT"', {}),
]  # fmt: skip


@pytest.mark.parametrize(("signature", "script", "unmet"), HELPS)
def test_help_is_asked_of_as_programs_print_it(place: Place, signature: str, script: str, unmet: set[str]) -> None:
    place.write("p.sh", script + "\nexit 0\n")
    place.write("f.matrix.toml", f'[program]\nlaunch = "sh {{here}}/p.sh"\n[signature]\nderive = ["help"]\n{signature}\n')
    came = place.call("run")
    cases = place.cases()
    assert cases and {one["aspect"] for each in cases for one in each["aspects"] if not one["met"]} == set(unmet), came.out
    assert ("help is printed on standard error" in came.out) is (">&2" in script and "stream" not in signature)


# --- causes ---


def test_failures_are_folded_by_what_the_program_did(place: Place) -> None:
    script = 'for w in "$@"; do case $w in -*|abc|12abc|superfluous) echo "fare: bad word $w" >&2; exit 0;; esac; done'
    place.write("p.sh", script)
    more = 'values.N = { type = "int" }\nhelp = []\nderive = ["refusals"]'
    place.write("f.matrix.toml", f'[program]\nlaunch = "sh {{here}}/p.sh"\n[signature]\nsynopsis = "N"\n{more}\n')
    out = place.call("run").out
    blocks = [line.split("   ")[-1] for line in out.splitlines() if line.startswith("refusals ")]
    # all that it says one thing to, whatever their kind, and two kinds to which it says nothing
    assert blocks == ["too-few N", "bad-type N 'abc'", "bad-type N ''"], out
    assert "same cause: v5kmn5 devvca hk6fd5 c6jyzq" in out


def test_the_page_and_the_other_reports_begin_with_the_causes(place: Place, tmp_path: Path) -> None:
    run(place, SYNOPSIS, "--report", "html=r.html", "--report", "markdown=r.md", more=TYPES)
    page, text = (place.directory / "r.html").read_text(), (place.directory / "r.md").read_text()
    assert page.index("<h2>Causes") < page.index("<h2>Matrices") and "suggested edit" in page
    first, *_ = (line for line in text.splitlines() if "<summary>" in line)
    assert first == "<details><summary>accepted: failed: exit</summary>"


def test_where_nothing_accepted_is_derived_one_groundless_case_stands_for_its_control(place: Place) -> None:
    place.write("fare.sh", "echo 'fare: closed' >&2; exit 1\n")
    place.write("f.matrix.toml", '[program]\nlaunch = "sh {here}/fare.sh"\n[signature]\nsynopsis = "[-a] FILE"\nhelp = []\nderive = ["refusals"]\n')
    came = place.call("run", "--report", "junit=j.xml", "--report", "tap=t.tap")
    cases = place.cases()
    assert came.status == 1 and {each["verdict"] for each in cases} == {"blocked"}
    xml, tap = (place.directory / "j.xml").read_text(), (place.directory / "t.tap").read_text()
    assert (xml.count("<failure"), xml.count("<skipped")) == (1, len(cases) - 1)
    assert (tap.count("\nnot ok"), tap.count("# SKIP")) == (1, len(cases) - 1)
    assert "to be accepted, because every case here is made from it" in came.out and "exit 1: fare: closed" in came.out


ASKS_FOR_A_FILE = """
[ $_at = 0 ] || [ -f "$operand1" ] || wrong "argument FILE: can't open '$operand1'"
text=$(cat -- "${operand1:-/dev/stdin}")
[ "$text" ] || { echo "Expecting value: line 1 column 1 (char 0)" >&2; exit 1; }
echo "$text"
"""


def test_an_operand_that_is_required_is_told_once_and_all_stand_on_it(place: Place) -> None:
    place.write("p.sh", in_sh({"--sort": "", "--indent": "N"}, ("FILE", 0, 1), whole={"N"}, says=ASKS_FOR_A_FILE))
    place.write("p.matrix.toml", """
        [program]
        launch = "sh {here}/p.sh"
        [signature]
        synopsis = "[--sort] [--indent N] [FILE]"
        reader = "argparse"
        abbreviations = false
        values.N = { type = "int", example = 2 }
        values.FILE = { type = "file" }
        [files]
        "a.json" = { literal = true, text = '{"b": 1}' }
        """)  # fmt: skip
    ran = place.call("run")
    failed = [each for each in place.cases() if each["verdict"] != "passed"]
    assert [(each["kind"], each["verdict"], each["argv"]) for each in failed] == [("clash", "failed", [])], ran.out
    assert "suggested edit   synopsis: FILE, without brackets" in ran.out
    spec = (place.directory / "p.matrix.toml").read_text().replace("[FILE]", "FILE")
    place.write("p.matrix.toml", spec)
    place.call("run")
    # too few is now refused by the program behind argparse, which therefore does not end with 2
    assert {each["kind"] for each in place.cases() if each["verdict"] != "passed"} == {"too-few"}


def test_an_accepted_case_that_only_prints_something_else_has_no_edit_for_its_values(place: Place) -> None:
    place.write("p.sh", 'case "$#,$1" in 1,Holm | 1,Voe) echo "port $1" ;; *) echo "p: no" >&2; exit 2 ;; esac\n')
    place.write("t.matrix.toml", """
        [program]
        launch = "sh {here}/p.sh"
        [signature]
        synopsis = "PORT"
        help = []
        derive = ["accepted"]
        values.PORT = { of = ["Holm", "Voe"] }
        [expect]
        stdout = "port Holm"
    """)
    came = place.call("run")
    assert came.status == 1 and '"port Voe' in came.out and "suggested edit" not in came.out
    place.write("p.sh", 'case "$#,$1" in 1,Holm) echo "port $1" ;; *) echo "p: no" >&2; exit 2 ;; esac\n')
    assert "suggested edit   values.PORT" in place.call("run").out
