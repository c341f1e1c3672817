"""Two texts, as what changed between them."""

from __future__ import annotations

import difflib
from collections.abc import Sequence

from keen_matrix.cli.console.screen import Screen
from keen_matrix.wording.counts import counted

STYLES = {"+": "expected", "-": "found", "@": "dim"}


def write_difference(
    screen: Screen,
    before: Sequence[str],
    after: Sequence[str],
    names: tuple[str, str],
    most: int | None = None,
) -> bool:
    """Write what changed between some lines, at most so many lines of it; tell whether anything
    did."""
    lines = list(difflib.unified_diff(before, after, *names, lineterm="", n=1))
    for line in lines[:most]:
        screen.line((line, STYLES.get(line[:1], "")))
    if most is not None and len(lines) > most:
        screen.line((f"and {counted(len(lines) - most, 'more line')}", "dim"))
    return bool(lines)
