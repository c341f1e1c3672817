"""Writing files that people name: what is no regular file is written into, a link is kept, and
nothing is left half written."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import stat
import sys
import tempfile
from collections.abc import Iterator
from typing import BinaryIO

#: Ends the name of a spec's file.
SUFFIX = ".matrix.toml"


def cache_directory(name: str) -> str:
    """Return a directory for what is kept between calls, below the user's cache directory (XDG Base
    Directory Specification)."""
    top = os.environ.get("XDG_CACHE_HOME", "")
    return os.path.join(
        # A relative path there is to be ignored, says the specification.
        top if os.path.isabs(top) else os.path.expanduser("~/.cache"),
        "keen-matrix",
        name,
    )


def drop_oldest(directory: str, most: int) -> None:
    """Remove the older half of the files of a directory that has so many, or more. Raises OSError
    when it cannot be read."""
    names = os.listdir(directory)
    if len(names) < most:
        return
    paths = sorted((os.path.join(directory, name) for name in names), key=os.path.getmtime)
    for path in paths[: len(paths) // 2]:
        with contextlib.suppress(OSError):
            os.unlink(path)


def open_regular(path: str) -> BinaryIO:
    """Open a file that is only read: the one way in which specs, journals, baselines, histories and
    what is kept are opened.

    Raises OSError, also of what is no regular file: to open a pipe would wait for somebody who
    writes into it, and to read a device may never end."""
    fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOCTTY)
    if not stat.S_ISREG(os.fstat(fd).st_mode):
        os.close(fd)
        raise OSError(errno.EINVAL, "it is not a regular file", path)
    return open(fd, "rb")


def read_regular(path: str, most: int) -> bytes:
    """Return the content of a file that is only read. Raises OSError, also where it has more than
    so many bytes."""
    with open_regular(path) as file:
        found = file.read(most + 1)
    if len(found) > most:
        raise OSError(errno.EFBIG, f"it has more than {most:,} bytes", path)
    return found


def usual_mode(path: str) -> int:
    """Return the permissions that a file at a path has, or those that a new one would get."""
    try:
        return stat.S_IMODE(os.stat(path).st_mode)
    except OSError:
        # There is no call that only asks for it.
        mask = os.umask(0)
        os.umask(mask)
        return 0o666 & ~mask


@contextlib.contextmanager
def replacing(path: str) -> Iterator[BinaryIO]:
    """Yield a stream whose content takes the place of a regular file once the block has ended
    well, and not before.

    A link is kept and the file that it leads to is written; the file keeps its permissions. Where
    the directory takes no new file, the old one is written into. Raises OSError.
    """
    target = os.path.realpath(path)
    mode = usual_mode(target)
    try:
        fd, temporary = tempfile.mkstemp(prefix=f".{os.path.basename(target)}-", dir=os.path.dirname(target))
    except PermissionError:
        # The directory takes no file and neither does the file: nothing can be done, and nothing
        # was.
        if not os.access(target, os.W_OK):
            raise
        with tempfile.TemporaryFile() as spare:
            yield spare
            spare.seek(0)
            with open(target, "wb") as file:
                shutil.copyfileobj(spare, file)
        return
    try:
        with open(fd, "wb") as stream:
            yield stream
            stream.flush()
            # Before it takes its place: at no moment others may read what they could not before.
            os.fchmod(fd, mode)
        os.replace(temporary, target)
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(temporary)
        raise


def open_device(path: str) -> int:
    """Open what is no regular file, a pipe or device, as it is: it can be written and not be
    replaced. Raises OSError.

    A named pipe that nobody reads is an error (ENXIO) where opening it would wait without end.
    """
    fd = os.open(path, os.O_WRONLY | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOCTTY)
    os.set_blocking(fd, True)
    return fd


def open_stream_of(path: str) -> int | None:
    """Return 1 or 2 when a path leads to our own standard output or error, as /dev/stdout does;
    else None.

    Such a path is written through the stream that is open: opening it again would begin at its
    start, over what is there.
    """
    try:
        info = os.stat(path)
        for fd in (1, 2):
            if os.path.samestat(info, os.fstat(fd)):
                return fd
    except OSError:
        pass
    return None


@contextlib.contextmanager
def written(path: str) -> Iterator[BinaryIO]:
    """Yield a stream to what is at a path: our own standard streams, a pipe or device, or a
    regular file as `replacing` does.

    Raises OSError.
    """
    ours = open_stream_of(path)
    if ours is not None:
        text = sys.stdout if ours == 1 else sys.stderr
        text.flush()
        with open(os.dup(ours), "wb") as stream:
            yield stream
        return
    try:
        regular = stat.S_ISREG(os.stat(path).st_mode)
    except FileNotFoundError:
        regular = True
    if regular:
        with replacing(path) as stream:
            yield stream
        return
    with open(open_device(path), "wb") as stream:
        yield stream


def leaves_directory(name: str) -> bool:
    """Tell whether a file name of a spec points outside the directory it is meant for."""
    return not name or os.path.isabs(name) or os.path.normpath(name).split(os.sep)[0] == ".." or "\0" in name
