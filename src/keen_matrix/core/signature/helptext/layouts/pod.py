"""Perl's POD by pod2usage: indented by four, the head of an option on a line of its own."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout

LAYOUT = HelpLayout(
    "pod",
    marks=(
        r"^Usage:\n {4,8}\S",
        r"^(?:Options|Arguments|Options and [Aa]rguments):\n(?:\n| {4}\S)",
        r"^ {4}-[\w-]+.*\n(?:\n)? {8}\S",
    ),
)
