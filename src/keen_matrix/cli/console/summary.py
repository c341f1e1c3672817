"""What a run comes to, as lines: a row per matrix, and one last line to act on."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

from keen_matrix.cli.console.screen import Screen
from keen_matrix.core.model.record import FROM_WORST, VERDICTS
from keen_matrix.core.results.tally import Tally
from keen_matrix.core.runs.state import RunResult
from keen_matrix.wording.counts import counted, duration
from keen_matrix.wording.safe import cut, pad
from keen_matrix.wording.signs import STYLE_OF, Segment, legend, verdict_text


def write_matrices(screen: Screen, tally: Tally, launch: str) -> None:
    """Write a spec's name and a row for each of its matrices."""
    screen.line(
        (tally.spec.path, "strong"),
        "   ",
        (cut(launch, max(20, screen.width - len(tally.spec.path) - 4)), "dim"),
    )
    rows = [(matrix.name, tally.by_matrix[matrix.index]) for matrix in tally.spec.matrices]
    shown = [(name, counts) for name, counts in rows if counts.total()]
    width = min(40, max((len(name) for name, _ in shown), default=0))
    numbers = max((len(f"{counts.total():,}") for _, counts in shown), default=1)
    for name, counts in shown:
        screen.line(*_matrix_row(screen, pad(cut(name, width), width), counts, numbers))
    if len(shown) < len(rows):
        screen.line("  ", (f"{counted(len(rows) - len(shown), 'matrix')} not run", "dim"))


def write_counts_row(screen: Screen, name: str, width: int, counts: Counter[str]) -> None:
    """Write the row of one matrix."""
    screen.line(*_matrix_row(screen, pad(cut(name, width), width), counts, len(f"{counts.total():,}")))


def worst_verdict(counts: Counter[str]) -> str:
    """Return the verdict whose sign precedes a row."""
    return next((verdict for verdict in FROM_WORST if counts[verdict]), "passed")


def write_legend(screen: Screen, rows: Iterable[Counter[str]]) -> None:
    """Write what the signs before some rows stand for: each is the worst verdict of its row."""
    names = {worst_verdict(counts) for counts in rows if counts.total()}
    if names:
        screen.line("  ", *legend(screen, names))


def _matrix_row(screen: Screen, name: str, counts: Counter[str], numbers: int) -> list[Segment]:
    total, passed = counts.total(), counts["passed"]
    worst = worst_verdict(counts)
    start: list[Segment] = ["  ", (screen.sign(worst), STYLE_OF[worst]), f" {name}  "]
    if passed == total:
        return [*start, (f"{total:>{numbers},} passed", "good")]
    parts: list[Segment] = [*start, (f"{passed:>{numbers},} of {total:,} passed", "")]
    for verdict in VERDICTS[1:]:
        if counts[verdict]:
            parts += ["   ", (f"{counts[verdict]:,} {verdict_text(verdict)}", STYLE_OF[verdict])]
    return parts


def summary_segments(result: RunResult, jobs: int, *, brief: bool = False) -> list[Segment]:
    """Return the last line of a run: `114 cases: 111 passed, 2 failed, 1 crashed. 1.913 s, 2
    jobs, warm`."""
    counts, taken, warm = result.counts, result.taken, result.warm
    shown = [verdict for verdict in VERDICTS if counts[verdict]]
    segments: list[Segment] = [f"{counted(counts.total(), 'case')}: " if shown else "no case has finished"]
    unread = len(result.faults)
    hollow = any(remark.kind == "hollow" for of_spec in result.remarks.values() for remark in of_spec)
    if shown == ["passed"]:
        is_part = bool(unread) or result.is_interrupted
        segments.append(("passed" if is_part else "all passed", "" if is_part or hollow else "good"))
    elif shown == ["skipped"]:
        segments.append(("all skipped, so nothing was launched", "bad"))
    else:
        for number, verdict in enumerate(shown):
            segments += [
                ", " if number else "",
                (f"{counts[verdict]:,} {verdict_text(verdict)}", STYLE_OF[verdict]),
            ]
    aside = sum(len(each.aside) for each in result.tallies)
    if aside:
        segments.append((f"; {counted(aside, 'option')} left out", "warn"))
    if hollow:
        where = "keen-matrix report says what" if brief else "see above"
        segments.append((f"; not much was checked ({where})", "warn"))
    if unread:
        segments.append((f"; {counted(unread, 'spec')} could not be run", "bad"))
    if result.is_interrupted and shown:
        segments.append(("; interrupted, so the others have no result", "bad"))
    if taken:
        segments.append((f" ({taken:,} of them unchanged and not launched)", "dim"))
    segments.append(f". {duration(result.seconds)}, {counted(jobs, 'job')}")
    if warm:
        segments.append(", warm" if warm + taken == counts.total() else f", {warm:,} of them warm")
    return segments
