"""As many answers as a row has, what happens while a program runs, a pipe beside a terminal, and launches compared by what is typed."""

from __future__ import annotations

from typing import Any

import pytest

from keen_matrix.core.launch.process.dialogue import Answering, Dialogue
from keen_matrix.core.launch.process.meanwhile import Happening, Happenings
from tests.conftest import Place

RIDERS = """
n=0
while printf 'Rider? '; read -r name && [ "$name" ]; do n=$((n + 1)); list="$list $name"; done
echo
echo "$n riders:$list"
"""
ASKED = 'line = ""\ncolumns = ["answers"]\nrows = {rows}\ndialogue = {{ prompt = \'\\? $\', replies = "{{answers}}"{more} }}\n{terminal}'


def run(place: Place, script: str, matrix: str, language: str = "sh") -> dict[str, Any]:
    """Run a script under a matrix; return the records by their answers."""
    place.write("p.script", script)
    place.write("t.matrix.toml", f'[program]\nlaunch = "{language} {{here}}/p.script"\ntimeout = 8\n[[matrix]]\nname = "m"\n{matrix}\n')
    place.last = place.call("run")  # type: ignore[attr-defined]
    assert place.last.err == "", place.last.err  # type: ignore[attr-defined]
    return {" ".join(each["values"].get("answers") or []): each for each in place.cases()}


def failed(record: dict[str, Any]) -> list[tuple[str, str]]:
    return [(each["aspect"], each["form"]) for each in record["aspects"] if not each["met"]]


TERMINALS = {"on a pipe": "", "on a terminal": "terminal = {}\n", "on one that echoes": "terminal = { echo = true }\n"}


@pytest.mark.parametrize("terminal", TERMINALS.values(), ids=TERMINALS)
def test_a_row_has_as_many_answers_as_it_likes(place: Place, terminal: str) -> None:
    rows = '[[["Ada", "Bo", ""]], [[""]], [["Ada", "Bo"]], [["Ada", "", "Cy"]], [[]]]'
    found = run(place, RIDERS, ASKED.format(rows=rows, more="", terminal=terminal) + 'expect.stdout.contains = "riders:"')
    assert [found[each]["verdict"] for each in ("Ada Bo ", "")] == ["passed", "failed"] or len(found) == 4
    assert found["Ada Bo "]["verdict"] == "passed" and "2 riders: Ada Bo" in found["Ada Bo "]["stdout"]
    assert failed(found["Ada Bo"]) == [("dialogue", "asked-more")]
    assert failed(found["Ada  Cy"]) == [("dialogue", "unused-replies")] and "1 riders: Ada" in found["Ada  Cy"]["stdout"]
    assert len(place.cases()) == 5, "rows whose answers differ are different cases"
    out = place.last.out  # type: ignore[attr-defined]
    assert '1 reply not asked for: "Cy"' in out and 'answering "Ada", "", "Cy"' in out


@pytest.mark.parametrize("terminal", TERMINALS.values(), ids=TERMINALS)
def test_a_program_may_ask_until_its_input_ends(place: Place, terminal: str) -> None:
    found = run(place, RIDERS, ASKED.format(rows='[[["Ada"]], [[]]]', more=", until-end = true", terminal=terminal) + "expect.exit = 0")
    assert {each: record["verdict"] for each, record in found.items()} == {"Ada": "passed", "": "passed"}
    assert "1 riders: Ada" in found["Ada"]["stdout"]


def test_other_expectations_are_checked_beside_a_reply_too_many(place: Place) -> None:
    found = run(place, RIDERS, ASKED.format(rows='[[["", "Cy"]]]', more="", terminal="") + 'expect.stdout.contains = "nobody"')
    assert failed(found[" Cy"]) == [("dialogue", "unused-replies"), ("stdout", "contains")]


def test_standard_input_is_a_pipe_beside_a_terminal(place: Place) -> None:
    script = 'test -t 0 || echo "piped"; test -t 1 && test -t 2 && echo "on a terminal"; cat; read -r key < /dev/tty || echo none'
    found = run(place, script, 'line = ""\nterminal = { stdin = "apart" }\nstdin = "Ada\\n"\ntimeout = 1\nexpect.stdout.contains = "Ada"')
    assert found[""]["stdout"].startswith("piped\non a terminal\nAda\n")


def test_words_and_prompts_can_be_compared(place: Place) -> None:
    script = '[ $# = 2 ] || { read -r n; read -r port; set -- "$n" "$port"; }; echo "$1 to $2"'
    alike = 'line = "{n} Holm"\naxes.n = [1, 2]\nexpect.alike = { line = "", WHAT }'
    for what, verdict in {'stdin = "{n}\\nHolm\\n"': "passed", 'stdin = "2\\nHolm\\n"': "failed"}.items():
        run(place, script, alike.replace("WHAT", what))
        assert place.cases()[0]["verdict"] == verdict, what
    asking = '[ $# = 2 ] || { printf "N? "; read -r n; printf "To? "; read -r port; set -- "$n" "$port"; }; echo "$1 to $2"'
    dialogue = 'dialogue = [{ prompt = "N?", reply = "{n}" }, { prompt = "To?", reply = "Holm" }]'
    run(place, asking, alike.replace("WHAT", dialogue) + "\nmask = [{ matches = '(N|To)\\? ', as = '' }]")
    assert [each["verdict"] for each in place.cases()] == ["passed", "passed"]


WATCH = """
import signal, time
print("watching", flush=True)
reloaded, last = [], None
signal.signal(signal.SIGHUP, lambda *_: reloaded.append(1))
while not reloaded:
    try:
        now = open("a.txt").read()
    except OSError:
        now = "gone"
    if now and now != last:
        print("a:", now.strip(), flush=True)
        last = now
    time.sleep(0.01)
print("reloaded")
"""
HAPPENS = """
line = ""
axes.how = ["HUP", "1"]
files."a.txt" = "1\\n"
meanwhile = [
  { after = "a: 1", write = { "a.txt" = "2 {how}\\n" } },
  { after = "a: 2", remove = ["a.txt"] },
  { after = "gone", launch = "sh -c 'echo 3 > a.txt'" },
  { after = "a: 3", write = { "b/c.txt" = "x" } },
  { after = 0.05, signal = "{how}", to = "program" },
]
expect.stdout = "watching\\na: 1\\na: 2 {how}\\na: gone\\na: 3\\nreloaded\\n"
expect.files."a.txt" = "3\\n"
"""


def test_things_happen_while_a_program_runs(place: Place) -> None:
    run(place, WATCH, HAPPENS, "python3")
    for each in place.cases():
        assert each["verdict"] == "passed", place.last.out  # type: ignore[attr-defined]
        assert {*each["files"]} == {"a.txt"}, "what a command changes counts; what is written and stays as written does not"


def test_what_did_not_happen_is_a_failed_aspect(place: Place) -> None:
    matrix = """
    line = ""
    meanwhile = [
      { after = "go", launch = "false", write = { "../x" = "1" } },
      { after = 0, launch = "no-such-program-here" },
      { after = "never", signal = "HUP" },
    ]
    expect.exit = 0
    """
    run(place, "echo go; sleep 0.3", matrix.replace('launch = "no-such-program-here"', 'launch = "true"'))
    (record,) = place.cases()
    found = {each["expected"]: each["actual"] for each in record["aspects"] if each["aspect"] == "meanwhile" and not each["met"]}
    assert found["false"] == "exit 1" and found["signal HUP after 'never'"] == "it ended before"
    assert any("leads out of" in each for each in found.values())
    run(place, "echo go; sleep 0.3", matrix)
    assert place.cases()[0]["verdict"] == "not-started" and "no-such-program-here" in place.last.out  # type: ignore[attr-defined]


def test_a_named_pipe_in_the_place_of_a_file_holds_nobody(place: Place) -> None:
    matrix = 'line = ""\nmeanwhile = [{ after = "ready", write = { "a.txt" = "2" } }]\nexpect.exit = 0'
    run(place, "mkfifo a.txt; echo ready; sleep 0.3", matrix)
    (record,) = place.cases()
    assert failed(record) == [("meanwhile", "meanwhile")] and record["seconds"] < 3


def test_a_signal_reaches_the_group_or_the_program_alone(place: Place) -> None:
    script = "trap 'echo own' TERM; (trap 'echo child; exit' TERM; echo ready; while :; do sleep 0.01; done) & wait; sleep 0.2; kill -9 $!; wait"
    for to, lines in {"group": {"own", "child"}, "program": {"own"}}.items():
        run(place, script, f'line = ""\naxes.sig = ["TERM"]\nstop = {{ when-stdout = "ready", signal = "{{sig}}", to = "{to}" }}\nexpect.exit = 0')
        (record,) = place.cases()
        assert {*record["stdout"].split()} - {"ready"} == lines, to


WRONG = {
    'dialogue = { prompt = "x" }': "expected exactly one of reply, replies",
    'dialogue = { prompt = "x", reply = "y", until-end = true }': "until-end goes with replies",
    "dialogue = { prompt = '(', replies = [] }": "does not parse",
    'dialogue = { prompt = "x", replies = 3 }': "expected a list of texts",
    'meanwhile = [{ after = "x" }]': "expected at least one of write, remove, launch, signal",
    'meanwhile = [{ after = true, signal = "HUP" }]': "expected seconds, or a text",
    'stop = { after = 1, signal = "HUPP" }': 'did you mean "HUP"',
    'meanwhile = [{ after = 1, signal = "HUP", to = "all" }]': "group",
    "expect.alike = { again = true, stdin = 'x' }": "expected exactly one of",
    "expect.differs = {}": "expected at least one of line, stdin, dialogue, terminal",
}


@pytest.mark.parametrize("text", WRONG)
def test_what_is_wrong_has_one_error_with_its_place(place: Place, text: str) -> None:
    place.write("t.matrix.toml", f'[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = ""\n{text}\n')
    came = place.call("lint")
    assert came.status == 1 and WRONG[text] in came.out and "t.matrix.toml:6:" in came.out and came.out.count("t.matrix.toml:") == 1, came.out


SOME = Answering(prompt=rb"\? $", reply=b"Ada", within=1.0, is_pattern=True)


def test_a_pattern_is_found_wherever_its_text_is_split() -> None:
    text = b"How many?\nName\xc3\xa9? "
    for at in range(len(text)):
        dialogue = Dialogue([SOME], [], 0.0, SOME)
        heard = [dialogue.feed("stdout", piece, 0.0) for piece in (text[:at], text[at:]) if piece]
        assert [reply for each in heard for reply in each.replies] == [b"Ada"] and not any(each.asked_more for each in heard)
        assert dialogue.conversation == [("Nameé? ".encode(), b"Ada")] and dialogue.unused == []
        assert dialogue.feed("stdout", b"Again? ", 0.0).asked_more and not dialogue.feed("stdout", b"And? ", 0.0).asked_more


def test_happenings_wait_for_each_other() -> None:
    first, second, third = Happening(text=b"go", name="a"), Happening(after=2.0, name="b"), Happening(text=b"go", name="c")
    meanwhile = Happenings([first, second, third], 10.0)
    assert meanwhile.due(99.0) is None and meanwhile.feed("stdout", b"g", 11.0) is None
    assert meanwhile.feed("stdout", b"o go", 12.0) is first and meanwhile.due_at == 14.0
    assert meanwhile.due(13.9) is None and meanwhile.due(14.0) is second and meanwhile.waiting == [third]
    assert meanwhile.feed("stderr", b"go", 15.0) is third and meanwhile.due_at == float("inf")
