"""Reading journals case by case, several of them as one run: shards that were run apart, say."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

import orjson

from keen_matrix.core.errors import RunFault
from keen_matrix.core.results.journal import JOURNAL_VERSION, no_line


class CaseRecord(NamedTuple):
    """A case of a journal with the header of the spec that it belongs to."""

    header: Mapping[str, Any]
    fields: dict[str, Any]


_sound: set[tuple[int, ...]] = set()
"""Journals, as they were, of which every line has been looked at: reading them again does without."""


def cases_of(paths: Sequence[str], matrix: str | None = None) -> Iterator[CaseRecord]:
    """Yield every case of some journals in order, or those of one matrix; of a case that stands in several, each time.

    Memory stays constant. A torn last line is left out. Raises RunFault when a file is no journal or one of another version.
    """
    for path in paths:
        yield from _cases(path, matrix)


def _cases(path: str, matrix: str | None) -> Iterator[CaseRecord]:
    from keen_matrix.core.results.shape import line_fault

    header: Mapping[str, Any] = {}
    needle = b"" if matrix is None else orjson.dumps(matrix)
    try:
        with open(path, "rb") as file:
            info = os.fstat(file.fileno())
            stamp = (info.st_dev, info.st_ino, info.st_size, info.st_mtime_ns)
            sound = stamp in _sound
            for number, line in enumerate(file, 1):
                if needle and needle not in line and line.startswith(b'{"id"'):
                    continue
                try:
                    fields = orjson.loads(line)
                except orjson.JSONDecodeError:
                    if not line.endswith(b"\n"):
                        return
                    raise no_line(path, number) from None
                if number == 1:
                    _check_version(path, fields)
                if not sound and (fault := line_fault(fields)):
                    raise no_line(path, number, fault)
                if "id" in fields and matrix in (None, fields["matrix"]):
                    yield CaseRecord(header, fields)
                elif "journal" in fields:
                    header = fields
            if matrix is None:
                _sound.add(stamp)
    except FileNotFoundError:
        raise RunFault(f"there is no journal {path}; a run writes one") from None
    except OSError as error:
        raise RunFault(f"the journal {path} cannot be read: {error.strerror}") from None


def headers_of(path: str) -> Iterator[Mapping[str, Any]]:
    """Yield the header of each spec in a journal; its cases are passed over unread. Nothing comes of what is no journal."""
    try:
        with open(path, "rb") as file:
            for line in file:
                if line.startswith(b'{"journal"'):
                    with contextlib.suppress(orjson.JSONDecodeError):
                        yield orjson.loads(line)
    except OSError:
        return


def _check_version(path: str, fields: Any) -> None:
    found = fields.get("journal") if isinstance(fields, dict) else None
    if found != JOURNAL_VERSION:
        what = f"a journal of version {found}" if found else "no journal"
        raise RunFault(f"{path} is {what}; this Keen Matrix reads version {JOURNAL_VERSION}")
