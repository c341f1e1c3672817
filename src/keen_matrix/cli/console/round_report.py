"""What a round of `run --watch` writes: what has changed since the last one."""

from __future__ import annotations

import argparse
import subprocess
import time
from collections.abc import Iterator, Sequence

from keen_matrix.cli.compare import write_groups
from keen_matrix.cli.console.run_report import RunReport, RunScreen
from keen_matrix.cli.console.screen import Screen
from keen_matrix.cli.console.summary import summary_segments
from keen_matrix.cli.shared import remark
from keen_matrix.cli.watching import Begun, Round, shown_names
from keen_matrix.core.launch.workers.wire import ResultFrame
from keen_matrix.core.model.identity import CaseKey
from keen_matrix.core.model.lines import decode_record
from keen_matrix.core.model.record import PASSING, Record
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.results.compare import Change, Comparison, change_of
from keen_matrix.core.results.tally import Tally
from keen_matrix.core.runs.state import RunResult
from keen_matrix.wording.counts import counted

NOTIFY_SECONDS = 10.0
STYLES = {"newly failing": "bad", "newly passing": "good", "other verdict": "warn", "other output": "warn"}
ROUND_KINDS = ("newly passing", "newly failing", "other verdict", "other output")
STILL_SHOWN = 8


class RoundScreen(RunScreen):
    """Shows a round while it goes, and notes what has changed since the last one."""

    def __init__(
        self, screen: Screen, options: argparse.Namespace, jobs: int, specs: int, asked: Round
    ) -> None:
        super().__init__(screen, options, jobs, specs)
        self._asked = asked
        self.changes = Comparison()
        #: Of each spec, the cases that fail and did something else before.
        self.fresh: list[Tally] = []
        #: Ids of those that fail, as before.
        self.still: list[str] = []
        self.seen: set[tuple[str, str]] = set()
        self.new = 0
        #: When the first case finished that was launched, by time.time.
        self.first_verdict: float | None = None

    def is_building(self, line: str, *, first: bool) -> None:
        """Repeat the build's output."""
        self._asked.tell(b"b")
        super().is_building(line, first=first)

    def grounding(self, launches: int | None) -> None:
        """Draw how far it is."""
        self._asked.tell(b"r")
        super().grounding(launches)

    def begins(self, spec: Spec, total: int | None) -> None:
        """Draw the progress from now on."""
        self._asked.tell(b"r")
        self.fresh.append(Tally(spec))
        super().begins(spec, total)

    def came(self, spec: Spec, result: ResultFrame, offset: int) -> None:
        """Note what became of a case since the last round."""
        key = CaseKey.of(spec.path, result.id)
        self.seen.add(key)
        before = self._asked.known.get(key)
        if before is not None and before == result.line:
            return
        record = decode_record(result.line)
        # What was taken over may be news as well: of a round that was ended before it told.
        change = self._change(before, record)
        if change:
            self.changes.add(*change)
        if before is None:
            self.new += 1
        if not record.taken_from:
            self.first_verdict = self.first_verdict or time.time()
        if record.verdict in PASSING:
            return
        if change or before is None:
            self.fresh[-1].add(result, offset)
        else:
            self.still.append(record.id)

    def _change(self, before: bytes | None, record: Record) -> tuple[str, Change] | None:
        if before is None:
            return None
        try:
            return change_of(decode_record(before), record)
        except ValueError:
            return None


class RoundReport(RunReport):
    """Writes what has changed since the round before."""

    def write_round(self, result: RunResult, watch: RoundScreen, asked: Round, begun: Begun) -> None:
        """Write what a round came to, or the whole report of the first."""
        if asked.number == 1 or begun.everything:
            self.write(result)
            return
        screen, changes = self.screen, watch.changes
        for kind in ROUND_KINDS:
            if changes.counts.get(kind):
                screen.line((kind, STYLES[kind]), f"  {changes.counts[kind]:,}")
                write_groups(screen, changes.groups[kind])
        if watch.new:
            screen.line(("new", "strong"), f"  {counted(watch.new, 'case')}")
        gone = sum(key not in watch.seen for key in asked.known if key[0] in _specs(result))
        whole = self.options.only or self.options.tag or self.options.not_tag or self.options.shard
        if gone and not whole:
            screen.line(("gone", "dim"), f"  {counted(gone, 'case')}")
        if not (changes.counts or watch.new or gone):
            screen.line(("no result changed", "dim"))
        shown = 0
        for tally in watch.fresh:
            shown = self._write_failures(tally, shown)
        if watch.still:
            ids = " ".join(each[:6] for each in watch.still[:STILL_SHOWN])
            more = " …" if len(watch.still) > STILL_SHOWN else ""
            screen.line()
            count = counted(len(watch.still), "case")
            screen.line((f"as before, {count} failed", "bad"), "   ", (ids + more, "place"))
        self._write_reports()
        screen.line()
        screen.line(*summary_segments(result, self.jobs))


def _specs(result: RunResult) -> set[str]:
    return {CaseKey.of(each.spec.path, "").spec for each in result.tallies}


def write_beginning(screen: Screen, asked: Round, begun: Begun) -> None:
    """Write why a round begins."""
    if asked.number == 1:
        return
    screen.line()
    why = "everything again" if begun.everything else f"{shown_names(begun.changed)} changed"
    screen.line((f"{time.strftime('%H:%M:%S')}  ", "dim"), (why, "strong"))
    screen.flush()


def notify(command: str, result: RunResult, jobs: int) -> None:
    """Run a command with the summary as one more word; what goes wrong with it is reported."""
    import shlex

    text = "".join(_texts(summary_segments(result, jobs)))
    try:
        words = [*shlex.split(command), text]
        subprocess.run(words, stdin=subprocess.DEVNULL, timeout=NOTIFY_SECONDS, check=False)
    except (OSError, ValueError, subprocess.TimeoutExpired) as error:
        remark(f"--notify: {getattr(error, 'strerror', None) or error}")


def _texts(segments: Sequence[object]) -> Iterator[str]:
    for each in segments:
        yield each if isinstance(each, str) else str(each[0])  # type: ignore[index]
