"""What a run comes to, by the parts that count it: the tally as it goes, the summary of a journal, grids, causes, the order under a budget."""

from __future__ import annotations

from itertools import permutations
from pathlib import Path
from typing import Any

import pytest

from keen_matrix.core.errors import Misuse
from keen_matrix.core.model.case import Case, Standing
from keen_matrix.core.model.lines import encode
from keen_matrix.core.model.record import AspectRecord, Header, Record
from keen_matrix.core.results import summary, tally
from keen_matrix.core.results.axis_values import ABSENT
from keen_matrix.core.results.budget import ordered, pairs_in, shares
from keen_matrix.core.results.causes import answer_of, cause_key, telling
from keen_matrix.core.results.grid import chosen_axes, grids_of
from keen_matrix.core.results.summary import MatrixSummary, axis_values_of, summarize
from keen_matrix.core.results.tally import IDS_KEPT, MOST_SLOW, REMARK_IDS, Tally
from keen_matrix.core.spec.load import load_spec

SPEC = """
[program]
launch = "true"
[[mask]]
matches = "a"
as = "<a>"
[[mask]]
matches = "b"
as = "<b>"
[[matrix]]
name = "one"
line = "x"
[[matrix]]
name = "two"
line = "y"
"""


def record(id: str = "c", **more: Any) -> Record:
    base: dict[str, Any] = {"matrix": "one", "argv": ("x",), "values": {}, "verdict": "passed", "exit": 0, "seconds": 0.1, "aspects": []}
    return Record(id=id, **{**base, **more})


def unmet(aspect: str = "exit", actual: str = "1", **more: Any) -> AspectRecord:
    return AspectRecord(aspect=aspect, met=False, form=aspect, expected="0", actual=actual, **more)


def failed(id: str, actual: str = "1", **more: Any) -> Record:
    return record(id, **{"verdict": "failed", "exit": 1, "aspects": [unmet(actual=actual)], **more})


@pytest.fixture
def counted(tmp_path: Path) -> Tally:
    path = tmp_path / "s.matrix.toml"
    path.write_text(SPEC)
    return Tally(load_spec(str(path)))


def add(counted: Tally, sequence: int, fields: Record, matrix: int = 0) -> None:
    counted.add_record(fields, matrix, sequence, encode(fields))


# --- as it goes ---


def test_verdicts_are_counted_by_matrix_and_in_all(counted: Tally) -> None:
    for number, (verdict, matrix) in enumerate([("passed", 0), ("passed", 1), ("timed-out", 1), ("known", 0), ("skipped", 0)]):
        add(counted, number, record(verdict=verdict, known="slow" * (verdict == "known"), skipped="no node" * (verdict == "skipped")), matrix)
    assert counted.by_matrix == {0: {"passed": 1, "known": 1, "skipped": 1}, 1: {"passed": 1, "timed-out": 1}}
    assert counted.counts == {"passed": 2, "timed-out": 1, "known": 1, "skipped": 1} and counted.total == 5
    assert {key: (each.count, each.ids) for key, each in counted.passed.items()} == {("known", "slow"): (1, ["c"]), ("skipped", "no node"): (1, ["c"])}
    assert [(each.verdict, each.matrix, each.count) for each in counted.groups] == [("timed-out", 1, 1)]


def test_the_shortest_vector_stands_for_a_group_in_whatever_order_cases_end(counted: Tally, tmp_path: Path) -> None:
    cases = [(4, failed("long", argv=("x", "y"))), (2, failed("later", argv=("z",))), (1, failed("first", argv=("y",))), (3, failed("bb", argv=("zz",)))]
    for order in permutations(cases):
        fresh = Tally(counted.spec)
        for sequence, fields in order:
            add(fresh, sequence, fields, sequence % 2)
        (group,) = fresh.groups
        assert (group.count, group.sequence, group.offset, group.matrix, group.untried) == (4, 1, 1, 1, 0)
        assert sorted(group.ids) == [(1, "first"), (2, "later"), (3, "bb"), (4, "long")] and group.where == {0: 2, 1: 2}


def test_no_more_ids_are_kept_than_are_named_and_no_more_groups_than_are_told_apart(counted: Tally, monkeypatch: pytest.MonkeyPatch) -> None:
    for number in reversed(range(IDS_KEPT + 2)):
        add(counted, number, failed(f"c{number}"))
    (group,) = counted.groups
    assert group.count == IDS_KEPT + 2 and sorted(group.ids) == [(number, f"c{number}") for number in range(IDS_KEPT)]
    monkeypatch.setattr(tally, "MOST_GROUPS", 2)
    add(counted, 50, failed("d", actual="2"))
    add(counted, 51, failed("e", actual="3"))
    add(counted, 52, failed("f", actual="2"))
    assert [each.count for each in counted.groups] == [IDS_KEPT + 2, 2] and counted.ungrouped == 1
    assert counted.counts == {"failed": IDS_KEPT + 5}, "counted all the same"


def test_the_worst_is_told_first_then_the_order_of_the_spec(counted: Tally) -> None:
    for number, (verdict, actual) in enumerate([("failed", "1"), ("timed-out", "1"), ("failed", "2"), ("crashed", "1")]):
        add(counted, number, failed(f"c{number}", actual, verdict=verdict))
    assert [each.sequence for each in counted.groups] == [3, 1, 0, 2]


def test_what_is_groundless_is_counted_as_untried(counted: Tally) -> None:
    for number in range(3):
        add(counted, number, failed(f"c{number}", verdict="blocked", exit=None, control=("--x",), aspects=[unmet("control", "exit 2: no")]))
    (group,) = counted.groups
    assert (group.count, group.untried) == (3, 3)


def test_remarks_that_differ_in_the_culprit_are_one(counted: Tally) -> None:
    for number, about in enumerate(["--x", "--y", "3", "4"]):
        add(counted, number, record(f"c{number}", remarks=[f"the message does not name {about}", "the help comes on standard error"][: 1 + number % 2]))
    told = {text: (each.count, each.ids) for text, each in counted.remarks.items()}
    assert told == {"the message does not name its culprit": (4, ["c0", "c1", "c2"][:REMARK_IDS]), "the help comes on standard error": (2, ["c1", "c3"])}


def test_a_mask_that_found_nothing_anywhere_is_idle(counted: Tally) -> None:
    assert counted.idle_masks == [], "of what was not run nothing is said"
    add(counted, 1, record(masked=[1]))
    assert [pattern for pattern, _ in counted.idle_masks] == ["a"]
    add(counted, 2, record(masked=[0]), matrix=1)
    assert counted.idle_masks == []


def test_the_slowest_and_the_quickest_are_those_that_ended(counted: Tally) -> None:
    for number, seconds in enumerate([0.3, 0.1, 0.5, 0.2, 0.4]):
        add(counted, number, record(f"c{number}", seconds=seconds))
    add(counted, 9, record("h", verdict="timed-out", exit=None, seconds=10.0))
    add(counted, 10, record("not launched", seconds=0.0))
    pace = counted.pace
    assert (pace.ended, pace.hung, pace.hung_seconds, pace.quickest) == (6, 1, 10.0, 0.1) and pace.seconds == pytest.approx(1.5)
    assert pace.slowest == [(0.5, "c2"), (0.4, "c4"), (0.3, "c0")][:MOST_SLOW]


# --- the summary of a journal ---

AXES = {"one": {"riders": ["1", "10", "2"], "port": ["Skerry", "Holm"]}}


def summary_of(*records: Record) -> summary.RunSummary:
    header = Header(journal=1, spec="s", started="2026-01-01T00:00:00+00:00", matrices=["one", "two"], axes=AXES)
    return summarize((header, each) for each in records)


def test_values_stand_in_the_order_of_the_spec_with_those_that_are_absent_last() -> None:
    run = summary_of(
        record("a", matrix="two", values={"z": "9"}), record("b", values={"riders": 2, "port": "Holm"}), failed("c", values={"riders": 10, "port": "Skerry"}),
        failed("d", values={"riders": 1, "port": "Skerry"}), record("e", values={"port": "Voe"}), record("f", verdict="skipped", values={"port": "Moor"}),
    )
    assert list(run.matrices) == [("s", "one"), ("s", "two")], "of the spec, not of the first to end"
    one = run.matrices["s", "one"]
    assert one.axes == {"riders": {"1": [0, 1], "10": [0, 1], "2": [1, 0], ABSENT: [1, 1]}, "port": {"Skerry": [0, 2], "Holm": [1, 0], "Voe": [1, 0], ABSENT: [0, 1]}}
    assert [list(values) for values in one.axes.values()] == [["1", "10", "2", ABSENT], ["Skerry", "Holm", "Voe", ABSENT]]
    assert (one.total, one.passed, one.state, one.seconds) == (5, 2, "failed", pytest.approx(0.5)) and run.counts["passed"] == 3
    assert run.matrices["s", "two"].state == "passed" and list(run.value_names) == ["z", "riders", "port"]


def test_the_state_of_a_matrix_is_its_worst_that_is_no_failure() -> None:
    states = [summary_of(*(record(f"c{at}", verdict=each) for at, each in enumerate(verdicts))).matrices["s", "one"].state
              for verdicts in (["passed"], ["passed", "skipped"], ["skipped", "known"], ["known", "timed-out"])]  # fmt: skip
    assert states == ["passed", "skipped", "known", "failed"]


def test_axes_are_told_by_how_well_they_tell_what_failed() -> None:
    matrix = MatrixSummary("s", "one", "", axes={
        "tells": {"a": [0, 4], "b": [4, 0]}, "half": {"a": [1, 3], "b": [3, 1]}, "nothing": {"a": [2, 2], "b": [2, 2]}, "one value": {"a": [4, 4]},
        "also nothing": {"a": [2, 2], "b": [1, 1], "c": [1, 1]}, "wide": {str(n): [1, 0] for n in range(summary.MOST_VALUES + 1)},
    })  # fmt: skip
    assert matrix.axes_by_gain() == ["tells", "half", "nothing", "also nothing"]


def test_the_slowest_cases_are_the_same_whichever_ended_first() -> None:
    records = [record(f"c{number:02}", seconds=number // 2 / 10) for number in range(2 * summary.SLOWEST)]
    for order in (records, records[::-1], records[::2] + records[1::2]):
        told = [(seconds, id) for seconds, id, *_ in summary_of(*order).slowest]
        assert told == [(number // 2 / 10, f"c{number:02}") for number in reversed(range(summary.SLOWEST, 2 * summary.SLOWEST))]


def test_one_case_shows_a_cause_and_causes_end(monkeypatch: pytest.MonkeyPatch) -> None:
    run = summary_of(failed("a", argv=("xx",)), failed("b", argv=("x", "y")), failed("c", argv=("x",)), failed("d", actual="2"))
    assert [(each.fields.id, each.count, each.ids, each.where) for each in run.causes] == [("c", 3, ["a", "b", "c"], {"one": 3}), ("d", 1, ["d"], {"one": 1})]
    monkeypatch.setattr(summary, "MOST_CAUSES", 1)
    run = summary_of(failed("a"), failed("d", actual="2"), failed("b"))
    assert [(each.fields.id, each.count) for each in run.causes] == [("a", 2)] and run.counts["failed"] == 3


def test_what_stands_on_one_control_is_told_once() -> None:
    fields = [failed(each, verdict="blocked", control=("--x",), aspects=[unmet("control", "exit 2: no --x here")]) for each in "abc"]
    run = summary_of(*fields)
    assert [run.is_told_elsewhere("s", each) for each in fields] == [False, True, True] and len(run.blocked) == 1
    assert not run.is_told_elsewhere("s", failed("d"))


AXIS_VALUES = [
    ({"values": {"riders": 2, "note": "x"}}, {"riders": "2", "note": "x"}), ({"values": {"riders": 2, "note": "x", "known": "y"}, "row": 3}, {"riders": "2"}),
    ({"family": "refusals", "kind": "bad-type", "detail": "RIDERS, of --riders"}, {"kind": "bad-type", "about": "RIDERS"}),
    ({"family": "refusals", "kind": "unknown-option", "detail": "--portt for --port"}, {"kind": "unknown-option", "about": "--port"}),
    ({"family": "refusals", "kind": "too-few"}, {"kind": "too-few", "about": ABSENT}), ({"family": "accepted", "values": {"PORT": "Holm"}}, {"PORT": "Holm"}),
]  # fmt: skip


@pytest.mark.parametrize(("fields", "values"), AXIS_VALUES)
def test_what_a_case_is_in_each_axis(fields: dict[str, Any], values: dict[str, str]) -> None:
    assert axis_values_of(record(**fields)) == values


# --- grids ---


def test_a_grid_counts_each_cell_and_a_third_axis_splits_it_only_where_it_tells_more() -> None:
    def cases(is_held: Any) -> list[Record]:
        every = [(r, p, d) for r in (10, 9) for p in ("Skerry", "Holm") for d in ("mon", "sun")]
        return [record(f"{r}{p}{d}", verdict="passed" if is_held(r, p, d) else "failed", aspects=[] if is_held(r, p, d) else [unmet()],
                       values={"riders": r, "port": p, "day": d}) for r, p, d in every]  # fmt: skip

    axes = ["riders", "port", "day"]
    plain = cases(lambda r, p, d: r == 9)
    (grid,) = grids_of(summary_of(*plain).matrices["s", "one"], plain, axes)
    assert (grid.columns, grid.rows, grid.third) == (["9", "10"], ["Skerry", "Holm"], None) and grid.cells["Holm", "9"] == [2, 0]
    assert [grid.state(row, column) for row in grid.rows for column in grid.columns] == ["passed", "failed", "passed", "failed"]
    assert grid.state("Voe", "9") == "none"
    told = cases(lambda r, p, d: d == "mon")
    matrix = summary_of(*told).matrices["s", "one"]
    split = grids_of(matrix, told, axes)
    assert [each.third for each in split] == [("day", "mon"), ("day", "sun")] and {each.cells["Holm", "9"][0] for each in split} == {0, 1}
    (mixed,) = grids_of(matrix, told, axes[:2])
    assert {mixed.state(row, column) for row in mixed.rows for column in mixed.columns} == {"mixed"}
    assert len(grids_of(summary_of(*plain).matrices["s", "one"], plain, axes, always_split=True)) == 2
    assert chosen_axes(matrix) == ("day", "port", "riders")
    assert chosen_axes(matrix, ["port", "day", "riders", "port"]) == ("port", "day", "riders")
    with pytest.raises(Misuse, match="has no axis 'rider'; did you mean 'riders'"):
        chosen_axes(matrix, ["rider"])


def test_what_was_skipped_is_in_no_cell() -> None:
    cases = [record("a", values={"port": "Holm"}), record("b", verdict="skipped", values={"port": "Voe"})]
    (grid,) = grids_of(summary_of(*cases).matrices["s", "one"], cases, ["port"])
    assert grid.cells == {("", "Holm"): [1, 0]} and grid.columns == ["Holm"]


# --- causes ---

def control(port: str, said: str = "exit 2: no {}") -> dict[str, Any]:
    """What a case has that stands on a vector which is refused."""
    return {"verdict": "blocked", "control": ("--x", port), "aspects": [unmet("control", said.format(port))]}


def ruled(line: int, **more: Any) -> dict[str, Any]:
    """What a case has that ends well and is not as an expectation for all vectors says."""
    return {"family": "rephrasings", "aspects": [unmet("stdout", rule=f"s:{line}")], "exit": 0, **more}


ANSWERS: list[tuple[dict[str, Any], str]] = [
    ({"exit": 2, "stderr": "usage: fare [-n N]\nfare: no port\n"}, "exit 2: fare: no port"), ({"exit": 1, "stderr": "usage: fare\n"}, "exit 1: usage: fare"),
    ({"exit": 1, "stdout": "\n\n no port \n", "stderr": ""}, "exit 1: no port"), ({"exit": 3}, "exit 3"), ({"exit": None, "signal": "SEGV"}, "signal SEGV"),
    ({"verdict": "timed-out", "exit": None, "stdout": "Port? "}, "timed out: Port?"), ({"verdict": "not-started", "exit": None}, "not started"),
    ({"aspects": [unmet("crash", "Python: KeyError: 'x'")], "stderr": "Traceback"}, "crashed: Python: KeyError: 'x'"), ({"exit": 1, "stderr": "x" * 300}, f"exit 1: {'x' * 200}"),
]  # fmt: skip


@pytest.mark.parametrize(("fields", "answer"), ANSWERS)
def test_how_a_launch_ended_and_what_it_said_in_a_line(fields: dict[str, Any], answer: str) -> None:
    assert answer_of(record(**{"verdict": "failed", **fields})) == answer


SAME: list[tuple[dict[str, Any], dict[str, Any], bool]] = [
    ({"stderr": "fare: no port Moor"}, {"stderr": "fare: no port Voe", "argv": ("Voe",)}, False),  # Moor is no word of the first
    ({"stderr": "fare: no port Moor", "argv": ("Moor",)}, {"stderr": "fare: no port Voe", "argv": ("Voe",)}, True),
    ({"stderr": "fare: no port 'Moor'"}, {"stderr": "fare: no port 'Voe'"}, True), ({"stderr": "line 1: bad"}, {"stderr": "line 22: bad"}, True),
    ({"stderr": "bad --port", "argv": ("--port=x",)}, {"stderr": "bad --day", "argv": ("--day", "x")}, True),
    ({"stderr": "bad"}, {"stderr": "bad", "kind": "too-few"}, True), ({"stderr": "bad"}, {"stderr": "worse"}, False),
    ({"stderr": ""}, {"stderr": "", "kind": "too-few"}, False), ({"stderr": "bad"}, {"stderr": "bad", "aspects": [unmet(actual="3")]}, False),
    ({"stderr": "bad"}, {"stderr": "bad", "verdict": "crashed"}, False),
    ({"stderr": "Traceback (most recent call last):\n  a\nKeyError: 'x'"}, {"stderr": "Traceback (most recent call last):\n  b\nKeyError: 'y'"}, True),
    ({"stderr": "--write needs --list", "culprit": "-w", "argv": ("-w",)}, {"stderr": "--write needs --list", "culprit": "--write", "argv": ("--write",)}, True),
    ({"stderr": "bad value 3x", "culprit": "3x"}, {"stderr": "bad value 4y", "culprit": "4y"}, True),
    (control("Moor"), control("Voe"), True), (control("Moor"), control("Voe", "exit 2: --x is broken"), False),
    (control("Moor"), {"family": "accepted", "kind": "smallest", "exit": 2, "argv": ("Voe",), "stderr": "no Voe"}, True),  # it stands on that
    (control("Moor"), {"family": "accepted", "kind": "smallest", "exit": 2, "argv": ("Voe",), "stderr": "no Voe", "verdict": "flaky"}, False),
    ({"family": "accepted", "kind": "pairs", "detail": "x", "culprit": "-a -b", "stderr": "1"}, {"family": "accepted", "kind": "pairs", "detail": "y", "culprit": "-a -b", "stderr": "2"}, True),
    ({"family": "accepted", "kind": "pairs", "detail": "x", "culprit": "-a -b"}, {"family": "accepted", "kind": "pairs", "detail": "x", "culprit": "-a -c"}, False),
    (ruled(7, kind="moved"), ruled(7, family="effects", kind="other value"), True), (ruled(7), ruled(8), False), (ruled(7, stderr="so"), ruled(7, stderr="or so"), False),
    (ruled(7, aspects=[unmet(rule="s:7")], kind="moved"), ruled(7, aspects=[unmet(rule="s:7")], kind="other"), False),
    ({"family": "", "stderr": "bad"}, {"family": "", "stderr": "worse"}, True), ({"family": ""}, {"family": "", "matrix": "two"}, False),
]  # fmt: skip


@pytest.mark.parametrize(("one", "other", "is_same"), SAME)
def test_what_two_failures_share_that_are_one_cause(one: dict[str, Any], other: dict[str, Any], is_same: bool) -> None:
    base = {"family": "refusals", "kind": "bad-type", "exit": 0}
    keys = [cause_key(failed("c", **{**base, **each})) for each in (one, other)]
    assert (keys[0] == keys[1]) is is_same, keys


def test_the_worst_and_the_shortest_tell_a_cause_best() -> None:
    order = [failed("a", verdict="crashed", argv=("x",) * 9), failed("b", detail="x clashes", family="accepted", argv=("x", "y")), failed("c", argv=()),
             failed("d", argv=("xx",)), failed("e", argv=("x", "y")), failed("f", verdict="blocked", argv=())]  # fmt: skip
    assert sorted(order[3:] + order[:3], key=telling) == order


# --- the order under a budget ---


def case(id: str, kind: str = "", **values: Any) -> Case:
    standing = Standing(status="refused", kinds=(kind,)) if kind else None  # type: ignore[call-arg]
    return Case(id=id, matrix=0, argv=(id,), values=values, kind=kind, culprit=id if kind else "", standings=(standing,) if standing else ())


def test_what_failed_comes_first_then_what_is_new_then_each_kind_then_what_covers_most() -> None:
    cases = [case("a", x=1, y=1), case("b", x=1, y=1), case("c", x=2, y=2), case("failed", x=1, y=1), case("k1", "bad-type"), case("k2", "bad-type"), case("new", x=1, y=1)]
    known = {each.id: ("failed" if each.id == "failed" else "passed", 0.1) for each in cases if each.id != "new"}
    assert [each.id for each in ordered(cases, known)] == ["failed", "new", "k1", "c", "k2", "a", "b"]
    slow = {**known, "c": ("passed", 100.0)}
    assert [each.id for each in ordered(cases, slow)][3:5] == ["k2", "c"], "a second of it covers less"


def test_what_the_beginning_of_an_order_reaches() -> None:
    order = ordered([case("a", x=1, y=1), case("b", x=2, y=2), case("k", "bad-type"), case("l", "too-few")], {})
    none, some, every = order.reached(0), order.reached(2), order.reached(9)
    assert (none.cases, none.pairs, none.kinds) == (0, 0, 0) and (some.cases, some.of_cases, some.kinds, some.of_kinds) == (2, 4, 2, 2)
    assert (every.cases, every.pairs, every.kinds) == (4, every.of_pairs, 2) and every.of_pairs == 4
    assert order.reached() == none and next(iter(order)).id == "k" and order.reached().cases == 1
    assert shares(some) == {"pairs": "50.0 % of 4 pairs of values", "kinds": "2 of 2 kinds of refusal"} and shares(ordered([], {}).reached()) == {"pairs": "100.0 % of 0 pairs of values"}
    assert pairs_in(case("a", x=1)) == {((0, "x", "1"),) * 2} and len(pairs_in(case("a", x=1, y=None, z=[1]))) == 1
