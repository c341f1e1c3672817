"""Python's typer: panels drawn with lines, one for the operands, one for the options, columns in
them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from keen_matrix.core.signature.helptext.layouts import click
from keen_matrix.core.signature.helptext.layouts.base import HelpLayout
from keen_matrix.core.signature.values.base import TypeName

_TOP = re.compile(r"^ *[╭┌+][─-]+ (?P<title>[^─]+?) [─-]+[╮┐+]\s*$")
_ROW = re.compile(r"^ *[│|](?P<row>.*)[│|]\s*$")
_BOTTOM = re.compile(r"^ *[╰└+][─-]+[╯┘+]\s*$")
_METAVAR = re.compile(
    r"(?:<?[A-Z][A-Z0-9_]*(?: [A-Z]+)?>?(?:\.\.\.)?|<[^<>]+>|\[[^\[\]]*\|[^\[\]]*\])(?P<range> \[[^\]]*\])?"
)
#: click's names for its types, and those that typer itself prints since it has them in small
#: letters.
KINDS: dict[str, TypeName] = {
    **click.KINDS,
    "int": "int",
    "int range": "int",
    "float": "float",
    "float range": "float",
    "str": "text",
    "path": "path",
    "file": "file",
    "filename": "file",
    "uuid": "text",
}


def _prepared(lines: Sequence[str]) -> list[str]:
    """Return the lines without what is drawn, the columns of a row joined to a head and a text."""
    found: list[str] = []
    section = ""
    for line in lines:
        top, row = _TOP.match(line), _ROW.match(line)
        if top:
            section = top["title"].strip().rstrip(":")
            found += ["", f"{section}:"]
        elif _BOTTOM.match(line):
            section = ""
            found.append("")
        elif row and section:
            found.append(_row(row["row"], section))
        else:
            found.append(line)
    return found


def _row(row: str, section: str) -> str:
    """Return a row of a panel in the general form: `*    --name  -n  TEXT  text [required]`."""
    mark = row.lstrip().startswith("* ")
    cells = [each for each in re.split(r"\s{2,}", row.strip().removeprefix("* ").strip()) if each]
    deep = len(row) - len(row.lstrip())
    if "command" in section.lower() or not cells:
        return f"  {'  '.join(cells)}"
    if not cells[0].startswith("-") and (deep > 8 and not mark):
        return " " * 24 + " ".join(cells)
    head, text = list(_columns(cells))
    needed = " [required]" if mark and "[required]" not in text else ""
    return f"  {head}    {text}{needed}"


def _columns(cells: Sequence[str]) -> Iterator[str]:
    """Yield the head and the text of a row's cells."""
    if not cells[0].startswith("-"):
        rest = list(cells[1:])
        kind = rest.pop(0) if rest and _METAVAR.fullmatch(rest[0]) else ""
        yield cells[0]
        yield " ".join([*rest, f"[{kind[1:-1] if kind[0] in '<[' else kind}]" if kind else ""])
        return
    at = 0
    spellings: list[str] = []
    off: list[str] = []
    while at < len(cells) and cells[at].startswith("-"):
        for each in cells[at].split(","):
            (off if each.startswith("--no-") and spellings else spellings).append(each.strip())
        at += 1
    value = bounds = ""
    written = _METAVAR.fullmatch(cells[at]) if at < len(cells) else None
    if written:
        bounds = written["range"] or ""
        value = f" {cells[at].removesuffix(bounds)}"
        at += 1
    if off or value == " <bool>":
        value = ""  # a flag, whose kind is told all the same
    yield ", ".join(spellings) + (f" / {', '.join(off)}" if off else "") + value
    yield " ".join([*cells[at:], bounds.strip()]).strip()


LAYOUT = HelpLayout(
    "typer",
    marks=(
        r"^ *[╭┌+][─-]+ (?:Options|Arguments|Commands) [─-]+[╮┐+]\s*$",
        r"^ *Usage: \S+.* \[OPTIONS\]",
        r"^[│|] +--help\b.*Show this message and exit\.",
        r"^[│|] (?:\*| ) ",
    ),
    reader="typer",
    telling=(r"^ *[╭┌+][─-]+ Options [─-]+[╮┐+]\s*$",),
    kinds=KINDS,
    prepare=_prepared,
    finish=click.LAYOUT.finish,
)
