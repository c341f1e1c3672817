"""The derived families of many signatures: laws that hold for each, and what particular ones must have."""

from __future__ import annotations

from collections import Counter
from itertools import combinations, product
from math import prod
from typing import Any
from unittest.mock import patch

import pytest

from keen_matrix import Signature
from keen_matrix.core.signature.families import family_of
from keen_matrix.core.signature.families.accepted import _PairRequests
from keen_matrix.core.signature.families.refusals import misspelt
from keen_matrix.core.signature.families.rephrasings import STATED
from keen_matrix.core.signature.kinds import FAMILIES
from keen_matrix.core.signature.requests import Builder, builders
from keen_matrix.core.signature.values import TYPES, Status

SIGNATURES: dict[str, dict[str, Any]] = {
    "no operands": {"text": "[-v] [--name TEXT]"},
    "operands alone": {"text": "SRC... DEST"},
    "optional operands": {"text": "[FIRST [INCREMENT]] LAST", "values": {n: {"type": "float"} for n in ("FIRST", "INCREMENT", "LAST")}},
    "several values": {"text": "[--size W H] A", "values": {"W": {"type": "int", "min": 0}, "H": {"type": "int", "min": 0}}},
    "optional value": {"text": "[--color[=WHEN]] A", "values": {"WHEN": {"of": ["always", "never"]}}},
    "required option": {"text": "--user USER (-a | -b) A"},
    "subcommands": {"text": ["add NAME [--note TEXT]", "list [--all]"]},
    "posix": {"text": "[-ab] [-d DAY] PORT".replace("[-ab]", "[-a] [-b]"), "style": "posix", "values": {"DAY": {"type": "int", "min": 1, "max": 7}}},
    "one dash": {"text": "[-name NAME] [-quiet] PORT", "style": "one-dash"},
    "counts": {"text": "A...", "values": {"A": {"count": "2..4", "type": "int"}}},
    "refuses repetition": {"text": "[-v] [-n N] A", "repeat": "refuse", "values": {"N": {"type": "int"}}},
    "conditions": {"text": "[--from A] [--to B] C", "values": {n: {"type": "int", "min": 1, "max": 9, "default": 5} for n in "AB"}, "only_if": ["A <= B"]},
    "own refusals": {"text": "A B", "values": {n: {"of": ["x", "y"]} for n in "AB"}, "refuse": [{"when": "A == B", "kind": "the-same"}]},
    "a condition of one form": {"text": ["[-n N] FROM TO", "list [--all] [PORT]"], "values": {"N": {"type": "int", "min": 1, "max": 9}, **{n: {"of": ["x", "y"]} for n in ("FROM", "TO")}}, "only_if": ["FROM != TO"]},
    "a condition on what is given": {"text": "[--bike | --car] [-n,--riders N] A", "values": {"N": {"type": "int", "min": 1, "max": 9, "default": 2}, "A": {"of": ["x", "y"]}}, "only_if": ["N < 9 or not has('--car')", "not has('-n') or A == 'x' or N > 1"]},
    "options that are refused together": {"text": "[-a] [-b] [-c] [-e] A", "only_if": ["not (has('-a') and has('-b'))", "not (has('-c') and has('-e'))"]},
    "an option that is set aside": {"text": "[-a] [-f,--follow] [-n N | -r] A", "aside": ["--follow", "-r"]},
    "a condition on the whole": {"text": "[-a] [-b] [-c] A [B]", "values": {n: {"of": ["x", "y"]} for n in "AB"}, "only_if": ["argc < 4"]},
    "delimiter": {"text": "[-v] -- COMMAND..."},
    "dates and booleans": {"text": "[--on DATE] [--loud BOOL]", "values": {"DATE": {"type": "date", "min": "2025-01-01"}, "BOOL": {"type": "bool"}}},
}  # fmt: skip


def test_what_is_refused_together_stands_on_a_control_that_is_another_vector() -> None:
    found = [v for v in family_of(signature("options that are refused together"), "refusals").vectors if v.kind == "condition"]
    assert {v.words for v in found} >= {("-a", "-b", "word"), ("-c", "-e", "word")}
    assert all(v.control is not None and v.control != v.words for v in found)


@pytest.mark.parametrize("family", FAMILIES)
def test_what_is_set_aside_is_in_no_derived_vector_and_is_known(family: str) -> None:
    own = signature("an option that is set aside")
    found = family_of(own, family, ("other",))
    assert any("--follow, -r, which the signature sets aside" in each for each in found.left_out), "and that is told"
    words = {word for v in found.vectors for word in (*v.words, *(v.control or ()))}
    assert not words & {"-f", "--follow", "-r"}
    assert own.judge(("-f", "word")).status == "accepted" and own.judge(("-r", "word")).status == "accepted"


def signature(name: str) -> Signature:
    given = dict(SIGNATURES[name])
    return Signature.from_synopsis(given.pop("text"), given.pop("values", None), given.pop("style", "gnu"), **given)


@pytest.mark.parametrize("name", SIGNATURES)
def test_families_keep_to_what_the_signature_settles(name: str) -> None:
    own = signature(name)
    for family in FAMILIES:
        found = family_of(own, family, ("other",))
        assert len(found.vectors) <= FAMILIES[family].limit
        for vector in found.vectors:
            status = own.judge(vector.words).status
            assert status == (
                "refused" if family == "refusals" or vector.kind in ("refused", "message") else "accepted"
            ), vector
            if family == "refusals":
                assert own.judge(vector.words).kinds == (vector.kind,), vector
            if family == "rephrasings":
                stated = vector.kind == STATED  # the default that nobody gave is bound to nothing
                assert stated or own.judge(vector.words).bindings == own.judge(vector.more[0]).bindings
    assert family_of(own, "refusals").vectors, "something can always be refused"


@pytest.mark.parametrize(
    ("name", "kinds"),
    [
        ("no operands", "missing-value too-many unknown-option"),
        ("operands alone", "too-few unknown-option"),
        ("optional operands", "bad-type too-few too-many unknown-option"),
        ("required option", "conflict missing-option missing-value too-few too-many unknown-option"),
        ("subcommands", "missing-value not-a-choice too-few too-many unexpected-value unknown-option"),
        ("posix", "bad-type out-of-range too-few too-many unknown-option"),
        ("counts", "bad-type too-few too-many unknown-option"),
        ("refuses repetition", "bad-type missing-value repeated too-few too-many unknown-option"),
        ("conditions", "bad-type condition missing-value out-of-range too-few too-many unknown-option"),
        ("own refusals", "not-a-choice the-same too-few too-many unknown-option"),
        ("delimiter", "too-few unknown-option"),
    ],
)
def test_refusals_have_every_kind_that_applies(name: str, kinds: str) -> None:
    found = Counter(vector.kind for vector in family_of(signature(name), "refusals").vectors)
    assert " ".join(sorted(found)) == kinds


def words_of(name: str, family: str, kind: str = "") -> set[str]:
    return {" ".join(v.words) for v in family_of(signature(name), family).vectors if kind in ("", v.kind)}


def test_accepted_vectors_have_counts_edges_and_pairs() -> None:
    assert words_of("counts", "accepted") == {"0 0", "1 0", "2 0", "2 0 1", "2 0 1 2"}
    assert {"--size 1 0 word", "--size 0 0 word", "--size 1 1 word"} <= words_of("several values", "accepted")
    assert {"--color word", "--color=always word", "--color=never word"} <= words_of("optional value", "accepted")
    assert all("--" in words.split() for words in words_of("delimiter", "accepted"))
    assert "add --note word word" in words_of(
        "subcommands", "accepted"
    )


def test_rephrasings_know_the_style() -> None:
    kinds = {
        name: {v.kind for v in family_of(signature(name), "rephrasings").vectors}
        for name in ("posix", "one dash", "no operands")
    }
    assert "bundled flags" in kinds["posix"] and "moved after the operands" not in kinds["posix"]
    assert "bundled flags" not in kinds["one dash"] and "after --" in kinds["one dash"]
    assert kinds["no operands"] >= {"joined value", "other order"}
    short = Signature.from_synopsis("[--color] [--coat] A", abbreviations=True)
    assert any(v.kind == "shortened" and "--colo" in v.more[0] for v in family_of(short, "rephrasings").vectors)


@pytest.mark.parametrize(
    ("spelling", "wrong"),
    [("--riders", ["--ridrs", "--rideers", "--riedrs"]), ("--car", ["--cr", "--caar", "--acr"]), ("-n", []), ("--to", []),
     ("-name", ["-nae", "-namme", "-nmae"])],
)  # fmt: skip
def test_misspelt_options_drop_double_and_swap_a_letter(spelling: str, wrong: list[str]) -> None:
    assert misspelt(spelling) == wrong


def test_the_smallest_and_the_fullest_request_of_a_form() -> None:
    own = Signature.from_synopsis("[-v] [-a | -b] (--x N | Y) Z...", {"N": {"type": "int"}})
    builder = Builder(own, own.forms[0])
    small, full = builder.smallest(), builder.fullest()
    assert small is not None and full is not None
    assert len(small.words()) < len(full.words()) and own.judge(full.words()).status == "accepted"
    last = full.words("last")
    assert own.judge(last).status == "accepted" and not last[0].startswith("-") and last.index("-v") > 0


READINGS: list[tuple[dict[str, Any], str, Status]] = [
    ({"type": "int", "min": 1, "max": 60}, "60", "legal"), ({"type": "int", "min": 1, "max": 60}, "61", "illegal"),
    ({"type": "int"}, "1_000", "doubtful"), ({"type": "int"}, "１", "doubtful"), ({"type": "int"}, " 7", "doubtful"), ({"type": "int"}, "1e3", "doubtful"),
    ({"type": "int"}, "+7", "doubtful"), ({"type": "int"}, "0x1f", "doubtful"), ({"type": "int"}, "1.5", "illegal"), ({"type": "int"}, "", "illegal"),
    ({"type": "int"}, str(2**40), "doubtful"), ({"type": "int", "max": 2**50}, str(2**40), "legal"), ({"type": "int"}, "-3", "legal"),
    ({"type": "float"}, "1.50", "legal"), ({"type": "float"}, "nan", "doubtful"), ({"type": "float"}, "1.2.3", "illegal"), ({"type": "float"}, ".5", "doubtful"),
    ({"type": "bool"}, "true", "legal"), ({"type": "bool"}, "yes", "doubtful"), ({"type": "bool"}, "maybe", "illegal"),
    ({"type": "choice", "of": ("a", "B")}, "b", "illegal"), ({"type": "choice", "of": ("a", "B"), "ignore_case": True}, "b", "legal"),
    ({"type": "date"}, "2024-02-29", "legal"), ({"type": "date"}, "2025-02-29", "illegal"), ({"type": "date"}, "01/02/2025", "doubtful"),
    ({"type": "date", "min": "2025-01-01"}, "2024-12-31", "illegal"), ({"type": "date"}, "tomorrow", "doubtful"), ({"type": "date"}, "soon", "illegal"),
    ({"type": "text"}, "", "doubtful"), ({"type": "text", "min": 2}, "a", "illegal"), ({"type": "text", "matches": "^[a-z]+$"}, "ab", "legal"),
    ({"type": "text", "matches": "^[a-z]+$"}, "A", "illegal"), ({"type": "file", "known": frozenset({"x"})}, "x", "legal"), ({"type": "file"}, "y", "illegal"),
    ({"type": "file"}, "a/b", "doubtful"), ({"type": "file", "closed": False}, "y", "doubtful"), ({"type": "file"}, "-", "doubtful"),
    ({"type": "dir"}, ".", "legal"), ({"type": "path"}, "any thing", "legal"), ({"type": "path"}, "", "doubtful"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("kind", "text", "status"), READINGS, ids=[f"{kind['type']} {text!r}" for kind, text, _ in READINGS]
)
def test_what_a_type_makes_of_a_text(kind: dict[str, Any], text: str, status: Status) -> None:
    own = {key: each for key, each in kind.items() if key != "type"}
    assert TYPES[kind["type"]](**own).read(text).status == status


@pytest.mark.parametrize("name", [each for each in SIGNATURES if each != "a condition on the whole"])
def test_the_family_accepted_has_every_pair_that_can_be(name: str) -> None:
    own = signature(name)
    for builder in builders(own):
        pairs = _PairRequests(own, builder)
        if len(pairs.levels) < 2 or prod(pairs.levels) > 3_000:
            continue
        rows: list[list[int]] = []
        with patch.object(_PairRequests, "request_of", lambda self, row, rows=rows: rows.append(list(row))):
            list(pairs.requests())
        every = [list(row) for row in product(*(range(level) for level in pairs.levels))]
        accepted = [row for row in every if own.judge(pairs.request_of(row).words()).status == "accepted"]
        assert pairs_of(accepted) <= pairs_of([row for row in rows if row in accepted])


def test_every_two_values_of_different_options_stand_in_one_vector() -> None:
    values = {name: {"of": [f"{name}{number}" for number in range(3)]} for name in ("DAY", "NIGHT", "BERTH", "PORT")}
    own = Signature.from_synopsis("[-a DAY] [-b NIGHT] [-c | -d BERTH] [-e] [PORT]", values)
    found = [dict(own.judge(v.words).bindings) for v in family_of(own, "accepted").vectors if v.kind == "pairs"]
    there = {frozenset(pair) for each in found for pair in combinations(each.items(), 2)}
    every = {"-a": "DAY", "-b": "NIGHT", "-c": "", "-d": "BERTH", "-e": "", "PORT": "PORT"}
    wanted = {key: [f"{name}{number}" for number in range(3)] if name else [True] for key, name in every.items()}
    for first, second in combinations(wanted, 2):
        for pair in product(wanted[first], wanted[second]):
            settings = frozenset(zip((first, second), pair, strict=True))
            assert {first, second} == {"-c", "-d"} or settings in there, settings


def pairs_of(rows: list[list[int]]) -> set[tuple[int, int, int, int]]:
    return {(a, row[a], b, row[b]) for row in rows for a, b in combinations(range(len(row)), 2)}


def test_a_condition_is_about_the_forms_that_have_its_names() -> None:
    own = signature("a condition of one form")
    assert own.judge(["list"]).status == own.judge(["list", "--all", "x"]).status == "accepted"
    refused = own.judge(["x", "x"])
    assert refused.status == "refused" and [each.kind for each in refused.refusals] == ["condition"]
    assert own.judge(["x", "y"]).status == "accepted"
    given = signature("a condition on what is given")
    assert given.judge(["--car", "x"]).status == "accepted"  # the default of N counts
    assert given.judge(["--car", "-n", "9", "x"]).status == "refused"
    assert given.judge(["--bike", "--riders=9", "x"]).status == "accepted"
    assert given.judge(["-n1", "y"]).status == "refused"
