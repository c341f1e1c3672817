"""Node's commander: `Usage: ferry [options] <origin>`, `(choices: "a", "b", default: "a")`."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout

LAYOUT = HelpLayout(
    "commander",
    marks=(
        r"^Usage: \S+.* \[options\]",
        r"^  -h, --help +display help for command$",
        r"^  -V, --version +output the version number$",
        r'\(choices: "',
    ),
    reader="commander",
    telling=(r"^  -h, --help +display help for command$",),
    several=True,
)
