"""What is in a case's directory, before and after a launch, and what the launch did to it."""

from __future__ import annotations

import contextlib
import os
import stat
from collections.abc import Callable, Iterator, Mapping
from typing import NamedTuple

from keen_matrix.core.model.record import FileChange

#: Files that are listed by name in a record; beyond, only their number is.
MOST_LISTED = 1_000
#: Size up to which a file that was put in place is read to see whether it changed.
COMPARED_BYTES = 65_536
#: Size up to which a file is read when the directories of two launches are compared.
STATE_BYTES = 64 * 1024 * 1024


class FileState(NamedTuple):
    """What stands under a name, as far as it was looked at."""

    #: `file`, `directory` or `link`.
    kind: str
    #: Bytes; 0 for a directory.
    size: int
    mode: int
    #: What tells one content from another: a digest or where a link leads, else the time of the
    #: last change in nanoseconds.
    content: tuple[object, ...] = ()


#: A time of access, in nanoseconds since the epoch, that no reading leaves behind. It is before
#: every time of change, so that the system moves it on at the first reading also where it seldom
#: does (mount(8), relatime).
UNREAD_NS = 1_000_000_000
#: Device → whether its file system moves the time of access on at all.
_tells_of_reading: dict[int, bool] = {}


def stamped_unread(work: int, put: Mapping[str, FileState]) -> tuple[str, ...]:
    """Give the files at the top of an open directory a time of access that tells whether they are
    read from now on, and return their names; none where the file system tells nothing."""
    names = [name for name, each in put.items() if each.kind == "file" and os.sep not in name]
    stamped: list[str] = []
    with contextlib.suppress(OSError):
        device = os.fstat(work).st_dev
        for name in names:
            if device not in _tells_of_reading:
                _stamp(work, name)
                fd = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=work)
                try:
                    empty = not os.read(fd, 1)
                finally:
                    os.close(fd)
                if empty:  # nothing is read of it, so nothing is told
                    continue
                _tells_of_reading[device] = was_read(work, name)
            if not _tells_of_reading[device]:
                return ()
            _stamp(work, name)
            stamped.append(name)
    return tuple(stamped)


def _stamp(work: int, name: str) -> None:
    info = os.stat(name, dir_fd=work, follow_symlinks=False)
    if stat.S_ISREG(info.st_mode) and info.st_size:
        os.utime(name, ns=(UNREAD_NS, info.st_mtime_ns), dir_fd=work, follow_symlinks=False)


def was_read(work: int, name: str) -> bool:
    """Tell whether a file in an open directory was read, or is another by now, since it was
    stamped."""
    try:
        info = os.stat(name, dir_fd=work, follow_symlinks=False)
    except OSError:
        return True
    return info.st_atime_ns != UNREAD_NS


def snapshot(root: str) -> dict[str, FileState]:
    """Return what is below a directory: name → kind, size, mode, time, and the content of
    small files."""
    return dict(_seen_below(root, lambda entry: _state(entry.path)))


def _seen_below(root: str, see: Callable[[os.DirEntry[str]], FileState]) -> Iterator[tuple[str, FileState]]:
    """Yield the name of everything below a directory with what `see` makes of it.

    What is gone by then is passed over, and so is what is in a directory that its program has
    locked.
    """
    directories = [root]
    while directories:
        # What a program left running may still remove what is looked at.
        with contextlib.suppress(OSError), os.scandir(directories.pop()) as entries:
            for entry in entries:
                with contextlib.suppress(OSError):
                    yield entry.path[len(root) + 1 :], see(entry)
                    # A link is recorded and never followed: it may lead out of the directory, or
                    # round in it.
                    if entry.is_dir(follow_symlinks=False):
                        directories.append(entry.path)


def state_of(path: str) -> FileState | None:
    """Return what is at a path now; None where nothing is."""
    try:
        return _state(path)
    except OSError:
        return None


def _state(path: str) -> FileState:
    info = os.lstat(path)
    kind = _kind(info)
    if kind == "directory":
        return FileState(kind, 0, stat.S_IMODE(info.st_mode))
    content: tuple[object, ...] = (info.st_mtime_ns,)
    if kind == "link":
        content = (os.readlink(path),)
    elif stat.S_ISREG(info.st_mode) and info.st_size <= COMPARED_BYTES:
        with contextlib.suppress(OSError), open(path, "rb") as file:
            # hash() and no digest: it is only compared within this process, and small files are the
            # rule.
            content = ("read", hash(file.read()))
    return FileState(kind, info.st_size, stat.S_IMODE(info.st_mode), content)


def _kind(info: os.stat_result) -> str:
    if stat.S_ISDIR(info.st_mode):
        return "directory"
    return "link" if stat.S_ISLNK(info.st_mode) else "file"


def directory_state(root: str) -> dict[str, tuple[object, ...]]:
    """Return what is below a directory, to be compared with another: name → kind, size, mode,
    digest of the content.

    A file of more than STATE_BYTES is known by its size alone.
    """
    from hashlib import blake2b

    found: dict[str, tuple[object, ...]] = {}
    for name, state in snapshot(root).items():
        digest = ""
        path = os.path.join(root, name)
        if state.kind == "link":
            digest = os.readlink(path)
        elif state.kind == "file" and stat.S_ISREG(os.lstat(path).st_mode) and state.size <= STATE_BYTES:
            try:
                with open(path, "rb") as file:
                    digest = blake2b(file.read(), digest_size=12).hexdigest()
            except OSError:
                digest = "unreadable"
        found[name] = (state.kind, state.size, f"{state.mode:o}", digest)
    return found


def file_changes(before: Mapping[str, FileState], root: str) -> dict[str, FileChange]:
    """Return what a launch did to the files below a directory: name → state, kind, size in bytes,
    mode.

    Large files are not read: their size, mode and time tell. At most MOST_LISTED are listed by
    name; "…" counts the rest.
    """
    after = snapshot_light(root, before)
    changes: dict[str, FileChange] = {}
    left_out = 0
    for name in sorted({*before, *after}):
        old, new = before.get(name), after.get(name)
        if old == new:
            continue
        # A program that makes a million files must not make a record of a hundred megabytes.
        if len(changes) >= MOST_LISTED:
            left_out += 1
        elif new is None:
            changes[name] = FileChange(state="deleted")
        else:
            state = "created" if old is None else "changed"
            differs = () if old is None else _difference(old, new)
            old_mode = f"{old.mode:o}" if old is not None and "mode" in differs else ""
            mode = f"{new.mode:o}"
            changes[name] = FileChange(state, new.kind, new.size, mode, differs, old_mode)
    if left_out:
        changes["…"] = FileChange(state="more", count=left_out)
    return changes


def _difference(old: FileState, new: FileState) -> tuple[str, ...]:
    """Return in what two states of one name differ: its kind, its content, its mode."""
    parts = (
        ("kind", old.kind != new.kind),
        ("content", (old.size, old.content) != (new.size, new.content)),
        ("mode", old.mode != new.mode),
    )
    return tuple(name for name, differ in parts if differ)


def snapshot_light(root: str, before: Mapping[str, FileState]) -> dict[str, FileState]:
    """Return a snapshot in which only files that were there before are read."""
    # Without files in place nothing can have been changed, only made: no content is read to know
    # that.
    if before:
        return snapshot(root)
    return dict(_seen_below(root, _glance))


def _glance(entry: os.DirEntry[str]) -> FileState:
    info = entry.stat(follow_symlinks=False)
    kind = _kind(info)
    return FileState(kind, 0 if kind == "directory" else info.st_size, stat.S_IMODE(info.st_mode))
