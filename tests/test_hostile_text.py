"""Texts that would do something where they are shown: in a shell, in reports, in expressions, to the judge."""

from __future__ import annotations

import csv
import io
import random
import re
import resource
import shutil
import subprocess
import sys
import time
import tomllib
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from keen_matrix.core.covering.search import Demand, cover
from keen_matrix.core.covering.size import MOST_MEMORY, memory_needed
from keen_matrix.core.errors import ExpressionFault, KeenMatrixError, NotationFault
from keen_matrix.core.expressions import Scope, Template
from keen_matrix.core.signature.drafting import draft_signature
from keen_matrix.core.signature.helptext import read_help
from keen_matrix.core.signature.signature import Signature
from keen_matrix.wording.safe import exact_line, shell_line
from tests.conftest import Place

SHELLS = [shell for shell in ("dash", "bash", "ksh", "sh") if shutil.which(shell)]


def vectors(count: int) -> list[list[str]]:
    chance = random.Random(7)
    odd = b"'\"\\$`;&|<>()\n\t\r\x1b \x80\xff*?[]{}~#!=-\x01\x7f"
    every = list(range(1, 256))
    found = []
    for _ in range(count):
        words = []
        for _ in range(chance.randint(1, 3)):
            pool = odd if chance.random() < 0.6 else bytes(every)
            raw = bytes(chance.choice(pool) for _ in range(chance.randint(0, 8)))
            words.append(raw.decode("utf-8", "surrogateescape"))
        found.append(words)
    return found


@pytest.mark.parametrize("shell", SHELLS)
def test_lines_give_the_same_vector_in_every_posix_shell(shell: str, tmp_path: Path) -> None:
    every = vectors(10_000)
    text = "".join(f"p {exact_line(words)}\n" for words in every)
    script = tmp_path / "lines.sh"
    script.write_bytes(b"p() { printf '%s\\0' \"$@\"; printf '\\n\\0'; }\n" + text.encode("utf-8", "surrogateescape"))
    done = subprocess.run([shell, str(script)], capture_output=True, check=True, env={"LC_ALL": "C.UTF-8"})
    assert done.stderr == b""
    expected = b"".join(
        b"".join(word.encode("utf-8", "surrogateescape") + b"\0" for word in words) + b"\n\0" for words in every
    )
    assert done.stdout == expected


@pytest.mark.parametrize("shell", SHELLS)
def test_what_is_shown_of_a_vector_runs_nothing_when_it_is_pasted(shell: str, tmp_path: Path) -> None:
    """Invisible characters are shown as escapes, which makes other words, but never more of them, and never a command."""
    every = [["\x1b'; touch owned; '"], ["\n$(touch owned)"], ["a'\x01`touch owned`"], *vectors(2_000)]
    shown = [shell_line(words) for words in every]
    assert not any(re.search(r"[\x00-\x1f\x7f]", line) for line in shown)
    script = tmp_path / "shown.sh"
    script.write_text("p() { echo $#; }\n" + "".join(f"p {line}\n" for line in shown))
    done = subprocess.run([shell, str(script)], capture_output=True, check=True, cwd=tmp_path)
    assert done.stdout.decode().split() == [str(len(words)) for words in every]
    assert not (tmp_path / "owned").exists()


def test_a_line_to_repeat_a_case_is_exact_or_says_that_it_is_not(place: Place) -> None:
    place.write(
        "t.matrix.toml",
        r"""
        [program]
        launch = "sh -c 'cat; printf \"<%s>\" \"$V\" \"$@\"; exit 3' sh"
        [[matrix]]
        name = "m"
        line = "{word}"
        axes.word = ["plain", "it's\ntwo", "\u001b[31m; touch owned", "b\ta"]
        env.V = "v\nw"
        stdin = "in\n"
        expect.exit = 0
        """,
    )
    place.call("run", "--jobs", "1")
    repeated = place.call("unfold", "--format", "shell")
    assert repeated.out.count("# not exact, it has invisible characters: keen-matrix replay") == 2, repeated.out
    lines = "\n".join(each for each in repeated.out.split("\n") if "not exact" not in each)
    done = subprocess.run(["sh", "-c", lines], cwd=place.directory, capture_output=True, text=True)
    assert done.stdout.startswith("in\n<v\nw><plain>in\n<v\nw><it's\ntwo>"), done
    for id in [each["id"] for each in place.cases()][2:]:
        assert place.call("replay", id, "--script", "again.sh").status == 0
        done = subprocess.run(["sh", "again.sh"], cwd=place.directory, capture_output=True, text=True)
        assert done.returncode == 3 and done.stdout in ("in\n<v\nw><\x1b[31m; touch owned>", "in\n<v\nw><b\ta>")
    assert not (place.directory / "owned").exists()


# --- reports ---


@pytest.fixture(scope="module")
def reported(tmp_path_factory: pytest.TempPathFactory) -> Place:
    place = Place(tmp_path_factory.mktemp("reported"))
    place.write(
        "t.matrix.toml",
        r"""
        [program]
        launch = "sh -c 'echo \"$1\"; exit 1' sh"
        [[matrix]]
        name = "a\nok 99 - forged <img src=x onerror=alert(1)> # SKIP"
        line = "{word}"
        axes.word = ["=cmd()", "+1", "-1", "@x", "\tx", "plain", "\nok 98 - forged", "</summary><script>alert(1)</script>"]
        axes.number = [-5, 7]
        expect.exit = 0
        [[matrix]]
        name = "unchecked"
        line = "x"
        """,
    )
    place.call("run")
    return place


def test_tap_holds_a_line_for_each_case_and_no_other(reported: Place) -> None:
    out = reported.call("report", "--format", "tap").out
    lines = [line for line in out.splitlines() if re.match(r"(not )?ok ", line)]
    assert out.startswith("TAP version 14\n1..9\n") and len(lines) == 9
    assert all(line.startswith("not ok ") and "# SKIP" not in line.replace("\\#", "") for line in lines)


def test_junit_counts_unchecked_cases_as_failures(reported: Place) -> None:
    root = ET.fromstring(reported.call("report", "--format", "junit").out)
    assert (root.get("failures"), root.get("skipped"), root.get("errors")) == ("9", "0", "0")
    unchecked = [case for case in root.iter("testcase") if "unchecked" in (case.get("classname") or "")]
    assert unchecked[0].find("failure") is not None


def test_markdown_and_csv_hold_nothing_live(reported: Place) -> None:
    markdown = reported.call("report", "--format", "markdown").out
    assert not re.search(r"<summary>[^<]*<(?!/summary>)", markdown) and "&lt;img src=x" in markdown
    rows = list(csv.reader(io.StringIO(reported.call("report", "--format", "csv").out)))
    cells = [cell for row in rows[1:] for cell in row]
    assert (
        "'=cmd()" in cells and "-5" in cells and not [each for each in cells if re.match(r"[=+@\t\r]|-[^\d]|-1$", each)]
    )


# --- expressions ---

COSTLY = [
    "round(1, -10**9)", "'\\t'.expandtabs(10**10)", "(1).to_bytes(10**10, 'big')", "('a' * 10**6).translate({97: 'b' * 10**6})",
    "('a' * 1000).replace('', 'b' * 10**6)", "10**5000", "['a' * 10**6 for x in range(9999)]", "'a'.zfill(10**9)",
    "sum([[1] * 1000 for x in range(5000)], [])", "max([sum(range(10**6)) for x in range(1000)])", "int('f' * 10**6, 16)",
    "'x'.join(['a' * 10**5] * 100000)", "[[[0] * 1000] * 1000 for x in range(9000)]", "sorted(range(10**6))", "1 << 10**9",
    "str(10**4000)", "{x: 'a' * 10**6 for x in range(5000)}", "int('9' * 5000)", "words.append(1)",
]  # fmt: skip


@pytest.mark.parametrize("source", COSTLY)
def test_an_expression_costs_half_a_second_and_some_megabytes_at_most(source: str) -> None:
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    started = time.process_time()
    with pytest.raises((ExpressionFault, NotationFault)):
        Template("{" + source + "}" if source[0] != "{" else "{(" + source + ")}").render(Scope({"words": [1]}))
    assert time.process_time() - started < 5  # half a second on an idle machine, and never minutes
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 200_000 * (
        1024 if sys.platform == "darwin" else 1
    )


@pytest.mark.parametrize(("source", "value"), [
    ("'abc'.replace('b', 'x')", "axc"), ("'a'.center(5)", "  a  "), ("sum([1, 2.5])", "3.5"), ("round(2.567, 1)", "2.6"),
    ("2**1000 > 1", "true"), ("len('a' * 2**20)", "1048576"), ("', '.join(words)", "x, y"), ("round(7.5)", "8"),
    ("sum(range(10**6))", "499999500000"), ("str(sum([[1], [2]], []))", "[1, 2]"), ("max(words, key=len)", "x"),
])  # fmt: skip
def test_ordinary_expressions_are_as_before(source: str, value: str) -> None:
    assert Template("{" + source + "}").render(Scope({"words": ["x", "y"]})) == value


def test_a_large_covering_array_takes_bounded_memory_and_says_what_fits(place: Place) -> None:
    assert memory_needed([2] * 20, 6, constrained=False) < MOST_MEMORY < memory_needed([2] * 60, 6, constrained=False)
    with pytest.raises(ValueError, match=r"a strength of 6 over 60 axes has .* a strength of \d fits"):
        cover(Demand(levels=[2] * 60, strength=6))
    axes = "".join(f"axes.a{n} = [0, 1]\n" for n in range(60))
    line = " ".join(f"{{a{n}}}" for n in range(60))
    place.write(
        "t.matrix.toml", f'[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "{line}"\ncombine = 6\n{axes}'
    )
    for command in ("lint", "unfold", "run"):
        came = place.call(command)
        assert came.status == (1 if command == "lint" else 2) and re.search(r"a strength of \d fits", came.out + came.err), came


# --- the judge ---

ITEMS = st.sampled_from(["-a", "-b", "-n NUM", "--name NAME", "--opt=VAL", "[-x]", "[-v...]", "[--long[=WHEN]]", "(-p|-q)", "[-A | -B]",
                         "FILE", "FILE2...", "[F3]", "[F4...]", "sub", "(add | del)", "[--]", "( X1 | Y1 Z1 )", "[X2 [Y2]]",
                         "( A3 | [B3] )", "([A4] | B4)...", "[-c [-d]]", "((-e | -f) | (-g | [-i] -j))", "[[A5]...]...",
                         "((-k --deep V2))", "<Foo>"])  # fmt: skip
WORDS = st.one_of(
    st.sampled_from(["", "-", "--", "-a", "-n", "5", "-5", "-n5", "-n=5", "--name", "--na", "--=", "--=x", "-=", "-ab", "--opt=",
                     "add", "sub", "-h", "--help", "--hel", "9" * 5000, "-" + "9" * 5000, "1e400", "nan", "\0", "\udcff", "a b",
                     "--a b", "-9" * 100, "x" * 5000, "5", " 5 ", "-k", "-e", " " * 3000 + "5"]),
    st.text(max_size=6),
)  # fmt: skip
TYPES = st.sampled_from([{"type": "int"}, {"type": "int", "min": 1, "max": 60}, {"type": "float"}, {"of": ["a", "b"]},
                         {"type": "date"}, {"type": "file"}, {"matches": "^a+$"}, {"type": "int", "count": "2..4"}])  # fmt: skip
SWITCHES = st.fixed_dictionaries({}, optional={
    "abbreviations": st.booleans(), "bundling": st.booleans(), "interleaved": st.booleans(), "joined": st.booleans(),
    "negative_numbers": st.booleans(), "repeat": st.sampled_from(["last", "refuse", "collect"]),
    "dash_values": st.sampled_from(["take", "refuse"]), "help_wins": st.booleans(),
})  # fmt: skip


@settings(max_examples=400, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.lists(ITEMS, max_size=5, unique=True), st.lists(WORDS, max_size=6), SWITCHES, TYPES,
       st.sampled_from(["gnu", "posix", "one-dash"]))  # fmt: skip
def test_the_judge_answers_every_vector_quickly(
    items: list[str], words: list[str], switches: dict[str, object], kind: dict[str, object], style: str
) -> None:
    text = " ".join(items)
    name = next((each for each in ("NUM", "FILE", "VAL") if re.search(rf"\b{each}\b", text)), None)
    try:
        values = {name: kind} if name else {}
        signature = Signature.from_synopsis(text, values, style, help=["-h", "--help"], **switches)  # type: ignore[arg-type]
    except KeenMatrixError:
        return
    started = time.process_time()
    assert signature.judge(words).status in ("accepted", "refused", "unspecified")
    assert time.process_time() - started < 0.5  # 50 ms on an idle machine


@pytest.mark.parametrize("text", [
    '[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "{x}"\naxes.x = [' + "9" * 5000 + "]\n",
    '[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "x"\nstdin = "' + "y{z} " * 20_000 + '"\n',
    '[program]\nlaunch = "true"\n[signature]\nsynopsis = "' + "a b " * 25_000 + '"\n',
])  # fmt: skip
def test_an_outsize_spec_is_told_of_in_seconds(place: Place, text: str) -> None:
    place.write("t.matrix.toml", text)
    came = place.call("lint", timeout=30)
    assert came.status == 1 and "1 error" in came.out and re.search(r"t\.matrix\.toml:\d+:\d+: ", came.out), came.out[
        :500
    ]


def test_a_hundred_thousand_characters_are_read_at_once(place: Place) -> None:
    text = "a b " * 25_000
    place.write(
        "t.matrix.toml", f'[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "x"\nexpect.stdout = "{text}"\n'
    )
    assert tomllib.loads((place.directory / "t.matrix.toml").read_text()) and place.call("lint", timeout=30).status == 0


HELPS = {
    "blank lines": "\n" * 150_000, "headings": "options:\n" * 6_000, "white space": "-a \t\x0b" * 4_000, "open groups": "Usage: x\n" + " [a\n" * 25_000,
    "commands": "commands:\n  a  b\n" * 3_000, "open values": "  -a, --b[=" * 15_000, "quotes": "  -a  x " + "'a', " * 35_000,
    "options": "".join(f"  --o{number}  text\n" for number in range(3_000)), "prose": "  -a  b\n" + "      one of a, b, c and\n" * 6_000,
    "a long word": "  -a  one of " + "a" * 150_000, "dashes": ("--a" * 166 + "\n") * 100, "usages": "usage: a [b]\n" * 3_000, "panels": "╭─ Options ─╮\n" * 2_500 + "│ --a  B │\n" * 1_500,
}  # fmt: skip


@pytest.mark.parametrize("name", HELPS)
def test_a_help_text_of_any_kind_is_read_to_its_end(name: str) -> None:
    page = read_help(HELPS[name])
    assert len(page.options) <= 3_000 and draft_signature(page, ["x"]).synopsis


def test_no_plugin_of_what_is_installed_beside_runs_where_a_spec_is_read(place: Place) -> None:
    place.write("beside/intruder.py", "import sys\nsys.stderr.write('I run\\n')\nplugin = None\n")
    place.write("beside/intruder-1.0.dist-info/METADATA", "Metadata-Version: 2.1\nName: intruder\nVersion: 1.0\n")
    place.write("beside/intruder-1.0.dist-info/entry_points.txt", "[pydantic]\nintruder = intruder:plugin\n")
    place.write("t.matrix.toml", '[program]\nlaunch = "true"\n[[matrix]]\nname = "m"\nline = "x"\n')
    came = place.call("lint", env={"PYTHONPATH": str(place.directory / "beside")})
    assert (came.status, came.err) == (0, "")
