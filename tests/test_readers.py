"""The judge checked against the libraries themselves: what they answered is kept, and those that are here are asked again."""

from __future__ import annotations

import gzip
import json
import os
import random
import shutil
import subprocess
import sys
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace
from typing import Any, get_args

import pytest

from keen_matrix import Signature
from keen_matrix.core.runs.starting.scripts import language_of, reader_named, text_of_script
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.habits import QUESTIONS, SETTINGS, Habits, OpenHabit, need
from keen_matrix.core.signature.readers import BY_HAND, READERS, ReaderName
from tests.conftest import Place
from tests.programs import in_sh

ROOT = Path(__file__).parent.parent
sys.path.insert(0, str(ROOT / "benchmarks"))
import readers as trials  # noqa: E402

KEPT = json.loads(gzip.decompress((ROOT / "tests/data_readers.json.gz").read_bytes()))
LEAST = {"yargs": (99.5, 99.0, 1), "minimist": (99.5, 99.0, 5), "node-parseargs": (99.5, 99, 3), "commander": (99.5, 99, 3)}
"""Reader → right in percent of what is said, bindings right in percent, open in percent. JavaScript programs read numbers by
functions of their own, so that spellings of numbers stay open."""


def compared(reader: str, requests: list[Any], answers: list[Any], by: str | None) -> tuple[Counter[str], list[str]]:
    counts: Counter[str] = Counter()
    told = list(trials.differences(reader, requests, answers, counts, by))
    return counts, told


def requests_of(reader: str) -> list[Any]:
    found: list[Any] = KEPT["letters" if reader in ("getopts", "getopt-posix") else "all"]
    return found


def every_other(reader: str) -> tuple[list[Any], list[Any]]:
    """Return half of the requests, and what a reader answered: all where a share of it is known to be judged
    otherwise. `benchmarks/readers.py` goes through all of all."""
    step = 1 if reader in LEAST else 2
    return requests_of(reader)[::step], KEPT["answers"][reader][::step]


@pytest.mark.parametrize("reader", KEPT["answers"])
def test_a_reader_is_judged_as_it_answered(reader: str) -> None:
    counts, told = compared(reader, *every_other(reader), reader)
    right, bound, most_open = LEAST.get(reader, (99.9, 100, 1))
    spoken = counts["all"] - counts["open"]
    assert 100 - 100 * counts["wrong"] / spoken >= right, told
    assert 100 - 100 * counts["misbound"] / counts["bound"] >= bound, told
    assert counts["open"] <= most_open / 100 * counts["all"] and counts["broken"] == 0, told


@pytest.mark.parametrize("style", ["gnu", "posix", "one-dash"])
def test_without_a_reader_what_is_said_is_right_for_all_that_refuse_what_they_do_not_know(
    style: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    judged_once: dict[str, Any] = {}

    def signature_of(request: dict[str, Any], reader: str | None, style: str) -> Any:
        key = json.dumps(request)
        if key not in judged_once:
            made = plain(request, reader, style)
            judged_once[key] = SimpleNamespace(lines=made.lines, values=made.values, judge=cache_of_words(made.judge))
        return judged_once[key]

    plain = trials.signature_of
    monkeypatch.setattr(trials, "signature_of", signature_of)
    readers = [each for each in KEPT["answers"] if READERS[each].style == style and each not in ("yargs", "minimist")]
    for reader in readers:
        counts, told = compared(reader, *every_other(reader), None)
        spoken = counts["all"] - counts["open"]
        assert counts["wrong"] <= 0.015 * spoken, (reader, told)
        assert counts["open"] <= 0.3 * counts["all"], reader
    assert len(readers) > 1


def cache_of_words(judge: Callable[[list[str]], Any]) -> Callable[[list[str]], Any]:
    found: dict[tuple[str, ...], Any] = {}
    return lambda words: found.get(tuple(words)) or found.setdefault(tuple(words), judge(words))


HERE = [
    *(name for name in ("argparse", "optparse", "click") if shutil.which(sys.executable)), *(["getopts"] if shutil.which("sh") else []),
    *(["getopt-long", "getopt-posix"] if shutil.which("cc") else []), *(["node-parseargs"] if shutil.which("node") else []),
    *(["perl-getopt-long", "perl-getopt-long-bundling"] if shutil.which("perl") else []),
]  # fmt: skip


@pytest.mark.parametrize("reader", HERE)
def test_the_libraries_that_are_here_still_answer_so(reader: str, monkeypatch: pytest.MonkeyPatch) -> None:
    if reader == "argparse" and sys.version_info >= (3, 12, 7):
        pytest.skip("argparse takes options before an operand that may be left out since Python 3.12.7")
    monkeypatch.delenv("READERS_PYTHON", raising=False)
    requests = [{**each, "vectors": each["vectors"][:12]} for each in requests_of(reader)[:6]]
    answers = trials.answers_of(reader, requests)
    kept = [each[:12] for each in KEPT["answers"][reader][:6]]
    assert answers is not None and [[one[0] == 0 for one in each] for each in answers] == [[one[0] == 0 for one in each] for each in kept]


@pytest.mark.parametrize("reader", [each for each in HERE if each != "getopts"])
def test_every_rephrasing_and_refusal_is_one_to_the_library(reader: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("READERS_PYTHON", raising=False)
    requests, expected = [], []
    for request in requests_of(reader)[:10]:
        signature = trials.signature_of(request, reader)
        pairs = [(vector.words, other) for vector in family_of(signature, "rephrasings").vectors
                 for other in vector.more if vector.kind != "default written out"]  # fmt: skip
        refused = [vector.words for vector in family_of(signature, "refusals").vectors]
        expected.append((len(pairs), pairs, refused))
        requests.append({**request, "vectors": [list(words) for pair in pairs for words in pair] + [list(each) for each in refused]})
    answers = trials.answers_of(reader, requests)
    assert answers is not None and sum(count for count, _, _ in expected) > 60
    for found, (count, pairs, refused) in zip(answers, expected, strict=True):
        for pair, one, other in zip(pairs, found[: 2 * count : 2], found[1 : 2 * count : 2], strict=True):
            assert one[0] == other[0] == 0 and trials.normal(one[2] or {}) == trials.normal(other[2] or {}), (pair, one, other)
        assert [words for words, answer in zip(refused, found[2 * count :], strict=True) if answer[0] == 0] == []


def test_what_follows_from_a_reader_is_tried() -> None:
    values = {"N": {"type": "int", "min": 1, "max": 60, "example": 7}, "PORT": {"example": "x"}}

    def kinds(reader: str) -> set[str]:
        signature = Signature.from_synopsis("[-n,--number N] [-q,--quiet] [-v,--verbose] PORT", values, reader=reader)
        return {vector.kind for vector in family_of(signature, "rephrasings").vectors}

    assert {"shortened", "joined by =", "number in other digits"} <= kinds("argparse")
    assert {"other dashes", "joined by ="} <= kinds("go-flag") and "bundled flags" not in kinds("go-flag")
    assert {"in capitals", "other dashes"} <= kinds("perl-getopt-long") and "switched off" in kinds("yargs")
    assert "shortened" not in kinds("click")


# --- habits and readings ---


def test_every_reader_has_a_row_and_every_open_habit_its_settings_and_question() -> None:
    assert set(READERS) == set(get_args(ReaderName)) and all(row.source for row in READERS.values())
    of_texts = {"numbers", "booleans", "dates", "durations", "empty_values", "lone_dash", "negated", "repeat_flags"}
    can_be_open = {name for name in Habits.__struct_fields__ if any(getattr(row.habits, name) is None for row in BY_HAND.values())}
    assert can_be_open - of_texts <= set(SETTINGS) == set(QUESTIONS)
    with pytest.raises(OpenHabit):
        need(None, "abbreviations")


@pytest.mark.parametrize("reader", READERS)
def test_a_reader_leaves_next_to_nothing_open(reader: str) -> None:
    rng = random.Random(3)
    unsettled = Counter[str]()
    for _ in range(20):
        request = trials.random_request(rng)
        signature = trials.signature_of(request, reader)
        for words in request["vectors"][:20]:
            judged = signature.judge(words)
            unsettled[judged.status] += 1
    assert unsettled["unspecified"] <= 0.06 * unsettled.total(), unsettled


SETTLED = [
    ("--b x", "refused"), ("--bi x", "unspecified"), ("--bikes x", "refused"), ("-n --bike x", "refused"), ("-5", "unspecified"),
    ("x --bike y", "refused"), ("-bn3 x", "accepted"), ("-n=3 x", "unspecified"), ("-n=x x", "refused"), ("--bike --bike x y", "refused"),
]  # fmt: skip


@pytest.mark.parametrize(("words", "status"), SETTLED)
def test_what_all_readings_agree_on_is_settled(words: str, status: str) -> None:
    own = Signature.from_synopsis("[-n,--number N] [-b,--bike] [--boat] PORT", {"N": {"type": "int"}})
    assert own.judge(words.split()).status == status, own.judge(words.split())


TEXTS = [
    ("argparse", "int", "legal", ["007", "+3", "1_000", " 4 ", "٣"], ["0x10", "1e3", "4.0", ""]),
    ("argparse", "float", "legal", ["1e3", "nan", "inf", ".5", "5."], ["0x1p3", "1,5"]),
    ("optparse", "int", "legal", ["0x10", "0b11", "017"], ["08", "1e3"]),
    ("go-flag", "int", "legal", ["0x10", "0b11", "0o17", "1_000", "-5"], ["08", " 4", "1e3", "9223372036854775808"]),
    ("go-flag", "bool", "legal", ["t", "TRUE", "0"], ["yes", "on", "tRUE"]), ("click", "bool", "legal", ["yes", "ON", "t"], ["maybe", "2"]),
    ("perl-getopt-long", "int", "legal", ["1_000", "+3"], ["0x10", "4.0"]), ("perl-getopt-long", "float", "legal", ["1,5", "3 4", ".5"], ["abc", "-"]),
    ("ruby-optparse", "int", "legal", ["0x1F", "0b1", "1_000"], ["08", "1__0"]), ("clap", "int", "legal", ["+3", "007"], ["1_000", " 4", "0x10"]),
    ("yargs", "int", "legal", ["0x10", "1e3", " 4", "+3"], ["1_000", "abc", "1.5"]), ("getopts", "int", "legal", ["007"], ["1_000", "0x10"]),
    ("click", "date", "legal", ["2025-06-01T10:00:00", "2025-06-01"], ["1 June", "tomorrow", "2025/06/01"]),
    ("go-flag", "duration", "legal", ["1h30m", "1.5s", "0", "-2ms"], ["10", "10 s", "1d"]), ("click", "duration", "doubtful", ["1h30m", "10"], []),
    ("getopt-long", "int", "doubtful", ["+3", " 4"], []), ("node-parseargs", "int", "doubtful", ["1e3", "0x10"], []),
]  # fmt: skip


@pytest.mark.parametrize(("reader", "kind", "status", "taken", "refused"), TEXTS)
def test_which_texts_are_of_a_type_is_the_libraries_word(reader: str, kind: str, status: str, taken: list[str], refused: list[str]) -> None:
    own = Signature.from_synopsis("[--value V]", {"V": {"type": kind}}, reader=reader).values["V"]
    assert {text: own.read(text).status for text in taken} == dict.fromkeys(taken, status)
    assert {text: own.read(text).status for text in refused} == dict.fromkeys(refused, "illegal")


def test_files_that_exist_are_told_to_the_judge() -> None:
    own = Signature.from_synopsis("[-C DIR] FILE", {"FILE": {"type": "file"}, "DIR": {"type": "dir"}}, reader="argparse")
    assert own.judge(["a.txt"]).status == "refused" and own.judge(["a.txt"], ["a.txt"]).status == "accepted"
    assert own.judge(["-C", "sub", "sub/a"], ["sub/a"]).status == "accepted" and own.judge(["a.txt"], ["a.txt/"]).status == "refused"


def test_a_synopsis_says_that_an_option_with_an_optional_value_may_come_again() -> None:
    own = Signature.from_synopsis("[--depth[=DEPTH]...] A", {"<A>": {"example": "x"}, "DEPTH": {"type": "int"}})
    assert str(own.lines[0]) == "[--depth[=DEPTH]...] A"
    assert own.judge(["--depth=3", "--depth", "x"]).status == "accepted"
    assert Signature.from_synopsis("[--size SIZE] A", {"SIZE": {"count": "2"}}).judge(["--size", "1", "2", "x"]).status == "accepted"


@pytest.mark.parametrize(("old", "new", "family", "kinds"), [
    ("exit 2", "exit 1", "refusals", {"unknown-option", "bad-type", "missing-value", "too-few", "too-many"}),
    ("", "", "rephrasings", {"shortened"}),
])  # fmt: skip
def test_one_word_in_the_spec_says_how_words_are_read_and_refused(place: Place, old: str, new: str, family: str, kinds: set[str]) -> None:
    """That of a sound one all hold is seen in the cookbook; this one takes no abbreviations."""
    script = in_sh({"-n,--number": "N", "-q,--quiet": ""}, whole=["N"])
    assert old in script
    place.write("p.sh", script.replace(old, new))
    place.write("p.matrix.toml", """
        [program]
        launch = "sh {here}/p.sh"
        [signature]
        synopsis = "[-n,--number N] [-q,--quiet] PORT"
        reader = "argparse"
        values.N = { type = "int", example = 7 }
        """)  # fmt: skip
    ran = place.call("run", "--only", family)
    assert {each["kind"] for each in place.cases() if each["verdict"] not in ("passed", "blocked")} >= kinds, ran.out


def test_why_says_which_readers_would_do_what(place: Place) -> None:
    place.write("p.matrix.toml", """
        [program]
        launch = "true"
        [signature]
        synopsis = "[--number N] PORT"
        [[matrix]]
        name = "short"
        line = "--num 3 x"
        """)  # fmt: skip
    case = json.loads(place.call("unfold", "--only", "short", "--format", "json").out.splitlines()[0])
    why = place.call("unfold", "--why", case["id"]).out
    assert "accepted by  argparse, optparse, getopt-long" in why and "refused by  click" in why, why


def test_a_reader_that_is_none_is_told_with_the_nearest(place: Place) -> None:
    place.write("p.matrix.toml", '[program]\nlaunch = "true"\n[signature]\nsynopsis = "A"\nreader = "argpars"\n')
    told = place.call("lint")
    assert told.status == 1 and 'did you mean "argparse"?' in told.out + told.err, told
    assert os.path.exists(place.directory / "p.matrix.toml")


def test_no_more_readings_are_followed_than_there_is_time_for(monkeypatch: pytest.MonkeyPatch) -> None:
    from keen_matrix.core.signature.judging import judge as judging

    own = Signature.from_synopsis("[-n,--number N] [-b,--bike] [--alpha] [--omega[=O]] [PORT] [TO]", {"N": {"type": "int"}})
    words = ["--nonesuch", "-n=3", "--number=", "-5", "--alp", "x", "-b", "y", "-b-", "--omega", "z", "--", "w", "--", "v"]
    counted: list[int] = []
    plain = judging.judge_under
    monkeypatch.setattr(judging, "judge_under", lambda *given: (counted.append(1), plain(*given))[1])
    judged = judging.judge(own, words)
    # refused in every reading, of which there are hundreds
    assert judged.status == "unspecified" and len(counted) < 2 * judging.MOST_READINGS
    assert sum("open: " in each for each in judged.reasons) == 8


ENDS = {  # each prints the value, and the words that are left
    "argparse": [sys.executable, "-c", "import argparse, sys; p = argparse.ArgumentParser(); p.add_argument('-v', '--value', nargs='?', const='');"
                 "p.add_argument('A', nargs='*'); g = p.parse_args(); print(g.value, g.A)"],
    "click": [sys.executable, "-c", "import click; click.command()(click.option('-v', '--value', is_flag=False, flag_value='')"
              "(click.argument('a', nargs=-1)(lambda value, a: print(value, list(a)))))()"],
    "perl-getopt-long": ["perl", "-MGetopt::Long", "-e", "GetOptions('v|value:s', \\$v) or exit 2; print $v // 'None', ' [', join(', ', map(\"'$_'\", @ARGV)), ']'", "--"],
    "perl-getopt-long-bundling": ["perl", "-MGetopt::Long=:config,bundling", "-e",
                                  "GetOptions('v|value:s', \\$v) or exit 2; print $v // 'None', ' [', join(', ', map(\"'$_'\", @ARGV)), ']'", "--"],
}  # fmt: skip
OPTIONAL = ["", "-v", "-v 5", "-v5", "-v 5 x", "--value 5 x", "--value=5 x", "--value", "x -v", "x --value=5", "-v=5 x"]


@pytest.mark.parametrize("reader", ENDS)
def test_a_value_that_may_be_left_out_is_taken_as_the_library_takes_it(reader: str) -> None:
    own = Signature.from_synopsis("[-v,--value[=VALUE]] [A...]", {"VALUE": {"type": "text"}}, reader=reader)
    for line in OPTIONAL:
        came = subprocess.run([*ENDS[reader], *line.split()], capture_output=True, text=True)
        judged = own.judge(line.split())
        value, rest = judged.bindings.get("--value"), judged.bindings.get("A", [])
        expected = f"{'' if value is True else value} {rest}" if judged.status == "accepted" else ""
        assert (came.returncode == 0, came.stdout.strip()) == (judged.status == "accepted", expected.strip()), line
    parts = [part for each in family_of(own, "accepted").vectors for part in each.words]
    assert parts and not ("-v5" in parts and reader == "perl-getopt-long")


NAMED = [
    ("perl", "use Getopt::Long;", "--day -d", "perl-getopt-long"), ("perl", "use Getopt::Long qw(:config bundling);", "--day", "perl-getopt-long-bundling"),
    ("perl", "use Getopt::Long;", "-day", "perl-getopt-long"), ("perl", "use Getopt::Long qw(:config bundling);", "-day", "perl-getopt-long"),
    ("node", "const { program } = require('commander');", "--day", "commander"), ("node", "require('commander'); require('yargs')", "--day", ""),
    ("shell", "while getopts ab opt; do", "-a -b", "getopts"), ("shell", "while getopts ab opt; do", "-a --all", ""), ("shell", "echo", "-a", ""),
    ("python", "import click", "--day", "click"), ("python", "import argparse", "-day", ""), ("perl", "import argparse", "--day", ""), ("python", "", "", ""),
]  # fmt: skip


@pytest.mark.parametrize(("language", "script", "spellings", "reader"), NAMED)
def test_a_script_names_the_reader_of_its_language_that_has_such_options(language: Any, script: str, spellings: str, reader: str) -> None:
    assert reader_named(script, language, spellings.split()) == reader


def test_the_language_of_a_program_is_told_by_its_words_or_its_first_line(tmp_path: Path) -> None:
    script = tmp_path / "tides"
    for first, language in (("#!/usr/bin/env python3", "python"), ("#!/usr/bin/perl -w", "perl"), ("#!/bin/dash", "shell"), ("#!/opt/nodejs18", "node"), ("", "binary")):
        script.write_text(f"{first}\n")
        assert language_of(str(script), []) == language, first
    assert [language_of(f"/usr/bin/{word}", []) for word in ("python3.11", "node", "ruby3", "bash", "true")] == ["python", "node", "ruby", "shell", "binary"]
    assert language_of("/usr/bin/env", ["python3"]) == "python" and language_of(str(tmp_path / "gone"), []) == "binary"
    assert text_of_script(["/bin/sh", str(script)]) == "\n" and text_of_script(["/bin/true", str(tmp_path)]) == ""
