"""What a run writes on the terminal: while it goes, and at its end."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Iterator, Sequence

from keen_matrix.cli.console.progress import Progress
from keen_matrix.cli.console.remarks import write_passed, write_remarks
from keen_matrix.cli.console.screen import Screen
from keen_matrix.cli.console.summary import summary_segments, write_legend, write_matrices
from keen_matrix.cli.faults import tell_fault
from keen_matrix.cli.live import LiveStreams
from keen_matrix.cli.outputs import write_to
from keen_matrix.cli.report import axes_of, write_grids
from keen_matrix.cli.shared import output_file, remark
from keen_matrix.cli.shown import shown_launch, surroundings_shown
from keen_matrix.core import structs
from keen_matrix.core.doing import spent
from keen_matrix.core.errors import KeenMatrixError
from keen_matrix.core.launch.workers.wire import LiveFrame
from keen_matrix.core.model.record import Record
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.results.journal import Journal
from keen_matrix.core.results.tally import FailureGroup, Tally
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.spent import time_shares
from keen_matrix.core.runs.state import RunResult
from keen_matrix.core.vectors.ids import SHOWN_ID
from keen_matrix.wording.cases import title_of
from keen_matrix.wording.counts import duration
from keen_matrix.wording.safe import escape, shell_line
from keen_matrix.wording.signs import STYLE_OF
from keen_matrix.wording.spent import spent_text

#: Different failures shown in full unless --all asks for all.
GROUPS_SHOWN = 12
#: Cases of a matrix without expectations that are shown side by side.
MOST_SIDE_BY_SIDE = 30
#: Seconds from which a run says what they went into.
LONG = 10.0
GROUNDING = "trying the base calls"


class RunScreen(RunWatch):
    """Shows a run while it goes."""

    def __init__(self, screen: Screen, options: argparse.Namespace, jobs: int, specs: int) -> None:
        self._screen, self._options = screen, options
        self._jobs, self._specs = jobs, specs
        self._progress: Progress | None = None

    def is_building(self, line: str, *, first: bool) -> None:
        """Repeat the build's output on standard error."""
        lead = "build: " if first else "  "
        print(f"{lead}{escape(line)}", file=sys.stderr, flush=True)

    def refused(self, path: str, fault: KeenMatrixError) -> None:
        """Tell why a spec cannot be run."""
        tell_fault(fault, self._options, path if self._specs > 1 else "")

    def remarks(self, text: str) -> None:
        """Say something that ends nothing, on standard error."""
        remark(text)

    def grounding(self, launches: int | None) -> None:
        """Draw how many of the base calls have been launched."""
        if launches is None:
            self.ends(None)
            return
        if self._progress is None:
            self._progress = Progress(
                None, enabled=not self._options.live, color=self._screen.choice, jobs=1, doing=GROUNDING
            )
            self._progress.__enter__()
        self._progress.step(passed=True)

    def begins(self, spec: Spec, total: int | None) -> None:
        """Draw the progress from now on."""
        drawn = not self._options.live
        self._progress = Progress(total, enabled=drawn, color=self._screen.choice, jobs=self._jobs)
        self._progress.__enter__()

    def finished(self, *, passed: bool) -> None:
        """Count one more case."""
        if self._progress is not None:
            self._progress.step(passed=passed)

    def ends(self, spec: Spec | None) -> None:
        """Take the progress away."""
        if self._progress is not None:
            self._progress.__exit__()
            self._progress = None

    def printed(self, frame: LiveFrame) -> None:
        """Show some output as it came: whose it is, on which stream, how long after the start."""
        LiveStreams(self._screen).show(frame, whose=frame.id[:6])


class RunReport:
    """Writes what a run came to."""

    def __init__(self, screen: Screen, options: argparse.Namespace, jobs: int, journal: Journal) -> None:
        self.screen, self.options = screen, options
        self.jobs, self.journal = jobs, journal
        self._specs = 1

    def write(self, result: RunResult) -> None:
        """Write everything: matrices, failures, reports that are asked for, the summary."""
        tallies = result.tallies
        self._specs = len(tallies)
        if not self.options.quiet:
            self._write_cases(result, tallies)
        self._write_reports()
        self._write_end(result)
        if not self.options.quiet:
            write_spent(self.screen, result, self.jobs)
            self._write_next_step(tallies)

    def _write_cases(self, result: RunResult, tallies: Sequence[Tally]) -> None:
        """Write the matrices, the failures and the remarks."""
        for number, tally in enumerate(tallies):
            if number:
                self.screen.line()
            write_matrices(self.screen, tally, shell_line(shown_launch(tally.spec)))
        rows = (each for tally in tallies for each in tally.by_matrix.values())
        write_legend(self.screen, rows)
        for tally in tallies:
            write_passed(self.screen, tally)
        if self.options.verbose:
            self._write_each_case()
        if not self.options.brief:
            self._write_results(tallies)
        if not self.options.brief:
            shown = 0
            for tally in tallies:
                shown = self._write_failures(tally, shown)
            for tally in tallies:
                write_remarks(self.screen, result.remarks.get(tally.spec.path, ()))

    def _write_results(self, tallies: Sequence[Tally]) -> None:
        """Write the results of matrices that expect nothing yet side by side, and how to save
        them."""
        for tally in tallies:
            for matrix in looked_at(tally) if self.journal.is_in_place else ():
                self._write_looked_at(tally.spec.path, matrix.name)

    def _write_looked_at(self, path: str, name: str) -> None:
        from keen_matrix.cli.console.calls import shown_calls, write_calls
        from keen_matrix.core.results.reading import read_journal

        lines = (each for each in read_journal(self.options.journal, name) if isinstance(each, Record))
        records = [(shell_line(each.argv), each) for each in lines if each.matrix == name]
        screen = self.screen
        screen.line()
        screen.line((name, "strong"), ("   nothing is expected yet; these are the results", "dim"))
        write_calls(screen, shown_calls(records, grouped=False), full=False, words=False)
        words = ["keen-matrix", "try", "--matrix", name, "--write", path]
        screen.line("to save them as rows with expectations: ", (shell_line(words), "strong"))
        screen.line(("then remove this matrix", "dim"))

    def _write_each_case(self) -> None:
        """Write a line for each case of the run, from the journal."""
        if not self._can_be_read("no lines for cases"):
            return
        from keen_matrix.core.results.reading import read_journal

        self.screen.line()
        for line in read_journal(self.options.journal):
            if isinstance(line, Record):
                self.screen.line(
                    "  ",
                    (self.screen.sign(line.verdict), STYLE_OF[line.verdict]),
                    f" {line.id[:SHOWN_ID]}  {title_of(line)}",
                    (f"   {duration(line.seconds)}", "dim"),
                )

    def _can_be_read(self, otherwise: str) -> bool:
        """Tell whether the journal can be read again; say what there is not, if it cannot."""
        if not self.journal.is_in_place:
            print(f"keen-matrix: {otherwise}: {self.options.journal} cannot be read again", file=sys.stderr)
        return self.journal.is_in_place

    def _write_end(self, result: RunResult) -> None:
        """Write what the budget sufficed for, and the summary."""
        if not self.options.quiet:
            self._write_budgets(result)
            self.screen.line()
        if result.is_interrupted:
            finished = ("interrupted: ", "bad"), "what finished is in "
            if result.counts:
                self.screen.line(*finished, (self.options.journal, "place"))
            else:
                self.screen.line(("interrupted: ", "bad"), "nothing has finished")
        is_brief = self.options.brief or self.options.quiet
        self.screen.line(*summary_segments(result, self.jobs, brief=is_brief))

    def _write_reports(self) -> None:
        """Write the grids and reports that are asked for, from the journal."""
        options = self.options
        if not (options.grid or options.by or options.report):
            return
        if not self._can_be_read("no reports"):
            return
        from keen_matrix.reports.formats import FORMATS
        from keen_matrix.reports.report import Report

        axes = axes_of(options.by)
        if options.grid or options.by:
            write_grids(self.screen, Report([options.journal], by=axes))
        for format, file in options.report:
            target = output_file(file)
            write_to(FORMATS[format], Report([options.journal], target or "", True, axes), target)

    def _write_budgets(self, result: RunResult) -> None:
        from keen_matrix.core.results.budget import shares

        for each in result.budgets:
            reached, left = each.reached, each.left
            covered = ", ".join(shares(reached).values())
            style = "warn" if left else "good"
            self.screen.line()
            self.screen.line(
                ("budget", style),
                f"   {reached.cases:,} of {reached.of_cases:,} cases, {covered}; ",
                (f"{left:,} cases left" if left else "it sufficed", style),
            )

    def _write_next_step(self, tallies: Sequence[Tally]) -> None:
        """Write the command that runs the first failure again, and nothing else: so it names the
        spec."""
        found = next(((tally, group) for tally in tallies for group in tally.groups), None)
        if found is None:
            return
        tally, first = found
        shown = self.journal.read(first.offset, first.length)
        words = ["keen-matrix", "run", tally.spec.path, shown.id[:6]]
        for name in ("launcher", "program", "seed"):
            if getattr(self.options, name) is not None:
                words += [f"--{name}", str(getattr(self.options, name))]
        self.screen.line("again: ", (shell_line([*words, "--all"]), "strong"))

    def _write_failures(self, tally: Tally, shown: int) -> int:
        """Write the groups of failures that there is room for; return how many are shown by now."""
        shown_already = {matrix.index for matrix in looked_at(tally)} if self.journal.is_in_place else set()
        groups = [each for each in tally.groups if each.matrix not in shown_already]
        room = len(groups) if self.options.all else max(0, GROUPS_SHOWN - shown)
        for group in groups[:room]:
            self.screen.line()
            self._write_group(tally, group)
        left = sum(group.count for group in groups[room:]) + tally.ungrouped
        if left:
            self.screen.line()
            more = len(groups[room:])
            rest = (
                f"{left:,} more failed {'case' if left == 1 else 'cases'} ({more} more "
                f"{'cause' if more == 1 else 'causes'}) {'is' if left == 1 else 'are'} not shown; "
            )
            self.screen.line((rest, "dim"), ("--all", "strong"), (" shows them", "dim"))
        return shown + len(groups[:room])

    def _where(self, tally: Tally, group: FailureGroup) -> str:
        """Return the matrices that a group is of, with their spec where there are several."""
        names = {matrix.index: matrix.name for matrix in tally.spec.matrices}
        named = ", ".join(
            names[index] for index in (group.matrix, *sorted(group.where.keys() - {group.matrix}))
        )
        return named if self._specs == 1 else f"{os.path.basename(tally.spec.path)}: {named}"

    def _write_group(self, tally: Tally, group: FailureGroup) -> None:
        from keen_matrix.wording.failures import Failure, failure_rows
        from keen_matrix.wording.repeating import repeat_line

        fields = self.journal.read(group.offset, group.length)
        matrix = next(each for each in tally.spec.matrices if each.index == group.matrix)
        told = (
            structs.replace(fields, argv=fields.control)
            if fields.control and fields.verdict == "blocked"
            else fields
        )
        line = repeat_line(shown_launch(tally.spec), told, surroundings_shown(tally.spec, matrix, told))
        others = [each for _, each in sorted(group.ids) if each != fields.id]
        more = group.count - 1 - len(others)
        untried = group.untried if fields.verdict != "blocked" else 0
        failure = Failure(fields, self._where(tally, group), line, others, more, untried)
        self.screen.rows(failure_rows(self.screen, failure, everything=self.options.all))
        for number in fields.masked if self.options.all else ():
            mask = matrix.masks[number]
            self.screen.line(
                "  ", ("masked", "dim"), f"  {mask.pattern} as {mask.text}   ", (mask.origin, "dim")
            )


def looked_at(tally: Tally) -> Iterator[Matrix]:
    """Yield the matrices of a run that expect nothing yet, as far as they can be looked at side by
    side."""
    for matrix in tally.spec.matrices:
        counts = tally.by_matrix[matrix.index]
        rules = (*tally.spec.rules, *matrix.rules, *(rule for step in matrix.steps for rule in step.rules))
        is_plain = not matrix.family and len(matrix.steps) == 1 and matrix.other is None
        is_open = not any(rule.aspects for rule in rules) and tally.spec.reference is None
        if is_plain and is_open and 0 < counts["unchecked"] == counts.total() <= MOST_SIDE_BY_SIDE:
            yield matrix


def write_spent(screen: Screen, result: RunResult, jobs: int) -> None:
    """Write what took so long, where it did."""
    if result.seconds < LONG:
        return
    parts = time_shares(result.tallies, result.spent, spent("combining"), result.seconds, jobs)
    text = spent_text(parts, jobs)
    if text:
        screen.line((text, "dim"))
