"""Calls side by side: a table with a row a call where there is room, else a block a call."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

from keen_matrix.core.expect.differences import split_lines
from keen_matrix.core.model.record import Record, end_of, kept_bytes
from keen_matrix.core.structs import Struct
from keen_matrix.core.width import cells
from keen_matrix.wording.counts import counted, duration
from keen_matrix.wording.safe import pad, shell_line, shortened, visible_line
from keen_matrix.wording.signs import Segment

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen

#: Lines of a stream in a cell; of a longer one the last line of the cell says how many more.
CELL_LINES = 5
#: Columns from which each stream has a column of its own.
WIDE = 160
#: Columns below which a call is a block, and no row.
NARROW = 80
#: The share of the width that the words may take.
CALL_SHARE = 0.34
STREAMS = ("stdout", "stderr")


class ShownCall(Struct, kw_only=True):
    """A call as it is shown: what was typed, and its result."""

    line: str
    record: Record
    words: tuple[str, ...]
    #: Further calls with the same result.
    alike: list[str] = []


def shown_calls(results: Iterable[tuple[str, Record]], *, grouped: bool) -> list[ShownCall]:
    """Return calls to show; with `grouped` those with equal results are one."""
    shown: list[ShownCall] = []
    by_result: dict[object, ShownCall] = {}
    for line, record in results:
        call = ShownCall(line=line, record=record, words=record.argv)
        key = (end_of(record), *(kept_bytes(record, stream) for stream in STREAMS), _files(record))
        if grouped and key in by_result:
            by_result[key].alike.append(line)
            continue
        by_result.setdefault(key, call)
        shown.append(call)
    return shown


def write_calls(
    screen: Screen, calls: Sequence[ShownCall], *, full: bool, words: bool, program: str = ""
) -> None:
    """Write calls side by side; `full` as they are typed, after the program."""
    if full:
        for number, call in enumerate(calls):
            if number:
                screen.line()
            screen.rows(_block(screen, call, words=words, most=None, program=program))
    elif screen.width >= NARROW:
        screen.rows(_table(screen, calls, words=words))
    else:
        before: Record | None = None
        for call in calls:
            screen.rows(_block(screen, call, words=words, most=CELL_LINES, before=before))
            before = call.record


def _style(record: Record) -> str:
    return "good" if record.exit == 0 else "bad"


def _exit(record: Record) -> str:
    """Return how a call ended, as short as it stands under a heading."""
    return end_of(record).removeprefix("exit ").removeprefix("signal ")


def _files(record: Record) -> str:
    return ", ".join(f"{name} {change.state}" for name, change in record.files.items())


def _lines(record: Record, stream: str, space: str) -> list[str]:
    text = kept_bytes(record, stream).decode("utf-8", "surrogateescape")
    return [visible_line(line[:2_000], space) for line in split_lines(text)]


def _first(lines: Sequence[str], most: int | None) -> list[str]:
    """Return the first lines, and how many more there are."""
    if most is None or len(lines) <= most:
        return list(lines)
    return [*lines[: most - 1], f"… {counted(len(lines) - most + 1, 'more line')}"]


def _numbered(words: Sequence[str]) -> str:
    return "   ".join(f"{number} {shell_line([word])}" for number, word in enumerate(words, 1)) or "no words"


def _calls(call: ShownCall, *, words: bool) -> list[str]:
    own = [_numbered(call.words)] if words else [call.line or "(no words)"]
    return [*own, *(line or "(no words)" for line in call.alike)]


#: Variables before the words of a call, as a shell has them.
_VARIABLES = re.compile(r"(?:[A-Za-z_]\w*=(?:'[^']*'|\S)* )*")


def _typed(line: str, program: str, *, words: bool) -> list[Segment]:
    """Return a call as it is typed: variables, the program, its words."""
    if not program or words:
        return [(line, "strong")]
    before = _VARIABLES.match(line)
    lead = before[0] if before else ""
    rest = line[len(lead) :].replace("(no words)", "")
    return [(lead, "strong"), (f"{program} ", "dim"), (rest, "strong")]


def _block(
    screen: Screen,
    call: ShownCall,
    *,
    words: bool,
    most: int | None,
    before: Record | None = None,
    program: str = "",
) -> Iterator[list[Segment]]:
    """Yield a call as lines: its words, how it ended, and both streams below each other."""
    record = call.record
    lines = _calls(call, words=words)
    mark = _mark(screen, before is not None and end_of(before) != end_of(record))
    for at, line in enumerate(lines):
        last: list[Segment] = [
            "   ",
            mark,
            (end_of(record), _style(record)),
            (f"   {duration(record.seconds)}", "dim"),
        ]
        typed = _typed(line, program, words=words)
        yield [("$ ", "dim"), *typed, *(last if at == len(lines) - 1 else [])]
    for stream in STREAMS:
        found = _lines(record, stream, screen.sign("space"))
        is_other = before is not None and kept_bytes(before, stream) != kept_bytes(record, stream)
        for at, line in enumerate(_first(found, most)):
            lead = _mark(screen, is_other and at == 0)
            label = f"{stream} " if at == 0 else " " * (len(stream) + 1)
            yield [
                lead,
                (label, "dim"),
                (f"{screen.sign('bar')} ", "dim"),
                (line, "found" if stream == "stderr" else ""),
            ]
    if record.files:
        yield [("  files  ", "dim"), _files(record)]


def _mark(screen: Screen, is_other: bool) -> Segment:
    """Return the mark of what differs from the call before."""
    return (f"{screen.sign('other')} ", "warn") if is_other else "  "


class _OutputColumn(NamedTuple):
    """A column of output: a stream, or both, standard error below standard output."""

    title: str
    streams: tuple[str, ...]

    def lines(self, record: Record, space: str) -> list[str]:
        """Return the lines of a cell; where both are in it, those of standard error say so."""
        lead = "2> " if len(self.streams) > 1 else ""
        return [
            *(_lines(record, "stdout", space) if "stdout" in self.streams else []),
            *(f"{lead}{line}" for line in _lines(record, "stderr", space) if "stderr" in self.streams),
        ]

    def content(self, record: Record) -> tuple[bytes, ...]:
        """Return what is in a cell, as it was printed."""
        return tuple(kept_bytes(record, stream) for stream in self.streams)


class _Widths(NamedTuple):
    call: int
    exit: int
    #: Each column of output with its width.
    columns: tuple[tuple[_OutputColumn, int], ...]


def _table(screen: Screen, calls: Sequence[ShownCall], *, words: bool) -> Iterator[list[Segment]]:
    """Yield a table with a row a call; what differs from the row before is marked."""
    space = screen.sign("space")
    left = max([len("call"), *(cells(line) for call in calls for line in _calls(call, words=words))])
    left = min(left, int(screen.width * CALL_SHARE))
    end = max([4, *(len(_exit(call.record)) for call in calls)])
    used = tuple(each for each in STREAMS if any(kept_bytes(call.record, each) for call in calls))
    is_wide = screen.width >= WIDE or len(used) < 2
    columns = (
        [_OutputColumn(each, (each,)) for each in used] if is_wide else [_OutputColumn("output", STREAMS)]
    )
    took = max(len(duration(call.record.seconds)) for call in calls)
    # the blanks and marks of a row, as `_row` writes them
    room = screen.width - (2 + left + 4 + end + 4 * len(columns) + 2 + took)
    shares = _shares([[each.lines(call.record, space) for call in calls] for each in columns], room)
    widths = _Widths(left, end, tuple(zip(columns, shares, strict=True)))
    head: list[Segment] = [(f"  {pad('call', left)}    {pad('exit', end)}", "dim")]
    yield [*head, *((f"    {pad(each.title, width)}", "dim") for each, width in widths.columns)]
    before: Record | None = None
    for call in calls:
        yield from _row(screen, call, before, _calls(call, words=words), widths)
        before = call.record


def _shares(columns: Sequence[Sequence[Sequence[str]]], room: int) -> list[int]:
    """Return how wide each column is: as wide as it must be, the widest giving way."""
    needed = [
        max([6, *(cells(line) for rows in column for line in _first(rows, CELL_LINES))]) for column in columns
    ]
    while sum(needed) > room and needed:
        at = needed.index(max(needed))
        smaller = max(room - (sum(needed) - needed[at]), room // len(needed))
        if smaller >= needed[at]:
            break
        needed[at] = max(6, smaller)
    return needed


def _row(
    screen: Screen, call: ShownCall, before: Record | None, names: Sequence[str], widths: _Widths
) -> Iterator[list[Segment]]:
    record = call.record
    found = [_first(each.lines(record, screen.sign("space")), CELL_LINES) for each, _ in widths.columns]
    for at in range(max([1, len(names), *map(len, found)])):
        is_first = at == 0
        name = names[at] if at < len(names) else ""
        is_other = is_first and before is not None and end_of(before) != end_of(record)
        row: list[Segment] = ["  ", (pad(shortened(name, widths.call), widths.call), "strong"), "  "]
        row += [
            _mark(screen, is_other),
            (pad(_exit(record) if is_first else "", widths.exit), _style(record)),
        ]
        for (column, width), lines in zip(widths.columns, found, strict=True):
            text = lines[at] if at < len(lines) else ""
            is_error = column.title == "stderr" or text.startswith("2> ")
            differs = before is not None and column.content(before) != column.content(record)
            row += ["  ", _mark(screen, is_first and differs and bool(lines))]
            row.append((pad(shortened(text, width), width), "found" if is_error else ""))
        yield [*row, (f"  {duration(record.seconds)}", "dim")] if is_first else row
