"""`keen-matrix run`: unfold, launch, check, report."""

from __future__ import annotations

import argparse
import contextlib
import itertools
import os
import signal
import sys
import time
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from keen_matrix.cli.shared import (
    add_selection_options,
    add_spec_options,
    selector,
    spec_paths,
    whole_number,
)
from keen_matrix.core.errors import Misuse, RunFault, SpecFault
from keen_matrix.core.launch.engine import WorkerPool, default_jobs, resolved_launch
from keen_matrix.core.results.journal import DEFAULT_JOURNAL, Journal, header

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.errors import Problem
    from keen_matrix.core.expressions import Scope
    from keen_matrix.core.launch.engine import ResolvedLaunch
    from keen_matrix.core.results.tally import FailureGroup, Tally
    from keen_matrix.core.spec.model import Matrix, Spec, Stdin
    from keen_matrix.core.vectors.case import Case

EPILOG = f"""\
examples:
  keen-matrix run                                every spec below this folder
  keen-matrix run fare.matrix.toml --only fares  one matrix of one spec
  keen-matrix run --only k3f9x2 --details        one case, with everything it printed

The results are written to {DEFAULT_JOURNAL}, a line per case as it finishes.
exit status: 0 everything held, 1 something did not, 2 wrong usage or a wrong spec, 3 nothing could be run, 130 interrupted
"""

GROUPS_SHOWN = 12
"""Different failures shown in full unless --details asks for all."""


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_spec_options(parser)
    add_selection_options(parser)
    parser.add_argument("--jobs", type=whole_number, metavar="N", help="launches at a time (default: the processors)")
    parser.add_argument(
        "--journal",
        metavar="FILE",
        default=DEFAULT_JOURNAL,
        help=f"where the results go (default {DEFAULT_JOURNAL})",
    )
    parser.add_argument(
        "--limit", type=whole_number, metavar="N", help="allow up to N vectors in a matrix (default 100,000)"
    )
    amount = parser.add_mutually_exclusive_group()
    amount.add_argument("--brief", action="store_true", help="only a line per matrix and the summary")
    amount.add_argument("--details", action="store_true", help="every failing case in full, with everything it printed")


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    paths = spec_paths(options.specs)
    jobs = options.jobs or default_jobs()
    with _terminating_signals(), WorkerPool(jobs) as pool:  # workers start up while the specs are read
        specs = load_all(paths)
        from keen_matrix.cli.console.screen import Screen

        session = Session(pool, Screen(sys.stdout, color=options.color), options, jobs)
        with Journal(options.journal) as journal:
            return session.run(specs, journal)


def load_all(paths: Sequence[str]) -> list[Spec]:
    """Return all specs. Raises SpecFault with the problems of all of them."""
    from keen_matrix.core.spec.load import load_spec

    specs: list[Spec] = []
    problems: list[Problem] = []
    for path in paths:
        try:
            specs.append(load_spec(path))
        except SpecFault as fault:
            problems += fault.problems
    if problems:
        raise SpecFault(problems)
    return specs


@contextlib.contextmanager
def _terminating_signals() -> Iterator[None]:
    """Treat SIGTERM and SIGHUP like Ctrl-C, so that nothing is left behind."""

    def interrupt(*_: object) -> None:
        raise KeyboardInterrupt

    before = {number: signal.signal(number, interrupt) for number in (signal.SIGTERM, signal.SIGHUP)}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


class Session:
    """One call of the command: its specs, its journal, its output."""

    def __init__(self, pool: WorkerPool, screen: Screen, options: argparse.Namespace, jobs: int) -> None:
        self.pool, self.screen, self.options, self.jobs = pool, screen, options, jobs
        self.tallies: list[Tally] = []
        self.started = time.monotonic()

    def run(self, specs: Sequence[Spec], journal: Journal) -> int:
        """Run every spec and report; return the exit status."""
        from keen_matrix.core.results.tally import total_counts

        for spec in specs:
            refuse_too_many(spec, self.options.limit)
        launches = {spec.path: resolved_launch(spec) for spec in specs}
        interrupted = False
        try:
            for spec in specs:
                self._run_spec(spec, launches[spec.path], journal)
        except KeyboardInterrupt:
            interrupted = True
            self._write_finished(journal)
        counts = total_counts(self.tallies)
        if not counts and not interrupted:
            raise Misuse(f"no vector matches {' '.join(f'--only {each}' for each in self.options.only)}")
        self._report(journal, interrupted)
        if interrupted:
            return 130
        if counts["unlaunched"] == counts.total():
            return 3
        return 0 if counts["held"] == counts.total() else 1

    def _run_spec(self, spec: Spec, launch: ResolvedLaunch, journal: Journal) -> None:
        from keen_matrix.cli.console.progress import Progress
        from keen_matrix.core.results.tally import Tally
        from keen_matrix.core.vectors.unfold import unfold

        tally = Tally(spec)
        selected = selector(self.options.only, spec)
        cases: Iterator[Case] = unfold(spec)
        if selected is not None:
            cases = filter(selected, cases)
            first = next(cases, None)
            if first is None:
                return
            cases = itertools.chain([first], cases)
        self.tallies.append(tally)
        journal.write_fields(header(spec, self.jobs))
        self.pool.plan(spec, launch)
        total = None if selected else vector_count(spec)
        with (
            Progress(total, enabled=True) as progress,
            contextlib.closing(self.pool.results(cases)) as results,
        ):
            for result in results:
                failed = tally.add(result, journal.write(result.line))
                progress.step(held=failed is None)
        self._write_finished(journal)

    def _write_finished(self, journal: Journal) -> None:
        import datetime

        if self.tallies:
            finished = datetime.datetime.now(datetime.UTC).isoformat(timespec="milliseconds")
            journal.write_fields({"finished": finished, "counts": dict(self.tallies[-1].counts)})

    def _report(self, journal: Journal, interrupted: bool) -> None:
        from keen_matrix.cli.console.safe import shell_line
        from keen_matrix.cli.console.summary import summary_segments, write_matrices
        from keen_matrix.core.results.tally import total_counts

        seconds = time.monotonic() - self.started
        for number, tally in enumerate(self.tallies):
            if number:
                self.screen.line()
            write_matrices(self.screen, tally, shell_line(shown_launch(tally.spec)))
        if not self.options.brief:
            shown = 0
            for tally in self.tallies:
                shown = self._write_failures(tally, journal, shown)
        counts = total_counts(self.tallies)
        self.screen.line()
        if interrupted:
            self.screen.line(("interrupted: ", "bad"), "what finished is in ", (self.options.journal, "place"))
        self.screen.line(*summary_segments(counts, seconds, self.jobs))
        first = next((group for tally in self.tallies for group in tally.groups), None)
        if first is not None:
            again = f"keen-matrix run --only {first.ids[0][1][:6]} --details"
            self.screen.line("again: ", (again, "strong"))

    def _write_failures(self, tally: Tally, journal: Journal, shown: int) -> int:
        groups = tally.groups
        room = len(groups) if self.options.details else max(0, GROUPS_SHOWN - shown)
        for group in groups[:room]:
            self.screen.line()
            self._write_group(tally, group, journal)
        left = sum(group.count for group in groups[room:]) + tally.ungrouped
        if left:
            self.screen.line()
            self.screen.line((f"{left:,} further failing cases in {len(groups[room:]):,} groups are not shown; ", "dim"),
                             ("--details", "strong"), (" shows all", "dim"))  # fmt: skip
        return shown + len(groups[:room])

    def _write_group(self, tally: Tally, group: FailureGroup, journal: Journal) -> None:
        from keen_matrix.cli.console.failures import repeat_line, write_failure

        fields = journal.read(group.offset, group.length)
        matrix = next(each for each in tally.spec.matrices if each.index == group.matrix)
        line = repeat_line(shown_launch(tally.spec), fields, surroundings_shown(tally.spec, matrix, fields))
        others = [each for _, each in sorted(group.ids) if each != fields["id"]]
        write_failure(
            self.screen,
            fields,
            matrix.name,
            line,
            others,
            group.count - 1 - len(others),
            details=self.options.details,
        )


def vector_count(spec: Spec) -> int | None:
    """Return how many rows the matrices of a spec have together, without unfolding; None when that is not known."""
    from keen_matrix.core.vectors.counting import matrix_count

    counts = [matrix_count(spec, matrix) for matrix in spec.matrices]
    return None if any(count is None for count in counts) else sum(count or 0 for count in counts)


def refuse_too_many(spec: Spec, limit: int | None) -> None:
    """Raise Misuse when a matrix has more vectors than its limit, before anything is built."""
    from keen_matrix.core.spec.deep import MOST_VECTORS
    from keen_matrix.core.vectors.counting import matrix_count

    for matrix in spec.matrices:
        count = matrix_count(spec, matrix)
        if count == 0:  # conditions that nothing meets: say which, and where
            from keen_matrix.core.spec.load import read_spec

            raise SpecFault([each for each in read_spec(spec.path, deep=True)[1] if each.severity == "error"])
        most = max(limit or 0, matrix.limit or 0) or MOST_VECTORS
        if count is not None and count > most:
            raise Misuse(
                f'{spec.path}: the matrix "{matrix.name}" has {count:,} vectors, more than {most:,}; '
                f'combine = "pairs" needs far fewer, limit = {count} in the matrix or --limit {count} allows them all'
            )


def shown_launch(spec: Spec) -> list[str]:
    """Return the launch words as a person would type them from here."""
    from keen_matrix.core.expressions import Scope

    here = os.path.relpath(spec.here)
    words: list[str] = []
    for template in spec.program.launch:
        word = template.render(Scope({"here": spec.here}))
        near = os.path.normpath(template.render(Scope({"here": here})))
        shorter = template.constant is None and os.path.exists(near) and len(near) < len(word)
        words.append((near if os.sep in near or words else f".{os.sep}{near}") if shorter else word)
    return words


def _stdin_shown(stdin: Stdin, scope: Scope, here: str) -> dict[str, Any]:
    """Return what stands for standard input in a shell line: a text, a file, a command line, or `closed`."""
    from keen_matrix.cli.console.safe import shell_line

    if stdin.closed:
        return {"closed": True}
    if stdin.file is not None:
        return {"file": os.path.normpath(os.path.join(here, stdin.file.render(scope)))}
    if stdin.chain:
        return {"command": " | ".join(shell_line(word.render(scope) for word in words) for words in stdin.chain)}
    return {"stdin": stdin.text.render(scope)} if stdin.text is not None else {}


def surroundings_shown(spec: Spec, matrix: Matrix, fields: Any) -> dict[str, Any]:
    """Return the environment, standard input and files that a case of a matrix had, for the line that repeats it."""
    from keen_matrix.core.errors import ExpressionFault
    from keen_matrix.core.oracle import oracle_functions
    from keen_matrix.core.vectors.case import case_scope

    shown: dict[str, Any] = {"env": {}, "files": []}
    try:
        scope = case_scope(
            fields["values"],
            tuple(fields["argv"]),
            fields["id"],
            spec.here,
            oracle_functions(spec.program.oracle),
        )
        around = matrix.steps[0].surroundings
        shown["env"] = {name: None if each is None else each.render(scope) for name, each in around.env}
        shown["files"] = [name for name, _ in around.files]
        if around.stdin is not None:
            shown |= _stdin_shown(around.stdin, scope, os.path.relpath(spec.here))
        shown["notes"] = [
            note
            for note, there in (
                ("on a terminal", around.terminal),
                ("answering its prompts", around.dialogue),
                ("until it is stopped", around.stop),
            )
            if there
        ]
    except (ExpressionFault, RunFault):
        pass
    return shown
