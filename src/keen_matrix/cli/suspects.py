"""`keen-matrix suspects`: what the cases of a run that failed have in common."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from contextlib import nullcontext
from typing import TYPE_CHECKING

from keen_matrix.cli.faults import one_by_one
from keen_matrix.cli.insight import add_run_options, runs_of, screen_of
from keen_matrix.cli.launching import pool_if
from keen_matrix.cli.shared import JSON, add_format, whole_number
from keen_matrix.cli.statuses import EXIT_FAILED, EXIT_OK, worst_status
from keen_matrix.core import interruption, structs
from keen_matrix.core.model.record import Record
from keen_matrix.wording.counts import counted

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.cli.documents import SuspectPool
    from keen_matrix.core.insight.features import Observed
    from keen_matrix.core.insight.suspects import Suspicion
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.model.spec import Spec

EPILOG = """\
examples:
  keen-matrix run
  keen-matrix suspects                  the options, values and traits of words that go with the failures
  keen-matrix suspects --confirm 20     runs up to 20 more cases to decide between rival suspects

Nothing is run without --confirm.
exit status: 0 everything passed, 1 something failed, 2 wrong usage, 3 no journal, 130 interrupted
"""


#: Vectors launched before the suspects are asked again: what comes decides which to try next.
ROUND = 4


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_run_options(parser)
    parser.add_argument(
        "--confirm",
        type=whole_number,
        metavar="N",
        help="run up to N more cases to decide between rival suspects",
    )
    add_format(parser)


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.core.oracle import asking, forbidden

    with pool_if(options.confirm) as workers, nullcontext() if workers else asking(forbidden):
        return _told(screen_of(options), options, workers)


def _suspected(
    screen: Screen | None,
    confirming: Confirming,
    pool: str,
    cases: list[Observed],
    workers: WorkerPool | None,
) -> SuspectPool:
    """Return what is suspected in a pool of cases, written on a screen where there is one."""
    from keen_matrix.cli.documents import suspect_pool
    from keen_matrix.core.insight.suspects import suspects_of

    suspicion, launched = suspects_of(pool, cases), 0
    if screen is not None:
        write_suspicion(screen, suspicion)
    if workers is not None:
        suspicion = confirming.confirmed(cases, suspicion, workers)
        launched = confirming.launched
        if screen is not None:
            write_confirmed(screen, suspicion, launched)
    return suspect_pool(suspicion, launched)


def _told(screen: Screen, options: argparse.Namespace, workers: WorkerPool | None) -> int:
    from keen_matrix.cli.documents import SuspectsDocument, SuspectSpec, write_document

    is_json = options.format == JSON
    document: list[SuspectSpec] = []
    runs = {spec.path: (spec, records) for spec, records in runs_of(options, screen, _without_outputs)}

    def suspect(path: str) -> int:
        spec, records = runs[path]
        pools: list[SuspectPool] = []
        document.append(SuspectSpec(spec.path, pools))
        confirming = Confirming(spec, options.confirm or 0)
        if not is_json:
            screen.line((spec.path, "strong"))
        for pool, cases in pools_of(spec, records):
            if any(not case.passed for case in cases):
                shown = None if is_json else screen
                pools.append(_suspected(shown, confirming, pool, cases, workers))
            if confirming.is_interrupted:
                raise KeyboardInterrupt
        if not pools and not is_json:
            screen.line("  ", ("every case passed", "good"))
        return EXIT_FAILED if pools else EXIT_OK

    statuses = one_by_one(list(runs), suspect, options)
    if is_json:
        write_document(SuspectsDocument(document))
    return worst_status(statuses)


def _without_outputs(fields: Record) -> Record:
    """Return a record without what its launches printed and left: what they have in common is in
    their words, and of a large run the outputs fill the memory."""
    return structs.replace(
        fields,
        stdout=None,
        stdout_base64=None,
        stdout_masked=None,
        stderr=None,
        stderr_base64=None,
        stderr_masked=None,
        aspects=[],
        steps=[],
        files={},
        looked_at={},
        arrivals=[],
        dialogue=[],
        feeders=[],
    )


def pools_of(spec: Spec, records: dict[str, Record]) -> Iterator[tuple[str, list[Observed]]]:
    """Yield the cases that can be compared with each other: with a signature all that it accepts
    and all that it refuses; else, and where axes say more, those of each matrix."""
    from keen_matrix.core.insight.features import observe

    accepted: list[Observed] = []
    refused: list[Observed] = []
    alone: dict[str, list[Observed]] = {}
    for fields in records.values():
        signature = spec.signature
        if fields.verdict == "not-started":
            continue
        judgement = signature.judge(fields.argv) if signature is not None else None
        if judgement is None or fields.more_argv or judgement.status == "unspecified" or judgement.help:
            alone.setdefault(fields.matrix, []).append(observe(fields, None, None, with_values=True))
        else:
            case = observe(fields, signature, judgement, with_values=False)
            (refused if case.refused else accepted).append(case)
    if accepted:
        yield "accepted calls", accepted
    if refused:
        yield "refused calls", refused
    yield from alone.items()


def write_suspicion(screen: Screen, suspicion: Suspicion) -> None:
    """Write what was found in one pool."""
    from keen_matrix.core.insight.suspects import sentence
    from keen_matrix.wording.safe import shell_line

    screen.line()
    screen.line(
        "  ", (suspicion.pool, "strong"), f"   {suspicion.failing:,} failed, {suspicion.holding:,} passed"
    )
    for cause in suspicion.causes:
        screen.line("    ", (f"{cause.suspect.fails:>4}", "bad"), "  ", (str(cause.suspect), "strong"))
        screen.line("          ", sentence(cause, suspicion))
        screen.line(
            "          ", ("such as  ", "dim"), shell_line(cause.example), "   ", (cause.ids[0][:6], "place")
        )
        for rival in cause.rivals[:3]:
            screen.line("          ", ("or       ", "dim"), str(rival), ("   explains as much", "dim"))
    if suspicion.unexplained:
        ids = " ".join(each[:6] for each in suspicion.unexplained[:8])
        count = (f"{len(suspicion.unexplained):>4}", "bad")
        screen.line("    ", count, "  no set of up to three features explains  ", (ids, "place"))


class Confirming:
    """Launches further vectors of one spec on which rival suspects disagree."""

    def __init__(self, spec: Spec, most: int) -> None:
        from keen_matrix.core.doing import Doing
        from keen_matrix.core.insight.confirm import Candidates

        self.spec, self.most = spec, most
        #: In the pool that was looked at last.
        self.launched = 0
        self.is_interrupted = False
        self._told = Doing("confirming")
        self._candidates = Candidates(spec, lambda text: self._told.told(text))

    def confirmed(self, cases: list[Observed], suspicion: Suspicion, workers: WorkerPool) -> Suspicion:
        """Return what at most so many launches, a few at a time, leave of the rivals; an
        interruption ends them with what is known."""
        from keen_matrix.core.doing import doing
        from keen_matrix.core.insight.confirm import further_cases, observed_of
        from keen_matrix.core.insight.suspects import suspects_of

        every, self.launched = list(cases), 0
        try:
            with doing(f"telling suspects of {suspicion.pool} apart") as self._told:
                while self.launched < self.most:
                    room = min(ROUND, self.most - self.launched)
                    chosen = further_cases(self.spec, every, suspicion, self._candidates, room)
                    if not chosen:
                        break
                    self._told.told(f"{self.launched + len(chosen)} of {self.most} launches")
                    every += observed_of(workers, self.spec, chosen)
                    self.launched += len(chosen)
                    suspicion = suspects_of(suspicion.pool, every)
        except KeyboardInterrupt:
            interruption.begin_ending()
            self.is_interrupted = True
        return suspicion


def write_confirmed(screen: Screen, suspicion: Suspicion, launched: int) -> None:
    """Write what further launches left of the rivals."""
    screen.line()
    if not launched:
        screen.line("    ", ("no case of the signature or the matrices decides between the rivals", "dim"))
        return
    screen.line(f"  after {counted(launched, 'more case')}")
    write_suspicion(screen, suspicion)
