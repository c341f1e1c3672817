"""`keen-matrix places`: the lines of a program that vectors run which did not hold, and others do
not."""

from __future__ import annotations

import argparse
import os
import sys
from typing import TYPE_CHECKING

from keen_matrix.cli.faults import one_by_one
from keen_matrix.cli.insight import runs_of, screen_of
from keen_matrix.cli.launching import early_pool
from keen_matrix.cli.shared import JSON, add_format, add_spec_options, remark, split_ids, whole_number
from keen_matrix.cli.statuses import EXIT_FAILED, EXIT_OK, worst_status
from keen_matrix.core.errors import RunFault
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.results.journal import DEFAULT_JOURNAL
from keen_matrix.core.runs.starting.once import used_by
from keen_matrix.wording.counts import counted

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.cli.documents import PlacesSpec
    from keen_matrix.core.insight.places.kept import KeptPlaces
    from keen_matrix.core.insight.places.ranking import Parting, RankedPlace, Ranking
    from keen_matrix.core.insight.places.trace import Place
    from keen_matrix.core.insight.places.tracing import Traces
    from keen_matrix.core.insight.places.unreached import Unreached
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.model.spec import Spec

EPILOG = """\
examples:
  keen-matrix run
  keen-matrix places                 the lines that go with what did not hold in the last run
  keen-matrix places k3f9x2          and where this case leaves the way of one that held

Cases are launched again, with the program's lines told by its own runtime: Python, node, sh and bash, Perl, Go that
was built with -cover, C and C++ that were compiled with --coverage. Nothing of the program is changed.
exit status: 0 everything held, 1 something did not, 2 wrong usage or a wrong spec, 3 no journal, or nothing can be told,
130 interrupted: what was found until then is shown
"""
FIRST = 3


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_spec_options(parser, ids="the beginnings of the ids of cases that did not hold (default: all)")
    parser.add_argument(
        "--journal", metavar="FILE", default=DEFAULT_JOURNAL, help="the run to look at (default: the last)"
    )
    parser.add_argument(
        "--launches",
        type=whole_number,
        default=400,
        metavar="N",
        help="cases of a spec that are launched (default 400)",
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
    from keen_matrix.cli.documents import PlacesDocument, PlacesSpec, write_document
    from keen_matrix.core.doing import doing
    from keen_matrix.core.insight.places.kept import keep_places
    from keen_matrix.core.insight.places.ranking import ranked_causes
    from keen_matrix.core.insight.places.tracers import tracer_of
    from keen_matrix.core.insight.places.tracing import Following, chosen, traceable
    from keen_matrix.core.insight.places.unreached import unreached

    screen = screen_of(options)
    is_json = options.format == JSON
    document, refused = list[PlacesSpec](), list[str]()
    seen = 0
    ids, options.specs = split_ids(options.specs)
    runs = {spec.path: (spec, records) for spec, records in runs_of(options, screen)}

    def follow(path: str) -> int:
        nonlocal seen
        spec, records = runs[path]
        launch = resolved_launch(spec)
        tracer = tracer_of(launch)
        why = f"no tracer knows {launch.words[0]}" if tracer is None else tracer.missing(launch)
        if tracer is None or why:
            refused.append(f"{spec.path}: {why}")
            return EXIT_OK
        cases = traceable(spec, records, ids)
        if ids and all(records[case.id].verdict == "held" for case in cases):
            return EXIT_OK  # of those that are asked for it has none
        some = chosen(cases, records, options.launches)
        with (
            used_by(spec, pool, remark),
            doing(f"following {spec.path}") as told,
            Following(spec, launch, tracer, told.told) as following,
        ):
            evidence = following.evidence(pool, some, records)
        evidence.left += len(cases) - len(some)
        causes = ranked_causes(evidence.runs)
        # of some cases alone it cannot be said what no vector reaches
        is_whole = not ids and not evidence.is_interrupted
        never = unreached(spec, evidence.runs) if is_whole else []
        seen += len(evidence.runs)
        if is_json:
            document.append(_document(spec, tracer.name, evidence, causes, never))
        else:
            _write(screen, spec, (evidence, causes, never), options.first, with_ways=bool(ids))
        if is_whole:
            found = _kept(spec, options.journal, evidence, causes, never)
            try:
                keep_places(options.journal, spec.path, found)
            except OSError as error:  # it is shown; only other commands do not know of it
                remark(f"what was found is not kept for reports and coverage: {error.strerror}")
        if evidence.is_interrupted:
            raise KeyboardInterrupt
        return EXIT_FAILED if causes else EXIT_OK

    statuses = one_by_one(list(runs), follow, options)
    for text in refused:
        remark(text)
    if is_json:
        write_document(PlacesDocument(document))
    status = worst_status(statuses)
    if not seen and status in (EXIT_OK, EXIT_FAILED):
        if ids and not refused:
            raise RunFault(
                f"no case that did not hold and is one launch has an id that begins with {' or '.join(ids)}"
            )
        raise RunFault("of no vector the lines are known")
    return status


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
        f"   traced {failing:,} that did not hold and {len(evidence.runs) - failing:,} that held",
    )
    for count, what in (
        (len(evidence.otherwise), "did otherwise when traced: left out"),
        (len(evidence.silent), "told no line of the program's own files"),
        (evidence.left, f"not launched ({'interrupted' if evidence.is_interrupted else '--launches'})"),
    ):
        if count:
            screen.line("  ", (f"{counted(count, 'vector')} {what}", "warn"))
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
    from keen_matrix.cli.console.places import PlacesView, partings_of
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.cli.documents import FoundParting, FoundPlace, FoundUnreached, PlacesCause, PlacesSpec

    view = PlacesView(Screen(sys.stderr), evidence, spec.here)

    def where(place: Place | None) -> str | None:
        return None if place is None else f"{view.name_of(place.file)}:{place.line}"

    def place_of(each: RankedPlace) -> FoundPlace:
        place = each.place
        text = view.text_of(place).strip()
        return FoundPlace(
            view.name_of(place.file),
            place.line,
            each.last,
            text,
            round(each.score, 4),
            each.why,
            each.failing,
            each.holding,
            each.example.case.id,
        )

    def parting_of(each: Parting) -> FoundParting:
        ids = (each.failing.case.id, each.holding.case.id)
        return FoundParting(*ids, where(each.last), where(each.next), where(each.instead))

    def cause_of(each: Ranking) -> PlacesCause:
        example = None if each.example is None else each.example.case.id
        return PlacesCause(
            each.failing,
            each.holding,
            example,
            each.is_telling,
            each.is_agreed,
            list(map(place_of, each.places[:MOST_KEPT])),
        )

    failing = sum(run.failed for run in evidence.runs)
    return PlacesSpec(
        spec.path,
        runtime,
        failing,
        len(evidence.runs) - failing,
        evidence.otherwise,
        evidence.silent,
        evidence.left,
        list(map(cause_of, causes)),
        list(map(parting_of, partings_of(evidence.runs))),
        [
            FoundUnreached(
                view.name_of(each.file),
                each.first,
                each.last,
                each.text,
                each.condition,
                None if each.words is None else list(each.words),
            )
            for each in never
        ],
    )


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
    telling = [each for cause in causes if cause.is_telling for each in cause.places[:MOST_KEPT]]
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
