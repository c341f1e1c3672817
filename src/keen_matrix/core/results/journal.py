"""The journal: one JSON object per line, a header first, then a case per line as each finishes, a closing line last."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any

from keen_matrix import __version__
from keen_matrix.core.errors import RunFault

if TYPE_CHECKING:
    from keen_matrix.core.spec.model import Spec

JOURNAL_VERSION = 1
READ_BYTES = 1 << 20
"""Bytes that are read of a journal at a time."""
DEFAULT_JOURNAL = os.path.join(".keen-matrix", "last.jsonl")


def header(spec: Spec, jobs: int) -> dict[str, Any]:
    """Return the header line of a run of one spec."""
    import datetime
    import platform

    return {
        "journal": JOURNAL_VERSION,
        "version": __version__,
        "spec": spec.path,
        "spec_digest": spec.digest,
        "started": datetime.datetime.now(datetime.UTC).isoformat(timespec="milliseconds"),
        "platform": f"{platform.system()} {platform.release()} {platform.machine()}",
        "jobs": jobs,
        "matrices": [matrix.name for matrix in spec.matrices],
        "axes": _axes(spec),
    }


def _axes(spec: Spec) -> dict[str, dict[str, list[str]]]:
    """Return the values of each matrix's axes in their order, as grids show them; long axes are left out."""
    from keen_matrix.core.results.summary import MOST_VALUES, shown_value

    named = {
        matrix.name: {
            name: list(map(shown_value, values)) for name, values in matrix.axes.items() if len(values) <= MOST_VALUES
        }
        for matrix in spec.matrices
    }
    return {name: axes for name, axes in named.items() if axes}


class Journal:
    """A journal being written. Every line is in the file, whole, before `write` returns; a failed write leaves no part."""

    def __init__(self, path: str, *, keep: bool = False) -> None:
        self.path = path
        self.size = 0
        try:
            os.makedirs(os.path.dirname(path) or ".", exist_ok=True)
            flags = os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | (0 if keep else os.O_TRUNC)
            self._fd = os.open(path, flags, 0o644)
            if keep:
                self._drop_end()
        except OSError as error:
            raise RunFault(f"the journal {path} cannot be written: {error.strerror}") from None

    def _drop_end(self) -> None:
        """Take away what a broken-off run may have left at the end: a torn line, and the note of an interruption."""
        keep = 0
        with open(self._fd, "rb", closefd=False) as file:
            for line in file:
                if not line.endswith(b"\n"):
                    break
                if not line.startswith(b'{"finished"'):
                    keep += len(line)
                    continue
                if b'"interrupted":true' in line:
                    break
                keep += len(line)
        os.ftruncate(self._fd, keep)
        self.size = os.lseek(self._fd, keep, os.SEEK_SET)

    def lines(self) -> Iterator[tuple[int, bytes, dict[str, Any]]]:
        """Yield every line written so far with its offset and its object. Raises RunFault when one is no journal line."""
        from keen_matrix.core.results.shape import line_fault

        offset = 0
        for number, line in enumerate(self._raw_lines(), 1):
            try:
                fields = json.loads(line)
            except ValueError:
                raise no_line(self.path, number) from None
            if fault := line_fault(fields):
                raise no_line(self.path, number, fault)
            yield offset, line, fields
            offset += len(line)

    def _raw_lines(self) -> Iterator[bytes]:
        at, rest = 0, b""
        while at < self.size and (block := os.pread(self._fd, min(READ_BYTES, self.size - at), at)):
            at += len(block)
            *whole, rest = (rest + block).split(b"\n")
            for line in whole:
                yield line + b"\n"
        if rest:
            yield rest

    def write(self, line: bytes) -> int:
        """Append one line and return its offset. Raises RunFault, for instance when the disk is full."""
        start, left = self.size, memoryview(line)
        try:
            while left:
                written = os.write(self._fd, left)
                self.size += written
                left = left[written:]
        except OSError as error:
            self._drop_torn(start)
            raise RunFault(
                f"the journal {self.path} cannot be written any further: {error.strerror}; "
                f"the cases finished so far are in it, whole"
            ) from None
        return start

    def _drop_torn(self, start: int) -> None:
        try:
            os.ftruncate(self._fd, start)
            self.size = start
        except OSError:
            pass  # a device, for instance; a reader drops a torn last line

    def write_fields(self, fields: Mapping[str, Any]) -> int:
        """Append an object as one line."""
        return self.write((json.dumps(fields, ensure_ascii=False, separators=(",", ":")) + "\n").encode())

    def read(self, offset: int, length: int) -> dict[str, Any]:
        """Return the object that was written at an offset."""
        return dict(json.loads(os.pread(self._fd, length, offset)))

    def close(self) -> None:
        """Close the file."""
        os.close(self._fd)

    def __enter__(self) -> Journal:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def no_line(path: str, number: int, fault: str = "") -> RunFault:
    """Return the fault of a journal whose line is not of the shape that every reader relies on."""
    return RunFault(f"{path}:{number}: this is no line of a journal{': ' if fault else ''}{fault}")


def read_journal(path: str) -> Iterator[dict[str, Any]]:
    """Yield the objects of a journal in order; a torn last line is left out. Raises RunFault."""
    from keen_matrix.core.results.shape import line_fault

    try:
        with open(path, "rb") as file:
            for number, line in enumerate(file, 1):
                try:
                    fields = json.loads(line)
                except ValueError:
                    if not line.endswith(b"\n"):
                        return
                    raise no_line(path, number) from None
                if number == 1 and (not isinstance(fields, dict) or fields.get("journal") != JOURNAL_VERSION):
                    found = fields.get("journal") if isinstance(fields, dict) else None
                    what = f"a journal of version {found}" if found else "no journal"
                    raise RunFault(f"{path} is {what}; this Keen Matrix reads version {JOURNAL_VERSION}")
                if fault := line_fault(fields):
                    raise no_line(path, number, fault)
                yield fields
    except OSError as error:
        raise RunFault(f"the journal {path} cannot be read: {error.strerror}") from None
