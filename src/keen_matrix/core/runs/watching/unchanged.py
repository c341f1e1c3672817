"""Cases that need no launch, since nothing that their outcome follows from has changed: the record
of the last run is taken over, and says so.

A case is as before when its words and values are, and its surroundings, expectations and masks, the
signature, the files of the program and its environment. Only what passed is taken over. A matrix
whose cases share a directory or what runs beside them is run whole: there one case changes what the
next one finds."""

from __future__ import annotations

import json
import os
import platform
import sys
from collections.abc import Collection, Iterator, Mapping
from typing import TypeVar

from keen_matrix.core import structs
from keen_matrix.core.launch.environment import base_environment
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.workers.wire import ResultFrame, result_frame
from keen_matrix.core.model.case import Case, case_fields
from keen_matrix.core.model.identity import CaseKey
from keen_matrix.core.model.lines import decode, encode
from keen_matrix.core.model.record import PASSING, CaseFields, Header, Record
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.results.journal import system_name
from keen_matrix.core.runs.options import RunOptions
from keen_matrix.core.runs.watching.sources import SourcePlaces, digest_of_all, places_of
from keen_matrix.core.version import VERSION

#: What must be as before: not where the row of a table stands, and what is only told.
_FIELDS = [each for each in CaseFields.__struct_fields__ if each not in ("row", "note")]
_T = TypeVar("_T")


def run_places(spec: Spec, launch: ResolvedLaunch, options: RunOptions) -> SourcePlaces:
    """Return where the files of a spec's program are, without those that the run writes."""
    return places_of(spec, launch, (options.journal, *options.reports))


def matrix_digests(
    spec: Spec, launch: ResolvedLaunch, options: RunOptions, sources: Mapping[str, str]
) -> dict[str, str]:
    """Return by the name of each matrix a digest of all that what comes of its cases follows from,
    beside their words and values; `sources` are the digests of the program's files. A matrix whose
    cases cannot be taken over has none."""
    environment = base_environment(spec.program.env_from_caller, os.environ)
    asked = options.launching
    common = digest_of_all(
        sources,
        [
            VERSION,
            sys.version,
            system_name(),
            platform.version(),
            spec.parts.common,
            repr(launch),
            repr(sorted(environment.items())),
            str(asked.repeat),
        ],
    )
    # what derived vectors stand on follows from all that, and each of them names its control
    return {
        matrix.name: digest_of_all(
            {}, [common, "" if matrix.family else spec.parts.matrices.get(matrix.index, "")]
        )
        for matrix in spec.matrices
        if _stands_alone(spec, matrix)
    }


def _stands_alone(spec: Spec, matrix: Matrix) -> bool:
    return matrix.bounds.fresh_directory and spec.program.fresh_directory and spec.program.once is None


class Unchanged:
    """The records of a journal that may be taken over."""

    def __init__(self, journal: str) -> None:
        self._lines: dict[CaseKey, tuple[Header, bytes]] = {}
        #: Absolute paths of specs, and names of their matrices, of which a case failed.
        self._failing: set[tuple[str, str]] = set()
        header: Header | None = None
        for line in _lines_of(journal):
            if line.startswith(b'{"journal"'):
                header = _decoded(line, Header)
            elif header is not None and line.startswith(b'{"id"'):
                record = _decoded(line, Record)
                if record is None:
                    continue
                key = CaseKey.of(header.spec, record.id)
                if record.verdict == "passed":
                    self._lines[key] = header, line
                elif record.verdict not in PASSING:
                    self._failing.add((key.spec, record.matrix))

    def __bool__(self) -> bool:
        return bool(self._lines)

    def has_failing(self, spec: Spec, matrices: Collection[str]) -> bool:
        """Tell whether a case of some matrices failed."""
        path = os.path.abspath(spec.path)
        return any((path, name) in self._failing for name in matrices)

    def covers(self, spec: Spec, digests: Mapping[str, str]) -> bool:
        """Tell whether every matrix of a spec has something that could be taken over, so that
        nothing about it is to be tried again."""
        known = next((each for each, _ in self._lines.values() if each.spec == spec.path), None)
        return known is not None and known.digests == digests

    def result_of(self, spec: Spec, digests: Mapping[str, str], case: Case) -> ResultFrame | None:
        """Return the result of a case that is as before; None where it must be launched."""
        found = self._lines.get(CaseKey.of(spec.path, case.id))
        if found is None:
            return None
        header, line = found
        record = _decoded(line, Record)
        if record is None or case.blocked is not None or case.said.skipped:
            return None
        digest = digests.get(record.matrix)
        if digest is None or header.digests.get(record.matrix) != digest:
            return None
        # as it went through JSON, as those of the record did
        now = structs.convert(json.loads(encode(case_fields(case, record.matrix))), CaseFields)
        if any(getattr(now, name) != getattr(record, name) for name in _FIELDS):
            return None
        record.row, record.note = now.row, now.note
        record.taken_from = record.taken_from or header.started
        return result_frame(case, record)


def _decoded(line: bytes, kind: type[_T]) -> _T | None:
    try:
        found = decode(line)
    except ValueError:
        return None
    return found if isinstance(found, kind) else None


def _lines_of(path: str) -> Iterator[bytes]:
    if not os.path.isfile(path):  # a pipe would wait for somebody to write
        return
    try:
        with open(path, "rb") as file:
            yield from file
    except OSError:
        return
