"""Reading journals case by case, several of them as one run: shards that were run apart, say."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator, Sequence
from typing import BinaryIO, NamedTuple

from keen_matrix.core import structs
from keen_matrix.core.errors import RunFault
from keen_matrix.core.files import open_regular
from keen_matrix.core.model.lines import decode, decode_record
from keen_matrix.core.model.record import Finished, Header, Line, Record
from keen_matrix.core.results.journal import JOURNAL_VERSION, no_line


class CaseRecord(NamedTuple):
    """A case of a journal with the header of the spec that it belongs to."""

    header: Header
    fields: Record


class PlacedCase(NamedTuple):
    """A case of a journal, and where its line starts, in bytes."""

    case: CaseRecord
    path: str
    offset: int


class PlacedLine(NamedTuple):
    """What a line of a journal says, and where it starts, in bytes."""

    line: Line
    offset: int


def read_journal(path: str, matrix: str | None = None) -> Iterator[Line]:
    """Yield what the lines of a journal say, as `placed_lines` does."""
    return (placed.line for placed in placed_lines(path, matrix))


def placed_lines(path: str, matrix: str | None = None) -> Iterator[PlacedLine]:
    """Yield what the lines of a journal say, in order; of the cases only those of `matrix` when
    one is named.

    Memory stays constant. A torn last line, which a run that was killed leaves, is left out, and
    so are lines of kinds that are not known. Raises RunFault when the file is no journal, one of
    another version, or has a line that is wrong.
    """
    needle = b"" if matrix is None else structs.json.encode(matrix)
    try:
        with open_regular(path) as file:
            after, number = 0, 0
            for number, line in enumerate(file, 1):
                offset, after = after, after + len(line)
                # By a look at the bytes: to decode a line takes many times as long, and most are of
                # other matrices.
                if needle and needle not in line and line.startswith(b'{"id"'):
                    continue
                try:
                    found = decode(line)
                except ValueError as fault:
                    if number == 1:
                        raise _other_file(path, line) from None
                    if not line.endswith(b"\n"):
                        return
                    raise no_line(path, number, str(fault)) from None
                if number == 1 and (not isinstance(found, Header) or found.journal != JOURNAL_VERSION):
                    raise _other_file(path, line)
                if found is not None:
                    yield PlacedLine(found, offset)
            if not number:
                raise RunFault(f"{path} is empty, so it is not a journal; a run writes one")
    except FileNotFoundError:
        raise RunFault(f"there is no journal {path}; a run writes one") from None
    except OSError as error:
        raise RunFault(f"the journal {path} cannot be read: {error.strerror}") from None


def _other_file(path: str, line: bytes) -> RunFault:
    """Return the fault of a file whose first line is no header of this version, or one that is
    wrong."""
    try:
        found = json.loads(line)
    except (ValueError, RecursionError):
        found = None
    version = found.get("journal") if isinstance(found, dict) else None
    if version == JOURNAL_VERSION:
        try:
            decode(line)
        except ValueError as fault:
            return no_line(path, 1, str(fault))
    if not version:
        return RunFault(f"{path} is not a journal; keen-matrix run writes one")
    return RunFault(
        f"{path} is a journal of version {version}; this Keen Matrix reads version {JOURNAL_VERSION}"
    )


def cases_of(paths: Sequence[str], matrix: str | None = None) -> Iterator[CaseRecord]:
    """Yield every case of some journals in order, or those of one matrix; of a case that stands in
    several, each time.

    Raises RunFault as `read_journal` does.
    """
    return (placed.case for placed in placed_cases(paths, matrix))


def placed_cases(paths: Sequence[str], matrix: str | None = None) -> Iterator[PlacedCase]:
    """Yield the cases of some journals as `cases_of` does, each with its place."""
    for path in paths:
        header: Header | None = None
        for line, offset in placed_lines(path, matrix):
            if isinstance(line, Header):
                header = line
            elif isinstance(line, Record) and header is not None and matrix in (None, line.matrix):
                yield PlacedCase(CaseRecord(header, line), path, offset)


class RecordReader:
    """Reads single cases of journals again, by where their lines start."""

    def __init__(self, stack: contextlib.ExitStack) -> None:
        self._stack = stack
        self._files: dict[str, BinaryIO] = {}

    def read(self, path: str, offset: int) -> Record:
        """Return the case whose line starts at a place of a journal."""
        if path not in self._files:
            self._files[path] = self._stack.enter_context(open_regular(path))
        self._files[path].seek(offset)
        return decode_record(self._files[path].readline())


def spec_faults(paths: Sequence[str]) -> dict[str, str]:
    """Return the specs that could not be run, each with the reason; not one that could be when the
    run was resumed."""
    found: dict[str, str] = {}
    for path in paths:
        for header in headers_of(path):
            found[header.spec] = header.fault
    return {spec: fault for spec, fault in found.items() if fault}


def merge_faults(paths: Sequence[str]) -> list[str]:
    """Return what keeps journals from being one whole run together, in words: shards that are
    missing or doubled, different states of a spec."""
    parts: dict[str, dict[int, dict[int, str]]] = {}
    digests: dict[str, set[str]] = {}
    found: list[str] = []
    for path in paths:
        for line in headers_of(path):
            spec = line.spec
            digests.setdefault(spec, set()).add(line.spec_digest)
            part, slash, of = line.shard.partition("/")
            if slash and part.isdecimal() and of.isdecimal():
                there = parts.setdefault(spec, {}).setdefault(int(of), {})
                if there.setdefault(int(part), path) != path:
                    found.append(
                        f"part {part} of {of} of {spec} is in two journals: {there[int(part)]} and {path}"
                    )
    for spec, divisions in parts.items():
        if len(divisions) > 1:
            counts = " and ".join(f"{each}" for each in sorted(divisions))
            found.append(f"the parts of {spec} come from different divisions, into {counts}")
        for number, there in divisions.items():
            missing = [str(each) for each in range(1, number + 1) if each not in there]
            if missing:
                found.append(f"of the {number} parts of {spec}, {_listed(missing)} missing")
    found += [
        f"the journals have runs of different versions of {spec}"
        for spec, each in digests.items()
        if len(each - {""}) > 1
    ]
    return found


def _listed(numbers: Sequence[str]) -> str:
    return f"part {numbers[0]} is" if len(numbers) == 1 else f"parts {', '.join(numbers)} are"


def notes_and_records(path: str) -> Iterator[Header | Finished | None]:
    """Yield the headers and closing lines of a journal, and None for each case, which is not read;
    nothing of what is wrong or no file."""
    try:
        with open_regular(path) as file:
            for line in file:
                if line.startswith(b'{"id"'):
                    yield None
                elif line.startswith((b'{"journal"', b'{"finished"')):
                    with contextlib.suppress(ValueError):
                        found = decode(line)
                        if isinstance(found, (Header, Finished)):
                            yield found
    except OSError:
        return


def headers_of(path: str) -> Iterator[Header]:
    """Yield the header of each spec in a journal; its cases are passed over unread. Nothing comes
    of what is no journal."""
    return (line for line in notes_and_records(path) if isinstance(line, Header))
