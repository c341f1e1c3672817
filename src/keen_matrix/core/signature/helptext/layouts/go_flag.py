"""Go's flag package (PrintDefaults): `-n int`, a tab and the text on the next line."""

from __future__ import annotations

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout
from keen_matrix.core.signature.values.base import TypeName

#: Names of types that flag.UnquoteUsage writes.
KINDS: dict[str, TypeName] = {
    "int": "int",
    "uint": "int",
    "float": "float",
    "string": "text",
    "value": "text",
    "duration": "duration",
}

LAYOUT = HelpLayout(
    "go-flag",
    marks=(
        r"^Usage of [^:]+:$",
        r"^  -\w[\w-]*(?: (?:int|uint|float|string|value|duration))?\n    +\S",
        r"^  -\w(?: {2,4}|\t)\S",
    ),
    reader="go-flag",
    telling=(r"^  -\w[\w-]* (?:int|uint|float|string|value|duration)\n +\S",),
    kinds=KINDS,
    is_silent_on_usage=True,
)
