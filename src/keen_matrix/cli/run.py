"""`keen-matrix run`: unfold, launch, check, report."""

from __future__ import annotations

import argparse
import os
import signal
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from keen_matrix.cli.launching import early_workers
from keen_matrix.cli.report import report_target
from keen_matrix.cli.shared import (
    adaptation_of,
    add_selection_options,
    add_spec_options,
    integer,
    percent,
    spec_paths,
    split_ids,
    tags_of,
    whole_number,
)
from keen_matrix.cli.statuses import (
    EXIT_BUDGET,
    EXIT_FAILED,
    EXIT_INTERRUPTED,
    EXIT_MISUSE,
    EXIT_NOT_RUN,
    EXIT_OK,
    worst_status,
)
from keen_matrix.core import interruption
from keen_matrix.core.errors import KeenMatrixError, Misuse
from keen_matrix.core.launch.workers.links import default_jobs
from keen_matrix.core.model.record import PASSING, VERDICTS
from keen_matrix.core.results.journal import DEFAULT_JOURNAL
from keen_matrix.core.runs.options import ORDERS, CaseChoice, Launching, Ordering, RunOptions
from keen_matrix.core.structs import replace

if TYPE_CHECKING:
    from keen_matrix.cli.watching import Round
    from keen_matrix.core.launch.workers.links import WorkerSet
    from keen_matrix.core.runs.state import RunResult

EPILOG = f"""\
examples:
  keen-matrix run                                every spec in or below this directory
  keen-matrix run fare.matrix.toml --only fares  one matrix of one spec
  keen-matrix run k3f9x2 --all                   one case, with everything it printed

Results are written to {DEFAULT_JOURNAL}, one line for each case as it finishes.
exit status: 0 everything passed (known and skipped cases aside), 1 something failed, 2 wrong usage or a wrong spec, 3 nothing
could be run, 4 everything that was run passed, but the budget did not suffice for the rest, 130 interrupted
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_spec_options(parser, ids="the beginnings of the ids of cases, and only those are run")
    _add_choice(parser.add_argument_group("which cases"))
    how = parser.add_argument_group("how they are run")
    _add_launching(how)
    _add_order(how)
    _add_output(parser.add_argument_group("output"))


def _add_choice(choice: argparse._ArgumentGroup) -> None:
    add_selection_options(choice)
    choice.add_argument(
        "--failed", action="store_true", help="only those that failed last time (by the journal)"
    )
    choice.add_argument(
        "--changed",
        action="store_true",
        help="run only cases that failed last time or whose inputs changed since; reuse the recorded "
        "result of all others",
    )
    choice.add_argument(
        "--shard",
        type=_shard,
        metavar="K/N",
        help="only part K of N; the parts do not overlap, and together they are all cases",
    )
    choice.add_argument(
        "--limit", type=whole_number, metavar="N", help="allow up to N cases in a matrix (default 100,000)"
    )
    choice.add_argument(
        "--seed", type=integer, metavar="N", help="combine with this seed instead of the spec's"
    )


def _add_launching(how: argparse._ArgumentGroup) -> None:
    how.add_argument(
        "-j", "--jobs", type=whole_number, metavar="N", help="launches at a time (default: the processors)"
    )
    how.add_argument(
        "--launcher", metavar="NAME", help="start the program in another way that the spec names"
    )
    how.add_argument(
        "--program",
        metavar="WORDS",
        help="start another build of the program; {here} is the directory of the spec",
    )
    how.add_argument(
        "--repeat",
        type=whole_number,
        default=1,
        metavar="N",
        help="run each case N times; it is flaky if the results differ",
    )
    _add_warmth(how)
    how.add_argument(
        "--cluster", metavar="ADDRESS", help="run on a Dask cluster: the address of its scheduler, or local"
    )
    how.add_argument(
        "--cluster-shared", action="store_true", help="its workers see the same files: send no archive"
    )


def _add_warmth(how: argparse._ArgumentGroup) -> None:
    warmth = how.add_mutually_exclusive_group()
    warmth.add_argument(
        "--warm",
        action="store_true",
        default=None,
        help="fork each Python run from a preloaded interpreter, which is faster (default: automatic, "
        "after a sample gave the same results both ways)",
    )
    warmth.add_argument(
        "--cold",
        action="store_false",
        dest="warm",
        help="start a new interpreter each time, whatever the spec says",
    )
    how.add_argument(
        "--warm-check",
        type=percent,
        metavar="PERCENT",
        help="percent of the cases to run both ways first (default 5, at least 5 cases; 0 for none)",
    )


def _add_order(how: argparse._ArgumentGroup) -> None:
    how.add_argument(
        "--order",
        choices=ORDERS,
        metavar="ORDER",
        help="failed: first the cases that failed last time; new: what covers most first (failed and "
        "new cases, each kind of refusal, then most pairs a second); quick: slow cases last",
    )
    how.add_argument(
        "--budget",
        type=_budget,
        metavar="TIME",
        help='--order new, and stop in time: "30 s", "5 min"; exit status 4 when it did not suffice',
    )
    how.add_argument("--stop-after", type=whole_number, metavar="N", help="stop once N cases failed")
    how.add_argument(
        "--watch",
        action="store_true",
        help="run again on every change of program, spec or data: failed cases first, and only what "
        "has changed",
    )
    how.add_argument(
        "--notify",
        metavar="COMMAND",
        help="with --watch: run this after each round, its summary as one more word",
    )
    how.add_argument(
        "--resume", action="store_true", help="go on with the run in the journal where it was broken off"
    )


def _add_output(output: argparse._ArgumentGroup) -> None:
    output.add_argument(
        "--journal",
        metavar="FILE",
        default=DEFAULT_JOURNAL,
        help=f"the journal to write (default {DEFAULT_JOURNAL})",
    )
    output.add_argument(
        "--keep-directories",
        action="store_true",
        help="keep the directories of cases that failed, and say where",
    )
    output.add_argument("--live", action="store_true", help="show what the programs print while they run")
    output.add_argument(
        "--report",
        action="append",
        default=[],
        type=report_target,
        metavar="FORMAT=FILE",
        help="also write a report (see keen-matrix report); repeatable",
    )
    output.add_argument(
        "--grid",
        action="store_true",
        help="show passed and failed cases as a grid of two axes for each matrix",
    )
    output.add_argument(
        "--by",
        metavar="AXIS,AXIS",
        help="the axes of the grids (default: the two that separate failed from passed cases best)",
    )
    amount = output.add_mutually_exclusive_group()
    amount.add_argument("-q", "--quiet", action="store_true", help="only the summary line")
    amount.add_argument("--brief", action="store_true", help="only a line per matrix and the summary")
    amount.add_argument(
        "-v", "--verbose", action="store_true", help="also a line for each case, passed ones too"
    )
    amount.add_argument(
        "--all", action="store_true", help="list everything: each failed case in full, with all its output"
    )


def _shard(text: str) -> tuple[int, int]:
    part, slash, parts = text.partition("/")
    if not (slash and part.isdecimal() and parts.isdecimal() and 1 <= int(part) <= int(parts)):
        raise argparse.ArgumentTypeError(f"expected a part such as 2/5, found {text!r}")
    return int(part), int(parts)


def _budget(text: str) -> float:
    from keen_matrix.core.results.budget import parse_budget

    try:
        return parse_budget(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{error}, found {text!r}") from None


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    ids, options.specs = split_ids(options.specs)
    options.only += ids
    paths = spec_paths(options.specs)
    # Before anything is checked, since it may set what excludes another option.
    take_project_defaults(options, paths)
    jobs = options.jobs or default_jobs()
    _refuse_together(options)
    if options.watch:
        from keen_matrix.cli.watching import watch

        return watch(options, paths, lambda asked: _guarded_round(options, paths, jobs, asked))
    with early_workers(jobs) as workers:
        return _run(options, paths, jobs, workers)


def _refuse_together(options: argparse.Namespace) -> None:
    """Raise Misuse for options that exclude each other."""
    if options.notify and not options.watch:
        raise Misuse("--notify goes with --watch only")
    if options.cluster_shared and not options.cluster:
        raise Misuse("--cluster-shared goes with --cluster only")
    if options.warm_check is not None and options.warm is False:
        raise Misuse("--warm-check does not go with --cold: nothing is forked")
    if options.budget is not None and options.order in ("failed", "quick"):
        raise Misuse(f"--budget has its own order, new; it does not go with --order {options.order}")
    if options.changed and options.resume:
        raise Misuse("--changed does not go with --resume; give one of them")
    for name in ("failed", "budget", "cluster", "resume", "keep-directories", "shard"):
        if options.watch and getattr(options, name.replace("-", "_")):
            raise Misuse(f"--watch does not go with --{name}; give one of them")


def _guarded_round(options: argparse.Namespace, paths: Sequence[str], jobs: int, asked: Round) -> int:
    """Run one round of --watch, and return its exit status; what is wrong with it is reported."""
    from keen_matrix.cli.console.screen import Screen

    interruption.hear((signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGQUIT))
    with early_workers(jobs) as workers:
        try:
            return _round(options, paths, jobs, asked, workers)
        except KeenMatrixError as fault:
            from keen_matrix.cli.shared import remark

            screen = Screen(sys.stdout, color=options.color)
            screen.flush()
            remark(str(fault))
            return EXIT_MISUSE


def _round(
    options: argparse.Namespace, paths: Sequence[str], jobs: int, asked: Round, workers: WorkerSet
) -> int:
    from keen_matrix.cli.console.round_report import RoundReport, RoundScreen, notify, write_beginning
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.results.journal import Journal
    from keen_matrix.core.runs.run import run_prepared
    from keen_matrix.core.runs.starting.preparing import load_ahead

    # Before it is told to begin: the change that it waits for finds it ready.
    load_ahead(paths, options.limit)
    begun = asked.begins()
    if begun is None:
        return EXIT_OK
    wanted = run_options(options, jobs)
    ordered = wanted.ordering
    # What failed comes first, and who watches sees it at once.
    if ordered.by is None:
        ordered = replace(ordered, by="new")
    wanted = replace(wanted, ordering=ordered, changed=not begun.everything)
    screen = Screen(sys.stdout, color=options.color)
    write_beginning(screen, asked, begun)
    with Journal(wanted.journal) as journal, WorkerPool(jobs, workers) as pool:
        watch = RoundScreen(screen, options, jobs, len(paths), asked)
        result = run_prepared(paths, wanted, pool, journal, watch)
        asked.tell(b"e")
        if result.is_interrupted:
            return EXIT_INTERRUPTED
        if result.counts:
            RoundReport(screen, options, jobs, journal).write_round(result, watch, asked, begun)
        screen.flush()
        if options.notify:
            notify(options.notify, result, jobs)
        return status_of(result)


def take_project_defaults(options: argparse.Namespace, paths: Sequence[str]) -> None:
    """Put what the project file of the first spec says in the place of options that are not given.
    Raises SpecFault or Misuse."""
    from keen_matrix.core.spec.project import has_project_file

    options.usual_warm = None
    directory = os.path.dirname(os.path.abspath(paths[0]))
    if not has_project_file(directory):
        return
    from keen_matrix.core.spec.including import run_defaults

    found = run_defaults(directory)
    options.jobs = options.jobs or found.jobs
    options.usual_warm = found.warm
    try:
        options.report = options.report or [report_target(each) for each in found.reports]
    except argparse.ArgumentTypeError as error:
        raise Misuse(f"reports in the project file: {error}") from None


def _run(options: argparse.Namespace, paths: Sequence[str], jobs: int, workers: WorkerSet) -> int:
    """Run specs with workers that have been started, and return the exit status."""
    from keen_matrix.cli.console.run_report import RunReport, RunScreen
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.results.journal import Journal
    from keen_matrix.core.runs.run import run_prepared

    asked = run_options(options, jobs)
    # A report on standard output has it to itself.
    to_stdout = any(file == "-" for _, file in options.report)
    screen = Screen(sys.stderr if to_stdout else sys.stdout, color=options.color)
    with Journal(asked.journal, keep=asked.resume) as journal, WorkerPool(jobs, workers) as pool:
        watch = RunScreen(screen, options, jobs, len(paths))
        result = run_prepared(paths, asked, pool, journal, watch)
        if result.nothing_failed:
            screen.line(("everything passed last time; there is nothing to run again", "good"))
        elif result.empty_shard:
            screen.line("shard {}/{} has no cases; its journal says so".format(*options.shard))
        elif result.counts or result.is_interrupted:
            RunReport(screen, options, jobs, journal).write(result)
        elif result.budgets:
            screen.line(("the budget was spent before the first launch", "bad"))
        for path in result.not_in_last_run:
            screen.line(("not in the last run, so not run now: ", "warn"), path)
        return status_of(result)


def run_options(options: argparse.Namespace, jobs: int) -> RunOptions:
    """Return what a command line asks of a run."""
    return RunOptions(
        journal=options.journal,
        launching=Launching(
            jobs=jobs,
            repeat=options.repeat,
            warm=options.warm,
            usual_warm=options.usual_warm,
            warm_check=5.0 if options.warm_check is None else options.warm_check,
            cluster=options.cluster,
            cluster_shared=options.cluster_shared,
            keep_directories=options.keep_directories,
            live=options.live,
        ),
        adaptation=adaptation_of(options),
        choice=CaseChoice(
            only=tuple(options.only),
            tags=tags_of(options),
            failed=options.failed,
            shard=options.shard,
            limit=options.limit,
        ),
        ordering=Ordering(
            by="new" if options.budget is not None else options.order,
            budget=options.budget,
            stop_after=options.stop_after,
        ),
        resume=options.resume,
        changed=options.changed,
        reports=tuple(file for _, file in options.report if file != "-"),
    )


def status_of(result: RunResult) -> int:
    """Return the exit status of a run: the worst of what its specs came to."""
    from keen_matrix.core.errors import RunFault

    counts = result.counts
    statuses = [EXIT_NOT_RUN if isinstance(fault, RunFault) else EXIT_MISUSE for fault in result.faults]
    if result.is_interrupted:
        statuses.append(EXIT_INTERRUPTED)
    # That nothing could be launched, or everything was skipped, is no verdict on the program.
    elif counts and counts["not-started"] + counts["skipped"] == counts.total():
        statuses.append(EXIT_NOT_RUN)
    elif any(counts[verdict] for verdict in VERDICTS if verdict not in PASSING):
        statuses.append(EXIT_FAILED)
    elif any(each.left for each in result.budgets):
        statuses.append(EXIT_BUDGET)
    return worst_status(statuses)
