"""What is kept of runs, each part by itself: the journal's place, the history, comparing."""

from __future__ import annotations

import itertools
import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from keen_matrix.core.errors import RunFault
from keen_matrix.core.model.lines import encode
from keen_matrix.core.model.record import AspectRecord, Finished, Header, Record, Repeats
from keen_matrix.core.results.causes import answer_of, statement_of
from keen_matrix.core.results.compare import KINDS, compare_runs
from keen_matrix.core.results.history import (
    DamagedHistory,
    History,
    HistoryRecorder,
    HistoryRun,
    WritableHistory,
    is_ours,
    program_digest,
)
from keen_matrix.core.results.journal import BESIDE, Journal
from keen_matrix.core.results.tally import Several
from keen_matrix.core.runs.spent import Spent, time_shares
from tests.conftest import Place


def header(spec: str = "a.matrix.toml", **more: Any) -> Header:
    return Header(journal=1, spec=spec, started="2026-01-01T00:00:00+00:00", **more)


def record(id: str, **more: Any) -> Record:
    base: dict[str, Any] = {"matrix": "m", "argv": ("x",), "values": {}, "verdict": "passed", "exit": 0, "seconds": 0.1, "aspects": []}
    return Record(id=id, **{**base, **more})


# --- the journal ---


def names_in(directory: Path) -> list[str]:
    return sorted(each for each in os.listdir(directory) if not each.endswith(".lock"))


def test_a_journal_takes_its_place_with_the_first_record_and_not_before(tmp_path: Path) -> None:
    path = tmp_path / "j.jsonl"
    path.write_bytes(encode(header()) + encode(record("before")))
    with Journal(str(path)) as journal:
        journal.write_line(header())
        assert not journal.is_in_place and b"before" in path.read_bytes()
        offset = journal.write(encode(record("after")))
        assert journal.is_in_place and b"after" in path.read_bytes() and b"before" not in path.read_bytes()
        assert journal.read(offset, journal.size - offset).id == "after"
    assert names_in(tmp_path) == ["j.jsonl"]


def test_a_run_that_came_to_nothing_loses_no_results(tmp_path: Path) -> None:
    path = tmp_path / "j.jsonl"
    path.write_bytes(encode(header()) + encode(record("before")))
    left = tmp_path / f".j.jsonl-abc{BESIDE}"
    left.write_bytes(b"of a run that was killed")
    with Journal(str(path)) as journal:
        journal.write_line(header())
        assert not left.exists()
    assert names_in(tmp_path) == ["j.jsonl"] and b"before" in path.read_bytes()


def test_one_run_at_a_time_has_a_journal_and_other_files_are_left_alone(tmp_path: Path) -> None:
    path = tmp_path / "j.jsonl"
    with Journal(str(path)), pytest.raises(RunFault, match="another run"):
        Journal(str(path))
    other = tmp_path / "notes.txt"
    other.write_text("mine")
    with pytest.raises(RunFault, match="is not a journal"):
        Journal(str(other))
    assert other.read_text() == "mine"


def test_a_link_is_kept_and_what_it_leads_to_written(tmp_path: Path) -> None:
    real, link = tmp_path / "real.jsonl", tmp_path / "link.jsonl"
    link.symlink_to(real)
    with Journal(str(link)) as journal:
        journal.write_line(header())
        journal.write(encode(record("a")))
    assert link.is_symlink() and b'"a"' in real.read_bytes()


def test_a_journal_that_goes_on_has_all_that_was_whole(tmp_path: Path) -> None:
    path = tmp_path / "j.jsonl"
    with Journal(str(path)) as journal:
        journal.write_line(header())
        journal.write(encode(record("a")))
    size = path.stat().st_size
    with path.open("ab") as file:
        file.write(b'{"id":"torn')
    with Journal(str(path), keep=True) as journal:
        assert journal.size == size and [type(line) for _, _, line in journal.lines()] == [Header, Record]
        journal.write(encode(record("b")))
        journal.write_line(Finished(finished="2026-01-01T00:00:01+00:00", counts={"passed": 2}))
        assert [line.id for _, _, line in journal.lines() if isinstance(line, Record)] == ["a", "b"]


# --- the history ---


def ran(spec: str = "a", digest: str = "1", **more: Any) -> HistoryRun:
    return HistoryRun(spec=spec, spec_digest=digest, program="p", program_digest="p1", started="2026-01-01", counts={}, **more)


@contextmanager
def history(tmp_path: Path) -> Iterator[WritableHistory]:
    with WritableHistory(str(tmp_path / "h.sqlite3")) as kept:
        yield kept


def enter(kept: WritableHistory, verdicts: dict[str, str], **more: Any) -> int:
    number = kept.begin(ran(**more))
    kept.add(number, [(id, "m", verdict, 0.1 + len(id)) for id, verdict in verdicts.items()])
    kept.finish(number, 2.0, {"passed": len(verdicts)})
    return number


def test_a_history_tells_what_was_entered(tmp_path: Path) -> None:
    with history(tmp_path) as kept:
        enter(kept, {"a": "passed", "bb": "failed"}, journal="/j1")
        enter(kept, {"a": "passed", "bb": "passed"}, journal="/j2")
        enter(kept, {"a": "crashed"}, spec="b", journal="/j3")
        assert [(run.spec, run.seconds, dict(run.counts)) for run in kept.runs("a")] == [("a", 2.0, {"passed": 2})] * 2
        assert [run.spec for run in kept.runs()] == ["b", "a", "a"]
        assert kept.last_of("a") == {"a": ("passed", 1.1), "bb": ("passed", 2.1)}
        assert kept.newest() == ("2026-01-01", "/j3")
        assert [row[1] for row in kept.slowest("a", 1)] == ["bb"]
        assert [row[4] for row in kept.trend("bb")] == ["failed", "passed"]


@pytest.mark.parametrize(("digests", "flaky"), [(("1", "1"), [("bb", 1, ["failed", "passed"])]), (("1", "2"), [])])
def test_a_case_is_unsteady_when_nothing_else_has_changed(tmp_path: Path, digests: tuple[str, str], flaky: list[Any]) -> None:
    with history(tmp_path) as kept:
        enter(kept, {"a": "passed", "bb": "failed"}, digest=digests[0])
        enter(kept, {"a": "passed", "bb": "passed"}, digest=digests[1])
        assert [(id, changes, verdicts) for id, _, _, changes, verdicts in kept.flaky("a")] == flaky


def test_the_newest_runs_of_each_spec_are_kept(tmp_path: Path) -> None:
    with history(tmp_path) as kept:
        for _ in range(3):
            enter(kept, {"a": "passed"})
        enter(kept, {"a": "passed"}, spec="b")
        assert kept.prune(1) == 2 and [run.spec for run in kept.runs()] == ["b", "a"]
        assert len(kept.trend("a")) == 2


def test_reading_makes_no_file_and_tells_what_is_none(tmp_path: Path) -> None:
    path = tmp_path / "h.sqlite3"
    with pytest.raises(RunFault, match="there is no history yet"):
        History(str(path))
    assert not path.exists()
    path.write_text("mine")
    for opened in (History, WritableHistory):
        with pytest.raises(RunFault, match="is not a history"):
            opened(str(path))
    assert path.read_text() == "mine" and not is_ours(str(path))


def test_pruning_makes_no_history_where_there_is_none(place: Place) -> None:
    came = place.call("history", "--prune", "3")
    assert came.status == 3 and "there is no history yet" in came.err and not (place.directory / ".keen-matrix").exists()


def test_a_history_of_another_version_is_refused_and_a_damaged_one_told(tmp_path: Path) -> None:
    path = tmp_path / "h.sqlite3"
    WritableHistory(str(path)).close()
    with sqlite3.connect(path) as database:
        database.execute("PRAGMA user_version = 99")
    with pytest.raises(RunFault, match="of version 99"):
        History(str(path))
    with path.open("r+b") as file:
        file.seek(100)
        file.write(b"\xff" * 2_000)
    with pytest.raises(DamagedHistory):
        WritableHistory(str(path))


def test_a_recorder_keeps_its_trouble_to_itself(tmp_path: Path) -> None:
    path = tmp_path / "nowhere" / "h.sqlite3"
    (tmp_path / "nowhere").write_text("a file where a directory should be")
    recorder = HistoryRecorder(str(path), ran())
    recorder.add("a", "m", "passed", 0.1)
    recorder.finish({"passed": 1})
    assert "the results are not entered into the history" in recorder.trouble


def damage(path: Path) -> None:
    with path.open("r+b") as file:
        file.seek(100)
        file.write(b"\xff" * 4_000)


def rows(path: Path, query: str) -> list[tuple[Any, ...]]:
    with sqlite3.connect(f"file:{path}?mode=ro", uri=True) as database:
        return list(database.execute(query))


def test_a_damaged_history_is_set_aside_once_with_what_belongs_to_it_and_another_begun(tmp_path: Path) -> None:
    path = tmp_path / "h.sqlite3"
    WritableHistory(str(path)).close()
    damage(path)
    Path(f"{path}-shm").write_bytes(b"of the damaged one")
    recorder = HistoryRecorder(str(path), ran())
    assert "the history was damaged and is set aside as" in recorder.trouble
    recorder.add("a", "m", "passed", 0.1)
    recorder.finish({"passed": 1})
    aside = recorder.trouble.split(" as ")[1].split(";")[0]
    assert Path(aside).exists() and Path(f"{aside}-shm").read_bytes() == b"of the damaged one" and is_ours(aside)
    with History(str(path)) as kept:
        assert len([*kept.runs()]) == 1 and kept.last_of("a") == {"a": ("passed", 0.1)}, "begun once, and written"


def test_a_history_that_is_damaged_under_a_run_is_set_aside_and_what_came_since_entered(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("keen_matrix.core.results.history.BATCH", 2)
    path = tmp_path / "h.sqlite3"
    recorder = HistoryRecorder(str(path), ran())
    for id in "abc":
        recorder.add(id, "m", "passed", 0.1)
    assert rows(path, "SELECT id FROM cases ORDER BY id") == [("a",), ("b",)] and not recorder.trouble, "by twos"
    enter = WritableHistory.add
    faults = iter([DamagedHistory("no page 7")])

    def once(kept: WritableHistory, *given: Any) -> None:
        for fault in faults:
            raise fault
        enter(kept, *given)

    monkeypatch.setattr(WritableHistory, "add", once)
    recorder.add("d", "m", "passed", 0.1)
    assert "set aside" in recorder.trouble
    recorder.finish({"passed": 4})
    assert rows(path, "SELECT id FROM cases ORDER BY id") == [("c",), ("d",)] and rows(path, "SELECT number, counts FROM runs") == [(1, '{"passed": 4}')]


def test_two_histories_damaged_in_one_run_are_the_disk_and_no_third_is_begun(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "h.sqlite3"
    WritableHistory(str(path)).close()
    damage(path)
    recorder = HistoryRecorder(str(path), ran())
    monkeypatch.setattr("keen_matrix.core.results.history.BATCH", 1)

    def never(*given: Any) -> None:
        raise DamagedHistory("no page 7")

    monkeypatch.setattr(WritableHistory, "add", never)
    recorder.add("a", "m", "passed", 0.1)
    recorder.add("b", "m", "passed", 0.1)
    recorder.finish({"passed": 2})
    assert len([each for each in os.listdir(tmp_path) if each.endswith(".damaged")]) == 1 and "set aside" in recorder.trouble


def test_a_digest_of_a_program_is_of_its_words_and_files(tmp_path: Path) -> None:
    assert program_digest([str(tmp_path)]) == program_digest([str(tmp_path)]) != program_digest([f"{tmp_path}/"]), "a directory is a word"
    script = tmp_path / "p.sh"
    script.write_text("echo 1")
    one = program_digest(["sh", str(script)])
    assert one == program_digest(["sh", str(script)]) != program_digest(["sh", str(script), "-x"])
    script.write_text("echo 2")
    assert program_digest(["sh", str(script)]) != one


# --- comparing ---


def journal_of(path: Path, *records: Record) -> str:
    path.write_bytes(b"".join([encode(header()), *map(encode, records)]))
    return str(path)


def slow(*seconds: float) -> dict[str, Any]:
    return {"seconds": seconds[0], "repeats": Repeats(times=len(seconds), different=1, seconds=list(seconds))}


FAILED = {"verdict": "failed", "aspects": [AspectRecord(aspect="exit", met=False, form="exit", expected="0", actual="1")], "exit": 1}
COMPARED: list[tuple[dict[str, Any] | None, dict[str, Any] | None, str | None]] = [
    ({}, FAILED, "newly failing"), (FAILED, {}, "newly passing"), (FAILED, {"verdict": "crashed", "exit": None, "signal": "SEGV"}, "other verdict"),
    ({"stdout": "a"}, {"stdout": "b"}, "other output"), ({}, {}, None), ({}, None, "gone"), (None, {}, "new"),
    ({"seconds": 0.1}, {"seconds": 0.9}, "slower"), ({"seconds": 0.1}, {"seconds": 0.15}, None),
    (slow(0.10, 0.11, 0.12), slow(0.14, 0.15, 0.16), "slower"), (slow(0.10, 0.11, 0.15), slow(0.14, 0.15, 0.16), None),
]  # fmt: skip


@pytest.mark.parametrize(("before", "after", "kind"), COMPARED)
def test_what_became_of_a_case(tmp_path: Path, before: Any, after: Any, kind: str | None) -> None:
    paths = [journal_of(tmp_path / f"{number}.jsonl", record("same"), *([record("c", **fields)] if fields is not None else []))
             for number, fields in enumerate((before, after))]  # fmt: skip
    found = compare_runs([paths[0]], [paths[1]])
    assert found.counts == ({} if kind is None else {kind: 1}) and set(found.counts) <= set(KINDS)


@pytest.mark.parametrize(("argv", "said", "kind", "stated"), [
    (("--bike", "--car", "Holm"), "fare: --bike cannot be combined with --car", "pairs", "synopsis: [--bike | --car]"),
    (("--bike", "--car", "Holm"), "fare: no room", "pairs", ""), (("--bike", "--car", "--save", "x"), "fare: --bike, --car, --save: one at a time", "pairs", ""),
    (("--riders", "0"), "fare: too few", "edge", "values.RIDERS: bounds, or examples, without the value that is refused"),
])  # fmt: skip
def test_what_a_message_tells_of_an_accepted_vector_is_stated(argv: tuple[str, ...], said: str, kind: str, stated: str) -> None:
    fields = record("x", family="accepted", kind=kind, verdict="failed", exit=2, argv=argv, stderr=said, culprit="RIDERS")
    assert statement_of(fields) == stated
    assert statement_of(record("x", family="refusals", kind=kind, verdict="failed", argv=argv, stderr=said)) == ""


def test_the_cases_that_are_named_are_the_first_of_the_spec_in_whatever_order_they_finish() -> None:
    cases = [(3, "c"), (1, "a"), (7, "g"), (2, "b"), (5, "e")]
    for order in itertools.permutations(cases):
        several = Several()
        for sequence, id in order:
            several.add(sequence, id)
        assert (several.count, several.ids) == (5, ["a", "b", "c"])


def test_of_a_crash_the_answer_names_the_error() -> None:
    crash = AspectRecord(aspect="crash", met=False, form="crash", actual="Python: ValueError: no number")
    text = "Traceback (most recent call last):\n  File …\nValueError: no number\n"
    fields = {"id": "a", "matrix": "m", "argv": ("x",), "values": {}, "seconds": 0.0, "exit": 1, "signal": None}
    more = {"user_seconds": 0.0, "system_seconds": 0.0, "peak_bytes": 0, "stderr": text}
    crashed = Record(verdict="crashed", aspects=[crash], **fields, **more)  # type: ignore[arg-type]
    refused = Record(verdict="failed", aspects=[], **fields, **{**more, "stderr": "no number\n"})  # type: ignore[arg-type]
    assert (answer_of(crashed), answer_of(refused)) == ("crashed: Python: ValueError: no number", "exit 1: no number")


def test_no_part_of_a_run_took_longer_than_the_run() -> None:
    """One matrix that runs alone has all launches counted as if one at a time; they went two at a time."""
    pace = SimpleNamespace(slowest=[], quickest=5.7, ended=10, hung=0, hung_seconds=0.0, seconds=57.0)
    tally = SimpleNamespace(spec=SimpleNamespace(least_jobs=1), pace=pace, started_through=None, warm=0, is_cold_python=False)
    parts = time_shares([tally], Spent(build=2.0), 1.0, 30.0, 2)  # type: ignore[list-item]
    assert sum(each.seconds for each in parts) <= 30.0 + 1e-9
    assert next(each.seconds for each in parts if each.kind == "launches") == pytest.approx(27.0)
