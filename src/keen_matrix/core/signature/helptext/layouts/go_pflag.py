"""Go's pflag, as cobra lays it out: `Flags:`, `-c, --count int   text (default 3)`."""

from __future__ import annotations

import re
from collections.abc import Sequence

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout
from keen_matrix.core.signature.values.base import TypeName

#: Names of types that pflag.UnquoteUsage writes; those of lists are texts.
KINDS: dict[str, TypeName] = {
    **dict.fromkeys(
        ["int", "int8", "int16", "int32", "int64", "uint", "uint8", "uint16", "uint32", "uint64"], "int"
    ),
    **dict.fromkeys(["float", "float32", "float64"], "float"),
    "string": "text",
    "duration": "duration",
    "bool": "bool",
}


def _prepared(lines: Sequence[str]) -> list[str]:
    # --opt string[="x"] has a value of its own where none is given
    found = [
        re.sub(r"(--\w[\w-]*) (\w+)\[=\"?[^\]]*\"?\]", r"\1[=\2]", line)
        if line.lstrip().startswith("-")
        else line
        for line in lines
    ]
    # a count says so where others name the value
    return [re.sub(r"^(\s+(?:-\w, )?--\w[\w-]*) count( {2,}|$)", r"\1... \2", line) for line in found]


_LONG = r" +(?:-\w, )?--\w[\w-]* "

LAYOUT = HelpLayout(
    "go-pflag",
    marks=(
        r"^Usage:\n  \S+",
        r"^(?:Flags|Global Flags):$",
        rf"^{_LONG}(?:string|int|strings|duration|float\w*|u?int\w*)\b",
        r"^ +-h, --help +help for \S+",
        r'^Use "\S+.* \[command\] --help" for more information',
    ),
    reader="go-pflag",
    telling=(
        r"^(?:Flags|Global Flags):$",
        rf"^ +-h, --help +help for \S+|^{_LONG}(?:string|int|strings|duration)\b",
    ),
    kinds=KINDS,
    prepare=_prepared,
)
