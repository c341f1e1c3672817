"""The directories of a case: a working directory, a home and a temporary one, empty at every launch.

Making and removing three directories costs as much as a tenth of a small program's launch, so those that a program left as
they were are used again: a directory whose change time has not moved since before the launch had nothing done to it.
"""

from __future__ import annotations

import os
import shutil
import stat
from collections.abc import Callable
from typing import Any

COARSE_CLOCK_NS = 50_000_000
"""File times move in steps of a few milliseconds; a directory younger than this is looked into instead."""

NAMES = ("dir", "home", "tmp")


class CaseDirectories:
    """The directories of one slot, handed from case to case."""

    def __init__(self, root: str) -> None:
        self.root = root
        self.work, self.home, self.tmp = (os.path.join(root, name) for name in NAMES)
        self.root_bytes = root.encode()
        self._paths = (root, self.work, self.home, self.tmp)
        self._stamps: tuple[int, ...] | None = None
        self._made_at = 0
        self.masks = tuple(
            (path.encode(), f"<{name}>".encode())
            for path, name in ((self.work, "dir"), (self.home, "home"), (self.tmp, "tmp"))
        )

    def prepare(self) -> None:
        """Make sure that all three exist and are empty."""
        if self._stamps is None:
            remove_tree(self.root)
            os.mkdir(self.root, 0o700)
            for path in (self.work, self.home, self.tmp):
                os.mkdir(path, 0o755)
            self._stamps = self._changed_at()
            self._made_at = max(self._stamps)

    def touched(self) -> None:
        """Say that something was put into the directories: they are made anew for the next case."""
        self._made_at = 0

    def changed(self, launched_at_ns: int) -> bool:
        """Tell whether a launch may have done something to the directories; False only when it has not."""
        try:
            unmoved = self._made_at and self._changed_at() == self._stamps
            return not (unmoved and self._made_at + COARSE_CLOCK_NS < launched_at_ns)
        except OSError:
            return True

    def renew(self) -> None:
        """Have empty directories, whatever was done to those that are there."""
        self._stamps = None
        self.prepare()

    def clean(self) -> None:
        """Have the directories ready for the next case, after one that may have changed them."""
        if self._stamps is None:
            return
        try:
            now = self._changed_at()
            fresh = self._made_at and all(self._is_fresh(path) for path in (self.work, self.home, self.tmp))
            if fresh and sorted(os.listdir(self.root)) == sorted(NAMES):
                self._stamps = now
                self._made_at = max(*now, self._made_at)
                return
        except OSError:
            pass
        self._stamps = None
        self.prepare()

    def _changed_at(self) -> tuple[int, ...]:
        lstat = os.lstat
        return tuple([lstat(path).st_ctime_ns for path in self._paths])

    @staticmethod
    def _is_fresh(path: str) -> bool:
        info = os.lstat(path)
        if not stat.S_ISDIR(info.st_mode) or stat.S_IMODE(info.st_mode) != 0o755:
            return False
        with os.scandir(path) as entries:
            return next(entries, None) is None


def remove_tree(path: str) -> None:
    """Remove whatever stands at a path; links are removed, never followed, and locked folders are unlocked."""
    try:
        info = os.lstat(path)
    except FileNotFoundError:
        return
    if not stat.S_ISDIR(info.st_mode):
        os.unlink(path)
        return
    shutil.rmtree(path, onerror=_unlock_and_retry)
    if os.path.lexists(path):
        shutil.rmtree(path, ignore_errors=True)


def _unlock_and_retry(function: Callable[..., Any], path: str, _info: Any) -> None:
    """A folder without permissions cannot be listed or emptied: give them back and go on."""
    try:
        parent = os.path.dirname(path)
        os.chmod(parent, 0o700)
        if os.path.isdir(path) and not os.path.islink(path):
            os.chmod(path, 0o700)
            shutil.rmtree(path, ignore_errors=True)
        elif os.path.lexists(path):
            os.unlink(path)
    except OSError:
        pass
