"""Insight: doubt, suspects, narrowing, coverage; on small programs with faults that are known."""

from __future__ import annotations

import itertools
import json
import math
import random
import re
import shutil
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from keen_matrix.core.insight.alterations import Context, alterations, text_alterations
from keen_matrix.core.insight.coverage import _Combinations, tuples_of
from keen_matrix.core.insight.features import Feature, Observed
from keen_matrix.core.insight.narrow import simpler_words
from keen_matrix.core.insight.suspects import CauseFound, Suspect, Suspicion, sentence, suspects_of
from keen_matrix.core.model.outcome import Looked, Outcome
from tests.conftest import Place

OFFICE = Path(__file__).parent.parent / "src/keen_matrix/demo/office"


@pytest.fixture
def office(place: Place) -> Place:
    """The ferry office, its Python programs started by this very interpreter."""
    shutil.copytree(OFFICE, place.directory, dirs_exist_ok=True)
    for spec in place.directory.glob("*.matrix.toml"):
        text = (
            spec.read_text()
            .replace('"python3 {here}', f'"{sys.executable} {{here}}')
            .replace('["python3"', f'["{sys.executable}"')
        )
        spec.write_text(text)
    return place


def test_every_alteration_changes_something_and_none_comes_twice() -> None:
    outcome = Outcome(exit=2, stdout=b"Fare 4.50\nto Holm\n", stderr=b"p: no\n", seconds=1.0,
                      looked_at={"t.txt": Looked(b"x\n", mode="644")}, files={"t.txt": {"state": "created"}})  # fmt: skip
    found = list(alterations(outcome, Context(messages=[b"q: other\n"], program="p", timed=True)))
    assert len({each.what for each in found}) == len(found) >= 20
    assert all(each.outcome != outcome for each in found)
    assert {each.aspect for each in found} == {"exit", "stdout", "stderr", "files.t.txt", "other-files", "duration"}
    assert dict(text_alterations(b"a 19\nb\n"))["a number off by one"] == b"a 20\nb\n"
    assert [what for what, _ in text_alterations(b"")] == ["an extra line at the end"]


DOUBTED = """
    [program]
    launch = "sh -c 'echo fare 4.50; echo to Holm; echo note >&2' p"
    [[matrix]]
    name = "m"
    line = "x"
    {expect}
    """
SCORES = {
    "expect = { exit = 0, stderr = 'note', stdout = \"fare 4.50\\nto Holm\\n\" }": 100,
    "expect = { exit = 0, stderr = 'note', stdout.contains = 'fare' }": 31,
    "expect.exit = 0": 20,
    "expect = { exit = 'nonzero' }": None,
    "expect = { exit = 0, stderr = 'note', stdout.lines-any-order = ['to Holm', 'fare 4.50'] }": 100,
    "expect = { exit = 0, stderr = 'note', stdout = { lines = ['fare 4.5', 'to Holm'], tolerance = 0.5 } }": 100,
    "mask = [{ matches = '\\d+', as = 'N' }]\nexpect = { exit = 0, stderr = 'note', stdout = \"fare N.N\\nto Holm\\n\" }": 100,
}


@pytest.mark.parametrize("expect", SCORES)
def test_doubt_scores_how_closely_expectations_look(place: Place, expect: str) -> None:
    place.write("t.matrix.toml", DOUBTED.replace("{expect}", expect))
    place.call("run")
    came = place.call("doubt", "--fail-under", "95")
    score = SCORES[expect]
    found = re.search(r"noticed, ([\d.]+) %", came.out)
    if score is None:  # only outcomes that passed are altered
        assert "no case passed, so nothing was altered, so 95 % is not reached" in came.out and came.status == 1
        assert place.call("doubt").status == 0
    else:
        assert found, came.out
        assert (float(found[1]) == 100) is (score == 100) and abs(float(found[1]) - score) < 25, came.out
        assert came.status == (0 if score == 100 else 1)


def test_a_doubt_names_its_rule_an_alteration_and_what_would_close_it(place: Place) -> None:
    place.write("t.matrix.toml", DOUBTED.replace("{expect}", "expect = { exit = 0, stdout.contains = 'fare' }"))
    place.call("run")
    came = place.call("doubt").out
    assert "t.matrix.toml:7  checked too loosely" in came and "stdout: the last line dropped" in came
    line = re.search(r"it would be noticed by  (expect\.stdout = .*)", came)
    assert line
    place.write(
        "t.matrix.toml", DOUBTED.replace("{expect}", f"expect.exit = 0\n    {line[1]}\n    expect.stderr = 'note'")
    )
    assert place.call("run").status == 0
    assert "100.0 %" in place.call("doubt").out


def test_the_demo_is_strict_and_doubting_it_is_quick(office: Place) -> None:
    assert office.call("run", "tide.matrix.toml").status == 0
    started = time.monotonic()
    came = office.call("doubt", "tide.matrix.toml", "--fail-under", "90")
    assert came.status == 0, came.out
    assert time.monotonic() - started < 60


def cases(words: str) -> list[Observed]:
    """Return cases: a line a case, `+` before one that passed, then its features as name=value, numbers apart."""
    found = []
    for number, line in enumerate(words.strip().splitlines()):
        sign, *features = line.split()
        case = Observed(str(number), tuple(features), sign == "+")
        for each in features:
            name, _, value = each.partition("=")
            if value.isdecimal():
                case.numbers[name] = int(value)
            else:
                case.features.add(Feature(name, "is", value))
        found.append(case)
    return found


SUSPECTS = {
    "one factor": ("- a=x b=p\n+ a=y b=p\n- a=x b=q\n+ a=y b=q", ["a is x"]),
    "two factors": ("- a=x b=p\n+ a=y b=p\n+ a=x b=q\n+ a=y b=q\n- a=x b=p", ["a is x and b is p"]),
    "three factors": (
        "\n".join(f"{'-' if (a, b, c) == ('x', 'p', 'm') else '+'} a={a} b={b} c={c}" for a in "xy" for b in "pq" for c in "mn"),
        ["a is x and b is p and c is m"],
    ),
    "a limit": ("+ n=1\n+ n=5\n- n=9\n- n=60", ["n is at least 9"]),
    "two causes": ("- a=x b=q\n- a=x b=p\n- a=y b=r\n+ a=y b=p\n+ a=z b=q\n- a=z b=r", ["a is x", "b is r"]),
}  # fmt: skip


@pytest.mark.parametrize("name", SUSPECTS)
def test_suspects_are_the_smallest_sets_and_causes_are_told_apart(name: str) -> None:
    text, expected = SUSPECTS[name]
    found = suspects_of("all", cases(text))
    assert sorted(str(cause.suspect) for cause in found.causes) == sorted(expected)
    assert not found.unexplained


def test_failures_without_anything_in_common_are_not_explained() -> None:
    found = suspects_of("all", cases("- a=x\n+ a=x\n"))
    assert found.unexplained == ["0"] and not found.causes


def test_sentences_tell_parts_from_traits() -> None:
    parts, trait = (Feature("-b", "given"), Feature("-c", "absent")), Feature("N", "is at least", "60")
    for features, fails, text in (
        (parts[:1], 1, "the one case that failed has -b; no case that passed has"),
        (parts, 3, "all 3 cases that failed have -b together with no -c; no case that passed has"),
        ((trait,), 1, "in the one case that failed N is at least 60; no case that passed is like that"),
        (
            (*parts, trait),
            3,
            "all 3 cases that failed have -b together with no -c, and N is at least 60; no case that passed is like that",
        ),
    ):
        cause = CauseFound(Suspect(features, fails, 0), of=fails)
        assert sentence(cause, Suspicion("all", fails, 1, [cause])) == text


REFUSES = """
    [program]
    launch = "sh {here}/p.sh"
    [signature]
    synopsis = "[-d DEPTH] NAME"
    style = "posix"
    values.DEPTH = { type = "int", min = 1, max = 200 }
    derive = ["refusals"]
    """


def test_a_refused_value_may_be_what_failures_share(place: Place) -> None:
    place.write("t.matrix.toml", REFUSES)
    place.write("p.sh", """
        while getopts d: option; do
          case $option$OPTARG in
          d|d*[!0-9]*|d0) echo "p: -d: bad depth: $OPTARG" >&2; exit 2;;
          '?'*) exit 2;;
          esac
        done
        shift $((OPTIND - 1))
        [ $# = 1 ] || { echo "p: NAME is missing, or too many: $2" >&2; exit 2; }
        """)  # fmt: skip
    assert place.call("run").status == 1
    came = place.call("suspects").out
    assert "in all 4 cases that failed the refused value is at least 201; no case that passed is like that" in came


@pytest.fixture
def subtle(office: Place) -> Place:
    """A run of the edition whose only fault takes three things at once."""
    came = office.call(
        "run",
        "fare.matrix.toml",
        "--program",
        f"{sys.executable} -S subtle/fare.py",
        "--only",
        "fares",
        "--only",
        "accepted",
    )
    assert came.status == 1
    return office


@pytest.mark.long
def test_three_things_at_once_are_found_confirmed_and_narrowed(subtle: Place) -> None:
    came = subtle.call("suspects", "fare.matrix.toml", "--confirm", "8")
    assert came.status == 1
    first, _, confirmed = came.out.partition("more cases")
    assert "have --bike together with --round-trip, and RIDERS is at least" in first
    assert "--bike and --round-trip and RIDERS is at least 10" in confirmed, came.out
    id = next(each["id"] for each in subtle.cases() if each["verdict"] == "failed")
    came = subtle.call("narrow", id, "--launches", "60")
    assert came.status == 0, came.err
    bare = re.findall(r"line = (\[.*\])", came.out)
    assert bare and all(
        {"10", "--bike", "--round-trip"} < set(json.loads(each)) and len(json.loads(each)) == 6 for each in bare
    )


def test_narrowing_keeps_the_reason_and_shrinks_words_and_input(place: Place) -> None:
    place.write("p.sh", """
        case " $* $(cat) " in *" boom "*bad*) ;; *) exit 0 ;; esac
        printf '%s\\n' 'Traceback (most recent call last):' '  File "p", line 3, in <module>' 'ValueError: both' >&2
        exit 1
        """)
    place.write("t.matrix.toml", """
        [program]
        launch = "sh {here}/p.sh"
        [expect]
        exit = 0
        [[matrix]]
        name = "m"
        line = "one two boom three [four] five"
        stdin = "a\\nb\\nbad\\nc\\n"
        """)  # fmt: skip
    place.call("run")
    came = place.call("narrow")
    assert came.status == 0
    assert 'line = ["boom"]' in came.out and 'stdin = "bad\\n"' in came.out, came.out
    assert "1 of 5 words left after" in came.out and "ValueError" in came.out
    few = place.call("narrow", "--launches", "3")
    assert "the limit of launches was reached" in few.out
    assert place.call("narrow", "zzzz").status == 3


def test_words_are_left_alone_when_the_expectation_is_written_for_them(place: Place) -> None:
    place.write(
        "t.matrix.toml",
        '[program]\nlaunch = "echo"\n[[matrix]]\nname = "m"\nline = "{w} more"\naxes.w = ["abc"]\nexpect.stdout = "{w}"\n',
    )
    place.call("run")
    assert "single words are not changed" in place.call("narrow").out


@pytest.mark.parametrize(
    ("word", "simpler"),
    [("60", ["0", "1", "6", "30", "59"]), ("--riders=4", ["--riders=0", "--riders=1", "--riders=2", "--riders=3"]),
     ("abcd", ["a", "ab", "cd", "abc"]), ("--bike", []), ("0", [])],
)  # fmt: skip
def test_simpler_words(word: str, simpler: list[str]) -> None:
    assert list(simpler_words(word)) == simpler


def test_coverage_counts_and_names_what_is_missing(place: Place) -> None:
    text = """
        [program]
        launch = "true"
        [signature]
        synopsis = "[-n,--riders N] [--bike | --car] PORT"
        values.N = { type = "int", min = 1, max = 60 }
        derive = []
        [[matrix]]
        name = "m"
        line = "{port} -n {n} [--bike]"
        combine = "each"
        axes.port = ["Holm", "Voe"]
        axes.n = [1, 2]
        expect.exit = 0
        """
    place.write("t.matrix.toml", text)
    came = place.call("coverage", "--all")
    assert came.status == 0
    for wanted in ("options and spellings              50.0 %       2 of 4", "missing  --riders", "missing  N '60'",
                   "missing  bad-type", "missing  --bike before --car", "missing  before operands", "pairs of m",
                   'would add it  combine = "pairs"', "after operands" ):  # fmt: skip
        assert (wanted in came.out) is (wanted != "after operands"), (wanted, came.out)
    assert place.call("coverage", "--fail-under", "90").status == 1
    place.write(
        "t.matrix.toml",
        text.replace("derive = []", 'derive = ["accepted", "refusals", "rephrasings"]').replace('"each"', '"triples"'),
    )
    came = place.call("coverage", "--fail-under", "100")
    assert came.status == 0, came.out


def test_coverage_of_a_run_counts_only_its_cases(office: Place) -> None:
    office.call("run", "tide.matrix.toml", "--only", "times")
    came = office.call("coverage", "tide.matrix.toml", "--journal", ".keen-matrix/last.jsonl")
    assert re.search(r"pairs of times +100\.0 %", came.out) and "missing  -u" in came.out, came.out


def test_doubt_does_not_depend_on_the_order_in_which_cases_ended(office: Place) -> None:
    office.call("run", "tide.matrix.toml")
    told = office.call("doubt", "tide.matrix.toml").out
    path = office.directory / ".keen-matrix/last.jsonl"
    head, *cases, end = path.read_text().splitlines(keepends=True)
    path.write_text("".join([head, *reversed(cases[40:] + cases[:40]), end]))
    assert sorted(office.call("doubt", "tide.matrix.toml").out.splitlines()) == sorted(told.splitlines())


def test_insight_needs_a_run(place: Place) -> None:
    place.write("t.matrix.toml", DOUBTED.replace("{expect}", "expect.exit = 0"))
    for command in ("doubt", "suspects", "narrow"):
        came = place.call(command)
        assert came.status == 3 and "there is no journal" in came.err
    place.call("run")
    assert place.call("suspects").status == 0 and place.call("narrow").status == 0


def test_the_page_and_the_picture_have_the_maps(office: Place) -> None:
    office.call("run", "tide.matrix.toml", "--report", "html=run.html", "--report", "picture=run.svg")
    page = (office.directory / "run.html").read_text()
    assert "Doubt, tide" in page and "Coverage, tide" in page
    assert (office.directory / "run.svg").read_text().startswith("<?xml")


def test_what_would_be_noticed_fits_every_case_of_the_rule(place: Place) -> None:
    place.write("p.sh", 'echo "hello $1, {$2}"; echo all the same >&2; exit $2')
    place.write("t.matrix.toml", """[program]
launch = "sh {here}/p.sh"
[[matrix]]
name = "m"
line = "{name} {n}"
axes = { name = ["Ada", "Bo"], n = [0, 1, 3] }
combine = "all"
expect = { stdout.contains = "hello", stderr.contains = "the" }
""")
    assert place.call("run").status == 0
    said = place.call("doubt", "--all").out
    for line in (r'expect.stdout = "hello {name}, {{{n}}}\n"', "expect.exit = [0, 1, 3]"):
        assert line in said


NARROWS = """[program]
launch = "sh {here}/p.sh"
[[matrix]]
name = "m"
line = "{a} {b}"
axes.a = ["1", "WORD", "3"]
axes.b = ["4", "WORD", "6"]
combine = "all"
expect = { exit = 0, stdout = "fine" }
"""


def test_narrow_says_what_is_no_longer_there_and_tells_one_vector_once(place: Place) -> None:
    place.write("p.sh", 'case "$1" in x) echo boom; exit 3;; esac\necho fine')
    place.write("t.matrix.toml", NARROWS.replace("WORD", "x"))
    assert place.call("run").status == 1
    ids = [each["id"] for each in place.cases() if each["verdict"] != "passed"]
    came = place.call("narrow", *ids)
    assert came.status == 0 and came.out.count("[[matrix]]") == 1 and came.out.count("leads to the same call as") == 2
    place.write("t.matrix.toml", NARROWS.replace("WORD", "y"))
    came = place.call("narrow")
    assert came.status == 3 and "1 case of that run that failed is no longer in the spec" in came.err and "passed" not in came.out
    assert place.call("run").status == 0
    assert "so there is nothing to narrow" in place.call("narrow").out


@pytest.mark.parametrize("sizes", [[2, 3], [2, 3, 4], [1, 5, 2, 2, 3, 7], [2] * 9])
def test_tuples_are_counted_and_noted_as_going_through_them_all_does(sizes: list[int]) -> None:
    for strength in (2, 3):
        assert tuples_of(sizes, strength) == sum(math.prod(each) for each in itertools.combinations(sizes, strength))
    rows = [tuple(random.Random(n).randrange(size) for size in sizes) for n in range(7)]
    seen = _Combinations(sizes)
    seen.add(list(np.array(rows, np.int64).T))
    every = set(itertools.product(*map(range, sizes)))
    assert seen.count == len(set(rows)) and set(seen.unseen()) == every - set(rows)
