"""Judging vectors: tables, laws, and real argument readers as witnesses."""

from __future__ import annotations

import argparse
import contextlib
import io
import json
import random
import shutil
import subprocess
from collections import Counter
from collections.abc import Iterator, Sequence
from typing import Any

import pytest

from keen_matrix import Signature
from keen_matrix.core.errors import NotationFault
from keen_matrix.core.notation.synopsis import parse_synopsis
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.kinds import DEFAULT_FAMILIES, FAMILIES
from keen_matrix.core.signature.model import SignatureFault, value_type
from keen_matrix.core.signature.readers import READERS
from keen_matrix.core.signature.values import TYPES, Existing
from keen_matrix.core.structs import replace

FARE = Signature.from_synopsis(
    "[-n,--riders RIDERS] [--bike | --car] [--round-trip] [-s,--save FILE] ORIGIN DESTINATION",
    {
        "RIDERS": {"type": "int", "min": 1, "max": 60, "default": 1, "example": 3}, "FILE": {"type": "path"},
        "ORIGIN": {"of": ["Skerry", "Holm", "Voe"]}, "DESTINATION": {"of": ["Skerry", "Holm", "Voe"], "example": "Holm"},
    },
    only_if=["ORIGIN != DESTINATION"],
    help=["-h", "--help"],
)  # fmt: skip

LINES = [
    "[-n,--riders RIDERS] [--bike | --car] [--round-trip] [-s,--save FILE] ORIGIN DESTINATION",
    "[--size W H] [--color[=WHEN]] [-v...] A...", "[FIRST [INCREMENT]] LAST", "add NAME [--note TEXT]",
    "(--user USER) SRC", "[-O[LEVEL]] <file>... [--depth N [M]] [-k=K]", "[FILE | -]", "-- COMMAND...",
    "[-e PATTERN]... (-f FILE | PATTERN) [FILE...]", "[[-a | -b] [-c] | --all] [A [B]]",
]  # fmt: skip


@pytest.mark.parametrize("line", LINES)
def test_parsing_a_synopsis_and_printing_it_gives_the_same_line(line: str) -> None:
    form = parse_synopsis(line)
    assert str(form) == line
    assert parse_synopsis(str(form)) == form


@pytest.mark.parametrize(
    ("line", "message", "at"),
    [
        ("[-n RIDERS", 'this "[" is never closed; expected "]"', 0),
        ("A {x}", "a synopsis has no { } fields; a value is a NAME in capitals", 2),
        ("[-a,-a]", "this spelling occurs twice here", 1),
        (
            "Foo",
            '"Foo" is neither an option, nor a NAME in capitals, nor a keyword in small letters; <Foo> makes it a NAME',
            0,
        ),
        ("[--x[Y|Z]]", "expected [=NAME] after an option, its optional value", 4),
        ("A[B]", "there is no space before this group; expected white space", 1),
        ("--x=y", 'expected a NAME in capitals after "="', 4),
    ],
)
def test_a_synopsis_fault_points_at_its_place(line: str, message: str, at: int) -> None:
    with pytest.raises(NotationFault) as caught:
        parse_synopsis(line)
    assert (caught.value.message, caught.value.offset) == (message, at)


ACCEPTED = {
    "Skerry Holm": {"ORIGIN": "Skerry", "DESTINATION": "Holm"},
    "-n 3 Skerry Holm": {"--riders": "3", "ORIGIN": "Skerry", "DESTINATION": "Holm"},
    "Skerry -n3 Holm --bike": {"--riders": "3", "--bike": True, "ORIGIN": "Skerry", "DESTINATION": "Holm"},
    "--save=a -- Voe Holm": {"--save": "a", "ORIGIN": "Voe", "DESTINATION": "Holm"},
    "--help": {}, "-h Skerry Holm": {},
}  # fmt: skip


@pytest.mark.parametrize("vector", ACCEPTED)
def test_an_accepted_vector_binds_its_words(vector: str) -> None:
    judged = FARE.judge(vector.split())
    assert (judged.status, dict(judged.bindings)) == ("accepted", ACCEPTED[vector])


REFUSED = {
    "": ("too-few", "ORIGIN"), "Skerry": ("too-few", "DESTINATION"), "Skerry Holm Voe": ("too-many", "Voe"),
    "Skerry Skerry": ("condition", "Skerry"), "-nabc Skerry Holm": ("bad-type", "abc"), "-n 61 Voe Holm": ("out-of-range", "61"),
    "--car --bike Voe Holm": ("conflict", "--bike"), "Voe Holm --bikes": ("unknown-option", "--bikes"),
    "Voe Holm -x": ("unknown-option", "-x"), "Voe Holm -n": ("missing-value", "-n"), "--bike=1 Voe Holm": ("unexpected-value", "--bike"),
    "Voe Atlantis": ("not-a-choice", "Atlantis"),
}  # fmt: skip


@pytest.mark.parametrize("vector", REFUSED)
def test_a_refused_vector_has_its_kind_and_culprit(vector: str) -> None:
    judged = FARE.judge(vector.split())
    assert judged.status == "refused"
    assert [(each.kind, each.culprit) for each in judged.refusals] == [REFUSED[vector]]


@pytest.mark.parametrize(("vector", "kinds"), [("-n --bike Voe Holm", "bad-type missing-value"), ("-5 Voe", "not-a-choice unknown-option too-few")])
def test_what_is_refused_in_every_reading_is_settled_with_all_that_any_finds(vector: str, kinds: str) -> None:
    judged = FARE.judge(vector.split())
    assert (judged.status, " ".join(judged.kinds)) == ("refused", kinds)


@pytest.mark.parametrize(
    "vector",
    ["--rid 3 Voe Holm", "-s --bike Voe Holm", "Voe Holm -n 1_000", "-n ３ Voe Holm", "--help Voe", "Voe Holm -n 007",
     "--bike --bike Voe Holm", "Voe Holm --version", "--save= Voe Holm"],
)  # fmt: skip
def test_what_reasonable_programs_do_differently_is_unspecified(vector: str) -> None:
    judged = FARE.judge(vector.split())
    assert judged.status == "unspecified" and "open: " in judged.reasons[-1]


@pytest.mark.parametrize(
    ("switches", "vector", "status", "kind"),
    [
        ({"abbreviations": True}, "--rid 3 Voe Holm", "accepted", ""),
        ({"abbreviations": False}, "--rid=3 Voe Holm", "refused", "unknown-option"),
        ({"dash_values": "take"}, "-s --bike Voe Holm", "accepted", ""),
        ({"dash_values": "refuse"}, "-s --bike Voe Holm", "refused", "missing-value"),
        ({"repeat": "refuse"}, "--bike --bike Voe Holm", "refused", "repeated"),
        ({"repeat": "last"}, "-n1 -n2 Voe Holm", "accepted", ""),
        ({"negative_numbers": True}, "-n -5 Voe Holm", "refused", "out-of-range"),
        ({"negative_numbers": False}, "-5 Voe Holm", "refused", "unknown-option"),
        ({"help_wins": True}, "--help --bogus", "accepted", ""),
        ({"help_wins": False}, "--help --bogus", "refused", "unknown-option too-few"),
        ({"interleaved": False}, "Voe Holm --bike", "refused", "too-many"),
    ],
)
def test_a_switch_settles_it(switches: dict[str, Any], vector: str, status: str, kind: str) -> None:
    own = Signature.from_synopsis(
        "[-n,--riders RIDERS] [--bike | --car] [-s,--save FILE] ORIGIN DESTINATION",
        {"RIDERS": {"type": "int", "min": 1}, "FILE": {"type": "path"}}, **switches,
    )  # fmt: skip
    judged = own.judge(vector.split())
    assert (judged.status, " ".join(judged.kinds)) == (status, kind)


@pytest.mark.parametrize(
    ("synopsis", "vector", "expected"),
    [
        ("[FIRST [INCREMENT]] LAST", "1 2", {"FIRST": "1", "LAST": "2"}),
        ("[FIRST [INCREMENT]] LAST", "1 2 3 4", "too-many 4"),
        ("SRC... DEST", "a", "too-few DEST"),
        ("SRC... DEST", "a b c", {"SRC": ["a", "b"], "DEST": "c"}),
        (["add NAME [--note TEXT]", "list [--all]"], "add x --note y", {"NAME": "x", "--note": "y"}),
        (["add NAME [--note TEXT]", "list [--all]"], "add", "too-few NAME"),
        (["add NAME [--note TEXT]", "list [--all]"], "lst", "not-a-choice lst"),
        ("(--all | NAME...)", "", "too-few NAME"),
        ("(--all | NAME...)", "--all x", "conflict x"),
        ("(--user USER) SRC", "x", "missing-option --user"),
        ("[--size W H] A", "--size 1 2 x", {"--size": ["1", "2"], "A": "x"}),
        ("[--color[=WHEN]] [-v...] A", "-vv --color x", {"-v": 2, "--color": True, "A": "x"}),
        ("-- COMMAND...", "ls", "missing-option --"),
        ("[--bike [--trailer]] A", "--trailer x", "missing-option --bike"),
    ],
)
def test_the_shapes_of_a_synopsis(synopsis: Any, vector: str, expected: Any) -> None:
    judged = Signature.from_synopsis(synopsis).judge(vector.split())
    if isinstance(expected, dict):
        assert (judged.status, dict(judged.bindings)) == ("accepted", expected)
    else:
        assert [f"{each.kind} {each.culprit}" for each in judged.refusals] == [expected]


def test_a_signature_that_does_not_fit_together_says_where() -> None:
    with pytest.raises(SignatureFault, match="has no value") as caught:
        Signature.from_synopsis("[-n RIDERS] PORT", {"RIDER": {"type": "int"}})
    assert (caught.value.key, caught.value.item, caught.value.suggestion) == ("values", "RIDER", "RIDERS")
    with pytest.raises(SignatureFault, match="not a legal value"):
        Signature.from_synopsis("N", {"N": {"type": "int", "max": 3, "example": 4}})


@pytest.mark.parametrize(("table", "message"), [
    ({"type": "bool", "min": 1}, '"min" does not go with a bool'), ({"type": "int", "matches": "a"}, '"matches" does not go with an int'),
    ({"type": "file", "case": "ignore"}, '"case" does not go with a file'), ({"of": ["a"], "type": "text"}, '"of" does not go with a text'),
    ({"type": "choice"}, "needs what it is a choice of"), ({"type": "date", "min": 5}, "a bound of a date is a date, not 5"),
    ({"type": "int", "max": "2025-01-01"}, "a bound of a number is a number"), ({"min": 1.5}, "a whole number, not 1.5"),
    ({"type": "int", "min": 3, "max": 2}, "min 3 is more than max 2"), ({"type": "ints"}, 'unknown type "ints"'), ({"mni": 2}, 'unknown key "mni"'),
])  # fmt: skip
def test_a_value_table_that_says_what_its_type_does_not_know_is_refused(table: dict[str, Any], message: str) -> None:
    with pytest.raises(SignatureFault, match=message):
        Signature.from_synopsis("N", {"N": table})


@pytest.mark.parametrize("name", TYPES)
def test_legal_values_are_legal_and_bad_ones_are_not(name: Any) -> None:
    own = {"choice": {"of": ["a", "b"]}, "date": {"max": "2030-01-01"}, "int": {"min": 1}, "float": {"min": 1}, "text": {"min": 1}}
    kind = value_type("X", {"type": name, **own.get(name, {})})
    if isinstance(kind, Existing):
        kind = replace(kind, known=frozenset({"names.txt"}))
    assert kind.legal() and all(kind.read(each).status == "legal" for each in kind.legal())
    assert all(kind.read(each).status == "illegal" for each in kind.bad())
    assert name == "path" or kind.bad()


def test_every_derived_refusal_has_exactly_one_fault_and_every_accepted_vector_none() -> None:
    for vector in family_of(FARE, "refusals").vectors:
        assert [each.kind for each in FARE.judge(vector.words).refusals] == [vector.kind], vector
    for name in ("accepted", "rephrasings", "effects", "again"):
        for vector in family_of(FARE, name).vectors:
            assert all(FARE.judge(words).status == "accepted" for words in (vector.words, *vector.more)), vector
    kinds = Counter(vector.kind for vector in family_of(FARE, "refusals").vectors)
    assert set(kinds) == {"too-few", "too-many", "unknown-option", "unexpected-value", "not-a-choice", "bad-type",
                          "out-of-range", "missing-value", "conflict", "condition"}  # fmt: skip
    assert set(DEFAULT_FAMILIES) < set(FAMILIES)


# --- real readers as witnesses ---


class _Refused(Exception):
    pass


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> Any:
        raise _Refused(message)


def random_signature(rng: random.Random, *, long: bool = True) -> tuple[Signature, Any, list[tuple[str, ...]]]:
    """Return a signature, a maker of the same argparse parser, and its options as (spellings…, value or "")."""
    letters = rng.sample("abcdefgh", rng.randint(1, 4))
    words = rng.sample(["alpha", "beta", "color", "depth", "every", "force"], len(letters))
    options = []
    for letter, word in zip(letters, words, strict=True):
        spellings = (
            rng.choice([(f"-{letter}", f"--{word}"), (f"--{word}",), (f"-{letter}",)]) if long else (f"-{letter}",)
        )
        options.append((*spellings, rng.choice(["", "", "N", "TEXT"])))
    parts = [
        f"[{','.join(each[:-1])}{' ' + each[-1] + str(at) if each[-1] else ''}]" for at, each in enumerate(options)
    ]
    exclusive = len(options) > 2 and rng.random() < 0.4
    if exclusive:
        parts[0:2] = [f"[{parts[0][1:-1]} | {parts[1][1:-1]}]"]
    operands = rng.choice([[], ["A"], ["A", "B"], ["A", "[C]"], ["A..."], ["[A...]"]])
    values = {f"N{at}": {"type": "int"} for at, each in enumerate(options) if each[-1] == "N"}
    synopsis = " ".join([*parts, *operands])
    signature = Signature.from_synopsis(synopsis, values, "gnu" if long else "posix", repeat="last", help=[],
                                        dash_values="refuse" if long else "take")  # fmt: skip

    def parser() -> argparse.ArgumentParser:
        made = _Parser(add_help=False, allow_abbrev=False)
        group = made.add_mutually_exclusive_group() if exclusive else made
        for at, each in enumerate(options):
            target = group if at < 2 else made
            more: dict[str, Any] = {"type": int if each[-1] == "N" else str} if each[-1] else {"action": "store_true"}
            target.add_argument(*each[:-1], dest=f"o{at}", **more)
        for name in operands:
            bare = name.strip("[].")
            count = "*" if name == "[A...]" else "+" if "..." in name else "?" if "[" in name else None
            made.add_argument(bare, nargs=count)
        return made

    return signature, parser, options


def random_vector(rng: random.Random, options: Sequence[tuple[str, ...]]) -> list[str]:
    words: list[str] = []
    for _ in range(rng.randint(0, 4)):
        kind = rng.random()
        if kind < 0.55:
            *spellings, value = rng.choice(options)
            spelling = rng.choice(spellings)
            words.append(spelling)
            if value and rng.random() < 0.85:
                words.append(rng.choice(["3", "12", "abc", "x"]))
            elif rng.random() < 0.15:
                words[-1] += "=7" if spelling.startswith("--") else "7"
        elif kind < 0.9:
            words.append(rng.choice(["port", "x", "5", ""]) or "y")
        else:
            words.append(rng.choice(["-z", "--nonesuch", "--"]))
    return words


def agreement(found: Iterator[tuple[str, bool, str]], most_unspecified: float = 0.05, explained: str = "") -> None:
    """Hold judgements against what a real reader did: at least 99 in 100 agree, and few are left unspecified.

    Where they do not agree, the vector must end as `explained` says: it stands beside each call, with the reason.
    """
    counts: Counter[str] = Counter()
    wrong = []
    for status, accepted, what in found:
        counts[status] += 1
        if status != "unspecified" and (status == "accepted") is not accepted:
            wrong.append(what)
    total = counts.total()
    assert not wrong or explained
    assert all(each.endswith(explained) for each in wrong), wrong
    assert counts["accepted"] > total / 10 and counts["refused"] > total / 10
    assert counts["unspecified"] <= most_unspecified * total, counts
    assert len(wrong) <= 0.01 * total, (len(wrong), total, wrong[:10])


def test_argparse_agrees() -> None:
    def compared() -> Iterator[tuple[str, bool, str]]:
        rng = random.Random(20)
        for _ in range(100):
            signature, parser, options = random_signature(rng)
            for _ in range(30):
                words = random_vector(rng, options)
                try:
                    with contextlib.redirect_stderr(io.StringIO()):
                        parser().parse_args(words)
                    accepted = True
                except _Refused:
                    accepted = False
                yield signature.judge(words).status, accepted, f"{signature.lines[0]}: {words}"

    # argparse refuses a -- with nothing behind it; POSIX guideline 10 has it end the options, and no more
    agreement(compared(), explained="'--']")


def test_argparse_with_abbreviations_agrees() -> None:
    signature = Signature.from_synopsis("[--color | --depth N] [--coat] [--every] A", {"N": {"type": "int"}}, abbreviations=True,
                                        repeat="last", help=[])  # fmt: skip
    made = _Parser(add_help=False)
    group = made.add_mutually_exclusive_group()
    group.add_argument("--color", action="store_true")
    group.add_argument("--depth", type=int)
    for name in ("--coat", "--every"):
        made.add_argument(name, action="store_true")
    made.add_argument("A")
    for word in ("--co", "--col", "--coa", "--e", "--d=3", "--dep=x", "--coatt", "--x", "--c"):
        try:
            made.parse_args([word, "port"])
            accepted = True
        except _Refused:
            accepted = False
        assert (signature.judge([word, "port"]).status == "accepted") is accepted, word


@pytest.mark.skipif(shutil.which("getopt") is None, reason="getopt(1) is not installed")
def test_getopt_agrees() -> None:
    def compared() -> Iterator[tuple[str, bool, str]]:
        rng = random.Random(21)
        for _ in range(40):
            _signature, _, options = random_signature(rng)
            short = "".join(s[1] + (":" if v else "") for *ss, v in options for s in ss if len(s) == 2)
            long = ",".join(s[2:] + (":" if v else "") for *ss, v in options for s in ss if len(s) > 2)
            plain = Signature.from_synopsis(
                " ".join(f"[{','.join(ss)}{' ' + v if v else ''}]" for *ss, v in options) + " [REST...]",
                repeat="last", help=[], dash_values="take", abbreviations=True, interleaved=True)  # fmt: skip
            vectors = [random_vector(rng, options) for _ in range(12)]
            for words in vectors:
                done = subprocess.run(["getopt", "-q", "-o", short, "-l", long, "--", *words], capture_output=True)
                yield plain.judge(words).status, done.returncode == 0, f"{plain.lines[0]}: {words}"

    agreement(compared(), 0.08)  # operands of an open number that options split are left open: argparse refuses them


def test_getopts_of_the_shell_agrees() -> None:
    def compared() -> Iterator[tuple[str, bool, str]]:
        rng = random.Random(22)
        for _ in range(40):
            _, _, options = random_signature(rng, long=False)
            letters = "".join(s[1] + (":" if v else "") for s, v in options)
            plain = Signature.from_synopsis(" ".join(f"[{s}{' ' + v if v else ''}]" for s, v in options) + " [REST...]", {}, "posix",
                                            repeat="last", help=[], dash_values="take")  # fmt: skip
            for _ in range(12):
                words = random_vector(rng, options)
                script = f"while getopts :{letters} o; do case $o in [:?]) exit 1;; esac; done"
                done = subprocess.run(["sh", "-c", script, "sh", *words], capture_output=True)
                yield plain.judge(words).status, done.returncode == 0, f"{plain.lines[0]}: {words}"

    agreement(compared())


NODE = """
const { parseArgs } = require('node:util');
const lines = require('fs').readFileSync(0, 'utf8').trim().split('\\n');
for (const line of lines) {
  const { options, args } = JSON.parse(line);
  try { parseArgs({ options, args, allowPositionals: true, strict: true }); console.log(1); } catch { console.log(0); }
}
"""


@pytest.mark.skipif(shutil.which("node") is None, reason="node is not installed")
def test_parse_args_of_node_agrees() -> None:
    rng = random.Random(23)
    asked, judged = [], []
    for _ in range(60):
        _, _, options = random_signature(rng)
        options = [each for each in options if len(each[-2]) > 2]
        if not options:
            continue
        plain = Signature.from_synopsis(
            " ".join(f"[{','.join(ss)}{' ' + v if v else ''}]" for *ss, v in options) + " [REST...]",
            repeat="last", help=[], dash_values="refuse", abbreviations=False)  # fmt: skip
        table = {ss[-1][2:]: {"type": "string" if v else "boolean", **({"short": ss[0][1]} if len(ss) > 1 else {})}
                 for *ss, v in options}  # fmt: skip
        for _ in range(20):
            words = random_vector(rng, options)
            asked.append(json.dumps({"options": table, "args": words}))
            judged.append((plain.judge(words).status, f"{plain.lines[0]}: {words}"))
    done = subprocess.run(["node", "-e", NODE], input="\n".join(asked).encode(), capture_output=True, check=True)
    answers = done.stdout.decode().split()
    agreement(((status, answer == "1", what) for (status, what), answer in zip(judged, answers, strict=True)), 0.08)


def test_a_message_on_a_word_too_many_may_name_the_word_the_last_operand_or_what_makes_up_a_line_without_any() -> None:
    for synopsis, words, mentions in (("-l,--list [-q]", "--list x", ("x", "-l", "--list")), ("[-l,--list] PORT", "x y", ("y", "PORT")), ("[-q]", "x", ("x",))):
        judged = Signature.from_synopsis(synopsis, {"PORT": {"type": "text"}} if "PORT" in synopsis else {}, "gnu").judge(words.split())
        assert [(each.kind, each.mentions) for each in judged.refusals] == [("too-many", mentions)]


@pytest.mark.parametrize(("of", "wrong"), [(["0", "1"], ["nonesuch", "", "11"]), (["a", "b"], ["nonesuch", "", "aa", "A"]), (["0"], ["nonesuch", ""])])
def test_a_choice_in_other_digits_is_no_wrong_one(of: list[str], wrong: list[str]) -> None:
    """A program that reads its choices as numbers takes 00 for 0."""
    (kind,) = Signature.from_synopsis("X", {"X": {"type": "choice", "of": of}}).values.values()
    assert kind.bad() == wrong and kind.read("00").status == "doubtful" * ("0" in of) + "illegal" * ("0" not in of)


# What each library does, asked of argparse, optparse, click 8.5, node 20, commander 14, Getopt::Long 2.52, Ruby 3.1, Go 1.19,
# pflag 1.0 and glibc 2.36 with benchmarks/readers. h: help, r: refused, a: accepted, ?: nothing is claimed.
BESIDE_HELP = {
    #                     --help=x -help --hel=x -hx -h=x -qh
    "argparse": "r r r r r h", "optparse": "r h r h ? h", "click": "r r r r r r", "node-parseargs": "r r r r r h",
    "commander": "r r r r r h", "perl-getopt-long": "r h r r r r", "perl-getopt-long-bundling": "r r r r r h",
    "ruby-optparse": "r h r h ? h", "go-flag": "h h r r h r", "go-pflag": "h h r h h h",
}  # fmt: skip


@pytest.mark.parametrize("reader", BESIDE_HELP)
def test_what_stands_in_the_word_of_help_is_a_fault_of_its_own(reader: str) -> None:
    helps = READERS[reader].help or ("-h", "--help")
    signature = Signature.from_synopsis("[-q,--quiet] [-n,--num N] [A...]", {"N": {"type": "int"}}, reader=reader, help=list(helps))
    found = []
    for word in ("--help=x", "-help", "--hel=x", "-hx", "-h=x", "-qh"):
        judged = signature.judge([word])
        found.append("h" if judged.help and judged.status == "accepted" else {"accepted": "a", "refused": "r", "unspecified": "?"}[judged.status])
    assert " ".join(found) == BESIDE_HELP[reader]


@pytest.mark.parametrize(("reader", "words", "status"), [
    ("click", "nosuch --help", "refused"), ("click", "--help nosuch", "accepted"), ("argparse", "nosuch --help", "refused"),
    ("clap", "nosuch --help", "refused"), ("argparse", "-- add x", "unspecified"), ("clap", "-- add x", "refused"),
    ("click", "-- add x", "accepted"), ("click", "add --help", "accepted"),
])  # fmt: skip
def test_a_subcommand_that_there_is_not_and_a_delimiter_before_one(reader: str, words: str, status: str) -> None:
    signature = Signature.from_synopsis(["add NAME", "weigh NAME"], {}, reader=reader)
    assert signature.judge(words.split()).status == status


@pytest.mark.parametrize(("reader", "word", "status"), [
    ("perl-getopt-long", "---quiet", "refused"), ("go-flag", "---quiet", "refused"), ("getopt-posix", "--qui", "accepted"),
    ("getopt-long", "--qui", "accepted"),
])  # fmt: skip
def test_three_dashes_name_nothing_and_options_first_are_shortened_too(reader: str, word: str, status: str) -> None:
    assert Signature.from_synopsis("[-q,--quiet] [A...]", {}, reader=reader).judge([word]).status == status


def test_an_unknown_option_may_be_left_open() -> None:
    signature = Signature.from_synopsis("[-q] [A...]", {}, unknown_options="open")
    assert signature.judge(["--nonesuch"]).status == signature.judge(["-z"]).status == "unspecified"
