"""What commands show, as JSON for other programs: one object a call, whose shape has a schema and a
version. `keen-matrix schema --of NAME` prints the schema.

A version changes when something is renamed, removed or means something else; fields may be added.
"""

from __future__ import annotations

import sys
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Literal

from keen_matrix.core import structs
from keen_matrix.core.structs import Struct, document_text, field
from keen_matrix.reports.call_documents import CallsDocument

if TYPE_CHECKING:
    from keen_matrix.core.errors import Problem
    from keen_matrix.core.insight.coverage import Coverage
    from keen_matrix.core.insight.doubt import Doubts
    from keen_matrix.core.insight.narrow import Narrowed
    from keen_matrix.core.insight.settling.settle import Settled
    from keen_matrix.core.insight.suspects import Suspect, Suspicion
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.results.compare import Change, Comparison
    from keen_matrix.core.results.history import History


def write_document(document: Struct) -> None:
    """Write a document to standard output."""
    sys.stdout.flush()
    sys.stdout.buffer.write(document_text(document))
    sys.stdout.buffer.flush()


# --- lint ---


class ProblemFound(Struct):
    """A problem of a spec. Lines and columns are counted from 1; 0 is a place that is not known."""

    path: str
    line: int
    column: int
    severity: Literal["error", "warning"]
    message: str
    expected: str | None
    suggestion: str | None


class LintDocument(Struct):
    """What lint found."""

    errors: int
    warnings: int
    specs: list[str]
    problems: list[ProblemFound]
    kind: Literal["lint"] = "lint"
    version: Literal[1] = 1


def lint_document(paths: Iterable[str], problems: Iterable[Problem]) -> LintDocument:
    """Return what lint found of some specs."""
    found = [
        ProblemFound(
            each.path, each.line, each.column, each.severity, each.message, each.expected, each.suggestion
        )
        for each in problems
    ]
    errors = sum(each.severity == "error" for each in found)
    return LintDocument(errors, len(found) - errors, list(paths), found)


# --- doubt ---


class DoubtMatrix(Struct):
    """How many alterations of a matrix's outcomes were noticed, by aspect."""

    matrix: str
    noticed: int
    tried: int
    #: Aspect → noticed, tried.
    aspects: dict[str, tuple[int, int]]


class WeakRule(Struct):
    """A rule, or an aspect that none looks at, under which alterations pass."""

    matrix: str
    aspect: str
    rule: str
    is_named: bool
    cases: list[str]
    #: What was altered → a case in which nothing noticed it.
    alterations: dict[str, str]
    #: An expectation that would notice it.
    suggestion: str


class DoubtSpec(Struct):
    """What was found of one spec."""

    spec: str
    percent: float | None
    noticed: int
    tried: int
    matrices: list[DoubtMatrix]
    weak: list[WeakRule]


class DoubtDocument(Struct):
    """What doubt found."""

    specs: list[DoubtSpec]
    kind: Literal["doubt"] = "doubt"
    version: Literal[1] = 1


def doubt_spec(path: str, doubts: Doubts) -> DoubtSpec:
    """Return what doubt found of one spec."""
    whole = doubts.whole
    return DoubtSpec(
        path,
        whole.percent,
        whole.noticed,
        whole.tried,
        [
            DoubtMatrix(
                name,
                doubts.of(name).noticed,
                doubts.of(name).tried,
                {aspect: (part.noticed, part.tried) for aspect, part in parts.items()},
            )
            for name, parts in doubts.scores.items()
        ],
        [
            WeakRule(
                each.matrix,
                each.aspect,
                each.rule,
                each.named,
                sorted(each.cases),
                each.alterations,
                each.closing,
            )
            for each in doubts.weaknesses.values()
        ],
    )


# --- suspects ---


class FeatureSet(Struct):
    """Features that go together with cases that failed."""

    features: list[str]
    fails: int
    holds: int


class CauseDocument(Struct):
    """A cause, and what explains as much."""

    suspect: FeatureSet
    rivals: list[FeatureSet]
    ids: list[str]
    example: list[str]


class SuspectPool(Struct):
    """Cases that can be compared with each other."""

    pool: str
    failing: int
    holding: int
    causes: list[CauseDocument]
    unexplained: list[str]
    #: Further vectors that were launched to tell rivals apart.
    confirmed_by: int = 0


class SuspectSpec(Struct):
    """What was found of one spec."""

    spec: str
    pools: list[SuspectPool]


class SuspectsDocument(Struct):
    """What suspects found."""

    specs: list[SuspectSpec]
    kind: Literal["suspects"] = "suspects"
    version: Literal[1] = 1


def suspect_pool(found: Suspicion, launched: int = 0) -> SuspectPool:
    """Return what was found in one pool."""
    return SuspectPool(
        found.pool,
        found.failing,
        found.holding,
        [
            CauseDocument(
                _features(each.suspect), list(map(_features, each.rivals)), each.ids, list(each.example)
            )
            for each in found.causes
        ],
        found.unexplained,
        launched,
    )


def _features(suspect: Suspect) -> FeatureSet:
    return FeatureSet(list(map(str, suspect.features)), suspect.fails, suspect.holds)


# --- narrow ---


class NarrowStepDocument(Struct):
    """A step on the way to the smallest vector."""

    what: str
    argv: list[str]


class NarrowedCase(Struct):
    """A vector that failed, made as small as it can be."""

    spec: str
    matrix: str
    id: str
    argv: list[str]
    narrowed: list[str]
    verdict: str
    steps: list[NarrowStepDocument]
    notes: list[str]
    launches: int
    #: Whether the limit of launches ended it.
    is_stopped: bool
    #: Lines of a matrix that keeps it.
    block: list[str]


class NarrowDocument(Struct):
    """What narrow found."""

    cases: list[NarrowedCase]
    kind: Literal["narrow"] = "narrow"
    version: Literal[1] = 1


def narrowed_case(spec: str, case: Case, found: Narrowed, block: list[str]) -> NarrowedCase:
    """Return one narrowed vector."""
    return NarrowedCase(
        spec,
        found.matrix.name,
        case.id,
        list(case.argv),
        list(found.case.argv),
        found.fields.verdict,
        [NarrowStepDocument(each.what, list(each.words)) for each in found.steps],
        found.notes,
        found.launches,
        found.stopped,
        block,
    )


# --- places ---


class FoundPlace(Struct):
    """A line, and how well it explains that vectors failed."""

    file: str
    line: int
    #: The last of the lines from there on of which the very same is so.
    last: int
    text: str
    score: float
    why: Literal["runs", "decides", "skipped"]
    #: Traced vectors that failed of which this is so.
    failing: int
    holding: int
    #: The id of one of them.
    example: str


class FoundParting(Struct):
    """Where a vector that failed leaves the way of one that did."""

    id: str
    other: str
    #: `FILE:LINE` of the last line of the common way.
    last: str | None
    next: str | None
    instead: str | None


class FoundUnreached(Struct):
    """Lines that no traced vector runs."""

    file: str
    first: int
    last: int
    text: str
    condition: str
    #: A vector that may reach them.
    argv: list[str] | None


class PlacesCause(Struct):
    """Vectors that went wrong in the same way, and the lines that explain it."""

    failing: int
    holding: int
    example: str | None
    #: Whether any line tells them from those that passed.
    separates: bool
    #: Whether a second measure has the same line first.
    measures_agree: bool
    #: The most suspicious first.
    places: list[FoundPlace]


class PlacesSpec(Struct):
    """What was found of one spec."""

    spec: str
    runtime: str
    #: Vectors that failed and were traced.
    failing: int
    holding: int
    #: Ids of vectors that gave another result under tracing, and are left out.
    traced_differently: list[str]
    untraced: list[str]
    left: int
    causes: list[PlacesCause]
    branch_points: list[FoundParting]
    unreached: list[FoundUnreached]


class PlacesDocument(Struct):
    """What places found."""

    specs: list[PlacesSpec]
    kind: Literal["places"] = "places"
    version: Literal[1] = 1


# --- coverage ---


class CoveragePartDocument(Struct):
    """Something that vectors reach or miss: options, values, refusals, combinations."""

    name: str
    reached: int
    total: int
    percent: float | None
    missing: list[str]
    #: Lines that would add what is missing.
    suggestions: list[str]


class CoverageSpec(Struct):
    """What the vectors of one spec reach."""

    spec: str
    #: None of a spec with nothing to measure, or whose vectors depend on its oracle file.
    percent: float | None
    parts: list[CoveragePartDocument]
    unlisted: list[str]
    #: Matrix → aspect → cases in which it is checked.
    aspects: dict[str, dict[str, int]]
    cases: dict[str, int]
    is_counted: bool = True
    #: Lines of the program that its vectors run, where `places` was asked of the last run.
    lines: CoveragePartDocument | None = None


class CoverageDocument(Struct):
    """What coverage found."""

    specs: list[CoverageSpec]
    kind: Literal["coverage"] = "coverage"
    version: Literal[1] = 1


def coverage_spec(path: str, found: Coverage | None) -> CoverageSpec:
    """Return what coverage found of one spec; nothing of one that could not be counted."""
    if found is None:
        return CoverageSpec(path, None, [], [], {}, {}, is_counted=False)
    parts = [
        CoveragePartDocument(each.name, each.reached, each.total, each.percent, each.missing, each.closing)
        for each in found.parts
    ]
    return CoverageSpec(path, found.percent, parts, found.unlisted, found.aspects, found.cases)


# --- compare ---


class ChangeFound(Struct):
    """What became of one case."""

    id: str
    matrix: str
    argv: list[str]
    before: str
    after: str
    difference: str


class CompareDocument(Struct):
    """What differs between two runs."""

    both: int
    #: Median of later / earlier seconds.
    time_ratio: float | None
    counts: dict[str, int]
    #: Kind of change → the first cases; `counts` has how many there are.
    changes: dict[str, list[ChangeFound]]
    #: Cases that passed before and have no result in the later run.
    lost: int
    kind: Literal["compare"] = "compare"
    version: Literal[1] = 1


def compare_document(found: Comparison) -> CompareDocument:
    """Return what differs between two runs."""
    return CompareDocument(
        found.both,
        found.pace,
        found.counts,
        {kind: list(map(_change, changes)) for kind, changes in found.changes.items()},
        found.lost,
    )


def _change(each: Change) -> ChangeFound:
    return ChangeFound(each.id, each.matrix, list(each.argv), each.before, each.after, each.difference)


# --- history ---


class PastRun(Struct):
    """A run of a spec."""

    spec: str
    started: str
    seconds: float
    is_part: bool
    counts: dict[str, int]
    journal: str


class UnsteadyCase(Struct):
    """A case whose verdict changed while spec and program stayed."""

    id: str
    matrix: str
    spec: str
    changes: int
    verdicts: list[str]


class SlowCase(Struct):
    """A case, and its mean seconds."""

    id: str
    matrix: str
    spec: str
    seconds: float
    runs: int


class TrendPoint(Struct):
    """The result of a case in one run. `digest` is of the spec and the program."""

    spec: str
    started: str
    id: str
    matrix: str
    verdict: str
    seconds: float
    digest: str


class HistoryDocument(Struct):
    """What the history has: of all cases, or the trend of those that were asked for."""

    runs: list[PastRun]
    flaky: list[UnsteadyCase]
    slowest: list[SlowCase]
    trend: list[TrendPoint]
    kind: Literal["history"] = "history"
    version: Literal[1] = 1


def history_document(history: History, ids: Iterable[str]) -> HistoryDocument:
    """Return what the history has."""
    asked = list(ids)
    trend = [TrendPoint(*row) for id in asked for row in history.trend(id)]
    if asked:
        return HistoryDocument([], [], [], trend)
    return HistoryDocument(
        [
            PastRun(each.spec, each.started, each.seconds, bool(each.part), dict(each.counts), each.journal)
            for each in history.runs()
        ],
        [
            UnsteadyCase(id, matrix, spec, changes, verdicts)
            for id, matrix, spec, changes, verdicts in history.flaky()
        ],
        [SlowCase(id, matrix, spec, seconds, runs) for spec, id, matrix, seconds, runs in history.slowest()],
        [],
    )


# --- settle ---


class EvidenceDocument(Struct):
    """A call that was made, and its result."""

    argv: list[str]
    result: str


class FindingFound(Struct):
    """A finding: a change of the spec, a note, or a likely bug of the program."""

    sort: Literal["change", "note", "defect"] = field(name="class")
    text: str
    evidence: list[EvidenceDocument]


class SettleSpec(Struct):
    """What was found out of one spec."""

    spec: str
    findings: list[FindingFound]
    #: The change of the spec, as a unified difference.
    difference: list[str]
    launches: int
    is_stopped: bool
    is_interrupted: bool
    is_written: bool
    #: What of the accepted launches shows nothing of the program at work.
    hollow: list[str]


class SettleDocument(Struct):
    """What settle found."""

    specs: list[SettleSpec]
    kind: Literal["settle"] = "settle"
    version: Literal[1] = 1


def settle_spec(path: str, found: Settled, *, is_written: bool) -> SettleSpec:
    """Return what was found out of one spec."""
    findings = [
        FindingFound(
            each.weight, each.text, [EvidenceDocument(list(one.words), one.came) for one in each.shown]
        )
        for each in found.findings
    ]
    return SettleSpec(
        path,
        findings,
        found.difference(path),
        found.launches,
        found.is_stopped,
        found.is_interrupted,
        is_written,
        list(found.hollow),
    )


#: Command → what `--format json` writes.
DOCUMENTS: Mapping[str, type[Struct]] = {
    "calls": CallsDocument,
    "lint": LintDocument,
    "doubt": DoubtDocument,
    "suspects": SuspectsDocument,
    "narrow": NarrowDocument,
    "places": PlacesDocument,
    "coverage": CoverageDocument,
    "compare": CompareDocument,
    "history": HistoryDocument,
    "settle": SettleDocument,
}


def schema_of(name: str) -> Mapping[str, object]:
    """Return the JSON Schema (2020-12) of a document, or of a line of the journal or of unfold."""
    from keen_matrix.core.model.record import CaseFields, Finished, Header, Record

    lines = {"journal": (Header, Record, Finished), "case": (CaseFields,)}
    found, parts = structs.json.schema_components(
        lines.get(name) or (DOCUMENTS[name],), ref_template="#/$defs/{name}"
    )
    schema = found[0] if len(found) == 1 else {"anyOf": list(found)}
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema, "$defs": parts}
