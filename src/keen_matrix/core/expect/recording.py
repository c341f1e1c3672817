"""Making the record of a case from its launches, and its launches from a record."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Sequence
from functools import lru_cache

from keen_matrix.core import structs
from keen_matrix.core.expect.alike import compare, differences_of
from keen_matrix.core.expect.cascade import AspectResult, Judged, worst_of
from keen_matrix.core.expect.hollow import shows_only
from keen_matrix.core.expect.masks import VARIES, Mask, mask
from keen_matrix.core.expect.varying import varying_between
from keen_matrix.core.model.case import Case, described
from keen_matrix.core.model.outcome import Looked, Outcome
from keen_matrix.core.model.record import (
    AspectRecord,
    FeederEnd,
    KeptDifference,
    LookedAt,
    Record,
    RecordFields,
    StepRecord,
    Verdict,
    as_kept,
    kept_bytes,
)
from keen_matrix.core.model.signals import signal_name, signal_number

VARYING = "not compared, because two launches of one call differ in it"
#: Characters of a text kept beside an expectation that is not met; the whole of it is in the
#: record's streams.
SHOWN_ACTUAL = 4096
#: Pieces of output whose order is kept in a record.
MOST_ARRIVALS = 500


class CaseRecorder:
    """Makes the record of a case while its launches finish, one after another."""

    def __init__(self, case: Case, matrix: str) -> None:
        self._case, self._matrix = case, matrix
        self._launches: list[tuple[tuple[str, ...], Outcome, Judged]] = []
        self._launchers: list[str] = []
        #: What comparing them came to, once asked; it holds until one is added or masked.
        self._found_between: list[tuple[int, AspectResult]] | None = None
        #: What is worth a word of how they compare.
        self._remark = ""

    def add(self, words: tuple[str, ...], outcome: Outcome, judged: Judged, launcher: str = "") -> None:
        """Take a finished and checked launch; `launcher` is the name and the line of another way to
        start the program."""
        self._found_between = None
        self._launches.append((words, outcome, judged))
        self._launchers.append(launcher)

    def _compared(self) -> list[tuple[int, AspectResult]]:
        """Return how the launches compare, by their numbers; only asked once all are there, since
        one relation may look at several."""
        if self._found_between is None:
            relation = self._case.relation
            self._found_between = [] if relation is None else list(compare(relation, self._launches))
        return self._found_between

    def essence(self) -> bytes:
        """Return what must not differ between two runs of a steady case: ends, streams, files,
        verdicts."""
        seen = [
            (
                outcome.exit,
                outcome.signal,
                outcome.stdout,
                outcome.stderr,
                sorted(outcome.files),
                judged.verdict,
            )
            for _, outcome, judged in self._launches
        ]
        return repr(seen).encode()

    def differs_from_control(self) -> bool:
        """Tell whether launches that must be alike are not, each of them in surroundings of its
        own. One that hung, or was not launched, needs no second look."""
        relation = self._case.relation
        if relation is None or relation.name != "alike" or not all(relation.fresh):
            return False
        ends = (outcome.exit is not None or outcome.signal for _, outcome, _ in self._launches)
        return all(ends) and not all(result.met for _, result in self._compared())

    def is_steady(self, number: int, again: Outcome) -> bool:
        """Tell whether a launch, by its number from 0, did the same once more."""
        relation = self._case.relation
        _, first, _ = self._launches[number]
        return relation is None or not any(differences_of(first, again, relation.aspects))

    def is_alike_without_what_varies(self, number: int, again: Outcome) -> bool:
        """Tell whether all launches are alike except for what differs between one of them and
        another of the same vector; that is left out of the streams then, as a mask would, and
        told."""
        relation = self._case.relation
        _, first, _ = self._launches[number]
        outcomes = [outcome for _, outcome, _ in self._launches]
        before = [(dict(outcome.masked), dict(outcome.state)) for outcome in outcomes]
        varies = list(_without_varying_files(first, again, outcomes))
        for stream in ("stdout", "stderr"):
            one, other = (
                each.decode("utf-8", "surrogateescape")
                for each in (
                    first.masked.get(stream, getattr(first, stream)),
                    again.masked.get(stream, getattr(again, stream)),
                )
            )
            patterns = [each.pattern for each in varying_between(stream, one, other)]
            if patterns:
                varies.append(stream)
            masks = [Mask(each or r"(?s).+", VARIES) for each in patterns]
            for outcome in outcomes:
                raw = outcome.masked.get(stream, getattr(outcome, stream))
                outcome.masked[stream] = mask(raw, masks, stream).text
        self._found_between = None
        if relation is not None and all(each.met for _, each in self._compared()):
            self._remark = f"{VARYING}: {', '.join(varies)}"
            return True
        for outcome, (masked, state) in zip(outcomes, before, strict=True):
            outcome.masked, outcome.state = masked, state
        self._found_between = None
        return False

    def seconds_of(self, number: int) -> float:
        """Return how long a launch took, in seconds."""
        return self._launches[number][1].seconds

    def record(self, floor: int) -> Record:
        """Return the whole record; `floor` is the smallest peak memory that can be reported, in
        bytes.

        A case of several launches tells the last one, or the first of those that are compared; all
        stand in `steps`.
        """
        relation = self._case.relation
        compared = self._compared() if relation is not None else []
        _, outcome, judged = self._launches[-1 if relation is None else 0]
        found = self._whole(floor, compared, outcome, judged)
        if self._remark:
            found.remarks = [*found.remarks, self._remark]
        return _with_what_is_known(self._case, found)

    def _whole(
        self, floor: int, compared: Sequence[tuple[int, AspectResult]], outcome: Outcome, judged: Judged
    ) -> Record:
        relation = self._case.relation
        found = Record(
            **described(self._case, self._matrix),
            **_noted(outcome, self._launches),
            verdict=judged.verdict,
            **_observed(outcome, floor),
            aspects=[],
        )
        if outcome.samples:
            named = self._case.argv
            found.samples = {name: read for name, read in outcome.samples.items() if name in named}
        if len(self._launches) == 1:
            found.aspects = [*map(aspect_record, judged.aspects)]
            if compared:
                found.verdict = _with_compared(judged.verdict, compared)
                found.aspects += [aspect_record(each) for _, each in compared]
            return found
        verdicts = [judged.verdict for _, _, judged in self._launches]
        if relation is not None:
            # Rules are about the case's own launch; that they have nothing to say of the others is
            # no want.
            verdicts = [verdicts[0], *(each for each in verdicts[1:] if each != "unchecked")]
        found.verdict = _with_compared(worst_of(verdicts), compared)
        found.seconds = round(sum(each.seconds for _, each, _ in self._launches), 6)
        results = [
            (number, each)
            for number, (_, _, judged) in enumerate(self._launches, 1)
            for each in judged.aspects
        ]
        found.aspects = [
            structs.replace(aspect_record(each), step=step) for step, each in (*results, *compared)
        ]
        found.steps = [
            StepRecord(argv=words, launcher=launcher, verdict=judged.verdict, **_observed(each, floor))
            for (words, each, judged), launcher in zip(self._launches, self._launchers, strict=True)
        ]
        return found


def _without_varying_files(first: Outcome, again: Outcome, outcomes: Sequence[Outcome]) -> Iterator[str]:
    """Yield the names of the files in which two launches of one vector left other contents; they
    count as the same in all outcomes, as long as they are there. So do files that have another name
    each time, as long as there are as many."""
    for name in sorted({*first.state} & {*again.state}):
        if first.state[name] != again.state[name]:
            for outcome in outcomes:
                if name in outcome.state:
                    outcome.state[name] = (VARIES,)
            yield name
    # Files whose names are made up again each time: as many of them, and nothing is known of which.
    common = {*first.state} & {*again.state}
    counts = {len({*outcome.state} - common) for outcome in (*outcomes, again)}
    if len(counts) == 1 and counts != {0}:
        for outcome in outcomes:
            outcome.state = {name: outcome.state[name] for name in common & {*outcome.state}}
        yield "the names of files"


def _noted(outcome: Outcome, launches: Sequence[tuple[tuple[str, ...], Outcome, Judged]]) -> RecordFields:
    """Return which masks found something and what they made of the streams, and what is worth a
    word."""
    masks: set[int] = set()
    # ordered sets: each once, where it came first
    remarks: dict[str, None] = {}
    left_open: dict[str, None] = {}
    asked_nothing: dict[str, None] = {}
    for _, each, judged in launches:
        masks.update(each.masks_used)
        remarks.update(dict.fromkeys(judged.remarks))
        left_open.update(dict.fromkeys(judged.left_open))
        asked_nothing.update(dict.fromkeys(judged.asked_nothing))
    fields: RecordFields = {
        "masked": sorted(masks),
        "remarks": list(remarks),
        "left_open": tuple(left_open),
        "asked_nothing": tuple(asked_nothing),
    }
    for name, text in outcome.masked.items() if masks else ():
        if text != getattr(outcome, name):
            fields[f"{name}_masked"] = text.decode("utf-8", "backslashreplace")
    return fields


def _observed(outcome: Outcome, floor: int) -> RecordFields:
    """Return what an outcome says of its launch: the fields that a record and a step of one
    share."""
    fields: RecordFields = {
        "exit": outcome.exit,
        "signal": None if outcome.signal is None else signal_name(outcome.signal),
        "seconds": round(outcome.seconds, 6),
        "user_seconds": round(outcome.user_seconds, 6),
        "system_seconds": round(outcome.system_seconds, 6),
        "peak_bytes": outcome.peak_bytes,
        "files": outcome.files,
        **as_kept("stdout", outcome.stdout, outcome.stdout_bytes),
        **as_kept("stderr", outcome.stderr, outcome.stderr_bytes),
    }
    if outcome.peak_bytes is not None and outcome.peak_bytes <= floor:
        fields["peak_at_most"] = True
    if outcome.looked_at:
        fields["looked_at"] = {name: _looked(found) for name, found in outcome.looked_at.items()}
    # With one stream the order is that of its text.
    if outcome.stdout and outcome.stderr and outcome.arrivals:
        fields["arrivals"] = [
            (stream, size, round(at, 4)) for stream, size, at in outcome.arrivals[:MOST_ARRIVALS]
        ]
    if outcome.conversation:
        fields["dialogue"] = [
            (prompt.decode("utf-8", "replace"), reply.decode("utf-8", "replace"))
            for prompt, reply in outcome.conversation
        ]
    if outcome.feeders:
        fields["feeders"] = [
            FeederEnd(each.name, each.exit, None if each.signal is None else signal_name(each.signal))
            for each in outcome.feeders
        ]
    if outcome.leftovers:
        fields["leftovers"] = outcome.leftovers
    if outcome.stopped is not None:
        fields["stopped"] = signal_name(outcome.stopped)
    return fields


def _looked(found: Looked) -> LookedAt:
    return LookedAt(
        instead=found.instead, mode=found.mode, link=found.link, **as_kept("content", found.content)
    )


def outcome_of(launch: Record | StepRecord) -> Outcome:
    """Return the outcome of a launch as its record tells it: what is needed to ask expectations
    again."""
    stdout, stderr = kept_bytes(launch, "stdout"), kept_bytes(launch, "stderr")
    looked = {
        name: Looked(kept_bytes(each, "content"), each.instead, each.mode, each.link)
        for name, each in launch.looked_at.items()
    }
    return Outcome(
        exit=launch.exit,
        signal=None if launch.signal is None else signal_number(launch.signal),
        stdout=stdout,
        stderr=stderr,
        stdout_bytes=len(stdout),
        stderr_bytes=len(stderr),
        seconds=launch.seconds,
        peak_bytes=launch.peak_bytes,
        files=dict(launch.files),
        looked_at=looked,
        leftovers=list(launch.leftovers),
        stopped=None if launch.stopped is None else signal_number(launch.stopped),
    )


def _with_compared(verdict: Verdict, compared: Sequence[tuple[int, AspectResult]]) -> Verdict:
    """Return a verdict that also stands for how launches compared."""
    if not compared:
        return verdict
    if not all(each.met for _, each in compared):
        return worst_of([verdict, "failed"])
    return "passed" if verdict == "unchecked" else verdict


def _with_what_is_known(case: Case, record: Record) -> Record:
    """Return the record of a case with its verdict as it counts: what is known to differ does not,
    until the day that is set for it, and when it passes again that is worth a word.

    What is known is one verdict, or some aspects: a crash, or another aspect that differs, is news.
    """
    if case.said.hollow and record.verdict == "passed" and shows_only(record):
        record.verdict = "unchecked"
    if not case.said.known or case.said.known_until:
        return record
    said = case.said
    if record.verdict == said.known_verdict:
        names = {each.aspect for each in record.aspects if not each.met}
        if not said.known_aspects or names <= {*said.known_aspects}:
            record.verdict = "known"
    elif record.verdict == "passed":
        record.remarks = [*record.remarks, f"{MENDED} ({case.said.known})"]
    return record


MENDED = "a case marked as known passes now; remove the mark"


def skipped_record(case: Case, matrix: str) -> Record:
    """Return the record of a case that the spec says is not to be launched."""
    return Record(**described(case, matrix), verdict="skipped", seconds=0.0, aspects=[])


def groundless_record(case: Case, matrix: str) -> Record:
    """Return the record of a case that is not launched, since its control did not work."""
    control = AspectRecord(
        aspect="control", met=False, form="control", expected=shlex.join(case.control), actual=case.blocked
    )
    return Record(**described(case, matrix), verdict="blocked", seconds=0.0, aspects=[control])


@lru_cache(4096)
def _met(aspect: str, rule: str) -> AspectRecord:
    return AspectRecord(aspect=aspect, met=True, rule=rule)


def aspect_record(result: AspectResult) -> AspectRecord:
    """Return one aspect; what was expected and what was found is kept for those that are not
    met."""
    if result.met:
        return _met(result.aspect, result.rule)
    found = AspectRecord(aspect=result.aspect, met=False, rule=result.rule)
    mismatch = result.mismatch
    if mismatch is not None:
        found.form, found.problem = mismatch.form, mismatch.problem
        found.expected, found.actual = _shortened(mismatch.expected), _shortened(mismatch.actual)
        if mismatch.form in ("is", "lines", "stdout", "stderr"):
            found.difference = _difference(mismatch.expected, mismatch.actual)
        if mismatch.recorded is not None:
            for name, value in as_kept("recorded", mismatch.recorded).items():
                setattr(found, name, value)
    return found


def _difference(expected: str, actual: str) -> KeptDifference | None:
    """Return where two texts differ, when they are too long to be kept whole."""
    if max(len(expected), len(actual)) <= SHOWN_ACTUAL:
        return None
    from keen_matrix.core.expect.differences import difference

    found = difference(expected, actual)
    lines = [(line.kind, line.number, _shortened(line.text[:500])) for line in found.lines]
    return KeptDifference(lines, found.differing, found.of)


def _shortened(text: str) -> str:
    text = text.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
    return text if len(text) <= SHOWN_ACTUAL else text[:SHOWN_ACTUAL] + "…"
