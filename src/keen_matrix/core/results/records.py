"""The record of a case: the JSON object that the journal, `unfold --format json` and every report share."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from functools import lru_cache
from typing import Any

from keen_matrix.core.expect.alike import compare
from keen_matrix.core.expect.cascade import AspectResult, Judged, worst_of
from keen_matrix.core.expect.exits import signal_name, signal_number
from keen_matrix.core.launch.outcome import Looked, Outcome
from keen_matrix.core.results import fast_json
from keen_matrix.core.vectors.case import Case

SHOWN_ACTUAL = 4096
"""Characters of a text kept beside a failed expectation; the whole of it is in the record's streams."""


def case_fields(case: Case, matrix: str) -> dict[str, Any]:
    """Return the fields that say what a case is, without any outcome."""
    fields: dict[str, Any] = {
        "id": case.id,
        "matrix": matrix,
        "family": case.family or None,
        "kind": case.kind or None,
        "argv": case.argv,
        "values": case.values,
        "judgement": case.standings[0].status if case.standings else None,
    }
    if case.culprit:
        fields["culprit"] = case.culprit
    if case.note:
        fields["note"] = case.note
    if case.relation:
        fields["relation"] = case.relation[0]
    if case.more:
        fields["more_argv"] = case.more
    if case.fault:
        fields["fault"] = case.fault
    return fields


class Record:
    """The record of a case while its launches finish, one after another."""

    def __init__(self, case: Case, matrix: str) -> None:
        self._case, self._matrix = case, matrix
        self._launches: list[tuple[tuple[str, ...], Outcome, Judged]] = []

    def add(self, words: tuple[str, ...], outcome: Outcome, judged: Judged) -> None:
        """Take a finished and checked launch."""
        self._launches.append((words, outcome, judged))

    def essence(self) -> bytes:
        """Return what must not differ between two runs of a steady case: ends, streams, files, verdicts."""
        seen = [
            (outcome.exit, outcome.signal, outcome.stdout, outcome.stderr, sorted(outcome.files), judged.verdict)
            for _, outcome, judged in self._launches
        ]
        return repr(seen).encode()

    def fields(self, floor: int) -> dict[str, Any]:
        """Return the whole record; `floor` is the smallest peak memory that can be told, in bytes."""
        relation = self._case.relation
        if len(self._launches) == 1 and relation is None:
            return self._only_launch(floor)
        compared = list(compare(relation, self._launches)) if relation is not None else []
        _, outcome, judged = self._launches[-1 if relation is None else 0]
        fields = case_fields(self._case, self._matrix)
        _noted(fields, outcome, {number for _, each, _ in self._launches for number in each.masks_used},
               dict.fromkeys(remark for _, _, each in self._launches for remark in each.remarks))  # fmt: skip
        if len(self._launches) == 1:
            fields["verdict"] = _with_compared(judged.verdict, compared)
            _outcome_fields(fields, outcome, floor)
            fields["aspects"] = [aspect_fields(each) for each in (*judged.aspects, *(each for _, each in compared))]
            return fields
        verdicts = [judged.verdict for _, _, judged in self._launches]
        if relation is not None:
            verdicts = [verdicts[0], *(each for each in verdicts[1:] if each != "unchecked")]
        fields["verdict"] = _with_compared(worst_of(verdicts), compared)
        _outcome_fields(fields, outcome, floor)
        fields["seconds"] = round(sum(each.seconds for _, each, _ in self._launches), 6)
        fields["aspects"] = [
            {**aspect_fields(each), "step": number}
            for number, (_, _, judged) in enumerate(self._launches, 1)
            for each in judged.aspects
        ]
        fields["aspects"] += [{**aspect_fields(each), "step": number} for number, each in compared]
        fields["steps"] = []
        for words, each, judged in self._launches:
            step: dict[str, Any] = {"argv": words, "verdict": judged.verdict}
            _outcome_fields(step, each, floor)
            fields["steps"].append(step)
        return fields

    def _only_launch(self, floor: int) -> dict[str, Any]:
        """Return the record of a case with one launch that is compared with no other."""
        ((_, outcome, judged),) = self._launches
        fields = case_fields(self._case, self._matrix)
        if outcome.masks_used or judged.remarks:
            _noted(fields, outcome, outcome.masks_used, dict.fromkeys(judged.remarks))
        fields["verdict"] = judged.verdict
        _outcome_fields(fields, outcome, floor)
        fields["aspects"] = [aspect_fields(each) for each in judged.aspects]
        return fields


def _noted(fields: dict[str, Any], outcome: Outcome, masks: Collection[int], remarks: Collection[str]) -> None:
    """Add which masks found something and what they made of the streams, and what is worth a word."""
    if masks:
        fields["masked"] = sorted(masks)
        for name, text in outcome.masked.items():
            if text != getattr(outcome, name):
                fields[f"{name}_masked"] = text.decode("utf-8", "backslashreplace")
    if remarks:
        fields["remarks"] = list(remarks)


def _outcome_fields(fields: dict[str, Any], outcome: Outcome, floor: int) -> None:
    fields["exit"] = outcome.exit
    fields["signal"] = signal_name(outcome.signal) if outcome.signal is not None else None
    fields["seconds"] = round(outcome.seconds, 6)
    fields["user_seconds"] = round(outcome.user_seconds, 6)
    fields["system_seconds"] = round(outcome.system_seconds, 6)
    fields["peak_bytes"] = outcome.peak_bytes
    if outcome.peak_bytes is not None and outcome.peak_bytes <= floor:
        fields["peak_at_most"] = True
    _stream(fields, "stdout", outcome.stdout, outcome.stdout_bytes)
    _stream(fields, "stderr", outcome.stderr, outcome.stderr_bytes)
    fields["files"] = outcome.files
    if outcome.looked_at:
        fields["looked_at"] = {name: _looked(found) for name, found in outcome.looked_at.items()}
    if outcome.stdout and outcome.stderr and outcome.arrivals:
        fields["arrivals"] = [[stream, size, round(at, 4)] for stream, size, at in outcome.arrivals[:MOST_ARRIVALS]]
    if outcome.conversation:
        fields["dialogue"] = [
            [prompt.decode("utf-8", "replace"), reply.decode("utf-8", "replace")]
            for prompt, reply in outcome.conversation
        ]
    if outcome.feeders:
        fields["feeders"] = [
            {"command": name, "exit": code, "signal": None if number is None else signal_name(number)}
            for name, code, number in outcome.feeders
        ]
    if outcome.leftovers:
        fields["leftovers"] = outcome.leftovers
    if outcome.stopped is not None:
        fields["stopped"] = signal_name(outcome.stopped)


def _looked(found: Looked) -> dict[str, str]:
    kept = {name: getattr(found, name) for name in ("instead", "mode", "link") if getattr(found, name)}
    _stream(kept, "content", found.content, len(found.content))
    return kept


def outcome_of(fields: Mapping[str, Any]) -> Outcome:
    """Return the outcome of a launch as its record tells it: what is needed to ask expectations again."""
    streams = {name: stream_bytes(fields, name) for name in ("stdout", "stderr")}
    looked = {
        name: Looked(stream_bytes(each, "content"), each.get("instead", ""), each.get("mode", ""), each.get("link", ""))
        for name, each in fields.get("looked_at", {}).items()
    }
    return Outcome(
        exit=fields.get("exit"), signal=None if fields.get("signal") is None else signal_number(fields["signal"]),
        stdout=streams["stdout"], stderr=streams["stderr"], stdout_bytes=len(streams["stdout"]),
        stderr_bytes=len(streams["stderr"]), seconds=fields["seconds"], peak_bytes=fields.get("peak_bytes"),
        files=dict(fields.get("files", {})), looked_at=looked, leftovers=list(fields.get("leftovers", ())),
        stopped=None if "stopped" not in fields else signal_number(fields["stopped"]),
    )  # fmt: skip


def _with_compared(verdict: str, compared: Sequence[tuple[int, AspectResult]]) -> str:
    """Return a verdict that also stands for how launches compared."""
    if not all(each.met for _, each in compared):
        return worst_of([verdict, "differed"])
    return "held" if compared and verdict == "unchecked" else verdict


MOST_ARRIVALS = 500
"""Pieces of output whose order is kept in a record."""


def _stream(fields: dict[str, Any], name: str, kept: bytes, came: int) -> None:
    try:
        fields[name] = kept.decode("utf-8")
    except UnicodeDecodeError:
        import base64

        fields[f"{name}_base64"] = base64.b64encode(kept).decode()
    if came > len(kept):
        fields[f"{name}_bytes"] = came


@lru_cache(4096)
def _held_fields(aspect: str, rule: str) -> dict[str, Any]:
    return {"aspect": aspect, "met": True, "rule": rule} if rule else {"aspect": aspect, "met": True}


def aspect_fields(result: AspectResult) -> dict[str, Any]:
    """Return one aspect; what was expected and what was found is kept for those that are not met."""
    if result.met:
        return _held_fields(result.aspect, result.rule)
    fields: dict[str, Any] = {"aspect": result.aspect, "met": result.met}
    if result.mismatch is not None:
        fields["form"] = result.mismatch.form
        fields["expected"] = _kept(result.mismatch.expected)
        fields["actual"] = _kept(result.mismatch.actual)
        if result.mismatch.problem:
            fields["problem"] = True
        if result.mismatch.form in ("is", "lines", "stdout", "stderr"):
            _keep_difference(fields, result.mismatch.expected, result.mismatch.actual)
        if result.mismatch.recorded is not None:
            _stream(fields, "recorded", result.mismatch.recorded, len(result.mismatch.recorded))
    if result.rule:
        fields["rule"] = result.rule
    return fields


def _keep_difference(fields: dict[str, Any], expected: str, actual: str) -> None:
    """Keep where two texts differ, when they are too long to be kept whole."""
    if max(len(expected), len(actual)) <= SHOWN_ACTUAL:
        return
    from keen_matrix.core.expect.differences import difference

    found = difference(expected, actual)
    lines = [[line.kind, line.number, _kept(line.text[:500])] for line in found.lines]
    fields["difference"] = {"lines": lines, "differing": found.differing, "of": found.of}


def _kept(text: str) -> str:
    text = text.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
    return text if len(text) <= SHOWN_ACTUAL else text[:SHOWN_ACTUAL] + "…"


def stream_bytes(fields: Mapping[str, Any], name: str) -> bytes:
    """Return a stream of a record as the bytes it was."""
    if f"{name}_base64" in fields:
        import base64

        return base64.b64decode(fields[f"{name}_base64"])
    return str(fields.get(name) or "").encode("utf-8", "surrogatepass")


def encode(fields: Mapping[str, Any]) -> bytes:
    """Return a record as one line of JSON, its newline included."""
    try:
        return fast_json.dumps(fields) + b"\n"
    except TypeError:  # an integer beyond 64 bits, or a surrogate from a value that is no text
        import json

        text = json.dumps(fields, ensure_ascii=False, separators=(",", ":"), check_circular=False)
        return (text + "\n").encode("utf-8", "backslashreplace")
