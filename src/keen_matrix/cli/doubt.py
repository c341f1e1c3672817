"""`keen-matrix doubt`: alter each held outcome on purpose and list what no expectation notices."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING

from keen_matrix.cli.insight import add_run_options, runs_of
from keen_matrix.cli.shared import counted_noun, percent

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.insight.doubt import Doubts

EPILOG = """\
examples:
  keen-matrix run
  keen-matrix doubt                      which expectations would pass for a wrong output, and what would close the gap
  keen-matrix doubt --fail-under 90      for CI

Nothing is launched: the outcomes are those of the last run. exit status: 0, or 1 with --fail-under when a spec is below it
"""

SHOWN = 12


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_run_options(parser)
    parser.add_argument("--fail-under", type=percent, metavar="PERCENT", help="exit 1 when less is noticed")
    parser.add_argument("--all", action="store_true", help=f"show every weak rule, not only the {SHOWN} weakest")


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.insight.doubt import doubts_of

    screen = Screen(sys.stdout, color=options.color)
    worst = 100.0
    for number, (spec, records) in enumerate(runs_of(options, screen)):
        if number:
            screen.line()
        doubts = doubts_of(spec, records)
        worst = min(worst, doubts.whole.percent)
        write_scores(screen, spec.path, doubts)
        write_weaknesses(screen, doubts, None if options.all else SHOWN)
    if options.fail_under is not None and worst < options.fail_under:
        screen.line()
        screen.line((f"{worst:.1f} % is less than {options.fail_under:g} %", "bad"))
        return 1
    return 0


def write_scores(screen: Screen, path: str, doubts: Doubts) -> None:
    """Write how much of each matrix was noticed."""
    from keen_matrix.cli.console.safe import cut, pad

    whole = doubts.whole
    screen.line((path, "strong"), f"   {whole.noticed:,} of {whole.tried:,} alterations noticed, ",
                (f"{whole.percent:.1f} %", style_of(whole.percent)))  # fmt: skip
    width = min(40, max((len(name) for name in doubts.scores), default=0))
    for name, parts in doubts.scores.items():
        score = doubts.of(name)
        by_aspect = "  ".join(f"{aspect} {part.percent:.0f}" for aspect, part in parts.items())
        screen.line("  ", pad(cut(name, width), width), "  ", (f"{score.percent:5.1f} %", style_of(score.percent)),
                    f"  {score.noticed:>5,} of {score.tried:<5,}  ", (by_aspect, "dim"))  # fmt: skip


def style_of(percentage: float) -> str:
    """Return the style of a score."""
    return "good" if percentage >= 90 else "warn" if percentage >= 70 else "bad"


def write_weaknesses(screen: Screen, doubts: Doubts, most: int | None) -> None:
    """Write what is left open, the rules that leave most open first."""
    from keen_matrix.cli.console.safe import cut

    ordered = sorted(doubts.weaknesses.values(), key=lambda each: (-len(each.cases), each.matrix, each.aspect))
    for weakness in ordered[:most]:
        screen.line()
        about = "looks at it, not closely enough" if weakness.named else "no expectation looks at it"
        screen.line((weakness.aspect, "strong"), f"   {weakness.matrix}   ", (f"{weakness.rule}  {about}", "dim"))
        for what, id in list(weakness.alterations.items())[:5]:
            screen.line("  unnoticed  ", (what, "came"), "   ", (id[:6], "place"))
        left = len(weakness.alterations) - 5
        more = f", and {counted_noun(left, 'more alteration')}" if left > 0 else ""
        screen.line(f"  in {counted_noun(len(weakness.cases), 'case')}{more}; ",
                    ("it would be noticed by  ", "dim"), (cut(weakness.closing, 160), "expected"))  # fmt: skip
    if most is not None and len(ordered) > most:
        screen.line()
        screen.line((f"{len(ordered) - most} further weak rules are not shown; ", "dim"), ("--all", "strong"),
                    (" shows them", "dim"))  # fmt: skip
    worst = sorted(doubts.by_case.items(), key=lambda each: -each[1])[:6]
    if worst:
        screen.line()
        screen.line(
            ("most doubts: ", "dim"), *[each for id, count in worst for each in ((id[:6], "place"), f" {count}  ")]
        )
