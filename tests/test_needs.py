"""Everyday needs, each a short spec: it holds for a sound program, and a wrong edition is caught with its cause in the message."""

from __future__ import annotations

from typing import NamedTuple

import pytest

from tests.conftest import Place


class Need(NamedTuple):
    """A need: the program, what a wrong edition of it does instead, the spec behind [program], what the failure says."""

    name: str
    program: str
    sound: str
    wrong: str
    spec: str
    cause: str
    head: str = ""


def matrix(text: str) -> str:
    return f'[[matrix]]\nname = "m"\n{text}\n'


NEEDS = [
    Need("exit status and message of a refusal", 'case "$1" in [0-9]*) echo "$1" ;; *) echo "riders: not a number: $1" >&2; exit 2 ;; esac',
         "exit 2", "exit 1", matrix('line = "many"\nexpect = { exit = 2, stdout = "", stderr.contains = "many" }'), "found     1"),
    Need("a table of prices", 'awk "BEGIN { printf \\"%.2f\\", $1 * 4.5 }"', "4.5", "4.6",
         matrix('line = "{riders}"\nrows = "prices.csv"\nexpect.stdout = "{price}"'), "prices.csv:2"),
    Need("an option that some rows have", 'case "$2" in -b) echo "$1 3" ;; *) echo "$1 0" ;; esac', 'echo "$1 3"', 'echo "$1 4"',
         matrix('line = "{riders} [-b {bike}]"\nrows = { file = "bikes.csv", empty = "left out" }\nexpect.stdout = "{riders} {bike or 0}"'),
         "bikes.csv:3"),
    Need("a repository that is made first", 'cat .store/port', "cat .store/port", "echo Voe",
         matrix('steps = [{ launch = "mkdir .store" }, { launch = "sh -c \'echo Holm > .store/port\'" }, { line = "" }]\nexpect.stdout = "Holm"'),
         '"Holm"'),
    Need("what a tool says of the result", 'echo "$1" >> store.txt', '"$1"', '"$1$1"',
         matrix('steps = [{ line = "Holm" }, { launch = "wc -c store.txt", expect.stdout.starts = "5" }]\nexpect.exit = 0'), "9 store.txt"),
    Need("prompts and replies", 'printf "Sure? "; read answer; [ "$answer" = yes ] && echo sailed || echo stayed', "&& echo sailed", "&& echo sunk",
         matrix('line = ""\naxes.answer = ["yes", "no"]\ndialogue = [{ prompt = "Sure?", reply = "{answer}" }]\n'
                "expect.stdout.ends = \"{'sailed' if answer == 'yes' else 'stayed'}\""), '"Sure? sunk\\n"'),
    Need("messages in their order", 'echo one; echo two >&2; echo three', "echo one; echo two >&2", "echo two >&2; echo one",
         matrix('line = ""\nstreams = "joined"\nexpect.stdout = "one\\ntwo\\nthree\\n"'), "differs in"),
    Need("JSON but for the time", 'echo "{\\"at\\": $(date +%s), \\"port\\": \\"Holm\\"}"', "Holm", "Voe",
         matrix('line = ""\nexpect.stdout = { json = { port = "Holm" }, ignore = "/at" }'), "/port"),
    Need("a number that is near", 'echo 3.1416', "3.1416", "3.16", matrix('line = ""\nexpect.stdout.number = { about = 3.14159, within = 0.001 }'),
         "at most 0.001 off"),
    Need("a number in a sentence", 'echo "That makes 4.50 each."', "4.50", "45.0",
         matrix("line = \"\"\nexpect.stdout = { matches = 'makes (?P<fare>[0-9.]+)', number = { group = 'fare', max = 10 } }"), "the group fare"),
    Need("a table on the terminal", 'printf "port   price\\nHolm   7.25\\nVoe    9.00\\n"', "9.00", "nine",
         matrix('line = ""\nexpect.stdout.columns = { names = ["port", "price"], types = ["text", "float"], count = 2 }'), "price in line 3"),
    Need("a sorted list without doubles", 'printf "Holm\\nSkerry\\nVoe\\n"', "Skerry\\nVoe", "Voe\\nSkerry",
         matrix('line = ""\nexpect.stdout = { sorted = true, unique = true }'), 'after "Voe"'),
    Need("either of two answers", 'echo "calm"', "calm", "storm", matrix('line = ""\nexpect.stdout = { any = [{ is = "calm" }, { is = "breeze" }] }'), "storm"),
    Need("no word of another kind", 'echo "fare 4.50"', "fare", "error: fare", matrix('line = ""\nexpect.stdout.not.contains = "error"'), "error: fare"),
    Need("files named by an argument", 'echo "{}" > "$1.json"', '"$1.json"', '"$1.jsn"',
         matrix('line = "{port}"\naxes.port = ["Holm", "Voe"]\nexpect.files."{port}.json".json = {}'), "Voe.json    expected  a file"),
    Need("a file that stays as it was", 'cat names.txt', "cat names.txt", "chmod 600 names.txt; cat names.txt",
         matrix('line = ""\nfiles."names.txt" = "Ada\\n"\nexpect.files."names.txt".unchanged = true'), "mode 644 as before"),
    Need("the directory that one stands in", 'basename "$PWD"', "basename", "dirname", matrix('line = ""\nfiles."harbour/x" = ""\nstart-in = "harbour"\nexpect.stdout = "harbour"'),
         '"harbour"'),
    Need("a variable of the environment", 'echo "${TARIFF:-summer}"', "TARIFF", "TARIF",
         matrix('line = ""\naxes.tariff = ["winter", "summer"]\nenv.TARIFF = "{tariff}"\nexpect.stdout = "{tariff}"'), '"winter"'),
    Need("standard input", 'sort', "sort", "cat", matrix('line = ""\nstdin = "b\\na\\n"\nexpect.stdout.lines = ["a", "b"]'), "differs in"),
    Need("cases that share a file", 'n=$(cat log 2> /dev/null || echo 0); sleep 0.02; echo $((n + 1)) > log; rm log', "rm log", ":",
         matrix('line = ""\ndirectory = "spec"\naxes.n = { from = 1, to = 6 }\nenv.N = "{n}"\nexpect.files.log.absent = true'), "no such file"),
    Need("an older edition, in any order", 'printf "a\\nb\\n"', "a\\nb", "a\\nc", '[reference]\nlaunch = ["printf", "b\\\\na\\\\n"]\nany-order = true\n' + matrix('line = ""\nexpect.exit = 0'),
         "expected: the reference; found: the program under test"),
    Need("another way to start it", "echo done", "echo done", 'echo "$0"', matrix('line = ""\nexpect.alike.launchers = true'),
         "started by linked: sh", 'launchers.linked = "sh {here}/q.sh"\n'),
    Need("an option that makes a difference", '[ "$1" = -v ] && echo more; echo done', "echo more", ":", matrix('line = "-v"\nexpect.differs.line = ""'), "to make a difference"),
    Need("time", ':', ":", "sleep 0.4", matrix('line = ""\nexpect.duration = "< 300 ms"'), "< 300 ms"),
    Need("types and counts of arguments", '[ $# = 1 ] || { echo "usage: p RIDERS" >&2; exit 2; }; case "$1" in *[!0-9]*|"") echo "RIDERS: $1" >&2; exit 2 ;; esac',
         '[ $# = 1 ]', '[ $# -ge 1 ]', '[signature]\nsynopsis = "RIDERS"\nhelp = []\nderive = ["refusals"]\nvalues.RIDERS = { type = "int", min = 0 }\n', "too-many"),
]  # fmt: skip


@pytest.mark.parametrize("need", NEEDS, ids=[each.name for each in NEEDS])
def test_a_need_is_a_short_spec(place: Place, need: Need) -> None:
    place.write("prices.csv", "riders,price\n1,4.50\n2,9.00\n")
    place.write("bikes.csv", "riders,bike\n1,\n2,3\n")
    place.write("n.matrix.toml", f'[program]\nlaunch = "sh {{here}}/p.sh"\n{need.head}{need.spec}')
    for name in ("p.sh", "q.sh"):
        place.write(name, need.program + "\n")
    came = place.call("run")
    assert came.status == 0, came.out + came.err
    assert need.sound in need.program
    place.write("p.sh", need.program.replace(need.sound, need.wrong) + "\n")
    came = place.call("run")
    assert came.status == 1 and need.cause in came.out, came.out + came.err
    assert len(need.spec.splitlines()) <= 8, "and short"
