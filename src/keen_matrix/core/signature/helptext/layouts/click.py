"""Python's click: `Usage: cli [OPTIONS] FILE`, the kind of a value for its name."""

from __future__ import annotations

import re
from collections.abc import Sequence

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout
from keen_matrix.core.signature.helptext.page import HelpOption, HelpText
from keen_matrix.core.signature.values.base import TypeName
from keen_matrix.core.structs import replace

#: click's names for its types (click.types), which stand where others name the value.
KINDS: dict[str, TypeName] = {
    "INTEGER": "int",
    "INTEGER RANGE": "int",
    "FLOAT": "float",
    "FLOAT RANGE": "float",
    "BOOLEAN": "bool",
    "FILENAME": "file",
    "FILE": "file",
    "PATH": "path",
    "DIRECTORY": "path",
    "TEXT": "text",
    "UUID": "text",
    "DATE": "date",
}


def _prepared(lines: Sequence[str]) -> list[str]:
    """Return the lines with a name for `[%Y-%m-%d|%Y-%m-%dT%H:%M:%S|…]`, which are ways to write a
    date and no choices."""
    return [
        re.sub(r"\[%[^\]]+\]", lambda each: "DATE" if "[%Y-%m-%d" in each[0] else "TIME", line)
        for line in lines
    ]


def _finished(page: HelpText) -> HelpText:
    return replace(page, options=tuple(map(_option, page.options)))


def _option(option: HelpOption) -> HelpOption:
    required = bool(re.search(r"\[(?:[^\[\]]*; *)?required\]", option.text))
    return replace(option, required=required)


LAYOUT = HelpLayout(
    "click",
    marks=(
        r"^Usage: \S+.* \[OPTIONS\]",
        r"^  (?:-h, )?--help +Show this message and exit\.$",
        r"^  .*--\w[\w-]* (?:INTEGER|TEXT|FLOAT|FILENAME|PATH|DIRECTORY|BOOLEAN)\b",
    ),
    reader="click",
    telling=(r"^  (?:-h, )?--help +Show this message and exit\.$",),
    kinds=KINDS,
    prepare=_prepared,
    finish=_finished,
)
