"""Locks between processes: one run at a time writes a journal."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import time
from collections.abc import Iterator

from keen_matrix.core.errors import RunFault

SUFFIX = ".lock"
#: What a file system says that knows no locks; a run goes on without.
_NO_LOCKS = (errno.ENOLCK, errno.ENOTSUP, errno.EINVAL, errno.ENOSYS)

#: Seconds that a lock is awaited whose owner is gone, or has not yet written its number: a child
#: that the owner made in its last moment keeps the lock until it executes its program or ends.
_WAIT_FOR_THE_DEAD = 2.0


class FileLock:
    """The lock of one file, kept from its making to its release. The system lets go of it when its
    process ends (flock(2)).

    Its file is beside the locked one, contains the number of the process, and is removed on
    release. Raises RunFault, with the number of the process that has it, when it is taken; OSError
    when the file cannot be made.
    """

    def __init__(self, path: str) -> None:
        self.path = os.path.join(os.path.dirname(path), f".{os.path.basename(path)}{SUFFIX}")
        self._fd = -1
        until = time.monotonic() + _WAIT_FOR_THE_DEAD
        while self._fd < 0:
            fd = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o644)
            try:
                fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError as error:
                if error.errno not in _NO_LOCKS:
                    owner = os.read(fd, 20).decode("ascii", "replace").strip()
                    os.close(fd)
                    if not _is_alive(owner) and time.monotonic() < until:
                        time.sleep(0.02)
                        continue
                    who = f"the process {owner}" if owner else "another process"
                    raise RunFault(
                        f"{path} is being written by another run, {who}; wait until it ends, or give "
                        f"this run its own journal with --journal"
                    ) from None
            if self._is_current(fd):
                self._fd = fd
            else:  # its former owner removed the file between our opening and our locking it
                os.close(fd)
        try:
            os.ftruncate(self._fd, 0)
            os.pwrite(self._fd, f"{os.getpid()}\n".encode(), 0)
        except OSError:  # a full disk: nothing of ours is left on it
            self.release()
            raise

    def _is_current(self, fd: int) -> bool:
        try:
            return os.path.samestat(os.fstat(fd), os.lstat(self.path))
        except FileNotFoundError:
            return False

    def release(self) -> None:
        """Remove the file, then let go of the lock: whoever waits for the file that is gone looks
        again."""
        if self._fd >= 0:
            with contextlib.suppress(OSError):
                os.unlink(self.path)
            os.close(self._fd)
            self._fd = -1


@contextlib.contextmanager
def waiting_lock(path: str, seconds: float) -> Iterator[None]:
    """Lock a file for as long as the block lasts, once whoever has it lets go. Raises RunFault when
    that takes longer than some seconds."""
    until = time.monotonic() + seconds
    while True:
        try:
            lock = FileLock(path)
            break
        except RunFault:
            if time.monotonic() >= until:
                raise
            time.sleep(0.05)
    try:
        yield
    finally:
        lock.release()


def _is_alive(number: str) -> bool:
    """Whether there is a process of this number; a number that is none is nobody's."""
    if not number.isdecimal():
        return False
    try:
        os.kill(int(number), 0)
    except (ProcessLookupError, OverflowError):
        return False
    except PermissionError:
        return True
    return True
