"""The parts of a run that launch nothing: what is chosen, in which order it goes out, what is taken in place of a spec's own."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

import pytest

from keen_matrix import load_spec
from keen_matrix.core.errors import Misuse
from keen_matrix.core.model.identity import CaseKey
from keen_matrix.core.model.record import Header
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.runs.options import Adaptation, CaseChoice
from keen_matrix.core.runs.selecting.selection import LastRun, nothing_selected, selected
from keen_matrix.core.runs.selecting.supply import Supply
from keen_matrix.core.runs.starting.adapting import adapted
from keen_matrix.core.vectors.unfold import unfold

SPEC = """
[program]
launch = "fare {here}"
launchers.twice = "fare fare"
[[matrix]]
name = "ports"
line = "{a} {b}"
axes.a = ["Skerry", "Holm", "Voe"]
axes.b = [1, 2, 3]
[[matrix]]
name = "riders"
line = "-n {n}"
axes.n = [1, 60]
"""
ALL, PORTS = 11, 9


@pytest.fixture
def spec(tmp_path: Path) -> Spec:
    path = tmp_path / "fare.matrix.toml"
    path.write_text(SPEC)
    return load_spec(str(path))


@pytest.mark.parametrize(("choice", "count"), [
    (CaseChoice(), ALL), (CaseChoice(only=("ports",)), PORTS), (CaseChoice(only=("r*", "Voe")), 2 + 3), (CaseChoice(only=("Hol",)), 0),
    (CaseChoice(only=("60",)), 1), (CaseChoice(only=("P*",)), 0),
])  # fmt: skip
def test_patterns_choose_matrices_and_words(spec: Spec, choice: CaseChoice, count: int) -> None:
    chosen = selected(spec, choice, None, frozenset())
    assert len(list(chosen)) == count == len(list(chosen)), "it can be gone through again"
    assert chosen.is_all is choice.is_all


def test_ids_and_their_beginnings_choose_one_case(spec: Spec) -> None:
    for case in unfold(spec):
        for pattern in (case.id, case.id[:6]):
            assert case.id in {each.id for each in selected(spec, CaseChoice(only=(pattern,)), None, frozenset())}


@pytest.mark.parametrize("parts", [1, 2, 3, 7])
def test_parts_are_disjoint_and_together_everything(spec: Spec, parts: int) -> None:
    shards = [[case.id for case in selected(spec, CaseChoice(shard=(part, parts)), None, frozenset())] for part in range(1, parts + 1)]
    assert sorted(each for shard in shards for each in shard) == sorted(case.id for case in unfold(spec))


def test_what_failed_and_what_is_done_go_by_the_key_of_the_case(spec: Spec) -> None:
    first, second, *others = unfold(spec)
    failed = LastRun.__new__(LastRun)
    failed._failing = {CaseKey.of(spec.path, first.id), CaseKey.of(spec.path, second.id), CaseKey.of("other.toml", "aaaaaa")}
    failed._passing, failed._cut_off = {CaseKey.of(spec.path, each.id) for each in others}, set()
    failed._asked = {os.path.abspath(spec.path): Header(journal=1, spec=spec.path, started="")}
    assert [case.id for case in selected(spec, CaseChoice(failed=True), failed, frozenset())] == [first.id, second.id]
    assert [case.id for case in selected(spec, CaseChoice(failed=True), failed, frozenset({first.id}))] == [second.id]


@pytest.mark.parametrize(("choice", "parts"), [
    (CaseChoice(only=("port",)), ["matches port; ", 'did you mean "ports"?', '"ports", "riders"', "keen-matrix unfold"]),
    (CaseChoice(failed=True, shard=(2, 9)), ["--failed --shard 2/9"]), (CaseChoice(), ["has no cases yet", "keen-matrix try --write"]),
])  # fmt: skip
def test_a_choice_of_nothing_is_told_with_what_there_is(spec: Spec, choice: CaseChoice, parts: list[str]) -> None:
    told = nothing_selected([spec], choice)
    assert all(part in told for part in parts), told


@pytest.mark.parametrize("most", [0, 1, 5, ALL, 99])
def test_a_supply_that_is_stopped_knows_what_is_left(spec: Spec, most: int) -> None:
    handed: list[str] = []
    supply = Supply(unfold(spec), lambda: len(handed) >= most)
    for case in supply:
        handed.append(case.id)
    assert (len(handed), supply.left()) == (min(most, ALL), max(0, ALL - most))


def test_what_is_left_is_counted_no_longer_than_it_takes_quickly(spec: Spec, monkeypatch: pytest.MonkeyPatch) -> None:
    case = next(unfold(spec))

    def endless() -> Iterator[object]:
        while True:
            yield case

    monkeypatch.setattr("keen_matrix.core.runs.selecting.supply.COUNT_SECONDS", 0.01)
    supply = Supply(endless(), lambda: True)  # type: ignore[arg-type]
    assert list(supply) == [] and supply.left() is None


@pytest.mark.parametrize(("asked", "words"), [
    (Adaptation(), ["fare", None]), (Adaptation(launcher="twice"), ["fare", "fare"]), (Adaptation(program="tide -x 'a b'"), ["tide", "-x", "a b"]),
])  # fmt: skip
def test_another_launcher_or_program_takes_the_place_of_the_spec_s_own(spec: Spec, asked: Adaptation, words: list[str | None]) -> None:
    assert [word.constant for word in adapted(spec, asked).program.launch] == words


def test_a_seed_is_every_matrix_s(spec: Spec) -> None:
    assert {matrix.seed for matrix in adapted(spec, Adaptation(seed=7)).matrices} == {7}


@pytest.mark.parametrize(("asked", "message"), [
    (Adaptation(launcher="twise"), "did you mean twice"), (Adaptation(launcher="x"), "it has twice"), (Adaptation(program=" "), "--program is empty"),
    (Adaptation(launcher="twice", program="x"), "give one of them"),
])  # fmt: skip
def test_what_cannot_be_taken_is_refused(spec: Spec, asked: Adaptation, message: str) -> None:
    with pytest.raises(Misuse, match=message):
        adapted(spec, asked)

