"""Usage lines that are the interface itself: words typed as they are, `<name>`, `(a | b)`,
`--speed=<kn>`."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout

LAYOUT = HelpLayout(
    "docopt",
    marks=(
        r"^[Uu]sage:\n[ \t]+(\S+) [^\n]*\n[ \t]+\1 ",
        r"^[ \t]+\S+ \((?:-h|--help)\b|^[ \t]+\S+ (?:-h \| --help|--version)$",
    ),
    has_keywords=True,
)
