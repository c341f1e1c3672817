"""Rust's clap (2 to 4): sections in capitals or not, `-n, --num <NUM>`, the text beside it or
below."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout

LAYOUT = HelpLayout(
    "clap",
    marks=(
        r"^USAGE:$|^Usage: \S+.* \[OPTIONS\]",
        r"^(?:USAGE|OPTIONS|FLAGS|ARGS|SUBCOMMANDS):$",
        r"^ +-h, --help\s+(?:Print help(?: information)?|Prints help information)\b",
        r"\[possible values: ",
        r"--\w[\w-]* <[A-Z]\w*>",
    ),
    reader="clap",
    telling=(r"^ +-h, --help\s+(?:Print help(?: information)?|Prints help information)\b",),
    several=True,
)
