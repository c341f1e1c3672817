"""One vector now: as the spec would launch it, what came, and how it is kept."""

from __future__ import annotations

import sys

import pytest

from tests.conftest import Place

FARE = """
    case "$1" in
    Skerry) echo 4.50 ;;
    Holm) echo 7.25; echo "$2" > ticket.txt ;;
    braces) echo '{"port": "Holm"}'; echo note >&2 ;;
    long) for n in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20 21; do echo "line {$n}"; done ;;
    bytes) printf '\\377\\n' ;;
    crash) kill -SEGV $$ ;;
    *) echo "fare: unknown port: $1" >&2; exit 2 ;;
    esac
    """
SPEC = """\
# the ferry office
[program]
launch = "sh {here}/fare.sh"
[signature]
synopsis = "PORT [RIDER]"   # two words at most
help = []
derive = []
[[matrix]]
name = "prices"
line = "{port}"
columns = ["port", "stdout", "exit"]
rows = [
  ["Skerry", "4.50\\n", 0],   # the short way
]
expect = { exit = "{exit}", stdout = "{stdout}" }
"""


@pytest.fixture
def fare(place: Place) -> Place:
    place.write("fare.sh", FARE)
    (place.directory / "f.matrix.toml").write_text(SPEC)
    return place


def text(place: Place) -> str:
    return (place.directory / "f.matrix.toml").read_text()


def test_a_vector_is_launched_as_the_spec_would(fare: Place) -> None:
    came = fare.call("try", "f.matrix.toml", "--", "Voe", "a", "b")
    assert came.out.startswith("f.matrix.toml   Voe a b\n")
    assert "the signature says  refused  too-many" in came.out
    assert "sh fare.sh Voe a b" in came.out and "│ fare: unknown port: Voe" in came.out
    assert came.status == 0, "its refusal is as expected"
    came = fare.call("try", "f.matrix.toml", "--", "Voe")
    assert came.status == 1 and "exit        expected  0" in came.out
    assert fare.call("try", "f.matrix.toml", "--", "Skerry").out.startswith("this is ")
    assert text(fare) == SPEC and not (fare.directory / ".keen-matrix").exists(), "nothing is written"


KEPT = [
    (["Holm"], [], 'a row of "prices"', ['  ["Holm", "7.25\\n", 0],\n]'], "Holm"),
    (["Holm", "Ada T."], [], 'the matrix "Holm Ada T."', ['line = ["Holm", "Ada T."]', 'expect.files."ticket.txt".size = 7'], "Holm"),
    (["braces", "-"], ["json"], 'the matrix "json"', ['["braces", "-", 0, "{\\"port\\": \\"Holm\\"}\\n", "note\\n"],'], "braces"),
    (["long", "x"], [], 'the matrix "long x"', ['expect.stdout.file = "expected/long-x.stdout.txt"'], "long"),
    (["bytes", "x"], [], 'the matrix "bytes x"', ["# stdout is not text, so nothing is expected of it"], "bytes"),
    (["{PORT}", "'q'"], [], "the matrix", ['columns = ["word1", "word2", "exit", "stdout", "stderr"]', '["{PORT}", "\'q\'", 2, '], "unknown port"),
]


@pytest.mark.parametrize(("words", "name", "where", "lines", "said"), KEPT, ids=[" ".join(each[0]) for each in KEPT])
def test_a_vector_is_kept_with_what_came(
    fare: Place, words: list[str], name: list[str], where: str, lines: list[str], said: str
) -> None:
    came = fare.call("try", "f.matrix.toml", "--write", *name, "--", *words)
    assert "f.matrix.toml written: " + where in came.out, came.out + came.err
    kept = text(fare)
    assert all(each in kept for each in lines), kept
    assert all(line in kept.splitlines() for line in SPEC.splitlines() if line != "]"), "comments and layout stay"
    ran = fare.call("run")
    assert ran.status == 0 and "2 cases: all passed" in ran.out, ran.out
    fare.write("fare.sh", FARE.replace(said, said + "x").replace("7.25", "7.26").replace("\\\\377", "\\\\376x"))
    if words[0] != "bytes":
        assert fare.call("run").status == 1, "and it is seen to differ"
    again = fare.call("try", "f.matrix.toml", "--write", "--", *words)
    assert again.status == 2 and "the spec has this call already" in again.err


@pytest.mark.parametrize(("words", "told"), [
    (["f.matrix.toml", "--write", "--", "crash"], "it crashed, so its result is not saved"),
    (["f.matrix.toml", "--write", "prices", "--", "Holm", "Ada"], 'the matrix "prices" has no rows of this shape'),
    (["f.matrix.toml"], "after --"), (["f.matrix.toml", "Holm", "-n"], "the words of the call go after --"),
    (["f.matrix.toml", "g.matrix.toml", "--", "x"], "does not exist"), (["--write", "--", "sh", "fare.sh"], "--write needs the spec"),
    (["--"], "needs the words that start a program"),
])  # fmt: skip
def test_what_cannot_be_tried_or_kept_is_told(fare: Place, words: list[str], told: str) -> None:
    came = fare.call("try", *words)
    assert came.status == 2 and told in came.err, came.err
    assert text(fare) == SPEC


def test_a_program_is_tried_without_a_spec(fare: Place) -> None:
    came = fare.call("try", "--", "sh", "fare.sh", "Skerry")
    assert came.status == 0 and "│ 4.50" in came.out and "next: keen-matrix draft -- sh fare.sh" in came.out
    assert fare.call("try", "--", "no-such-program").status == 3


def test_a_directory_without_a_spec_says_how_to_begin(place: Place) -> None:
    came = place.call()
    assert came.status == 2 and all(f"keen-matrix {word}" in came.err for word in ("try --", "draft --", "demo"))
    place.write("below/a.matrix.toml", SPEC)
    assert "usage: keen-matrix" in place.call().err


def test_without_a_spec_the_call_alone_is_launched_and_nothing_else(place: Place) -> None:
    place.write("fare.py", """
        import argparse
        parser = argparse.ArgumentParser()
        parser.add_argument("island")
        parser.add_argument("-n", type=int)
        open(__file__ + ".log", "a").write("x")
        print(parser.parse_args())
        """)
    came = place.call("try", "--", sys.executable, "fare.py", "-n", "abc", "Holm")
    assert (place.directory / "fare.py.log").read_text() == "x", "it was launched once"
    assert "invalid int value: 'abc'" in came.out and f"draft -- {sys.executable} fare.py" in came.out


def test_files_that_words_name_are_copied_and_never_harmed(place: Place) -> None:
    mine = place.write("mine.txt", "ours")
    came = place.call("try", "--", "rm", "mine.txt")
    assert "deleted   mine.txt" in came.out and "copied into its directory: mine.txt" in came.err and mine.read_text() == "ours"
    place.write("own.py", "import beside; print(beside.x, open('mine.txt').read())")
    place.write("beside.py", "x = 4")
    assert "4 ours" in place.call("try", "--", "python3", "own.py", "mine.txt").out
    assert "not copied, since elsewhere" in place.call("try", "--", "cat", str(mine)).err
    came = place.call("try", "--in-place", "--", "rm", "mine.txt")
    assert came.status == 0 and not mine.exists() and "on your own files" in came.err


def test_what_is_kept_has_no_path_of_this_machine(place: Place) -> None:
    place.write("p.sh", 'echo "$0: $1"; [ "$1" != long ] || seq 40; echo "{$0}" >&2')
    place.write("t.matrix.toml", '[program]\nlaunch = "sh {here}/p.sh"\n[[matrix]]\nname = "m"\nline = "a"\nexpect = { stdout = "<fill>", stderr = "<fill>" }\n')
    for words in (("fill", "--write"), ("try", "t.matrix.toml", "--write", "--", "b"), ("try", "t.matrix.toml", "--write", "--", "long")):
        assert place.call(*words).status == 0
    assert str(place.directory) not in (place.directory / "t.matrix.toml").read_text()
    other = place.directory / "other"
    other.mkdir()
    for name in ("p.sh", "t.matrix.toml"):
        (place.directory / name).rename(other / name)
    came = place.call("run")
    assert came.status == 0 and "3 cases: all passed" in came.out, came
