"""The journal: one JSON object per line, a header first, then a case per line as each finishes, a
closing line last."""

from __future__ import annotations

import contextlib
import os
import stat
import tempfile
from collections.abc import Iterator
from typing import TYPE_CHECKING

from keen_matrix.core.errors import RunFault
from keen_matrix.core.files import open_device, open_regular
from keen_matrix.core.model.lines import decode, encode
from keen_matrix.core.model.record import Finished, Header, Line, Record
from keen_matrix.core.results.locks import FileLock
from keen_matrix.core.version import VERSION

if TYPE_CHECKING:
    from keen_matrix.core.model.spec import Spec

JOURNAL_VERSION = 1
#: Bytes that are read of a journal at a time.
READ_BYTES = 1 << 20
#: Where a project's results stand, below the directory in which commands are called.
DIRECTORY = ".keen-matrix"
DEFAULT_JOURNAL = os.path.join(DIRECTORY, "last.jsonl")
#: Ends the name of a journal that has no record yet.
BESIDE = ".part"
#: Times that a journal which is removed is put back: each copies it, and one that is removed in
#: every case would be copied for ever. After that it is written elsewhere.
MOST_PUT_BACK = 16


#: Characters of the reason why a spec could not be run that its header keeps.
FAULT_KEPT = 2_000


def system_name() -> str:
    """Return the name and the release of the system, and the kind of its machine.

    It is asked of the kernel: platform.platform() starts a program to find out more.
    """
    import platform

    return f"{platform.system()} {platform.release()} {platform.machine()}"


def bare_header(path: str, jobs: int) -> Header:
    """Return the header line of a spec of which no more is known than where it stands."""
    import datetime

    return Header(
        journal=JOURNAL_VERSION,
        version=VERSION,
        spec=path,
        jobs=jobs,
        started=datetime.datetime.now(datetime.UTC).isoformat(timespec="milliseconds"),
        platform=system_name(),
    )


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


class JournalPlace:
    """Where a journal is written: the file itself when it is continued, one beside it until there
    is a record to put in its place, an unnamed one when the name is a device's."""

    def __init__(self, path: str) -> None:
        self.path = path
        #: Open for reading and writing; -1 when there is none.
        self.fd = -1
        self.device = -1
        #: The file that is to take the journal's place; none once it has.
        self.beside = ""
        self._target = ""
        self._lock: FileLock | None = None
        #: How often the file was removed while it was written, and put back.
        self.put_back = 0
        #: Where it is written since it cannot be put back.
        self.elsewhere = ""

    def take(self, *, keep: bool) -> int:
        """Open the file, and return how many bytes of it stay: none unless it is to be kept. Raises
        OSError, or RunFault when it is another run's or something else."""
        os.makedirs(os.path.dirname(self.path) or ".", exist_ok=True)
        info = _stat(self.path)
        if info is not None and not stat.S_ISREG(info.st_mode):
            # /dev/stdout cannot be read again, and the summary reads records by their place.
            self.device = open_device(self.path)
            # what was written must be read again
            self.fd, name = tempfile.mkstemp(prefix="keen-matrix-")
            os.unlink(name)
            return 0
        # a link is kept, and what it leads to is written
        self._target = os.path.realpath(self.path)
        self._lock = FileLock(self._target)
        # Before anything is opened for writing: --journal with a slip in it must not cost somebody
        # a file.
        self._refuse_other_files()
        if keep:
            self.fd = os.open(self._target, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
            return _drop_end(self.fd)
        self._remove_torn_off()
        # In the same directory, since only there it takes the journal's place in one step
        # (rename(2)).
        self.fd, self.beside = tempfile.mkstemp(
            prefix=self._prefix, suffix=BESIDE, dir=os.path.dirname(self._target)
        )
        # mkstemp makes it private; a journal is as open as the one before it.
        os.fchmod(self.fd, 0o644 if info is None else stat.S_IMODE(info.st_mode))
        return 0

    @property
    def _prefix(self) -> str:
        return f".{os.path.basename(self._target)}-"

    def _refuse_other_files(self) -> None:
        with contextlib.suppress(FileNotFoundError), open_regular(self.path) as file:
            start = file.read(10)
            if start and start != b'{"journal"':
                raise RunFault(
                    f"{self.path} exists and is not a journal; it is left as it is: give "
                    f"--journal another name"
                )

    def _remove_torn_off(self) -> None:
        """Remove what runs that were killed before their first record have left beside the
        journal."""
        directory = os.path.dirname(self._target)
        for name in os.listdir(directory):
            if name.startswith(self._prefix) and name.endswith(BESIDE):
                with contextlib.suppress(OSError):
                    os.unlink(os.path.join(directory, name))

    def settle(self) -> None:
        """Take the journal's place, unless that is done. Raises OSError."""
        if self.beside:
            # Whatever removed it, or the directory around it: what was written is still in our
            # hands.
            if self.is_gone:
                self.keep_somewhere()
                return
            os.replace(self.beside, self._target)
            self.beside = ""

    @property
    def is_gone(self) -> bool:
        """Whether the file that is written has no name any more."""
        return self.device < 0 and self.fd >= 0 and os.fstat(self.fd).st_nlink == 0

    @property
    def is_elsewhere(self) -> bool:
        """Whether something else, or nothing, stands under the journal's name."""
        if self.device >= 0 or self.fd < 0 or self.beside or self.elsewhere:
            return False
        try:
            return not os.path.samestat(os.stat(self._target), os.fstat(self.fd))
        except OSError:
            return True

    def keep(self) -> None:
        """Write what was written so far again, under the journal's name. Raises OSError."""
        directory = os.path.dirname(self._target)
        os.makedirs(directory, exist_ok=True)
        fd, name = tempfile.mkstemp(prefix=self._prefix, suffix=BESIDE, dir=directory)
        try:
            os.fchmod(fd, stat.S_IMODE(os.fstat(self.fd).st_mode))
            self._go_on_in(fd)
            os.replace(name, self._target)
        except OSError:
            with contextlib.suppress(OSError):
                os.unlink(name)
            raise
        self.beside, self.put_back = "", self.put_back + 1

    def keep_somewhere(self) -> None:
        """Write what was written so far again, under the journal's name or, where that cannot be,
        in the directory of temporary files, and go on there. Raises OSError."""
        try:
            if self.put_back >= MOST_PUT_BACK:
                raise FileNotFoundError
            self.keep()
        except OSError:
            fd, name = tempfile.mkstemp(prefix="keen-matrix-", suffix=".jsonl")
            self._go_on_in(fd)
            self.beside, self.elsewhere = "", name

    def _go_on_in(self, fd: int) -> None:
        """Copy what was written so far to a new file, and write there from now on. Raises
        OSError."""
        try:
            _copy(self.fd, fd)
            os.dup2(fd, self.fd, inheritable=False)
        finally:
            os.close(fd)
        os.lseek(self.fd, 0, os.SEEK_END)

    def leave(self) -> None:
        """Close the file, remove one that has not taken its place, and let others write."""
        for fd in (self.fd, self.device):
            if fd >= 0:
                os.close(fd)
        self.fd = self.device = -1
        if self.beside:
            with contextlib.suppress(OSError):
                os.unlink(self.beside)
            self.beside = ""
        if self._lock is not None:
            self._lock.release()
            self._lock = None


def _drop_end(fd: int) -> int:
    """Take away what a broken-off run may have left at the end: a torn line, and the note of
    an interruption. Return how many bytes stay."""
    keep = 0
    with open(fd, "rb", closefd=False) as file:
        # From the beginning: the note of an interruption may stand anywhere near the end, with a
        # torn line after it.
        for line in file:
            if not line.endswith(b"\n"):
                break
            if not line.startswith(b'{"finished"'):
                keep += len(line)
                continue
            # The run goes on after it, so the note would say what is no longer so.
            if b'"interrupted":true' in line:
                break
            keep += len(line)
    os.ftruncate(fd, keep)
    return os.lseek(fd, keep, os.SEEK_SET)


class Journal:
    """A journal being written. Every line is in the file, whole, before `write` returns; a failed
    write leaves no part.

    A run that begins again writes beside the journal that is there and takes its place with the
    first record: a run that comes to nothing loses no results. One run at a time writes a journal:
    a lock beside it is kept until it is closed, by the system, so that the lock of a run that was
    killed is none.

    Raises RunFault when it cannot be written, when another run writes it, or when there is
    something else in its place.
    """

    def __init__(self, path: str, *, keep: bool = False) -> None:
        self.path = path
        self._place = JournalPlace(path)
        try:
            self.size = self._place.take(keep=keep)
        except OSError as error:
            self.close()
            raise RunFault(f"the journal {path} cannot be written: {error.strerror}") from None
        except RunFault:
            self.close()
            raise

    @property
    def is_in_place(self) -> bool:
        """Whether what was written can be read by the journal's name: not before the first record,
        and never from a device."""
        return not self._place.beside and self._place.device < 0

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
        # By our own count of bytes: another run may be writing to a file of the same name by now.
        while at < self.size and (block := os.pread(self._place.fd, min(READ_BYTES, self.size - at), at)):
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
                # A write may take less than all, and a full disk does so first.
                written = os.write(self._place.fd, left)
                self.size += written
                left = left[written:]
            if self._place.device >= 0:
                _write_all(self._place.device, line)
            # A header alone is no result: until there is one, the results of the run before stay.
            if line.startswith(b'{"id"'):
                self._place.settle()
                # A program may remove what is not its own, and do so in every case.
                if self._place.is_gone:
                    self._place.keep_somewhere()
        except OSError as error:
            self._drop_torn(start)
            raise RunFault(
                f"the journal {self.path} cannot be written any further: {error.strerror}; "
                f"{self._where_they_are()}"
            ) from None
        return start

    def _where_they_are(self) -> str:
        """Return where the cases finished so far are."""
        place = self._place
        with contextlib.suppress(OSError):
            if place.beside and place.is_gone:
                return "no case has finished"
            if place.is_elsewhere:
                place.keep_somewhere()
        return f"the cases finished so far are in {place.elsewhere or 'it'}, complete"

    def secure(self) -> str:
        """See that what was written stands under the journal's name; return what there is to say
        about that, or nothing."""
        place = self._place
        if place.device >= 0 or place.fd < 0 or place.beside:
            return ""
        if place.is_elsewhere:
            try:
                place.keep_somewhere()
            except OSError as error:
                return (
                    f"the journal {self.path} was removed while the run went, and its results are "
                    f"lost: {error.strerror}"
                )
        if place.elsewhere:
            return (
                f"the journal {self.path} was removed during the run and cannot be written there again; "
                f"the results are in "
                f"{place.elsewhere}, complete: keen-matrix report {place.elsewhere}"
            )
        if place.put_back:
            return f"the journal {self.path} was removed during the run; it was written there again, whole"
        return ""

    def _drop_torn(self, start: int) -> None:
        try:
            # The next reader, and --resume, find whole lines only.
            os.ftruncate(self._place.fd, start)
            self.size = start
        except OSError:
            pass  # a device, for instance; a reader drops a torn last line

    def settle(self) -> None:
        """Take the place of the journal before it, though there is no record. Raises RunFault."""
        try:
            self._place.settle()
        except OSError as error:
            raise RunFault(f"the journal {self.path} cannot be written: {error.strerror}") from None

    def write_line(self, line: Header | Finished) -> int:
        """Append a header or a closing line, and return its offset."""
        return self.write(encode(line))

    def read(self, offset: int, length: int) -> Record:
        """Return the record that was written at an offset."""
        found = decode(os.pread(self._place.fd, length, offset))
        if not isinstance(found, Record):
            raise no_line(self.path, 0, f"there is no record at byte {offset}")
        return found

    def close(self) -> None:
        """Close the file; one that no record was written to goes, and the journal that was there
        stays."""
        self._place.leave()

    def __enter__(self) -> Journal:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _stat(path: str) -> os.stat_result | None:
    try:
        return os.stat(path)
    except FileNotFoundError:
        return None


def _copy(source: int, target: int) -> None:
    """Copy a file from its beginning, by descriptors. Raises OSError."""
    at = 0
    while block := os.pread(source, READ_BYTES, at):
        _write_all(target, block)
        at += len(block)


def _write_all(fd: int, line: bytes) -> None:
    left = memoryview(line)
    while left:
        left = left[os.write(fd, left) :]


def no_line(path: str, number: int, fault: str = "") -> RunFault:
    """Return the fault of a journal whose line is not of the shape that every reader relies on."""
    return RunFault(f"{path}:{number}: this is not a line of a journal{': ' if fault else ''}{fault}")
