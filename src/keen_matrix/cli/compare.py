"""`keen-matrix compare`: two runs compared."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Mapping
from typing import TYPE_CHECKING

from keen_matrix.cli.shared import JSON, add_color, add_format
from keen_matrix.core.results.journal import DEFAULT_JOURNAL
from keen_matrix.wording.counts import counted
from keen_matrix.wording.signs import verdict_text

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.results.compare import Change, Comparison

EPILOG = """\
examples:
  keen-matrix run --journal before.jsonl
  keen-matrix run --journal after.jsonl --program "python3 new/fare.py"
  keen-matrix compare before.jsonl after.jsonl
  keen-matrix compare before.jsonl           with the last run

If both runs used --repeat 5, times are compared statistically; otherwise only twice as slow counts.
exit status: 0 every case that passed before still passes, 1 one of them fails or has no result, 2 wrong usage,
3 a journal cannot be read
"""

#: Cases of each kind that are listed unless --all is given.
SHOWN = 10


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    parser.add_argument("before", metavar="A", help="journal of the earlier run")
    parser.add_argument(
        "after",
        metavar="B",
        nargs="?",
        default=DEFAULT_JOURNAL,
        help="journal of the later run (default: the last run)",
    )
    parser.add_argument(
        "--all", action="store_true", help="list everything: each case, not one for each kind of change"
    )
    add_color(parser)
    add_format(parser)


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.results.compare import KINDS, compare_runs
    from keen_matrix.core.results.missing import missing_results
    from keen_matrix.wording.safe import escape

    screen = Screen(sys.stdout, color=options.color)
    found = compare_runs([options.before], [options.after])
    lacking = missing_results([options.before, options.after])
    for each in lacking:
        print(f"keen-matrix: {escape(each.journal)}: {escape(each.sentence)}", file=sys.stderr)
    # The earlier run may be a part: nothing that it lacks can have got worse.
    is_part = any(each.journal == options.after for each in lacking)
    status = 1 if found.counts.get("newly failing") or found.lost or is_part else 0
    if options.format == JSON:
        from keen_matrix.cli.documents import compare_document, write_document

        write_document(compare_document(found))
        return status
    for kind in KINDS:
        if found.counts.get(kind, 0):
            _write_kind(screen, found, kind, everything=options.all)
            screen.line()
    pace = f", median time ratio {found.pace:.2f} (later / earlier)" if found.pace is not None else ""
    if not found.counts:
        screen.line(("nothing differs", "good"))
    screen.line(f"{counted(found.both, 'case')} in both{pace}.")
    if found.lost:
        text = (
            f"{counted(found.lost, 'case')} that passed before "
            f"{'has' if found.lost == 1 else 'have'} no result in the later run"
        )
        screen.line((text, "bad"))
    return status


STYLES_OF_KINDS = {"newly failing": "bad", "newly passing": "good", "slower": "warn", "faster": "good"}


def _write_kind(screen: Screen, found: Comparison, kind: str, *, everything: bool) -> None:
    """Write the cases that changed in one way."""
    from keen_matrix.wording.safe import shell_line

    count, listed, groups = found.counts[kind], found.changes[kind], found.groups[kind]
    screen.line((kind, STYLES_OF_KINDS.get(kind, "strong")), f"  {count:,}")
    if not everything and any(groups):
        write_groups(screen, groups)
        return
    shown = listed if everything else listed[:SHOWN]
    for change in shown:
        how = f" {screen.sign('to')} ".join(
            dict.fromkeys(map(verdict_text, filter(None, (change.before, change.after))))
        )
        words = shell_line(change.argv)[:90]
        screen.line("  ", (change.id[:6], "place"), f"  {change.matrix}  ", words, f"   {how}")
    if left := count - len(shown):
        screen.line((f"  and {left:,} more", "dim"))


def write_groups(screen: Screen, groups: Mapping[str, tuple[int, Change]]) -> None:
    """Write the ways in which cases changed, the most frequent first, each with its shortest
    vector."""
    from keen_matrix.wording.safe import shell_line

    ordered = sorted(groups.items(), key=lambda each: -each[1][0])
    for difference, (count, change) in ordered[:SHOWN]:
        arrow = screen.sign("to")
        verdicts = f" {arrow} ".join(
            dict.fromkeys(map(verdict_text, filter(None, (change.before, change.after))))
        )
        told = difference.replace("→", arrow) or "only the expectations changed, not the results"
        screen.line("  ", (f"{count:>5,}  ", "strong"), told, (f"   {verdicts}", "dim"))
        words = shell_line(change.argv)[:90] or "(no words)"
        screen.line("         such as ", (change.id[:6], "place"), f"  {change.matrix}  {words}")
    left = sum(count for _, (count, _) in ordered[SHOWN:])
    if left:
        screen.line(
            (f"  and {left:,} more in {counted(len(ordered) - SHOWN, 'way')}; --all lists them", "dim")
        )
