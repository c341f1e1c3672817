"""`keen-matrix coverage`: what the vectors reach, and what they miss."""

from __future__ import annotations

import argparse
import os
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from keen_matrix.cli.doubt import below, style_of
from keen_matrix.cli.insight import screen_of
from keen_matrix.cli.shared import JSON, add_format, add_spec_options, percent, spec_paths, tell_run
from keen_matrix.core.errors import Misuse, RunFault
from keen_matrix.core.results.journal import DEFAULT_JOURNAL

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.cli.documents import CoveragePartDocument
    from keen_matrix.core.insight.coverage import Coverage, CoveragePart
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.model.spec import Spec

EPILOG = """\
examples:
  keen-matrix coverage                       what the cases of each spec reach
  keen-matrix coverage --journal run.jsonl   only the cases of that run
  keen-matrix coverage --fail-under 90       for CI

Nothing is run, not even an oracle file.
exit status: 0, 1 with --fail-under when a spec is below it or could not be counted,
2 wrong usage or a wrong spec, 3 no journal
"""

SHOWN = 6


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_spec_options(parser)
    parser.add_argument(
        "--journal", metavar="FILE", help="the journal to read: count only the cases of that run"
    )
    parser.add_argument("--fail-under", type=percent, metavar="PERCENT", help="exit 1 when less is reached")
    parser.add_argument(
        "--all",
        action="store_true",
        help=f"list everything: all that is missing, not only {SHOWN} of each part",
    )
    add_format(parser)


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.cli.documents import CoverageDocument, CoverageSpec, coverage_spec, write_document
    from keen_matrix.cli.specs import load_all
    from keen_matrix.core.insight.coverage import coverage_of
    from keen_matrix.core.oracle import OracleNotRun, asking, forbidden
    from keen_matrix.core.structs import replace

    screen = screen_of(options)
    is_json = options.format == JSON
    document: list[CoverageSpec] = []
    scores: list[float | None] = []
    if options.journal:
        tell_run(screen, [options.journal])
    for number, spec in enumerate(load_all(spec_paths(options.specs), options.journal or DEFAULT_JOURNAL)):
        ids, help_text = seen_in(spec, options.journal)
        if options.journal and not ids:
            raise Misuse(f"{options.journal} has no run of {spec.path}")
        try:
            with asking(forbidden):
                found = coverage_of(spec, _cases(spec, ids if options.journal else None), help_text)
        except OracleNotRun as asked:
            document.append(coverage_spec(spec.path, None))
            _write_not_counted(screen, spec.path, os.path.relpath(asked.path))
            scores.append(None)
            continue
        scores.append(found.percent)
        lines = lines_reached(spec, options.journal or DEFAULT_JOURNAL)
        document.append(replace(coverage_spec(spec.path, found), lines=lines))
        if is_json:
            continue
        if number:
            screen.line()
        write_coverage(screen, spec.path, found, None if options.all else SHOWN)
        write_hollow(screen, hollow_in(spec, options.journal or DEFAULT_JOURNAL))
        if lines is not None:
            write_lines(screen, lines, None if options.all else SHOWN)
    if is_json:
        write_document(CoverageDocument(document))
    return below(screen, scores, options.fail_under, "for one spec nothing could be counted")


def lines_reached(spec: Spec, journal: str) -> CoveragePartDocument | None:
    """Return what `places` found of the lines that the vectors of a run reach; None where it was
    not asked."""
    from keen_matrix.cli.documents import CoveragePartDocument
    from keen_matrix.core.insight.places.kept import kept_places
    from keen_matrix.core.results.reading import headers_of

    for header in headers_of(journal):
        if os.path.abspath(header.spec) == os.path.abspath(spec.path):
            found = kept_places(journal, spec.path, header.started)
            if found is not None and found.lines:
                share = 100 * found.reached / found.lines
                return CoveragePartDocument(
                    "lines of the program", found.reached, found.lines, share, found.unreached, []
                )
    return None


def hollow_in(spec: Spec, journal: str) -> list[str]:
    """Return what of the cases of a spec that passed in a run is hollow, in words."""
    from keen_matrix.core.results.remarks import remarks_in

    if not os.path.exists(journal):
        return []
    here = os.path.abspath(spec.path)
    own = (each.remark for each in remarks_in([journal]) if os.path.abspath(each.spec) == here)
    return [remark.subject for remark in own if remark.kind == "hollow"]


def write_hollow(screen: Screen, sentences: Sequence[str]) -> None:
    """Write what of the cases that passed in a run is hollow."""
    from keen_matrix.wording.safe import escape

    for sentence in sentences:
        screen.line()
        screen.line(("not much checked  ", "warn"), "in the run: ", escape(sentence))


def write_lines(screen: Screen, lines: CoveragePartDocument, most: int | None) -> None:
    """Write which lines of the program are reached, as `places` found."""
    screen.line()
    share = lines.percent or 0.0
    screen.line(
        ("lines of the program", "strong"),
        ("   as `places` found in this run  ", "dim"),
        (f"{share:5.1f} %", style_of(share)),
        f"  {lines.reached:,} of {lines.total:,}",
    )
    for what in lines.missing[:most]:
        screen.line("      ", ("missing  ", "warn"), what)


def seen_in(spec: Spec, journal: str | None) -> tuple[set[str], str]:
    """Return the ids of a spec's cases in a journal, and the help text that it saw; of the last
    run when none is named."""
    from keen_matrix.core.results.reading import cases_of

    path = journal or DEFAULT_JOURNAL
    ids: set[str] = set()
    help_text = ""
    if journal is None and not os.path.exists(path):
        return ids, help_text
    try:
        for header, fields in cases_of([path]):
            if os.path.abspath(header.spec) == os.path.abspath(spec.path):
                if fields.verdict != "blocked":
                    ids.add(fields.id)
                if not help_text and fields.family == "help":
                    help_text = fields.stdout or ""
    except RunFault:
        if journal is not None:
            raise
    return ids, help_text


def _cases(spec: Spec, ids: set[str] | None) -> Iterator[Case]:
    from keen_matrix.core.vectors.unfold import unfold

    launched = (case for case in unfold(spec) if case.blocked is None)
    return (case for case in launched if ids is None or case.id in ids)


def _write_not_counted(screen: Screen, path: str, oracle: str) -> None:
    why = f"   its cases depend on the oracle file {oracle}, and this command runs nothing"
    screen.line((path, "strong"), "   ", ("not counted", "warn"), why)


def write_coverage(screen: Screen, path: str, found: Coverage, most: int | None) -> None:
    """Write each part with what is missing, then which aspects are checked."""
    if found.percent is None:
        screen.line(
            (path, "strong"),
            "   ",
            ("nothing to measure", "warn"),
            "   the spec has no signature and no matrix with two axes",
        )
    else:
        screen.line(
            (path, "strong"), "   ", (f"{found.percent:.1f} %", style_of(found.percent)), (" reached", "dim")
        )
    width = min(PART_WIDTH, max((len(part.name) for part in found.parts), default=0))
    for part in found.parts:
        if part.percent is not None:
            _write_part(screen, part, width, most)
    if found.unlisted:
        screen.line("  ", ("never used: ", "warn"), f"{', '.join(found.unlisted)}, which the help lists")
    screen.line()
    _write_aspects(screen, found)


#: Cells of the widest name of a part and of a matrix, and of the narrowest name of an aspect.
PART_WIDTH, MATRIX_WIDTH, ASPECT_WIDTH = 44, 30, 6


def _write_part(screen: Screen, part: CoveragePart, width: int, most: int | None) -> None:
    """Write what of a part is reached, what is missing, and what would add it."""
    from keen_matrix.wording.safe import cut, pad

    percent = part.percent or 0.0
    screen.line(
        "  ",
        pad(cut(part.name, width), width),
        "  ",
        (f"{percent:5.1f} %", style_of(percent)),
        f"  {part.reached:>6,} of {part.total:<6,}",
    )
    for what in part.missing[:most]:
        screen.line("      ", ("missing  ", "warn"), what)
    left = part.total - part.reached - len(part.missing[:most])
    if left > 0:
        screen.line("      ", (f"and {left:,} more", "dim"))
    for line in part.closing[:2]:
        screen.line("      ", ("would add it  ", "dim"), (line, "expected"))


def _write_aspects(screen: Screen, found: Coverage) -> None:
    """Write which aspects are checked, in how many cases of each matrix."""
    from keen_matrix.wording.safe import cut, pad

    names = list(dict.fromkeys(name for counts in found.aspects.values() for name in counts))
    width = min(MATRIX_WIDTH, max((len(name) for name in found.aspects), default=0))
    screen.line(("aspects checked", "strong"), ("   in how many of the cases of each matrix", "dim"))
    screen.line(
        "  ", " " * width, "  ", ("  ".join(pad(name, max(ASPECT_WIDTH, len(name))) for name in names), "dim")
    )
    for matrix, counts in found.aspects.items():
        cells: list[Any] = []
        for name in names:
            count, total = counts.get(name, 0), found.cases[matrix]
            text = "all" if count >= total else str(count) if count else screen.sign("blank")
            cells.append(
                (
                    pad(text, max(ASPECT_WIDTH, len(name)) + 2),
                    "good" if count >= total else "warn" if count else "dim",
                )
            )
        screen.line("  ", pad(cut(matrix, width), width), "  ", *cells)
