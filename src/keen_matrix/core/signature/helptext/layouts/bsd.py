"""BSD: usage lines alone, `usage: cp [-R [-H | -L | -P]] [-fi] source_file target_file`."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout

LAYOUT = HelpLayout(
    "bsd", marks=(r"^usage: \S+ (?:\[--libxo\] )?\[-\w{2,}\]", r"\[-\w \w+\]"), lacks=(r"^[ \t]+-\w",)
)
