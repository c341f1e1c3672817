"""The journal: one JSON object per line, a header first, then a case per line as each finishes, a
closing line last."""

from __future__ import annotations

import contextlib
import os
import stat
import tempfile
from collections.abc import Iterator
from typing import TYPE_CHECKING

from keen_matrix import __version__
from keen_matrix.core.errors import RunFault
from keen_matrix.core.files import open_device
from keen_matrix.core.model.lines import decode, encode
from keen_matrix.core.model.record import Finished, Header, Line, Record
from keen_matrix.core.results.locks import FileLock

if TYPE_CHECKING:
    from keen_matrix.core.model.spec import Spec

JOURNAL_VERSION = 1
READ_BYTES = 1 << 20
"""Bytes that are read of a journal at a time."""
FOLDER = ".keen-matrix"
"""Where a project's results stand, below the folder in which commands are called."""
DEFAULT_JOURNAL = os.path.join(FOLDER, "last.jsonl")
BESIDE = ".part"
"""Ends the name of a journal that has no record yet."""


FAULT_KEPT = 2_000
"""Characters of the reason why a spec could not be run that its header keeps."""


def bare_header(path: str, jobs: int) -> Header:
    """Return the header line of a spec of which no more is known than where it stands."""
    import datetime
    import platform

    return Header(
        journal=JOURNAL_VERSION, version=__version__, spec=path, jobs=jobs,
        started=datetime.datetime.now(datetime.UTC).isoformat(timespec="milliseconds"),
        platform=f"{platform.system()} {platform.release()} {platform.machine()}",
    )  # fmt: skip


def header(spec: Spec, jobs: int) -> Header:
    """Return the header line of a run of one spec."""
    found = bare_header(spec.path, jobs)
    found.spec_digest, found.axes = spec.digest, _axes(spec)
    found.matrices = [matrix.name for matrix in spec.matrices]
    return found


def _axes(spec: Spec) -> dict[str, dict[str, list[str]]]:
    """Return the values of each matrix's axes in their order, as grids show them; long axes are
    left out."""
    from keen_matrix.core.results.axis_values import MOST_VALUES, shown_value

    named = {
        matrix.name: {
            name: list(map(shown_value, values))
            for name, values in matrix.axes.items()
            if len(values) <= MOST_VALUES
        }
        for matrix in spec.matrices
    }
    return {name: axes for name, axes in named.items() if axes}


class Journal:
    """A journal being written. Every line is in the file, whole, before `write` returns; a failed
    write leaves no part.

    A run that begins anew writes beside the journal that is there and takes its place with the
    first record: a run that comes to nothing loses no results. One run at a time writes a journal:
    a lock beside it is kept until it is closed, by the system, so that the lock of a run that was
    killed is none.

    Raises RunFault when it cannot be written, when another run writes it, or when there is
    something else in its place.
    """

    def __init__(self, path: str, *, keep: bool = False) -> None:
        self.path = path
        self.size = 0
        self._fd = self._device = -1
        self._beside = ""
        self._lock: FileLock | None = None
        try:
            os.makedirs(os.path.dirname(path) or ".", exist_ok=True)
            self._open(path, keep=keep)
        except OSError as error:
            self.close()
            raise RunFault(f"the journal {path} cannot be written: {error.strerror}") from None
        except RunFault:
            self.close()
            raise

    def _open(self, path: str, *, keep: bool) -> None:
        info = _stat(path)
        if info is not None and not stat.S_ISREG(info.st_mode):
            self._device = open_device(path)
            self._fd, name = tempfile.mkstemp(
                prefix="keen-matrix-"
            )  # what was written must be read again
            os.unlink(name)
            return
        self._target = os.path.realpath(path)  # a link is kept, and what it leads to is written
        self._lock = FileLock(self._target)
        self._refuse_other_files()
        if keep:
            self._fd = os.open(self._target, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
            self._drop_end()
            return
        self._remove_torn_off()
        self._fd, self._beside = tempfile.mkstemp(
            prefix=self._prefix, suffix=BESIDE, dir=os.path.dirname(self._target)
        )
        os.fchmod(self._fd, 0o644 if info is None else stat.S_IMODE(info.st_mode))

    @property
    def _prefix(self) -> str:
        return f".{os.path.basename(self._target)}-"

    @property
    def is_in_place(self) -> bool:
        """Whether what was written can be read by the journal's name: not before the first record,
        and never from a device."""
        return not self._beside and self._device < 0

    def _refuse_other_files(self) -> None:
        with contextlib.suppress(FileNotFoundError), open(self.path, "rb") as file:
            start = file.read(10)
            if start and start != b'{"journal"':
                raise RunFault(
                    f"{self.path} exists and is not a journal; it is left as it is: give --journal another name"
                )

    def _remove_torn_off(self) -> None:
        """Remove what runs that were killed before their first record have left beside the
        journal."""
        folder = os.path.dirname(self._target)
        for name in os.listdir(folder):
            if name.startswith(self._prefix) and name.endswith(BESIDE):
                with contextlib.suppress(OSError):
                    os.unlink(os.path.join(folder, name))

    def _take_place(self) -> None:
        os.replace(self._beside, self._target)
        self._beside = ""

    def _drop_end(self) -> None:
        """Take away what a broken-off run may have left at the end: a torn line, and the note of
        an interruption."""
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

    def lines(self) -> Iterator[tuple[int, bytes, Line | None]]:
        """Yield every line written so far: its offset, its bytes, what it says. Raises RunFault
        when one is no journal line."""
        offset = 0
        for number, line in enumerate(self._raw_lines(), 1):
            try:
                found = decode(line)
            except ValueError as fault:
                raise no_line(self.path, number, str(fault)) from None
            yield offset, line, found
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
        """Append one line and return its offset. Raises RunFault, for instance when the disk is
        full."""
        start, left = self.size, memoryview(line)
        try:
            while left:
                written = os.write(self._fd, left)
                self.size += written
                left = left[written:]
            if self._device >= 0:
                _write_all(self._device, line)
            if self._beside and line.startswith(b'{"id"'):
                self._take_place()
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

    def write_line(self, line: Header | Finished) -> int:
        """Append a header or a closing line, and return its offset."""
        return self.write(encode(line))

    def read(self, offset: int, length: int) -> Record:
        """Return the record that was written at an offset."""
        found = decode(os.pread(self._fd, length, offset))
        if not isinstance(found, Record):
            raise no_line(self.path, 0, f"no record stands at byte {offset}")
        return found

    def close(self) -> None:
        """Close the file; one that no record was written to goes, and the journal that was there
        stays."""
        for fd in (self._fd, self._device):
            if fd >= 0:
                os.close(fd)
        self._fd = self._device = -1
        if self._beside:
            with contextlib.suppress(OSError):
                os.unlink(self._beside)
            self._beside = ""
        if self._lock is not None:
            self._lock.release()
            self._lock = None

    def __enter__(self) -> Journal:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _stat(path: str) -> os.stat_result | None:
    try:
        return os.stat(path)
    except FileNotFoundError:
        return None


def _write_all(fd: int, line: bytes) -> None:
    left = memoryview(line)
    while left:
        left = left[os.write(fd, left) :]


def no_line(path: str, number: int, fault: str = "") -> RunFault:
    """Return the fault of a journal whose line is not of the shape that every reader relies on."""
    return RunFault(
        f"{path}:{number}: this is not a line of a journal{': ' if fault else ''}{fault}"
    )
