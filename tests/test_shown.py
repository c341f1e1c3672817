"""What is read on the terminal: how each kind of expectation tells that it failed, and how it is told in words."""

from __future__ import annotations

import json
import re

import pytest

from tests.conftest import Place

DIGEST = "sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
SCRIPT = r"""
printf 'one\ntwo \nthr\tee\n'; echo bad >&2; echo out > out.txt
case $1 in fail) exit 3;; sleep) sleep 5;; term) kill -TERM $$;; left) (exec sleep 1 >/dev/null 2>&1) & ;;
    colour) printf '\033[31mred\033[0m\n\033]0;title\007';; long) head -c 4000 /dev/zero | tr '\0' x;; esac
exit 0
"""
# what stands in the matrix, the lines that tell the failure, and the expectation in words
FAILURES: dict[str, tuple[str, list[str], str]] = {
    "exit": ('line = "fail"', ["exit expected 0", "found 3"], "0"),
    "exits": ('expect.exit = [1, 2, 9]', ["exit expected 1 or 2 or 9", "found 0"], "1 or 2 or 9"),
    "text": (r'expect.stdout = "one\ntwo\nthr\tee\n"', ["stdout differs in 1 of 3 lines", "1 one", "expected 2 two", "found 2 two·", r"3 thr\tee"],
             'is "one'),
    "contains": ('expect.stdout.contains = ["four", "one"]', ['stdout expected to contain "four"', r'found "one\ntwo \nthr\tee\n"'],
                 'contains "four" and "one"'),
    "lacks": ('expect.stdout.lacks = "two"', ['stdout expected not to contain "two"'], 'lacks "two"'),
    "nothing": ('expect.stderr = ""', ["stderr expected nothing", 'found "bad"'], "is"),
    "pattern": (r"expect.stdout.matches = '^\d+$'", [r"stdout expected to match ^\d+$"], r"matches ^\d+$"),
    "lines": (r'expect.stdout.lines = ["one", "three", "thr\tee"]', ["stdout differs in 1 of 3 lines", "expected 2 three", "found 2 two·"],
              "has the lines 'one', 'three'"),
    "any order": ('expect.stdout.lines-any-order = ["two ", "one", "four"]', ["stdout expected these lines, in any order", "found 1 missing, 1 not expected", "missing four", r"not expected thr\tee"], "in any order"),
    "count": ('expect.stdout.number-of-lines = "4..9"', ["stdout expected 4..9 lines", "found 3 lines"], "has 4 to 9 lines"),
    "bytes": ('expect.stdout.bytes = "base64:b25l"', ["stdout differs in 2 of 3 lines", "found 2 two·"], "is the given bytes"),
    "starts": ('expect.stdout.starts = "two"', ['stdout expected to start with "two"'], 'starts with "two"'),
    "ends": ('expect.stdout.ends = "one"', ['stdout expected to end with "one"'], 'ends with "one"'),
    "json": ("expect.stdout.json = { a = 1 }", ["stdout expected JSON", "but Expecting value at line 1, column 1"], 'is the JSON {"a": 1}'),
    "groups": ("expect.stdout = { matches = '(?s)(?P<first>\\w+).*', holds = \"first == 'two'\" }", ["stdout expected first == 'two'", "found first = 'one'"],
               "first == 'two' is true"),
    "command": ("expect.stdout.command = \"printf 'one\\\\nTWO\\\\n'\"", ["stdout differs in 2 of 3 lines", "expected 2 TWO"], "prints"),
    "digest": (f'expect.stdout.bytes = "{DIGEST}"', [f"stdout expected {DIGEST}", "found sha256:a9d5ac7e"], "has the sha256 digest"),
    "file": ('expect.files."out.txt" = "in"', ['out.txt expected "in"', 'found "out"'], 'is "in"'),
    "absent": ('expect.files."out.txt".absent = true', ["out.txt expected no such file", "found a file of 4 bytes"], "absent"),
    "mode": ('expect.files."out.txt".mode = "755"', ["out.txt expected mode 755", "found mode 644"], "has mode 755"),
    "missing": ('expect.files."none.txt".contains = "x"', ["none.txt expected a file", "found absent"], 'contains "x"'),
    "others": ('expect.other-files = "none"', ["other-files expected other files left alone", "found out.txt created"], "none created, changed or deleted"),
    "duration": ('expect.duration = "> 60 min"', ["duration expected > 60 min", "found 0."], "> 60 min"),
    "memory": ('expect.memory = "> 4 GiB"', ["memory expected > 4 GiB", "MiB"], "> 4 GiB"),
    "signal": ('expect.signal = "TERM"', ["signal expected TERM", "found exit 0"], "TERM"),
    "killed": ('line = "term"', ["crash expected no crash", "exit expected 0"], "0"),
}  # fmt: skip


def _spec() -> str:
    parts = ['[program]\nlaunch = "sh {here}/p.sh"\n[expect]\nexit = 0\nstderr = "bad"\n']
    for name, (text, _, _) in FAILURES.items():
        line = "" if text.startswith("line") else 'line = "go"\n'
        parts.append(f'[[matrix]]\nname = "{name}"\n{line}{text}\n')
    return "".join(parts)


@pytest.fixture(scope="module")
def ran(tmp_path_factory: pytest.TempPathFactory) -> Place:
    place = Place(tmp_path_factory.mktemp("shown"))
    place.write("p.sh", SCRIPT)
    place.write("all.matrix.toml", _spec())
    assert place.call("lint").status == 0
    return place


@pytest.fixture(scope="module")
def blocks(ran: Place) -> dict[str, str]:
    """The failure blocks of one run by matrix, spaces brought together."""
    came = ran.call("run", "--all")
    assert came.status == 1 and f"{len(FAILURES)} cases: {len(FAILURES) - 1} failed, 1 crashed" in came.out
    found = {}
    for block in came.out.split("\n\n")[1:]:
        first, _, rest = block.strip("\n").partition("\n")
        if first.endswith(("   failed", "   crashed")):
            found[first.split("   ")[0]] = re.sub(r" +", " ", rest)
    return found


@pytest.mark.parametrize("name", FAILURES)
def test_a_failure_is_told_by_what_was_expected_and_what_came(blocks: dict[str, str], name: str) -> None:
    at = 0
    for line in FAILURES[name][1]:
        assert line in blocks[name][at:], blocks[name]
        at = blocks[name].index(line, at)
    assert re.search(r"(expected|differs in) \S", blocks[name]) and re.search(r"(found|differs in) +\S", blocks[name])
    if not FAILURES[name][0].startswith("line"):
        assert re.search(r"all\.matrix\.toml:\d+\n", blocks[name]), "the place of the rule is told"


@pytest.fixture(scope="module")
def ids(ran: Place) -> dict[str, str]:
    found = ran.call("unfold", "--format", "json").out.splitlines()
    return {each["matrix"]: each["id"] for each in map(json.loads, found) if "id" in each}


@pytest.mark.parametrize(
    "name", ["text", "count", "groups", "absent", "mode", "others", "memory", "command", "digest", "any order"]
)
def test_an_expectation_is_told_in_words(ran: Place, ids: dict[str, str], name: str) -> None:
    came = ran.call("unfold", "--why", ids[name])
    assert came.status == 0 and FAILURES[name][2] in came.out
    assert "always      it starts, ends in time, does not crash, leaves no process running" in came.out


HOSTILE = '[program]\nlaunch = "sh {here}/p.sh"\n[expect]\nexit = 0\nstdout = ""\n[[matrix]]\nname = "m"\nline = "{w}"\naxes.w = ["colour", "long"]\n'


@pytest.mark.parametrize(
    "command",
    [
        ("run", "--all"),
        ("run", "--brief"),
        ("replay",),
        ("report", "--format", "markdown"),
        ("report", "--format", "tap"),
    ],
)
def test_what_a_program_prints_never_reaches_the_terminal_as_it_is(place: Place, command: tuple[str, ...]) -> None:
    place.write("p.sh", SCRIPT)
    place.write("h.matrix.toml", HOSTILE)
    place.call("run")
    colour = next(each for each in place.cases() if "colour" in each["argv"])
    words = (*command, colour["id"]) if command[0] == "replay" else command
    came = place.call(*words, env={"NO_COLOR": "1"})
    assert came.status in (0, 1) and (came.out or came.err)
    assert not re.search(r"[\x00-\x08\x0b-\x1f\x7f]", came.out + came.err)
    if command[0] == "replay" or "--all" in command:
        assert r"\e[31mred" in came.out


def test_colour_is_used_only_where_it_is_wanted(ran: Place) -> None:
    plain = ran.call("run", "--color", "never")
    coloured = ran.call("run", "--color", "always", env={"NO_COLOR": ""})
    assert "\x1b" not in plain.out and "\x1b[" in coloured.out
    bare = re.sub(r"\x1b\[[0-9;]*m", "", coloured.out)
    timeless = [re.sub(r"\d+\.\d+ ", "", each) for each in (bare, plain.out)]
    assert timeless[0] == timeless[1], "colour says nothing that the text does not"


FORMS = {
    'exit = "1..125"': ("exit", "1..125"),
    'exit = "{code}"': ("exit", "{code}"),
    'signal = "TERM"': ("signal", "TERM"),
    'stdout = ""': ("stdout", 'is ""'),
    "stdout.empty = true": ("stdout", "is empty"),
    'stdout.contains = ["a", "b"]': ("stdout", 'contains "a" and "b"'),
    'stdout = { starts = "a", ends = "z" }': ("stdout", 'starts with "a" and ends with "z"'),
    'stdout.lines = ["a", "b"]': ("stdout", "has the lines 'a', 'b'"),
    'stdout.lines-any-order = ["a"]': ("stdout", "has the lines 'a', in any order"),
    'stdout.number-of-lines = "1..3"': ("stdout", "has 1 to 3 lines"),
    'stdout.number-of-lines = "{code}"': ("stdout", "has {code} lines"),
    'stdout.file = "f.txt"': ("stdout", "is the file f.txt"),
    'stdout.command = "echo {code}"': ("stdout", "is what echo {…} prints"),
    'stdout.bytes = "base64:AAE="': ("stdout", "is the given bytes"),
    "stdout = { matches = '(?P<n>[0-9]+)', holds = 'int(n) > 3' }": ("stdout", "int(n) > 3 is true"),
    "stdout.json = { a = [1] }": ("stdout", 'is the JSON {"a": [1]}'),
    "stdout.baseline = true": ("stdout", "is as in its baseline"),
    'stdout = { is = "1.0", tolerance = 0.1 }': ("stdout", 'is "1.0"'),
    'files."x".absent = true': ("files.x", "absent"),
    'files."x" = { mode = "644", unchanged = true }': ("files.x", "has mode 644 and is unchanged"),
    'files."x".link = "y"': ("files.x", "is a link to y"),
    'other-files = "allowed"': ("other-files", "may be touched"),
    'other-files = "none"': ("other-files", "none created, changed or deleted"),
    'leftovers = "allowed"': ("leftovers", "allowed"),
    'crash = "allowed"': ("crash", "allowed"),
    'duration = "< 2 s"': ("duration", "< 2 s"),
    'memory = "< 20 MiB"': ("memory", "< 20 MiB"),
}


def test_every_kind_of_expectation_is_told_in_words(place: Place) -> None:
    """A spec with a matrix for each; what a vector of it must satisfy, as `unfold --why` says it."""
    place.write("f.txt", "x\n")
    matrices = "".join(
        f'[[matrix]]\nname = "m{number}"\nline = "w{number} {{code}}"\naxes.code = [0]\nexpect.{line}\n'
        for number, line in enumerate(FORMS)
    )
    place.write("t.matrix.toml", f'[program]\nlaunch = "echo"\n{matrices}')
    assert place.call("lint").status == 0, place.call("lint").out
    ids = [json.loads(line)["id"] for line in place.call("unfold", "--format", "json").out.splitlines()]
    told = [place.call("unfold", "--why", id).out.partition("must satisfy")[2] for id in ids]
    missed = [(aspect, words, lines) for (aspect, words), lines in zip(FORMS.values(), told, strict=True)
              if not any(line.split()[:1] == [aspect] and words in line for line in lines.splitlines())]  # fmt: skip
    assert not missed
