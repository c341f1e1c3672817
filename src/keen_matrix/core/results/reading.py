"""Reading journals case by case, several of them as one run: shards that were run apart, say."""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from keen_matrix.core.errors import RunFault
from keen_matrix.core.results import fast_json
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
    needle = b"" if matrix is None else fast_json.dumps(matrix)
    try:
        with open(path, "rb") as file:
            info = os.fstat(file.fileno())
            stamp = (info.st_dev, info.st_ino, info.st_size, info.st_mtime_ns)
            sound = stamp in _sound
            for number, line in enumerate(file, 1):
                if needle and needle not in line and line.startswith(b'{"id"'):
                    continue
                try:
                    fields = parsed(line)
                except ValueError:
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


def parsed(line: bytes) -> Any:
    """Return the value of a line of JSON. Raises ValueError, also where values are nested too deep.

    What orjson does not take is left to the slower parser: half a surrogate, which stands for a byte that is no UTF-8.
    """
    try:
        return fast_json.loads(line)
    except fast_json.JSONDecodeError:
        if b"\\u" not in line:
            raise
    try:
        return json.loads(line)
    except RecursionError:
        raise ValueError("values are nested too deep") from None


def spec_faults(paths: Sequence[str]) -> dict[str, str]:
    """Return the specs that could not be run, each with the reason; not one that could be when the run was resumed."""
    found: dict[str, str] = {}
    for path in paths:
        for header in headers_of(path):
            found[str(header.get("spec", ""))] = str(header.get("fault") or "")
    return {spec: fault for spec, fault in found.items() if fault}


def merge_faults(paths: Sequence[str]) -> list[str]:
    """Return what journals lack to be a whole run together, in words: shards that are missing, doubled, or broken off."""
    parts: dict[str, dict[int, dict[int, str]]] = {}
    digests: dict[str, set[str]] = {}
    found: list[str] = []
    for path in paths:
        open_specs: set[str] = set()
        spec = ""
        for line in _notes_of(path):
            if "journal" in line:
                spec = str(line.get("spec", ""))
                digests.setdefault(spec, set()).add(str(line.get("spec_digest", "")))
                open_specs.add(spec)
                part, slash, of = str(line.get("shard", "")).partition("/")
                if slash and part.isdecimal() and of.isdecimal():
                    parts.setdefault(spec, {}).setdefault(int(of), {}).setdefault(int(part), path)
                    if parts[spec][int(of)][int(part)] != path:
                        found.append(f"part {part} of {of} of {spec} stands in two journals: "
                                     f"{parts[spec][int(of)][int(part)]} and {path}")  # fmt: skip
            elif not line.get("interrupted") and not line.get("left"):
                open_specs.discard(spec)
        found += [
            f"the run of {each} in {path} was broken off; run --resume goes on with it" for each in sorted(open_specs)
        ]
    for spec, divisions in parts.items():
        if len(divisions) > 1:
            counts = " and ".join(f"{each}" for each in sorted(divisions))
            found.append(f"the parts of {spec} are of different divisions, into {counts}")
        for number, there in divisions.items():
            missing = [str(each) for each in range(1, number + 1) if each not in there]
            if missing:
                found.append(f"of the {number} parts of {spec}, {_listed(missing)} missing")
    found += [
        f"the journals have runs of different states of {spec}" for spec, each in digests.items() if len(each) > 1
    ]
    return found


def _listed(numbers: Sequence[str]) -> str:
    return f"part {numbers[0]} is" if len(numbers) == 1 else f"parts {', '.join(numbers)} are"


def _notes_of(path: str) -> Iterator[Mapping[str, Any]]:
    """Yield the headers and closing lines of a journal, its cases passed over unread."""
    try:
        with open(path, "rb") as file:
            for line in file:
                if line.startswith((b'{"journal"', b'{"finished"')):
                    with contextlib.suppress(ValueError):
                        found = parsed(line)
                        if isinstance(found, dict):
                            yield found
    except OSError:
        return


def headers_of(path: str) -> Iterator[Mapping[str, Any]]:
    """Yield the header of each spec in a journal; its cases are passed over unread. Nothing comes of what is no journal."""
    return (line for line in _notes_of(path) if "journal" in line)


def _check_version(path: str, fields: Any) -> None:
    found = fields.get("journal") if isinstance(fields, dict) else None
    if found != JOURNAL_VERSION:
        what = f"a journal of version {found}" if found else "no journal"
        raise RunFault(f"{path} is {what}; this Keen Matrix reads version {JOURNAL_VERSION}")
