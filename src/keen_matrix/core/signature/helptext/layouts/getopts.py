"""Scripts that read letters by getopts: one line of usage, the letters perhaps listed below it."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout

LAYOUT = HelpLayout(
    "getopts", marks=(r"^[Uu]sage: \S+ (?:\[-\w(?: \w+)?\] )+",), lacks=(r"(?:^|[\s\[|])--\w",)
)
