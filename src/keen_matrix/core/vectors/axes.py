"""The values of axes, and where they come from."""

from __future__ import annotations

import csv
import io
import math
import os
import random
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import TYPE_CHECKING, NamedTuple, TypeAlias, overload

from keen_matrix.core.files import read_regular
from keen_matrix.core.model.lookups import look
from keen_matrix.core.model.table import Table
from keen_matrix.core.structs import Struct

if TYPE_CHECKING:
    from keen_matrix.core.signature.values import ValueType

#: The values of an axis, by number. Ranges are computed, never stored.
Values: TypeAlias = "Sequence[object]"

#: Size of a text or CSV file that an axis may read.
MAX_SOURCE_BYTES = 64 * 1024 * 1024


#: Values of one axis: far more than anyone runs, few enough to be counted by machine words.
MAX_VALUES = 10**15
#: Words that the values of one repeating axis may have together.
MAX_WORDS = 1_000_000


class SourceFault(ValueError):
    """A source of values cannot be used. `key` is the key to blame, if one is."""

    def __init__(self, message: str, key: str = "") -> None:
        self.key = key
        super().__init__(message)


@dataclass(frozen=True, slots=True)
class DecimalRange(Sequence[object]):
    """The numbers from `start` in steps of `step`, exact in decimals. Whole numbers are ints,
    others floats."""

    start: Decimal
    step: Decimal
    length: int

    def __len__(self) -> int:
        return self.length

    @overload
    def __getitem__(self, index: int) -> object: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[object]: ...
    def __getitem__(self, index: int | slice) -> object:
        if isinstance(index, slice):
            return [self[each] for each in range(*index.indices(self.length))]
        if not -self.length <= index < self.length:
            raise IndexError(index)
        # Multiplied and not added up: after a thousand steps of 0.1 a float would be off.
        value = self.start + self.step * (index % self.length)
        whole = self.start == self.start.to_integral() and self.step == self.step.to_integral()
        return int(value) if whole else float(value)


def decimal_range(start: float, to: float, step: float) -> Sequence[object]:
    """Return the numbers from `start` to `to`, both included when a step lands there. `step` must
    not be 0."""
    # A range of Python's own: it takes no memory, and its values are ints.
    if all(isinstance(each, int) for each in (start, to, step)):
        return range(int(start), int(to) + (1 if step > 0 else -1), int(step))
    # By what the spec writes: 0.1 is one tenth here, and not the nearest float to it.
    first, last, by = (Decimal(repr(each)) for each in (start, to, step))
    return DecimalRange(first, by, int((last - first) // by) + 1)


Types: TypeAlias = "Mapping[str, ValueType] | None"


def axis_values(table: Table, here: str, types: Types = None) -> Values:
    """Return the values that an axis table stands for; files are looked up beside the spec, NAMEs
    in `types`.

    Raises SourceFault.
    """
    # That there is exactly one was seen to when the table was validated.
    source = next(source for source in SOURCES.values() if getattr(table, source.field) is not None)
    return source.values(table, here, types)


def _listed(table: Table, here: str, types: Types) -> Values:
    return tuple(table.values or ())


def _stepped(table: Table, here: str, types: Types) -> Values:
    start, to = table.from_ or 0, table.to or 0
    return _range(start, to, 1 if table.step is None else table.step)


def _from_lines(table: Table, here: str, types: Types) -> Values:
    name = table.lines or ""
    return tuple(_lines(os.path.join(here, name), name))


def _from_column(table: Table, here: str, types: Types) -> Values:
    name = table.table or ""
    return _column(read_csv(os.path.join(here, name), name, table.separator), table.column or "", name)


def _repeated(table: Table, here: str, types: Types) -> Values:
    low, _, high = (table.times or "").partition("..")
    # An upper bound is enough here: what comes near to it is a slip.
    if (int(high) - int(low) + 1) * int(high) > MAX_WORDS:
        raise SourceFault(f"so many words in all are more than {MAX_WORDS:,}", "times")
    return tuple([table.repeat] * times for times in range(int(low), int(high) + 1))


def _at_edges(table: Table, here: str, types: Types) -> Values:
    return tuple(_type_of(table.edges or "", "edges", types).legal())


def _plainly_bad(table: Table, here: str, types: Types) -> Values:
    values = tuple(_type_of(table.bad or "", "bad", types).bad())
    if not values:
        raise SourceFault(f"{table.bad} has no values that are certainly wrong", "bad")
    return values


def _sampled(table: Table, here: str, types: Types) -> Values:
    if table.of is None or table.sample is None:
        raise SourceFault("expected what to draw the sample from", "of")
    if table.of.edges is not None:
        return _sample(_every(_type_of(table.of.edges, "of", types)), table.sample, table.seed)
    return _sample(axis_values(table.of, here, types), table.sample, table.seed)


class AxisSource(NamedTuple):
    """A source of an axis's values: what it makes of a table, and the keys that go with its own."""

    values: Callable[[Table, str, Types], Values]
    field: str
    needs: tuple[str, ...] = ()
    takes: tuple[str, ...] = ()


#: Key of an axis table → the source; exactly one is in a table.
SOURCES: Mapping[str, AxisSource] = {
    "values": AxisSource(_listed, "values"),
    "from": AxisSource(_stepped, "from_", needs=("to",), takes=("step",)),
    "lines": AxisSource(_from_lines, "lines"),
    "table": AxisSource(_from_column, "table", needs=("column",), takes=("separator",)),
    "repeat": AxisSource(_repeated, "repeat", needs=("times",)),
    "sample": AxisSource(_sampled, "sample", needs=("of",), takes=("seed",)),
    "edges": AxisSource(_at_edges, "edges"),
    "bad": AxisSource(_plainly_bad, "bad"),
}


def _range(start: float, to: float, step: float) -> Values:
    for key, number in (("from", start), ("to", to), ("step", step)):
        if not math.isfinite(number):
            raise SourceFault(f"expected a finite number, found {number}", key)
    # Counted before it is made; from 0 to 1e300 would not end.
    count = (Decimal(repr(to)) - Decimal(repr(start))) / Decimal(repr(step)) + 1
    if count > MAX_VALUES:
        raise SourceFault(f"an axis of {count:.0f} values has more than {MAX_VALUES:,}", "to")
    return decimal_range(start, to, step)


def _type_of(name: str, key: str, types: Mapping[str, ValueType] | None) -> ValueType:
    if types is None:
        raise SourceFault(f'"{key}" needs a [signature], whose value it names', key)
    if name not in types:
        from keen_matrix.core.errors import nearest

        hint = nearest(name, types)
        more = f'; did you mean "{hint}"?' if hint else f"; it has {', '.join(types)}"
        raise SourceFault(f'the signature has no value "{name}"{more}', key)
    return types[name]


def _every(kind: ValueType) -> Values:
    """Return all values to draw a sample from: a bounded whole number's, or those at the edges."""
    from keen_matrix.core.signature.values import Whole

    if isinstance(kind, Whole) and kind.min is not None and kind.max is not None:
        # All of them, so that a sample is one of the whole range and not of its edges.
        return range(int(kind.min), int(kind.max) + 1)
    return tuple(kind.legal())


def _sample(values: Values, count: int, seed: int) -> Values:
    """Draw `count` values without putting back, in the order of the source, the same for every
    machine."""
    if count > len(values):
        raise SourceFault(f"cannot draw {count} of {len(values)} values", "sample")
    return tuple(
        # Numbers are drawn, and no values: an axis may be a range that is never made whole. Python
        # promises the same draw of the same seed on every machine.
        values[index]
        for index in sorted(random.Random(seed).sample(range(len(values)), count))
    )


def read_text(path: str, name: str) -> str:
    """Return a UTF-8 text file, with or without a byte order mark. Raises SourceFault."""
    look(path)
    try:
        if not os.path.isfile(path):
            raise SourceFault(f"{name} is not a file" if os.path.exists(path) else f"{name} does not exist")
        if os.path.getsize(path) > MAX_SOURCE_BYTES:
            raise SourceFault(f"{name} has more than {MAX_SOURCE_BYTES:,} bytes")
        return read_regular(path, MAX_SOURCE_BYTES).decode("utf-8-sig")
    except OSError as error:
        raise SourceFault(f"{name} cannot be read: {error.strerror}") from None
    except UnicodeDecodeError as error:
        raise SourceFault(f"{name} is not UTF-8 text (byte {error.start})") from None
    except ValueError as error:
        if isinstance(error, SourceFault):
            raise
        raise SourceFault(f"{name!r} is not a file name ({error})") from None


def _lines(path: str, name: str) -> Iterator[str]:
    found = False
    for line in read_text(path, name).split("\n"):
        text = line.removesuffix("\r")
        if text:
            found = True
            yield text
    if not found:
        raise SourceFault(f"{name} has no lines", "lines")


#: Signs that are looked for in the header of a CSV file, the first where several are as
#: frequent.
SEPARATORS = (",", ";", "\t", "|")
SEPARATOR_NAMES = {"\t": "a tab", ",": "a comma", ";": "a semicolon"}


class CsvTable(Struct, frozen=True):
    """A CSV file: its header and its rows, all texts, and the line in which each row begins."""

    header: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    lines: tuple[int, ...]


def separator_in(text: str) -> str:
    """Return the sign that separates the fields of a header line: the most frequent of the usual
    ones outside quotes."""
    # The header alone: names seldom have a comma in them, and texts of the rows often do.
    header = text.lstrip("\r\n").split("\n", 1)[0]
    outside = "".join(header.split('"')[::2])
    return max(SEPARATORS, key=lambda sign: (outside.count(sign), -SEPARATORS.index(sign)))


def read_csv(path: str, name: str, separator: str | None = None) -> CsvTable:
    """Read a CSV file (RFC 4180) with a header line; without a separator it is the one in the
    header. Raises SourceFault naming the line of an uneven row."""
    text = read_text(path, name)
    found = separator_in(text) if separator is None else separator
    # The file as a whole is bounded; the library's own bound of a cell is for who reads line by
    # line.
    csv.field_size_limit(MAX_SOURCE_BYTES)
    reader = csv.reader(io.StringIO(text), strict=True, delimiter=found)
    try:
        header = tuple(next(reader, []))
        if not header:
            raise SourceFault(f"{name} is empty; expected a header line")
        twice = next((column for column in header if header.count(column) > 1), None)
        if twice is not None:
            raise SourceFault(f'{name}:1: the column "{twice}" occurs twice in the header')
        rows, lines, begun = [], [], reader.line_num + 1
        for row in reader:
            at, begun = begun, reader.line_num + 1
            # A blank line ends many tables that were edited by hand.
            if not row:
                continue
            if len(row) != len(header):
                sign = SEPARATOR_NAMES.get(found, found)
                how = "as `separator` says" if separator is not None else "as its header is"
                raise SourceFault(
                    f"{name}:{at}: {len(row)} fields; expected {len(header)}, as in the header "
                    f"(separated by {sign}, {how})"
                )
            rows.append(tuple(row))
            lines.append(at)
    except csv.Error as error:
        raise SourceFault(f"{name}:{reader.line_num}: this is not valid CSV: {error}") from None
    if not rows:
        raise SourceFault(f"{name} has a header and no rows")
    return CsvTable(header, tuple(rows), tuple(lines))


def _column(table: CsvTable, column: str, name: str) -> Values:
    if column not in table.header:
        from keen_matrix.core.errors import nearest

        hint = nearest(column, table.header)
        more = f'; did you mean "{hint}"?' if hint else f"; it has {', '.join(table.header)}"
        raise SourceFault(f'{name} has no column "{column}"{more}', "column")
    index = table.header.index(column)
    # Each value once: an axis that has one twice would combine to the same vectors again.
    return tuple(dict.fromkeys(row[index] for row in table.rows))
