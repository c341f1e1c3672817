"""The parts behind controls, each by itself: families on known grounds, what is kept of them, causes, edits, help, tidiness."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from keen_matrix import Signature, load_spec
from keen_matrix.core.expect.alike import compare
from keen_matrix.core.expect.cascade import Judged
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.help import HelpAspect, help_rule
from keen_matrix.core.expect.naming import without_usage
from keen_matrix.core.expect.tidy import TidyAspect
from keen_matrix.core.experiments.stating import stated_example, stated_value, untyped_names, values_told
from keen_matrix.core.expressions import Scope
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.record import AspectRecord, FileChange, Record
from keen_matrix.core.model.relation import Relation
from keen_matrix.core.results.causes import cause_key, telling
from keen_matrix.core.results.kept_grounds import MOST_KEPT, keep_grounds, load_grounds
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.grounds import Clash, Grounds, UsageGrounds, Varying
from keen_matrix.core.signature.kinds import FAMILIES
from keen_matrix.core.signature.requests import builders
from keen_matrix.core.spec.document.expectations import Expectations
from keen_matrix.core.spec.document.matrix import MatrixTable
from keen_matrix.core.spec.document.texts import PlacedTable, PlacedText, Role, placed_in
from keen_matrix.wording.failures import apart_from_control
from tests.conftest import Place

# --- families on grounds ---

FARE = Signature.from_synopsis(
    "[-a,--all] [-l,--language LANG] [-s,--short] [-n N] PORT", {"N": {"type": "int", "min": 1, "max": 9}}
)
FAMILIES_DERIVED = [name for name in FAMILIES if name not in ("help", "launchers")]


def grounds(**known: Any) -> Grounds:
    return Grounds(forms=(UsageGrounds(**known),))


def clash(*options: str) -> Clash:
    return Clash(options=options, words=(*options, "word"), answer="exit 2: no", edit="so")


def vectors(known: Grounds) -> dict[str, list[tuple[str, ...]]]:
    """Return the words of every family's vectors, those that tell of a clash left out."""
    return {
        name: [words for vector in family_of(FARE, name, (), known).vectors if vector.kind not in ("clash", "option")
               for words in (vector.words, *vector.more, *([vector.control] if vector.control else []))]
        for name in FAMILIES_DERIVED
    }  # fmt: skip


def given(words: tuple[str, ...]) -> frozenset[str]:
    return FARE.judge(words).given


def test_options_that_clash_are_together_in_one_vector_that_tells_of_it() -> None:
    known = grounds(clashes=(clash("--all", "--short"),))
    for name, made in vectors(known).items():
        assert made and not any({"--all", "--short"} <= given(words) for words in made), name
    telling = [each for each in family_of(FARE, "accepted", (), known).vectors if each.kind == "clash"]
    assert [(each.words, each.detail, each.culprit) for each in telling] == [(("--all", "--short", "word"), "so", "--all --short")]
    assert any("refuses" in each for each in family_of(FARE, "accepted", (), known).left_out)


@pytest.mark.parametrize("known", [grounds(clashes=(clash("--short"),)), grounds(actions=("--short",))])
def test_an_option_that_is_refused_or_ends_the_call_is_tried_alone(known: Grounds) -> None:
    assert all("--short" not in given(words) for made in vectors(known).values() for words in made)
    alone = [each for each in family_of(FARE, "accepted", (), known).vectors if "--short" in given(each.words)]
    assert [each.words for each in alone] == [("--short", "word")]


def test_what_is_required_is_in_every_control_and_left_out_in_one_vector() -> None:
    known = grounds(required=("--language",), edit="so")
    for name in FAMILIES_DERIVED:
        for vector in family_of(FARE, name, (), known).vectors:
            assert vector.control is None or "--language" in given(vector.control), vector
    without = [each for each in family_of(FARE, "accepted", (), known).vectors if "--language" not in given(each.words)]
    assert [(each.kind, each.words, each.detail) for each in without] == [("clash", ("word",), "so")]


def test_a_value_that_was_taken_stands_for_its_name_everywhere() -> None:
    known = grounds(values=(("PORT", "7"),))
    for name in ("rephrasings", "again", "accepted"):
        for words in vectors(known)[name]:
            assert FARE.judge(words).bindings["PORT"] == "7", (name, words)


def test_fewer_operands_are_fewer_in_the_fullest_too() -> None:
    several = Signature.from_synopsis("[-a] FILE...")
    (plain,), (few,) = builders(several), builders(several, grounds(few_operands=True))
    assert [len(each.fullest().operands) for each in (plain, few)] == [2, 1]  # type: ignore[union-attr]


def test_a_form_that_never_works_has_its_smallest_vector_for_every_control() -> None:
    known = Grounds(forms=(UsageGrounds(works=False, edit="so"),), refused=((("word",), "exit 1: no"),))
    for name in FAMILIES_DERIVED:
        found = family_of(FARE, name, (), known).vectors
        free = [each.words for each in found if each.control != ("word",)]
        assert free == ([("word",)] if name == "accepted" else [] if name != "renamed" else [("--help",)]), name
    assert known.answer(("word",)) == "exit 1: no" and known.answer(("x",)) is None


def test_a_second_value_that_is_kept_must_count() -> None:
    again = Signature.from_synopsis("[-t TAG]... [-n N] PORT", {"TAG": {"of": ["a", "b"]}})
    made = [each for each in family_of(again, "effects").vectors if each.kind == "collected"]
    assert [(each.words, each.more) for each in made] == [(("-t", "a", "word"), (("-t", "b", "-t", "a", "word"),))]
    collects = Signature.from_synopsis("[-t TAG] PORT", {"TAG": {"of": ["a", "b"]}}, repeat="collect")
    assert any(each.kind == "collected" for each in family_of(collects, "effects").vectors)


# --- what is kept ---


def test_what_is_kept_comes_back_whole_and_only_the_latest(tmp_path: Path) -> None:
    path = tmp_path / "f.matrix.toml"
    path.write_text('[program]\nlaunch = "true"\n[signature]\nsynopsis = "A"\n')
    journal = str(tmp_path / "out/last.jsonl")
    known = Grounds(
        forms=(UsageGrounds(clashes=(clash("-a", "-b"),), required=("-o",), values=(("A", "2"),)),),
        refused=((("x", ""), "exit 1"),), varying=(Varying(stream="stdout", pattern=r"\d+"),),
    )  # fmt: skip
    assert load_grounds(journal, load_spec(str(path))) is None
    for number in range(MOST_KEPT + 3):
        path.write_text(path.read_text() + f"# {number}\n")
        keep_grounds(journal, load_spec(str(path)), known)
    assert load_grounds(journal, load_spec(str(path))) == known
    (file,) = (tmp_path / "out/grounds").iterdir()
    assert len(json.loads(file.read_text())["known"]) == MOST_KEPT


@pytest.mark.parametrize("text", ["", "{", "[]", '{"grounds_file": 99, "known": {}}', '{"known": 3}', "\xff"])
def test_a_file_that_is_not_ours_is_as_none(tmp_path: Path, text: str) -> None:
    path = tmp_path / "f.matrix.toml"
    path.write_text('[program]\nlaunch = "true"\n[signature]\nsynopsis = "A"\n')
    journal = str(tmp_path / "last.jsonl")
    keep_grounds(journal, load_spec(str(path)), Grounds())
    (file,) = (tmp_path / "grounds").iterdir()
    file.write_bytes(text.encode("latin-1"))
    assert load_grounds(journal, load_spec(str(path))) is None


# --- edits ---

VALUED = Signature.from_synopsis("[-w WHEN] [-n N] [-f] PORT", {"N": {"type": "int"}})
STATED = [
    ("-w", "bad: choose from 'a', 'b'", 'values.WHEN = { of = ["a", "b"] }'), ("-w", "invalid integer 'word'", 'values.WHEN = { type = "int" }'),
    ("-w", "could not convert string to float: 'word'", 'values.WHEN = { type = "float" }'), ("-w", "not a date", 'values.WHEN = { type = "date" }'),
    ("-w", "word: No such file or directory", 'values.WHEN = { type = "file" }, and one in [files]'),
    ("-w", "refused", 'values.WHEN = { example = "…" }, with a value that the program accepts'), ("-n", "refused", ""),
    ("-f", "refused", 'synopsis without it, or: actions = ["-f"] if it acts alone, as --version does'),
]  # fmt: skip


@pytest.mark.parametrize(("key", "answer", "edit"), STATED)
def test_the_edit_says_what_the_message_asks_for(key: str, answer: str, edit: str) -> None:
    (builder,) = builders(VALUED)
    option = next(each for each in builder.form.options if each.key == key)
    request = builder.smallest([option])
    assert request is not None and stated_value(VALUED, request, answer, option) == edit


def test_values_to_try_are_those_of_names_without_a_type() -> None:
    (builder,) = builders(VALUED)
    full = builder.fullest()
    assert full is not None and untyped_names(VALUED, full, "bad PORT") == ["PORT", "WHEN"]
    assert values_told("choose from 'x', 'y'") == ["x", "2"] and values_told("a single character") == [",", "2"]
    assert [values_told(each)[0] for each in ("must be a 1-character string", "expected a character, length 1 string", "11 characters")] == [",", ",", "2"]
    assert values_told("invalid float") == ["1.5", "2"] and values_told("no") == ["2"]
    assert stated_example('values.A = { example = "…" }, with a value that the program accepts', {"A": "2"}) == 'values.A = { example = "2" }'


# --- causes ---


def record(**fields: Any) -> Record:
    base: dict[str, Any] = {"id": "a", "matrix": "refusals", "family": "refusals", "kind": "bad-type", "argv": ("-n", "abc", "x"),
                            "values": {}, "verdict": "failed", "exit": 0, "signal": None, "seconds": 0.1}  # fmt: skip
    unmet = AspectRecord(aspect="exit", met=False, form="exit", expected="1..125", actual="0")
    return Record(**{**base, "aspects": [unmet], **fields})


def expected(rule: str, **fields: Any) -> dict[str, Any]:
    unmet = AspectRecord(aspect="stdout", met=False, form="is", expected="a", actual=fields.get("kind", "b"), rule=rule)
    return {"family": "rephrasings", "aspects": [unmet], **fields}


SAME = [
    ({"stderr": "bad abc"}, {"stderr": "bad 12x", "argv": ("-n", "12x", "x")}, True), ({"stderr": "bad abc"}, {"stderr": "worse abc"}, False),
    ({"stderr": "bad abc"}, {"stderr": "bad abc", "kind": "too-many", "family": "rephrasings", "matrix": "rephrasings"}, True),
    ({}, {"kind": "too-many"}, False), ({}, {"culprit": "other"}, True), ({"stderr": "no 'a'"}, {"stderr": "no 'b'"}, True),
    ({"stderr": "x", "verdict": "crashed"}, {"stderr": "x"}, False),
    ({"stderr": "usage: p\n  [-n N]\np: bad abc"}, {"stderr": "p: bad abc"}, True),
    ({"stderr": "number: abc", "argv": ("-nabc",), "culprit": "abc"}, {"stderr": "number: 1.5", "argv": ("-n1.5",), "culprit": "1.5"}, True),
    ({"family": None, "kind": None, "matrix": "a"}, {"family": None, "kind": None, "matrix": "b"}, False),
    ({"family": "accepted", "kind": "clash", "detail": "x", "culprit": "-a"}, {"family": "accepted", "kind": "clash", "detail": "x", "culprit": "-b"}, False),
    ({"family": "accepted", "kind": "edge", "stderr": "no"}, {"family": "accepted", "kind": "count", "stderr": "no"}, True),
    (expected("s:9"), expected("s:9", kind="order"), True), (expected("s:9"), expected("s:10", kind="order"), False),
    (expected("s:9"), expected("s:9", kind="order", stderr="no"), False), (expected(""), expected("", kind="order"), False),
    ({"stderr": "bad abc", "exit": 64, "family": "refusals"}, {"stderr": "worse", "kind": "too-many", "exit": 64, "family": "refusals"}, True),
]  # fmt: skip


@pytest.mark.parametrize(("one", "other", "same"), SAME)
def test_two_failures_are_one_cause_by_what_the_program_did(one: dict[str, Any], other: dict[str, Any], same: bool) -> None:
    assert (cause_key(record(**one)) == cause_key(record(**other))) is same


def test_a_groundless_case_is_of_the_cause_of_its_control() -> None:
    control = AspectRecord(aspect="control", met=False, form="control", expected="word", actual="exit 2: p: no file word")
    blocked = record(verdict="blocked", aspects=[control], control=("word",), exit=None)
    smallest = record(family="accepted", kind="smallest", argv=("word",), exit=2, stderr="p: no file word", detail="so")
    assert cause_key(blocked) == cause_key(smallest) and telling(smallest) < telling(blocked)
    assert telling(record(verdict="crashed")) < telling(record()) < telling(record(verdict="unchecked"))


@pytest.mark.parametrize(("control", "argv", "apart"), [
    (("a", "b"), ("a", "-z", "b"), ["-z"]), (("-n", "1", "x"), ("-n", "abc", "x"), ["abc"]), (("a", "b"), ("a",), []), ((), ("a",), []),
])  # fmt: skip
def test_what_sets_a_vector_apart_from_its_control(control: tuple[str, ...], argv: tuple[str, ...], apart: list[str]) -> None:
    assert apart_from_control(record(control=control, argv=argv)) == apart


# --- help, tidiness, output that cannot be written ---

COMMANDS = Signature.from_synopsis(["add [-f,--force] NAME", "list [--long]", "[-v] FILE"], help=["-h", "--help"])
HELP_TEXTS = [
    (["--help"], "commands: add, list\n -v\n file", ""), (["--help"], "commands: add\n -v\n file", "to name list"), (["-h"], "anything", ""),
    (["--help"], "add list", "to name -v, FILE"), (["add", "--help"], "add --force name", ""), (["add", "--help"], "add name", "to name -f, --force"),
    (["list", "--help"], "--long", ""), (["--help"], "", "a help text"),
]  # fmt: skip


@pytest.mark.parametrize(("words", "text", "expected"), HELP_TEXTS)
def test_a_help_names_what_can_be_given_there(words: list[str], text: str, expected: str) -> None:
    aspect = help_rule(COMMANDS, False, "", "").aspects["help"]
    assert isinstance(aspect, HelpAspect)
    found = list(aspect.check(Outcome(exit=0, stdout=text.encode()), CheckContext(scope=Scope({"words": words}))))
    assert [each.expected for each in found] == ([expected] if expected else [])


@pytest.mark.parametrize(("outcome", "remarked"), [
    (Outcome(exit=0, stderr=b"add list -v file"), True), (Outcome(exit=1, stderr=b"bad"), False), (Outcome(exit=0, stdout=b"add"), False),
])  # fmt: skip
def test_only_a_help_is_remarked_on_for_its_stream(outcome: Outcome, remarked: bool) -> None:
    aspect = help_rule(COMMANDS, False, "", "").aspects["help"]
    assert isinstance(aspect, HelpAspect)
    assert any("standard error" in each for each in aspect.remarks(outcome, CheckContext())) is remarked


@pytest.mark.parametrize(("name", "words", "stdout", "forms"), [
    ("log.txt", ["Holm"], b"", ["stray"]), ("a.txt", ["--save=a.txt"], b"", []), ("out.json", ["-o", "out"], b"", []),
    ("a.txt", ["a.txt"], b"x\x1b[1m", ["controls"]), ("a.txt", ["a.txt"], b"tab\t, form\f, end\r\n", []), ("a.txt", ["a.txt"], b"\xff\x00", []),
])  # fmt: skip
def test_what_is_untidy(name: str, words: list[str], stdout: bytes, forms: list[str]) -> None:
    outcome = Outcome(exit=0, stdout=stdout, files={name: FileChange("created", "file", 1, "644")})
    context = CheckContext(scope=Scope({"words": words}))
    assert [each.form for each in TidyAspect(True).check(outcome, context)] == forms
    assert len(list(TidyAspect(False).remarks(outcome, context))) == len(forms)


@pytest.mark.parametrize(("first", "other", "met"), [
    (b"x", Outcome(exit=0), False), (b"x", Outcome(exit=1), True), (b"x", Outcome(exit=0, stderr=b"full"), True), (b"", Outcome(exit=0), True),
    (b"x", Outcome(signal=13), True),
])  # fmt: skip
def test_output_that_cannot_be_written_must_be_told(first: bytes, other: Outcome, met: bool) -> None:
    relation = Relation(name="unheard", fresh=(True, True))
    passed = Judged(verdict="passed", aspects=())
    launches = [((), Outcome(exit=0, stdout=first), passed), ((), other, passed)]
    assert [result.met for _, result in compare(relation, launches)] == [met]


@pytest.mark.parametrize(("text", "message"), [
    ("usage: p [-n N]\n         PORT\np: bad\n", "p: bad"), ("p: bad\nTry 'p --help' for more information.\n", "p: bad"), ("Usage: p\n\nnext", "next"),
])  # fmt: skip
def test_a_usage_is_no_part_of_a_message(text: str, message: str) -> None:
    assert without_usage(text).strip() == message


# --- where texts stand in a spec ---


def roles(model: Any, data: dict[str, Any]) -> list[tuple[tuple[Any, ...], Role]]:
    return [(each.path, each.role) for each in placed_in(model, (), data) if isinstance(each, PlacedText)]


@pytest.mark.parametrize(("data", "found"), [
    ({"line": "{a}"}, [(("line",), Role.LINE)]), ({"line": ["a", "{b}"]}, [(("line", 0), Role.TEMPLATE), (("line", 1), Role.TEMPLATE)]),
    ({"only-if": ["a"]}, [(("only-if", 0), Role.EXPRESSION)]), ({"stdin": "x"}, [(("stdin",), Role.TEMPLATE)]),
    ({"stdin": {"command": ["a", "b"]}}, [(("stdin", "command", 0), Role.WORDS), (("stdin", "command", 1), Role.WORDS)]),
    ({"files": {"{a}": "x"}}, [(("files", "{a}"), Role.TEMPLATE), (("files", "{a}"), Role.TEMPLATE)]), ({"env": {"A": False, "B": "x"}}, [(("env", "B"), Role.TEMPLATE)]),
    ({"expect": {"exit": "{a}"}}, [(("expect", "exit"), Role.AMOUNT)]), ({"expect": [{"when": "a"}]}, [(("expect", 0, "when"), Role.EXPRESSION)]),
    ({"expect": {"stdout": {"any": ["x", {"not": {"contains": "y"}}]}}},
     [(("expect", "stdout", "any", 0), Role.TEMPLATE), (("expect", "stdout", "any", 1, "not", "contains"), Role.TEMPLATE)]),
    ({"line": 3, "only-if": "a", "files": 4, "expect": "x", "nonsense": "{"}, [(("only-if",), Role.EXPRESSION), (("expect",), Role.AMOUNT)]),
])  # fmt: skip
def test_every_text_of_a_matrix_is_found_with_what_it_is_read_as(data: dict[str, Any], found: list[Any]) -> None:
    assert sorted(roles(MatrixTable, data), key=repr) == sorted(found, key=repr)


def test_tables_are_found_with_their_class() -> None:
    data = {"stdout": {"not": {"is": "x"}}, "files": {"a": {"is": "y"}}}
    tables = [(each.path, each.model.__name__) for each in placed_in(Expectations, (), data) if isinstance(each, PlacedTable)]
    assert tables == [((), "Expectations"), (("stdout",), "TextTable"), (("stdout", "not"), "TextTable"), (("files", "a"), "FileTable")]

# --- a control that does something else of itself ---

MOVING = """\
#!/bin/sh
n=$(cat "$COUNT" || echo 0); n=$((n + 1)); echo $n > "$COUNT"
while getopts vq f; do case $f in v) v=1;; q) q=1;; ?) echo "bad option" >&2; exit 2;; esac; done
shift $((OPTIND - 1)); [ $# -eq 0 ] || { echo "too many" >&2; exit 2; }
if [ $n -gt $FROM ]; then THEN; else echo steady; fi
"""
REPHRASED = """\
[program]
launch = "sh {here}/moving.sh"
jobs = 1
env = { COUNT = "%s", FROM = "%d" }
[signature]
synopsis = "[-v] [-q]"
derive = ["rephrasings"]
[expect]
exit = 0
"""


@pytest.mark.parametrize(("then", "allowed"), [
    ("echo free $n", {"passed"}), ("echo later", {"passed"}), ("[ $n = $((FROM + 1)) ] && echo once || echo steady", {"passed"}),
    ("echo $v$q; echo $n > made; mktemp -p .", {"passed"}),
    ("while [ $n -gt 0 ]; do echo > f$n; n=$((n - 1)); done", {"passed", "flaky"}),
    ('[ "$1$OPTIND" = "2" ] && echo other || echo same', {"passed", "failed"}),
])  # fmt: skip
def test_a_difference_counts_only_where_the_control_does_the_same_twice(place: Place, then: str, allowed: set[str]) -> None:
    for start in range(4, 10):  # the experiments before the run take four launches or more; it moves behind one of them
        (place.directory / "count").unlink(missing_ok=True)
        place.write("moving.sh", MOVING.replace("THEN", then))
        place.write("a.matrix.toml", REPHRASED % (place.directory / "count", start))
        place.call("run", "a.matrix.toml")
        verdicts = {each["verdict"] for each in place.cases()}
        assert verdicts <= allowed
    assert ("flaky" in verdicts) == ("flaky" in allowed)
