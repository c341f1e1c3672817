"""The directories of a case: a working directory, a home and a temporary one, empty at every
launch.

Making and removing three directories costs as much as a tenth of a small program's launch, so
those that a program left as they were are used again: a directory whose change time has not moved
since before the launch had nothing done to it.

A program may do anything to them, and to the worker's own directory above them: remove it, put a
link in its place, lock it. What is removed is removed by descriptor (see trees); what cannot be is
left behind, told of, and another one is made.
"""

from __future__ import annotations

import contextlib
import os
import stat
import tempfile
from collections.abc import Iterable

from keen_matrix.core.launch.directories.trees import Identity, open_directory, remove_at

#: File times move in steps of a few milliseconds; a directory younger than this is looked into
#: instead.
COARSE_CLOCK_NS = 50_000_000

NAMES = ("dir", "home", "tmp")
#: Names that are tried for a directory: one more for each that could not be removed.
MOST_NAMES = 10_000


class WorkerDirectory:
    """The directory of a worker, in which those of its runners are made. A descriptor tells it from
    what is put in its place."""

    def __init__(self, path: str) -> None:
        """Make it at a path, in a directory that is there. Raises OSError."""
        os.makedirs(os.path.dirname(path), mode=0o700, exist_ok=True)
        with contextlib.suppress(FileExistsError):
            os.mkdir(path, 0o700)
        self._above = open_directory(os.path.dirname(path))
        self._take(path)
        self._former: list[tuple[int, str, Identity]] = []

    def _take(self, path: str) -> None:
        self.path = path
        self.fd = open_directory(os.path.basename(path), self._above)
        self.identity = Identity.of(os.fstat(self.fd))

    @property
    def is_in_place(self) -> bool:
        """Whether its path still leads to it."""
        try:
            return Identity.of(os.lstat(self.path)) == self.identity
        except OSError:
            return False

    def replace(self) -> None:
        """Begin another directory, beside the one that all workers share, since ours is no longer
        where it was. Raises OSError.

        Its name begins with that of the shared one, by which the engine finds it when we cannot
        remove it.
        """
        shared = os.path.dirname(self.path)
        path = tempfile.mkdtemp(
            prefix=f"{os.path.basename(shared).partition('+')[0]}+", dir=os.path.dirname(shared)
        )
        # It is removed at the end, if it is still what it was.
        self._former.append((self._above, os.path.basename(self.path), self.identity))
        os.close(self.fd)
        self._above = open_directory(os.path.dirname(path))
        self._take(path)

    def remove(self) -> None:
        """Remove it, and those that were before it; what something else has taken the place of is
        left."""
        os.close(self.fd)
        for above, name, identity in (
            *self._former,
            (self._above, os.path.basename(self.path), self.identity),
        ):
            remove_at(above, name, identity)
            os.close(above)


class CaseDirectories:
    """The directories of one runner, handed from case to case."""

    def __init__(self, above: WorkerDirectory, number: int) -> None:
        self._above, self._number = above, number
        self._generation = 0
        self._identity: Identity | None = None
        self._stamps: tuple[int, ...] | None = None
        self._made_at = 0
        self._name_paths()

    def _name_paths(self) -> None:
        self._name = f"{self._number}.{self._generation}" if self._generation else str(self._number)
        self.root = root = os.path.join(self._above.path, self._name)
        self.work, self.home, self.tmp = (os.path.join(root, name) for name in NAMES)
        self.root_bytes = os.fsencode(root)
        self._paths = (root, self.work, self.home, self.tmp)
        self.masks = tuple(
            (os.fsencode(path), f"<{name}>".encode())
            for path, name in ((self.work, "dir"), (self.home, "home"), (self.tmp, "tmp"))
        )

    def prepare(self) -> None:
        """Make sure that all three exist and are empty. Raises OSError when no directory can be
        made at all.

        A program of another runner may have taken them away since they were made.
        """
        # By number and not by name: a program that moved the directory away may have left another
        # of that name.
        if self._stamps is not None and not self._is_there(self._stamps):
            self._stamps = None
        if self._stamps is None:
            self._remove()
            self._make()

    def _is_there(self, stamps: tuple[int, ...]) -> bool:
        try:
            return os.lstat(self.root).st_ino == stamps[1] and os.lstat(self.work).st_ino == stamps[3]
        except OSError:
            return False

    def _make(self) -> None:
        # A program can remove the worker's directory too, and with it those of all that run beside
        # it.
        if not self._above.is_in_place:
            self._above.replace()
        # another runner may have begun it again: then our paths lead to where it was
        if os.path.dirname(self.root) != self._above.path:
            self._name_paths()
        for _ in range(MOST_NAMES):
            try:
                os.mkdir(self._name, 0o700, dir_fd=self._above.fd)
                break
            except FileExistsError:  # what could not be removed
                self._generation += 1
                self._name_paths()
        fd = open_directory(self._name, self._above.fd)
        try:
            self._identity = Identity.of(os.fstat(fd))
            for name in NAMES:
                os.mkdir(name, 0o755, dir_fd=fd)
        finally:
            os.close(fd)
        self._stamps = _changed_at(self._paths)
        self._made_at = max(self._stamps[::2])

    def _remove(self) -> str:
        """Remove what there is; return why something was left, or nothing."""
        return remove_at(self._above.fd, self._name, self._identity) if self._identity is not None else ""

    def touched(self) -> None:
        """Say that something was put into the directories: they are made again for the next
        case."""
        self._made_at = 0

    def changed(self, launched_at_ns: int) -> bool:
        """Tell whether a launch may have done something to the directories; False only when it has
        not."""
        try:
            # The change time cannot be set back by a program (utimensat(2) moves it to now), so
            # what has not moved was not touched.
            unmoved = self._made_at and _changed_at(self._paths) == self._stamps
            # A change within the same step of the clock would leave the time as it is.
            return not (unmoved and self._made_at + COARSE_CLOCK_NS < launched_at_ns)
        except OSError:
            return True

    def open_work(self) -> int:
        """Return a descriptor of the working directory. Raises OSError when it is no longer what
        was made."""
        above = open_directory(self._name, self._above.fd)
        try:
            if Identity.of(os.fstat(above)) != self._identity:
                raise FileNotFoundError(f"{self.root} is no longer the case's directory")
            fd = open_directory(NAMES[0], above)
        finally:
            os.close(above)
        if self._stamps is not None and os.fstat(fd).st_ino != self._stamps[3]:
            os.close(fd)
            raise FileNotFoundError(f"{self.work} is no longer the case's directory")
        return fd

    @property
    def work_is_in_place(self) -> bool:
        """Whether the working directory is still what was made, and nothing else in its place."""
        try:
            os.close(self.open_work())
            return Identity.of(os.lstat(self.root)) == self._identity
        except OSError:
            return False

    def renew(self) -> str:
        """Have empty directories, whatever was done to those that are there; return why something
        was left, or nothing."""
        self._stamps = None
        reason = self._remove()
        self._make()
        return reason

    def clean(self) -> str:
        """Have the directories ready for the next case, after one that may have changed them.

        Returns why something of the former ones was left behind, or nothing.
        """
        if self._stamps is None:
            return ""
        try:
            now = _changed_at(self._paths)
            # Other numbers are other directories, whatever their names.
            same = now[1::2] == self._stamps[1::2]
            # Touched and empty again, as a program leaves it that removes its temporary files:
            # nothing has to be made.
            fresh = (
                same and self._made_at and all(_is_fresh(path) for path in (self.work, self.home, self.tmp))
            )
            if fresh and sorted(os.listdir(self.root)) == sorted(NAMES):
                self._stamps = now
                self._made_at = max(*now[::2], self._made_at)
                return ""
        except OSError:
            pass
        try:
            return self.renew()
        except OSError as error:  # the next case says so, if it still is so then
            return error.strerror or str(error)


def _changed_at(paths: Iterable[str]) -> tuple[int, ...]:
    """Return when each directory was last changed, and its number: another one in its place
    has another."""
    found: list[int] = []
    for path in paths:
        info = os.lstat(path)
        found += (info.st_ctime_ns, info.st_ino)
    return tuple(found)


def _is_fresh(path: str) -> bool:
    info = os.lstat(path)
    if not stat.S_ISDIR(info.st_mode) or stat.S_IMODE(info.st_mode) != 0o755:
        return False
    with os.scandir(path) as entries:
        # One entry is enough to know; a program may have made a million.
        return next(entries, None) is None
