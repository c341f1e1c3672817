"""`keen-matrix places`: the lines of a program that vectors run which failed, and others do
not."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from keen_matrix.cli.faults import one_by_one
from keen_matrix.cli.insight import runs_of, screen_of
from keen_matrix.cli.launching import early_pool
from keen_matrix.cli.shared import JSON, add_format, add_spec_options, remark, split_ids, whole_number
from keen_matrix.cli.statuses import EXIT_FAILED, EXIT_OK, worst_status
from keen_matrix.core.errors import RunFault
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.results.journal import DEFAULT_JOURNAL
from keen_matrix.core.runs.starting.directly import made_ready
from keen_matrix.core.runs.starting.once import used_by
from keen_matrix.wording.counts import counted

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.cli.documents import FoundParting, FoundPlace, FoundUnreached, PlacesCause, PlacesSpec
    from keen_matrix.core.insight.places.kept import KeptPlaces
    from keen_matrix.core.insight.places.ranking import Parting, RankedPlace, Ranking
    from keen_matrix.core.insight.places.trace import Place
    from keen_matrix.core.insight.places.tracers.base import Tracer
    from keen_matrix.core.insight.places.tracing import Traces
    from keen_matrix.core.insight.places.unreached import Unreached
    from keen_matrix.core.launch.launchers import ResolvedLaunch
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.model.record import Record
    from keen_matrix.core.model.spec import Spec

EPILOG = """\
examples:
  keen-matrix run
  keen-matrix places                 the source lines that go with the failures of the last run
  keen-matrix places k3f9x2          and where this case branches off from one that passed

Cases are run again under the tracer of the program's language: Python, node, sh and bash, Perl, Go built with
-cover, C and C++ compiled with --coverage. The program itself is not changed.
exit status: 0 everything passed, 1 something failed, 2 wrong usage or a wrong spec, 3 no journal, or no case could be
traced, 130 interrupted: what was found so far is shown
"""
FIRST = 3


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_spec_options(parser, ids="the beginnings of the ids of cases that failed (default: all)")
    parser.add_argument(
        "--journal",
        metavar="FILE",
        default=DEFAULT_JOURNAL,
        help="the journal to read (default: that of the last run)",
    )
    parser.add_argument(
        "--cases",
        type=whole_number,
        default=400,
        metavar="N",
        help="the most cases of a spec to trace (default 400)",
    )
    parser.add_argument(
        "--first",
        type=whole_number,
        default=FIRST,
        metavar="N",
        help=f"places that are shown (default {FIRST})",
    )
    add_format(parser)


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    with early_pool() as pool:
        return _places(options, pool)


def _places(options: argparse.Namespace, pool: WorkerPool) -> int:
    from keen_matrix.cli.documents import PlacesDocument, write_document

    screen = screen_of(options)
    ids, options.specs = split_ids(options.specs)
    runs = {spec.path: (spec, records) for spec, records in runs_of(options, screen)}
    tracing = _Tracing(options, pool, screen, ids)
    statuses = one_by_one(list(runs), lambda path: tracing.of_spec(*runs[path]), options)
    for text in tracing.refused:
        remark(text)
    if tracing.is_json:
        write_document(PlacesDocument(tracing.document))
    status = worst_status(statuses)
    if tracing.seen or status not in (EXIT_OK, EXIT_FAILED):
        return status
    if ids and not tracing.refused:
        asked = " or ".join(ids)
        raise RunFault(f"no case that failed and is one launch has an id that begins with {asked}")
    raise RunFault("no case could be traced to source lines")


class _Tracing:
    """Cases that are launched with their lines told, and what is written of them."""

    def __init__(
        self, options: argparse.Namespace, pool: WorkerPool, screen: Screen, ids: Sequence[str]
    ) -> None:
        self._options, self._pool, self._screen, self._ids = options, pool, screen, ids
        self.is_json = options.format == JSON
        self.document: list[PlacesSpec] = []
        #: Why specs could not be traced.
        self.refused: list[str] = []
        #: Cases that told lines.
        self.seen = 0

    def of_spec(self, spec: Spec, records: Mapping[str, Record]) -> int:
        """Trace the cases of one spec, and return the status that this comes to."""
        from keen_matrix.core.insight.places.tracers import tracer_of
        from keen_matrix.core.insight.places.tracing import traceable

        spec = made_ready(spec, remark)
        launch = resolved_launch(spec)
        tracer = tracer_of(launch)
        why = f"no tracer knows {launch.words[0]}" if tracer is None else tracer.missing(launch)
        if tracer is None or why:
            self.refused.append(f"{spec.path}: {why}")
            return EXIT_OK
        cases = traceable(spec, records, self._ids)
        if self._ids and all(records[case.id].verdict == "passed" for case in cases):
            return EXIT_OK  # of those that are asked for it has none
        evidence = self._evidence(spec, launch, tracer, cases, records)
        causes = self._write(spec, tracer.name, evidence)
        if evidence.is_interrupted:
            raise KeyboardInterrupt
        return EXIT_FAILED if causes else EXIT_OK

    def _evidence(
        self,
        spec: Spec,
        launch: ResolvedLaunch,
        tracer: Tracer,
        cases: Sequence[Case],
        records: Mapping[str, Record],
    ) -> Traces:
        from keen_matrix.core.doing import doing
        from keen_matrix.core.insight.places.tracing import Following, chosen

        some = chosen(cases, records, self._options.cases)
        with (
            used_by(spec, self._pool, remark),
            doing(f"following {spec.path}") as told,
            Following(spec, launch, tracer, told.told) as following,
        ):
            evidence = following.evidence(self._pool, some, records)
        evidence.left += len(cases) - len(some)
        self.seen += len(evidence.runs)
        return evidence

    def _write(self, spec: Spec, tracer: str, evidence: Traces) -> list[Ranking]:
        """Write what was found of one spec and keep it; return the causes."""
        from keen_matrix.core.insight.places.kept import keep_places
        from keen_matrix.core.insight.places.ranking import ranked_causes
        from keen_matrix.core.insight.places.unreached import unreached

        causes = ranked_causes(evidence.runs)
        # of some cases alone it cannot be said what no case reaches
        is_whole = not self._ids and not evidence.is_interrupted
        never = unreached(spec, evidence.runs) if is_whole else []
        if self.is_json:
            self.document.append(_document(spec, tracer, evidence, causes, never))
        else:
            found = (evidence, causes, never)
            _write(self._screen, spec, found, self._options.first, with_ways=bool(self._ids))
        if is_whole:
            kept = _kept(spec, self._options.journal, evidence, causes, never)
            try:
                keep_places(self._options.journal, spec.path, kept)
            except OSError as error:  # it is shown; only other commands do not know of it
                remark(f"the findings cannot be cached for reports and coverage: {error.strerror}")
        return causes


def _write(
    screen: Screen,
    spec: Spec,
    found: tuple[Traces, list[Ranking], list[Unreached]],
    first: int,
    *,
    with_ways: bool,
) -> None:
    """Write what was found of one spec."""
    from keen_matrix.cli.console.places import MOST_PARTINGS, PlacesView, partings_of

    evidence, causes, never = found
    view = PlacesView(screen, evidence, spec.here)
    failing = sum(run.failed for run in evidence.runs)
    screen.line(
        (spec.path, "strong"),
        f"   traced {failing:,} that failed and {len(evidence.runs) - failing:,} that passed",
    )
    for count, what in (
        (len(evidence.otherwise), "left out: the result changed under tracing"),
        (len(evidence.silent), "no line of the program's own files was reported"),
        (evidence.left, f"not launched ({'interrupted' if evidence.is_interrupted else '--launches'})"),
    ):
        if count:
            screen.line("  ", (f"{counted(count, 'case')} {what}", "warn"))
    screen.line()
    view.write_causes(causes, first)
    if evidence.is_interrupted and not with_ways:
        return
    if with_ways:
        for each in partings_of(evidence.runs)[:MOST_PARTINGS]:
            screen.line()
            view.write_parting(each)
        return
    screen.line()
    view.write_unreached(never)


def _document(
    spec: Spec, runtime: str, evidence: Traces, causes: list[Ranking], never: list[Unreached]
) -> PlacesSpec:
    """Return what was found of one spec, for programs."""
    from keen_matrix.cli.console.places import partings_of
    from keen_matrix.cli.documents import PlacesSpec

    made = _Documents(spec, evidence)
    failing = sum(run.failed for run in evidence.runs)
    return PlacesSpec(
        spec.path,
        runtime,
        failing,
        len(evidence.runs) - failing,
        evidence.otherwise,
        evidence.silent,
        evidence.left,
        list(map(made.cause, causes)),
        list(map(made.parting, partings_of(evidence.runs))),
        list(map(made.unreached, never)),
    )


class _Documents:
    """What was found, as values for programs."""

    def __init__(self, spec: Spec, evidence: Traces) -> None:
        from keen_matrix.cli.console.places import PlacesView
        from keen_matrix.cli.console.screen import Screen

        self._view = PlacesView(Screen(sys.stderr), evidence, spec.here)

    def _where(self, place: Place | None) -> str | None:
        return None if place is None else f"{self._view.name_of(place.file)}:{place.line}"

    def _place(self, each: RankedPlace) -> FoundPlace:
        from keen_matrix.cli.documents import FoundPlace

        place = each.place
        name, text = self._view.name_of(place.file), self._view.text_of(place).strip()
        counts = each.failing, each.holding, each.example.case.id
        return FoundPlace(name, place.line, each.last, text, round(each.score, 4), each.why, *counts)

    def parting(self, each: Parting) -> FoundParting:
        """Return where a failing case parts from one that passed."""
        from keen_matrix.cli.documents import FoundParting

        ids = (each.failing.case.id, each.holding.case.id)
        return FoundParting(*ids, *map(self._where, (each.last, each.next, each.instead)))

    def cause(self, each: Ranking) -> PlacesCause:
        """Return the places of one cause."""
        from keen_matrix.cli.documents import PlacesCause

        example = None if each.example is None else each.example.case.id
        places = list(map(self._place, each.places[:MOST_KEPT]))
        return PlacesCause(each.failing, each.holding, example, each.separates, each.measures_agree, places)

    def unreached(self, each: Unreached) -> FoundUnreached:
        """Return lines that no case reaches."""
        from keen_matrix.cli.documents import FoundUnreached

        name, words = self._view.name_of(each.file), None if each.words is None else list(each.words)
        return FoundUnreached(name, each.first, each.last, each.text, each.condition, words)


MOST_KEPT = 20


def _kept(
    spec: Spec, journal: str, evidence: Traces, causes: list[Ranking], never: list[Unreached]
) -> KeptPlaces:
    """Return what other commands tell of it."""
    from keen_matrix.cli.console.places import PlacesView
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.insight.places.kept import KeptPlace, KeptPlaces
    from keen_matrix.core.insight.places.unreached import reached_and_all
    from keen_matrix.core.results.reading import headers_of

    view = PlacesView(Screen(sys.stderr), evidence, spec.here)
    ran, every = reached_and_all(evidence.runs)
    telling = [each for cause in causes if cause.separates for each in cause.places[:MOST_KEPT]]
    best = {each.place: each for each in sorted(telling, key=lambda each: each.score)}
    order = sorted(best.values(), key=lambda each: -each.score)

    def kept_of(each: RankedPlace) -> KeptPlace:
        return KeptPlace(file=view.name_of(each.place.file), line=each.place.line, score=round(each.score, 4))

    by_case = {run.case.id: kept_of(each.places[0]) for each in causes if each.is_strong for run in each.runs}
    started = {os.path.abspath(each.spec): each.started for each in headers_of(journal)}
    parts = [f"{view.name_of(each.file)}:{each.first}  {each.text}" for each in never]
    return KeptPlaces(
        spec_digest=spec.digest,
        started=started.get(os.path.abspath(spec.path), ""),
        launched=len(evidence.runs),
        reached=len(ran),
        lines=len(every),
        unreached=parts,
        places=list(map(kept_of, order[:MOST_KEPT])),
        by_case=by_case,
    )
