"""A spec file as text: reading it, its values, and the place of every key and value in it.

Values come from tomllib. Places come from the tree-sitter grammar of TOML, parsed only when a
place is asked for.
"""

from __future__ import annotations

import ast
import errno
import hashlib
import os
import re
import sys
import tomllib
from bisect import bisect_right
from collections.abc import Collection, Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any, NamedTuple, TypedDict, Unpack

from keen_matrix.core.errors import Problem, SpecFault, caret_lines
from keen_matrix.core.files import read_regular
from keen_matrix.core.spec.keys import KeyPath, KeySpan, TomlTables
from keen_matrix.core.structs import Struct, field, replace

#: Larger files are refused: no hand-written spec comes near, and tables of values belong in CSV
#: files beside it.
MAX_SPEC_BYTES = 4 * 1024 * 1024
#: The path of a spec that is read from standard input.
STANDARD_INPUT = "-"


class Placing(TypedDict, total=False):
    """What more a problem can say: see Source.problem."""

    expected: str | None
    suggestion: str | None
    offset: int | None
    at_key: bool


class Origin(NamedTuple):
    """Where a key path is written: the file, and the path there."""

    source: Source
    path: KeyPath


class Layer(Struct):
    """A file that a spec is put together from: the source, the table in it that counts (of a
    project file), and the number that its first item of each array has in the whole."""

    source: Source
    prefix: KeyPath = ()
    first: dict[str, int] = field(default_factory=dict)

    @property
    def data(self) -> TomlTables:
        """The tables of the file that count."""
        found: Any = self.source.data
        for key in self.prefix:
            found = found[key]
        return dict(found)

    def own_path(self, path: KeyPath) -> KeyPath | None:
        """Return a key path of the whole as it is written in this file; None where the item is of
        another file."""
        if len(path) > 1 and path[0] in JOINED and isinstance(path[1], int):
            at = path[1] - self.first.get(str(path[0]), 0)
            items = self.data.get(str(path[0]))
            if not isinstance(items, list) or not 0 <= at < len(items):
                return None
            path = (path[0], at, *path[2:])
        return (*self.prefix, *path)


#: Arrays of tables that are put after each other; of any other key the last file wins.
JOINED = ("matrix", "mask", "known")


class Source(Struct):
    """The text of one spec, its parsed data, and where everything in it stands. Of a spec that
    includes others, `data` is that of all files together, and `layers` are the files, the own one
    last."""

    path: str
    text: str
    data: TomlTables
    digest: str
    layers: list[Layer] = field(default_factory=list)
    _places: dict[KeyPath, KeySpan] | None = None
    _raw: bytes = b""
    #: Where each line starts, in bytes, once it has been asked for.
    _starts: list[int] = field(default_factory=list)

    @property
    def here(self) -> str:
        """The absolute directory of the spec."""
        return str(Path(self.path).resolve().parent)

    def is_table(self, path: KeyPath) -> bool:
        """Tell whether a single table is written at a path, and not a list of them."""
        value: object = self.data
        for key in path:
            if isinstance(value, dict):
                value = value.get(key)
            elif isinstance(value, list) and isinstance(key, int) and key < len(value):
                value = value[key]
            else:
                return False
        return isinstance(value, dict)

    def origin(self, path: KeyPath) -> Origin:
        """Return in which of its files a key path is written, or the most of it."""
        if not self.layers:
            return Origin(self, path)
        # The file in which most of the path is written has it: a table may be begun in one and gone
        # on with in another.
        found = [
            (each.source.reach(own) - len(each.prefix), number, Origin(each.source, own))
            for number, each in enumerate(self.layers)
            if (own := each.own_path(path)) is not None
        ]
        return max(found, key=lambda each: each[:2])[2] if found else Origin(self.layers[-1].source, path)

    def paths(self) -> Collection[KeyPath]:
        """Return every key path that is written in this very file."""
        return self._all_places().keys()

    def reach(self, path: KeyPath) -> int:
        """Return how many keys of a path are written in this very file."""
        places = self._all_places()
        return next((n for n in range(len(path), 0, -1) if path[:n] in places), 0)

    def where(self, path: KeyPath) -> str:
        """Return where a key path stands, `file:line`."""
        source, own = self.origin(path)
        return f"{os.path.basename(source.path)}:{source.line(own)}"

    def place(self, path: KeyPath) -> KeySpan | None:
        """Return the place of a key path, or of the nearest enclosing one that is written in the
        file."""
        places = self._all_places()
        # A key that is missing stands nowhere; the table that misses it does.
        for length in range(len(path), 0, -1):
            if path[:length] in places:
                return places[path[:length]]
        return None

    def _all_places(self) -> dict[KeyPath, KeySpan]:
        if self._places is None:
            from keen_matrix.core.spec.positions import (
                find_places,  # its library is costly, and of use with a fault alone
            )

            self._raw = self.text.encode()
            self._places = find_places(self._raw)
        return self._places

    def line(self, path: KeyPath) -> int:
        """Return the line, counted from 1, on which a key path stands; 0 when it is not in the
        file."""
        if self.layers:
            source, path = self.origin(path)
            return source.line(path)
        place = self.place(path)
        return self._line_of(place.key)[0] if place else 0

    def problem(
        self,
        path: KeyPath,
        message: str,
        *,
        expected: str | None = None,
        suggestion: str | None = None,
        offset: int | None = None,
        at_key: bool = False,
    ) -> Problem:
        """Return an error placed at a value (or its key); `offset` is a place inside a text
        value."""
        if self.layers:
            source, own = self.origin(path)
            return source.problem(
                own, message, expected=expected, suggestion=suggestion, offset=offset, at_key=at_key
            )
        problem = Problem(path=self.path, message=message, expected=expected, suggestion=suggestion)
        place = self.place(path)
        if place is None:
            return problem
        at = place.key if at_key else place.value
        if offset is not None:
            at += offset_in_token(self._raw[place.value : place.stop].decode(errors="replace"), offset)
        return self._located(problem, at)

    def warning(self, path: KeyPath, message: str, **more: Unpack[Placing]) -> Problem:
        """Return a warning, placed like an error."""
        return replace(self.problem(path, message, **more), severity="warning")

    def _line_of(self, at: int) -> tuple[int, int]:
        """Return the number of the line, counted from 1, in which a byte stands, and where it
        starts."""
        # Where lines start is worked out once: a spec of 5,000 matrices asks for the line of every
        # rule.
        if not self._starts:
            self._starts = [0, *(match.end() for match in re.finditer(b"\n", self._raw))]
        number = bisect_right(self._starts, at)
        return number, self._starts[number - 1]

    def _located(self, problem: Problem, at: int) -> Problem:
        """Return a problem at a place that is counted in bytes."""
        number, start = self._line_of(at)
        stop = self._starts[number] - 1 if number < len(self._starts) else len(self._raw)
        # Columns are counted in characters and places in bytes.
        before = self._raw[start:at].decode(errors="ignore")
        line = self._raw[start:stop].decode(errors="replace")
        return problem.moved(self.path, number, len(before) + 1, caret_lines(line, len(before)))


def offset_in_token(token: str, offset: int) -> int:
    """Return where character `offset` of a text value is in its TOML token, quotes and escapes
    counted (in bytes)."""
    quotes = 3 if token[:3] in ('"""', "'''") else 1 if token[:1] in "\"'" else 0
    at = quotes
    # TOML drops a newline right after the opening quotes.
    if quotes == 3 and token[3:4] == "\n":
        at += 1
    escapes = token[:1] == '"'
    for _ in range(offset):
        if at >= len(token) - quotes:
            break
        if escapes and token[at] == "\\":
            match = re.compile(r"\\(u[0-9a-fA-F]{4}|U[0-9a-fA-F]{8}|[ \t]*\n\s*|.)", re.DOTALL).match(
                token, at
            )
            at = match.end() if match else at + 1
        else:
            at += 1
    return len(token[:at].encode())


def read_source(path: str, text: str | None = None) -> Source:
    """Read a spec file, or a `text` that is to be in it. Raises SpecFault when it cannot be
    read, is too large, is not UTF-8, or is not TOML."""
    raw = _read_bytes(path) if text is None else text.encode()
    try:
        # Editors on some systems put a mark in front, which TOML does not know.
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        column = error.start - raw.rfind(b"\n", 0, error.start)
        message = f"this is not UTF-8 text (byte 0x{raw[error.start]:02x})"
        raise SpecFault(
            [
                Problem(
                    path=path, line=line, column=column, message=message, expected="UTF-8, as TOML requires"
                )
            ]
        ) from None
    digest = hashlib.blake2b(raw, digest_size=16).hexdigest()
    # tomllib does the same, so that places count the same characters.
    text = text.replace("\r\n", "\n")
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise SpecFault([_syntax_problem(path, text, error)]) from None
    except RecursionError:
        raise SpecFault([Problem(path=path, message="values are nested too deep")]) from None
    except (
        ValueError
    ) as error:  # of Python's, where TOML itself has nothing against it: an integer of 5,000 digits
        raise SpecFault([_number_problem(path, text, error)]) from None
    return Source(path, text, data, digest)


@lru_cache(maxsize=1)
def _standard_input() -> bytes:
    """Return what is on standard input; a spec is read more than once, and a pipe only gives it
    once."""
    return sys.stdin.buffer.read(MAX_SPEC_BYTES + 1)


def _read_bytes(path: str) -> bytes:
    if path == STANDARD_INPUT:
        raw = _standard_input()
        if len(raw) > MAX_SPEC_BYTES:
            raise SpecFault([_too_large(path, f"more than {MAX_SPEC_BYTES:,}")])
        return raw
    try:
        if os.path.isdir(path):
            raise IsADirectoryError(errno.EISDIR, "it is a directory")
        # To open a pipe would wait for a writer that may never come.
        if not os.path.isfile(path) and os.path.exists(path):
            raise OSError(errno.EINVAL, "it is not a regular file")
        size = os.stat(path).st_size
        # By its size, before it is read.
        if size > MAX_SPEC_BYTES:
            raise SpecFault([_too_large(path, f"{size:,}")])
        return read_regular(path, MAX_SPEC_BYTES)
    except OSError as error:
        raise SpecFault([Problem(path=path, message=f"cannot be read: {error.strerror or error}")]) from None
    except ValueError:
        raise SpecFault(
            [Problem(path=path.replace("\0", "\\0"), message="a file name cannot contain a NUL")]
        ) from None


def _too_large(path: str, size: str) -> Problem:
    return Problem(
        path=path,
        message=f"the spec has {size} bytes, more than a spec may have",
        expected=f"at most {MAX_SPEC_BYTES:,} bytes; long tables go in CSV files",
    )


def _number_problem(path: str, text: str, error: ValueError) -> Problem:
    """Return the problem of a number that cannot be read, placed at the longest run of digits."""
    # Python says that a number is too long and not which: it is surely the longest.
    longest = max(
        re.finditer(r"[0-9_]{4,}", text), key=lambda found: found.end() - found.start(), default=None
    )
    at = longest.start() if longest else 0
    column = at - (text.rfind("\n", 0, at) + 1) + 1
    return Problem(
        path=path,
        line=text.count("\n", 0, at) + 1,
        column=column,
        message=f"a number cannot be read: {error}",
        expected="an integer of at most 64 bits, as TOML requires",
        excerpt=caret_lines(text, at),
    )


_TOML_PLACE = re.compile(r"\s*\(at (?:line (\d+), column (\d+)|end of document)\)$")


def _syntax_problem(path: str, text: str, error: tomllib.TOMLDecodeError) -> Problem:
    """Turn tomllib's message, which ends in its place, into a problem."""
    message = str(error)
    match = _TOML_PLACE.search(message)
    lines = text.split("\n")
    line, column = len(lines), len(lines[-1]) + 1
    if match:
        message = message[: match.start()]
        if match[1]:
            line, column = int(match[1]), int(match[2])
    at = sum(len(each) + 1 for each in lines[: line - 1]) + column - 1
    written_twice = _TWO_WAYS.fullmatch(message)
    if written_twice:
        return _two_ways_problem(path, text, at, written_twice[1])
    if message in _OVERWRITES:
        found = _given_twice(path, lines, line)
        if found is not None:
            return found
    message = f"this is not valid TOML: {message[:1].lower()}{message[1:]}"
    return Problem(
        path=path, line=line, column=column, message=message, excerpt=caret_lines(text, min(at, len(text)))
    )


#: What tomllib says of a table that a later line adds to though it is complete (TOML 1.0, inline
#: tables; table headers).
_TWO_WAYS = re.compile(r"Cannot (?:mutate immutable namespace|declare) (\(.*\))(?: twice)?")


#: What tomllib says of a key, or a table, that is there already.
_OVERWRITES = ("Cannot overwrite a value",)
_HEADER = re.compile(r"\s*(\[\[?)\s*([^\]#]+?)\s*\]\]?")
_KEY = re.compile(r"""\s*((?:[\w-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[\w-]+|"[^"]*"|'[^']*'))*)\s*=""")


def _given_twice(path: str, lines: Sequence[str], line: int) -> Problem | None:
    """Return the problem of a line that gives a key or a table again, in words of both places and
    the edit; None where it is not seen which came before."""
    later = lines[line - 1]
    header, key = _HEADER.match(later), _KEY.match(later)
    if header is not None:
        at, name = header.start(1), header[2]
        number = next(
            (
                number
                for number, each in enumerate(lines[: line - 1], start=1)
                if (other := _HEADER.match(each)) and other[2] == name
            ),
            0,
        )
        expected = f"[[{name}]] for each where there may be several, as of a matrix, else one [{name}]"
        if not number:  # the keys of a table, and then a header for it
            last = name.rpartition(".")[2]
            number = _line_of_key(lines, line, last, headers=1)
        message = f"line {number} gives {name} already: {lines[number - 1].strip()[:40]}"
    elif key is not None:
        at, name = key.start(1), key[1]
        number = _line_of_key(lines, line, name)
        message, expected = f'"{name}" is here and also in line {number}', "it once in a table"
    else:
        return None
    if not number:
        return None
    text = "\n".join(lines)
    offset = sum(len(each) + 1 for each in lines[: line - 1]) + at
    return Problem(
        path=path,
        line=line,
        column=at + 1,
        message=message,
        expected=expected,
        excerpt=caret_lines(text, offset),
    )


def _line_of_key(lines: Sequence[str], before: int, name: str, headers: int = 0) -> int:
    """Return the line, from 1, that gives a key, or a part of it, in the table that another line
    stands in; 0 where none does. As many `headers` are passed on the way up."""
    for above in range(before - 1, 0, -1):
        other = _KEY.match(lines[above - 1])
        if other is not None and f"{other[1]}.".startswith(f"{name}."):
            return above
        if other is not None and name.startswith(f"{other[1]}."):
            return above
        if _HEADER.match(lines[above - 1]):
            if not headers:
                return 0
            headers -= 1
    return 0


def _two_ways_problem(path: str, text: str, at: int, names: str) -> Problem:
    """Return the problem of a table that is complete where it stands first, placed there, with both
    ways to write it."""
    from keen_matrix.core.spec.positions import find_places

    keys: tuple[str, ...] = ast.literal_eval(names)
    # tomllib ends where the table is added to. What has to change is where it was closed, above.
    later = text.count("\n", 0, at) + (1 if at < len(text) or not text.endswith("\n") else 0)
    places = find_places(text.encode())
    starts = [
        len(text.encode()[: place.key].decode(errors="ignore"))
        for found, place in places.items()
        if tuple(each for each in found if isinstance(each, str)) == keys
    ]
    before = [each for each in starts if text.count("\n", 0, each) + 1 < later]
    first = max(before, default=at)
    name, line = ".".join(keys), text.count("\n", 0, first) + 1
    is_header = text[:first].rpartition("\n")[2].lstrip().startswith("[")
    if is_header:
        message = f"[{name}] is here and again in line {later}"
        expected = "one table with all of its keys"
    else:
        message = f'"{name}" is complete here, and line {later} adds to it'
        last = keys[-1]
        header = text.split("\n")[later - 1].strip()
        if header.startswith("[["):
            expected = (
                f"one way to write it: where there are several, {header} and a key a line for each of them"
            )
        else:
            expected = (
                f"one way to write it: {last} = {{ KEY = …, KEY = … }} in one place, or "
                f"{last}.KEY = … in a line each"
            )
    return Problem(
        path=path,
        line=line,
        column=first - (text.rfind("\n", 0, first) + 1) + 1,
        message=message,
        expected=expected,
        excerpt=caret_lines(text, first),
    )
