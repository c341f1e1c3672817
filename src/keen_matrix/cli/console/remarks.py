"""What a run says beside its failures: what was skipped, set aside, seen, and is worth a word."""

from __future__ import annotations

from collections.abc import Sequence

from keen_matrix.cli.console.screen import Screen
from keen_matrix.core.model.record import Remark
from keen_matrix.core.results.tally import Tally
from keen_matrix.core.vectors.ids import SHOWN_ID
from keen_matrix.wording.counts import counted
from keen_matrix.wording.remarks import remark_sentence
from keen_matrix.wording.safe import escape
from keen_matrix.wording.signs import STYLE_OF


def write_passed(screen: Screen, tally: Tally) -> None:
    """Write why cases were skipped or may differ, a line a reason."""
    for (verdict, reason), several in sorted(tally.passed.items(), key=lambda each: each[1].first):
        count, ids = several.count, several.ids
        shown = " ".join(each[:6] for each in ids) + (" …" if count > len(ids) else "")
        screen.line(
            "  ",
            (screen.sign(verdict), STYLE_OF[verdict]),
            f" {counted(count, 'case')} {verdict}: {escape(reason)}   ",
            (shown, "place"),
        )


def write_remarks(screen: Screen, remarks: Sequence[Remark]) -> None:
    """Write what is worth a word though it is no failure; warnings below each other."""
    kind = ""
    for remark in remarks:
        label, text = remark_sentence(remark)
        if remark.kind not in (kind, "warnings"):
            screen.line()
        kind = remark.kind
        ids = " ".join(id[:SHOWN_ID] for id in remark.ids)
        place = [(f"   {ids}", "place")] if ids else [(f"   {remark.place}", "dim")] if remark.place else []
        screen.line((label, "warn"), f"   {escape(text)}", *place)
        if remark.edit:
            screen.line("  ", (escape(remark.edit), "strong"))
