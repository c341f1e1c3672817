"""GNU (Standards for Command Line Interfaces): `-k, --key=KEYDEF  text`, `Usage: sort [OPTION]...
[FILE]...`."""

from __future__ import annotations

import re
from collections.abc import Sequence

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout

_WORD = re.compile(r"(--\w[\w-]*\[?=)([a-z][a-z-]+)(?=\]?(?:,|\s|$))")
_NAME = re.compile(r"--\w[\w-]*\[?=[A-Z]{2,}")


def _prepared(lines: Sequence[str]) -> list[str]:
    """Return the lines with words to be typed between braces: a value in small letters, as in
    `--check=quiet`, is one where NAMEs are in capitals."""
    if not any(_NAME.search(line) for line in lines if line.lstrip().startswith("-")):
        return list(lines)
    return [_WORD.sub(r"\1{\2}", line) if line.lstrip().startswith("-") else line for line in lines]


LAYOUT = HelpLayout(
    "gnu",
    marks=(
        r"^Usage: \S+.*\[OPTION",
        r"^ {2,6}-\w, --\w[\w-]*(?:\[?=[A-Z]+\]?)? ",
        r"^ {6}--\w",
        r"^ +(?:-\w, )?--help +(?:display|give|show) this help",
        r"^Mandatory arguments to long options are mandatory for short options too",
    ),
    reader="getopt-long",
    telling=(
        r"^Mandatory arguments to long options are mandatory for short options too|^ +--help "
        r"+display this help and exit$",
    ),
    prepare=_prepared,
)
