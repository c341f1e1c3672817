"""Node's yargs: the kind of a value after the text, `[number] [default: 80]`, no name for it."""

from __future__ import annotations

import re
from collections.abc import Sequence

from keen_matrix.core.signature.helptext.layouts.base import HelpLayout
from keen_matrix.core.signature.helptext.page import HelpOption, HelpText
from keen_matrix.core.structs import replace

_CHOICES = re.compile(r"\[choices: ([^\]]+)\]")
_PLAIN_USAGE = re.compile(r"^[\w.-]+(?: [a-z][\w-]*)*(?: <[\w.|-]+>| \[[\w.|-]+\])+\s*$")


def _prepared(lines: Sequence[str]) -> list[str]:
    """Return the lines with `Usage:` before the first, which has none where the program gave no
    text."""
    first = next((n for n, line in enumerate(lines) if line.strip()), None)
    found = list(lines)
    if first is not None and _PLAIN_USAGE.match(found[first]):
        found[first] = f"Usage: {found[first]}"
    return found


def _finished(page: HelpText) -> HelpText:
    return replace(page, options=tuple(map(_option, page.options)))


def _option(option: HelpOption) -> HelpOption:
    """Return an option with what its tags say (yargs, lib/usage.ts)."""
    text = option.text
    listed = _CHOICES.search(text)
    choices = tuple(re.findall(r'"([^"]*)"|([^\s",]+)', listed[1])) if listed else ()
    words = tuple(quoted or bare for quoted, bare in choices)
    takes = re.search(r"\[(string|number|array)\]", text)
    name = re.sub(r"\W+", "_", max(option.spellings, key=len).strip("-")).upper()
    return replace(
        option,
        values=option.values or ((name,) if takes or words else ()),
        several="[array]" in text,
        again="[count]" in text or option.again,
        required="[required]" in text,
        choices=words or option.choices,
        kind="float" if "[number]" in text else "text" if takes and not words else option.kind,
    )


LAYOUT = HelpLayout(
    "yargs",
    marks=(
        r"^ +--version +Show version number +\[boolean\]$",
        r"^ +--help +Show help +\[boolean\]$",
        r"\[(?:boolean|number|string|count|array)\](?: \[|$)",
        r"\[choices: ",
    ),
    reader="yargs",
    telling=(r"^ +(?:-h, )?--help +Show help +\[boolean\]$",),
    kinds={"number": "float"},
    prepare=_prepared,
    finish=_finished,
)
