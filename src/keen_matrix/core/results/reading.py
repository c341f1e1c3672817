"""Reading journals case by case, several of them as one run: shards that were run apart, say."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

import orjson

from keen_matrix.core.errors import RunFault
from keen_matrix.core.results.journal import JOURNAL_VERSION, check_line


class CaseRecord(NamedTuple):
    """A case of a journal with the header of the spec that it belongs to."""

    header: Mapping[str, Any]
    fields: dict[str, Any]


def cases_of(paths: Sequence[str], matrix: str | None = None) -> Iterator[CaseRecord]:
    """Yield every case of some journals in order, or those of one matrix; of a case that stands in several, each time.

    Memory stays constant. A torn last line is left out. Raises RunFault when a file is no journal or one of another version.
    """
    for path in paths:
        yield from _cases(path, matrix)


def _cases(path: str, matrix: str | None) -> Iterator[CaseRecord]:
    header: Mapping[str, Any] = {}
    needle = b"" if matrix is None else orjson.dumps(matrix)
    try:
        with open(path, "rb") as file:
            for number, line in enumerate(file, 1):
                if needle and needle not in line and line.startswith(b'{"id"'):
                    continue
                try:
                    fields = orjson.loads(line)
                except orjson.JSONDecodeError:
                    if not line.endswith(b"\n"):
                        return
                    raise RunFault(f"{path}:{number}: this is no line of a journal") from None
                if number == 1:
                    _check_version(path, fields)
                check_line(path, number, fields)
                if "id" in fields and matrix in (None, fields["matrix"]):
                    yield CaseRecord(header, fields)
                elif "journal" in fields:
                    header = fields
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
