"""Directories that a hostile program has had its hands on: removed, copied and written by
descriptor, never through a link.

A path is looked up again at every use, and whoever may write in one of its directories can put a
link in the way meanwhile. A descriptor stays with the directory it was opened on. So everything
here starts from an open directory and goes down one name at a time with O_NOFOLLOW (openat(2)); the
way back up, `..`, is compared with the directory that we came from."""

from __future__ import annotations

import contextlib
import os
import shutil
import stat
from collections.abc import Iterator
from typing import NamedTuple

READ_DIRECTORY = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
#: Opens what may not be read, to be looked at and unlocked (Linux).
_PATH_ONLY = getattr(os, "O_PATH", 0)


class Identity(NamedTuple):
    """What a directory is, whatever it is called: its device and its number there."""

    device: int
    inode: int

    @classmethod
    def of(cls, info: os.stat_result) -> Identity:
        """Return the identity of what was looked at."""
        return cls(info.st_dev, info.st_ino)


def open_directory(name: str, at: int | None = None) -> int:
    """Return a descriptor of a directory, by its name in an open one (default: by its path). Raises
    OSError, also for a link."""
    return os.open(name, READ_DIRECTORY, dir_fd=at)


class Mount(NamedTuple):
    """Where an open directory is mounted: its device, and the number of the mount, which tells bind
    mounts apart (Linux)."""

    device: int
    number: int | None

    @classmethod
    def of(cls, fd: int) -> Mount:
        """Return the mount of an open directory."""
        number = None
        with (
            contextlib.suppress(OSError, ValueError),
            open(f"/proc/self/fdinfo/{fd}", encoding="ascii") as file,
        ):
            number = next((int(line[7:]) for line in file if line.startswith("mnt_id:")), None)
        return cls(os.fstat(fd).st_dev, number)

    def has(self, other: Mount) -> bool:
        """Tell whether another directory is in the same mount, as far as both are known."""
        # Where mounts have no numbers the device alone tells; bind mounts of the same device are
        # not seen then.
        known = self.number is not None and other.number is not None
        return self.device == other.device and (not known or self.number == other.number)


def _unlock(name: str, at: int) -> None:
    """Give ourselves every right on a directory of ours that its program has locked. Raises
    OSError."""
    if not _PATH_ONLY:
        if stat.S_ISDIR(os.stat(name, dir_fd=at, follow_symlinks=False).st_mode):
            os.chmod(name, 0o700, dir_fd=at)
        return
    fd = os.open(name, _PATH_ONLY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=at)
    try:
        if stat.S_ISDIR(os.fstat(fd).st_mode):
            os.chmod(f"/proc/self/fd/{fd}", 0o700)
    finally:
        os.close(fd)


def _enter(name: str, at: int) -> int:
    """Return a descriptor of a directory in an open one, unlocked so that it can be emptied. Raises
    OSError."""
    try:
        fd = open_directory(name, at)
    except PermissionError:
        _unlock(name, at)
        fd = open_directory(name, at)
    mode = stat.S_IMODE(os.fstat(fd).st_mode)
    # A program may have locked its own directory; to be emptied it has to be opened again.
    if mode & 0o700 != 0o700:
        with contextlib.suppress(PermissionError):  # it is somebody else's; what can go, goes
            os.fchmod(fd, mode | 0o700)
    return fd


class _OpenDirectory:
    """A directory on the way down: its name, what it is, and the directories in it that are still
    to go."""

    __slots__ = ("identity", "name", "pending", "rounds")

    def __init__(self, name: str, fd: int) -> None:
        self.name = name
        self.identity = Identity.of(os.fstat(fd))
        self.pending: list[str] = []
        self.rounds = 0


def remove_at(at: int, name: str, known: Identity | None = None) -> str:
    """Remove whatever stands under a name in an open directory; return why it, or something in it,
    was left, or nothing.

    Links are removed and never followed; a directory is emptied however deep it is, with two
    descriptors open at most; what is mounted there is left alone. With `known`, a directory that is
    another one by now is left as it is.
    """
    try:
        info = os.stat(name, dir_fd=at, follow_symlinks=False)
        # Something else has that name by now, and may be anybody's.
        if known is not None and Identity.of(info) != known:
            return "something else is in its place"
        if not stat.S_ISDIR(info.st_mode):
            os.unlink(name, dir_fd=at)
            return ""
        return _remove_directory(at, name)
    except FileNotFoundError:
        return ""
    except OSError as error:
        return error.strerror or str(error)


def _remove_directory(at: int, name: str) -> str:
    reason = ""
    mount = Mount.of(at)
    current = _enter(name, at)
    way = [_OpenDirectory(name, current)]
    try:
        # What is mounted here is not the case's, and to empty it could cost somebody a disk.
        if not mount.has(Mount.of(current)):
            return "something is mounted there"
        reason = _empty(current, way[-1]) or reason
        while True:
            level = way[-1]
            if level.pending:
                below = level.pending.pop()
                entered, why = _go_down(current, below, mount)
                reason = why or reason
                if entered >= 0:
                    os.close(current)
                    current = entered
                    way.append(_OpenDirectory(below, current))
                    reason = _empty(current, way[-1]) or reason
                continue
            way.pop()
            if way:
                # One descriptor for each level would run out in a deep tree. So the way back is
                # opened, and compared with where we came from.
                above = os.open("..", READ_DIRECTORY, dir_fd=current)
                os.close(current)
                current = above
                if Identity.of(os.fstat(current)) != way[-1].identity:
                    return "it was moved while it was removed"
            reason = _drop(current if way else at, level, reason)
            if not way:
                return reason
    finally:
        os.close(current)


def _go_down(at: int, name: str, mount: Mount) -> tuple[int, str]:
    """Return a descriptor of a directory that is to be emptied, or -1 and why it is left."""
    try:
        fd = _enter(name, at)
    except OSError as error:
        return -1, error.strerror or str(error)
    if not mount.has(Mount.of(fd)):
        os.close(fd)
        return -1, "something is mounted there"
    return fd, ""


def _empty(fd: int, level: _OpenDirectory) -> str:
    """Remove the files of an open directory and note its directories; return why a file was left,
    or nothing."""
    reason = ""
    with os.scandir(fd) as entries:
        for entry in list(entries):
            try:
                if entry.is_dir(follow_symlinks=False):
                    level.pending.append(entry.name)
                else:
                    os.unlink(entry.name, dir_fd=fd)
            except FileNotFoundError:
                continue
            except OSError as error:
                reason = error.strerror or str(error)
    return reason


def _drop(at: int, level: _OpenDirectory, reason: str) -> str:
    """Remove a directory that was emptied; return why it was left, or what was known before."""
    try:
        # By name in the open directory above: what it is now must be empty, or it stays.
        os.rmdir(level.name, dir_fd=at)
    except FileNotFoundError:
        return reason
    except OSError as error:
        return reason or error.strerror or str(error)
    return reason


def remove_tree(path: str, known: Identity | None = None) -> str:
    """Remove whatever is at a path, in a directory that only we write; return why it was left,
    or nothing."""
    try:
        above = os.open(os.path.dirname(path) or ".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except FileNotFoundError:
        return ""
    except OSError as error:
        return error.strerror or str(error)
    try:
        return remove_at(above, os.path.basename(path), known)
    finally:
        os.close(above)


# --- writing into a directory ---


@contextlib.contextmanager
def directory_inside(root: int, name: str, *, make: bool = True) -> Iterator[tuple[int, str]]:
    """Yield a descriptor of the directory that a relative name stands in, below an open one, and
    the last part of the name.

    Directories on the way are made. Raises OSError (ELOOP or ENOTDIR) when a link is in the way.
    """
    # `..` is no part of a name that comes here: whoever reads a spec refuses what leads out.
    *parts, last = [each for each in name.split("/") if each not in ("", ".")]
    fd = os.dup(root)
    try:
        for part in parts:
            if make:
                with contextlib.suppress(FileExistsError):
                    os.mkdir(part, 0o777, dir_fd=fd)
            # Opened without following: a link that was put there meanwhile is an error, and no way
            # out.
            below = open_directory(part, fd)
            os.close(fd)
            fd = below
        yield fd, last
    finally:
        os.close(fd)


def open_new(name: str, at: int, mode: int = 0o666) -> int:
    """Return a descriptor to write a regular file in an open directory, emptied when it is there.
    Raises OSError for a link, and for a named pipe that nobody reads, which would hold us."""
    how = os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK
    return os.open(name, how, mode, dir_fd=at)


def copy_file(source: int, name: str, at: int) -> None:
    """Copy an open regular file, with its permissions, to a name in an open directory. Raises
    OSError."""
    # A copy, since closing the file would close its caller's descriptor.
    with open(os.dup(source), "rb") as reading, open(open_new(name, at), "wb") as writing:
        shutil.copyfileobj(reading, writing)
        os.fchmod(writing.fileno(), stat.S_IMODE(os.fstat(source).st_mode))


#: Directories inside each other that are copied; every directory is reached again from the top, so
#: that few descriptors are open.
DEEPEST_COPY = 200


def copy_inside(source: int, target: int) -> list[str]:
    """Copy all that is in an open directory into another; return the names of what is left out.

    Links are copied as links; what is no file, directory or link is left out, and what lies deeper
    than DEEPEST_COPY. Raises OSError.
    """
    left_out: list[str] = []
    pending: list[tuple[str, ...]] = [()]
    while pending:
        way = pending.pop()
        # A program can make directories inside each other without end; what is copied for somebody
        # to look at need not have them all.
        if len(way) > DEEPEST_COPY:
            left_out.append("/".join(way[:3]) + "/…")
            continue
        with (
            _reached(source, way) as reading,
            _reached(target, way) as writing,
            os.scandir(reading) as entries,
        ):
            for entry in list(entries):
                if _copy_entry(entry, reading, writing):
                    pending.append((*way, entry.name))
                elif not (entry.is_symlink() or entry.is_file(follow_symlinks=False)):
                    left_out.append("/".join((*way, entry.name)))
    return left_out


@contextlib.contextmanager
def _reached(root: int, way: tuple[str, ...]) -> Iterator[int]:
    with directory_inside(root, "/".join((*way, "x")), make=False) as (fd, _):
        yield fd


def _copy_entry(entry: os.DirEntry[str], reading: int, writing: int) -> bool:
    """Copy one entry of an open directory into another; tell whether it is a directory, whose
    content is still to be copied."""
    name = entry.name
    info = entry.stat(follow_symlinks=False)
    if stat.S_ISLNK(info.st_mode):
        os.symlink(os.readlink(name, dir_fd=reading), name, dir_fd=writing)
    elif stat.S_ISDIR(info.st_mode):
        with contextlib.suppress(FileExistsError):
            # Open to us first, with its own mode later: a directory that may not be written could
            # not be filled.
            os.mkdir(name, 0o700, dir_fd=writing)
        below = open_directory(name, writing)
        try:
            os.fchmod(below, stat.S_IMODE(info.st_mode) | 0o300)
        finally:
            os.close(below)
        return True
    elif stat.S_ISREG(info.st_mode):
        fd = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK, dir_fd=reading)
        try:
            copy_file(fd, name, writing)
        finally:
            os.close(fd)
    return False
