"""Python's argparse (Lib/argparse.py, HelpFormatter): lists of operands and of options, choices
between braces."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout

LAYOUT = HelpLayout(
    "argparse",
    marks=(
        r"^usage: ",
        r"^positional +arguments:$",
        r"^(?:options|optional arguments):$",
        r"^  -h, --help +show this help message and exit$",
    ),
    reader="argparse",
    telling=(
        r"^(?:options|optional arguments|positional +arguments):$",
        r"^  -h, --help +show this help message and exit$",
    ),
    several=True,
)
