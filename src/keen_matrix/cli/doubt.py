"""`keen-matrix doubt`: alter each outcome that passed on purpose and list what no expectation
notices."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import TYPE_CHECKING

from keen_matrix.cli.insight import add_run_options, runs_of, screen_of
from keen_matrix.cli.shared import JSON, add_format, percent
from keen_matrix.cli.statuses import EXIT_FAILED, EXIT_OK
from keen_matrix.wording.counts import counted

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.insight.doubt import Doubts

EPILOG = """\
examples:
  keen-matrix run
  keen-matrix doubt                      expectations that a wrong output would pass, and how to close the gap
  keen-matrix doubt --fail-under 90      for CI

No program and no command is run: the results are those of the last run. Expectations that call the oracle file are
checked again, so the oracle file is executed.
exit status: 0, 1 with --fail-under when a spec is below it or no case passed, 2 wrong usage,
3 no journal
"""

SHOWN = 12


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_run_options(parser)
    parser.add_argument("--fail-under", type=percent, metavar="PERCENT", help="exit 1 when less is noticed")
    parser.add_argument(
        "--all", action="store_true", help=f"list everything: each weak rule, not only the {SHOWN} weakest"
    )
    add_format(parser)


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.cli.documents import DoubtDocument, doubt_spec, write_document
    from keen_matrix.core.insight.doubt import doubts_of

    screen = screen_of(options)
    scores: list[float | None] = []
    found = []
    for number, (spec, records) in enumerate(runs_of(options, screen)):
        doubts = doubts_of(spec, records)
        scores.append(doubts.whole.percent)
        if options.format == JSON:
            found.append(doubt_spec(spec.path, doubts))
            continue
        if number:
            screen.line()
        write_scores(screen, spec.path, doubts)
        write_weaknesses(screen, doubts, None if options.all else SHOWN)
    if options.format == JSON:
        write_document(DoubtDocument(found))
    return below(screen, scores, options.fail_under, "no case passed, so nothing was altered")


def below(screen: Screen, scores: Sequence[float | None], limit: float | None, nothing: str) -> int:
    """Say which of a command's scores is below the limit asked for, or that there was `nothing` to
    score; return the status."""
    if limit is None:
        return EXIT_OK
    worst = min((each for each in scores if each is not None), default=None)
    if worst is None or None in scores:
        screen.line()
        screen.line((f"{nothing}, so {limit:g} % is not reached", "bad"))
        return EXIT_FAILED
    if worst < limit:
        screen.line()
        screen.line((f"{worst:.1f} % is less than {limit:g} %", "bad"))
        return EXIT_FAILED
    return EXIT_OK


def write_scores(screen: Screen, path: str, doubts: Doubts) -> None:
    """Write how much of each matrix was noticed."""
    from keen_matrix.wording.safe import cut, pad

    whole = doubts.whole
    if whole.percent is None:
        screen.line(
            (path, "strong"),
            "   ",
            ("nothing to doubt", "warn"),
            "   no case passed whose expectations could be tried",
        )
        return
    screen.line(
        (path, "strong"),
        f"   {whole.noticed:,} of {whole.tried:,} alterations noticed, ",
        (f"{whole.percent:.1f} %", style_of(whole.percent)),
    )
    width = min(40, max((len(name) for name in doubts.scores), default=0))
    for name, parts in doubts.scores.items():
        score = doubts.of(name)
        if score.percent is None:
            continue
        by_aspect = "  ".join(f"{aspect} {part.percent:.0f}" for aspect, part in parts.items())
        screen.line(
            "  ",
            pad(cut(name, width), width),
            "  ",
            (f"{score.percent:5.1f} %", style_of(score.percent)),
            f"  {score.noticed:>5,} of {score.tried:<5,}  ",
            (by_aspect, "dim"),
        )


def style_of(percentage: float) -> str:
    """Return the style of a score."""
    return "good" if percentage >= 90 else "warn" if percentage >= 70 else "bad"


def write_weaknesses(screen: Screen, doubts: Doubts, most: int | None) -> None:
    """Write what is left open, the rules that leave most open first."""
    from keen_matrix.wording.safe import cut

    ordered = sorted(
        doubts.weaknesses.values(), key=lambda each: (-len(each.cases), each.matrix, each.aspect)
    )
    for weakness in ordered[:most]:
        screen.line()
        about = "checked too loosely" if weakness.named else "no expectation looks at it"
        screen.line(
            (weakness.aspect, "strong"), f"   {weakness.matrix}   ", (f"{weakness.rule}  {about}", "dim")
        )
        for what, id in list(weakness.alterations.items())[:5]:
            screen.line("  unnoticed  ", (what, "found"), "   ", (id[:6], "place"))
        left = len(weakness.alterations) - 5
        more = f", and {counted(left, 'more alteration')}" if left > 0 else ""
        screen.line(
            f"  in {counted(len(weakness.cases), 'case')}{more}; ",
            ("it would be noticed by  ", "dim"),
            (cut(weakness.closing, 160), "expected"),
        )
    if most is not None and len(ordered) > most:
        screen.line()
        screen.line(
            (f"{len(ordered) - most} more weak rules are not shown; ", "dim"),
            ("--all", "strong"),
            (" shows them", "dim"),
        )
    worst = sorted(doubts.by_case.items(), key=lambda each: -each[1])[:6]
    if worst:
        screen.line()
        screen.line(
            ("most doubts: ", "dim"),
            *[each for id, count in worst for each in ((id[:6], "place"), f" {count}  ")],
        )
