"""Where a case runs: its directories, what is put into them, and what its launches did there."""

from __future__ import annotations

import os
from collections.abc import Iterator

from keen_matrix.core.expressions import Template
from keen_matrix.core.files import leaves_directory
from keen_matrix.core.launch.directories.file_states import (
    FileState,
    directory_state,
    file_changes,
    snapshot,
    stamped_unread,
    state_of,
    was_read,
)
from keen_matrix.core.launch.directories.surroundings import (
    SurroundingsFault,
    TemplateScope,
    put_files,
    put_now,
)
from keen_matrix.core.launch.directories.trees import copy_inside, directory_inside, remove_at, remove_tree
from keen_matrix.core.launch.directories.working import CaseDirectories
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.record import FileChange
from keen_matrix.core.model.spec import Put


def _directories_above(name: str) -> Iterator[str]:
    while name := os.path.dirname(name):
        yield name


class CasePlace:
    """The directories of one runner, handed from case to case. `here` is that of the spec."""

    def __init__(self, directories: CaseDirectories, here: str) -> None:
        self.directories = directories
        self._here, self._fresh = here, True
        #: What was put in place for the case, as it stood before the launch.
        self._put: dict[str, FileState] = {}
        #: Of it, the files whose time of access tells whether they were read.
        self._stamped: tuple[str, ...] = ()
        self._was_changed = True
        #: Why something in a directory of the case could not be removed.
        self._left_behind = ""

    @property
    def start_directory(self) -> str:
        """The directory in which programs start."""
        return self.directories.work if self._fresh else self._here

    def begin(self, *, fresh: bool) -> None:
        """Be there for another case; `fresh` tells that its programs start in its own directory."""
        self._put, self._fresh, self._stamped = {}, fresh, ()

    def inside(self, name: str) -> str:
        """Return the path of a directory inside the directory in which programs start. Raises
        SurroundingsFault where there is none, or a link leads out."""
        top = os.path.realpath(self.start_directory)
        path = os.path.realpath(os.path.join(top, name))
        if leaves_directory(name) or os.path.commonpath([top, path]) != top:
            raise SurroundingsFault(f"start-in {name!r} leads out of the case's directory")
        if not os.path.isdir(path):
            there = sorted(each.name for each in os.scandir(top) if each.is_dir())
            found = f"; there are only {', '.join(there[:8])}" if there else ""
            raise SurroundingsFault(f"start-in names a directory that does not exist: {name}{found}")
        return path

    def make(self, *, again: bool) -> None:
        """Have empty directories for a launch; `again` when one of the same case was there. Raises
        SurroundingsFault."""
        try:
            if again:
                self._left_behind = self.directories.renew() or self._left_behind
            else:
                self.directories.prepare()
        except OSError as error:
            raise SurroundingsFault(
                f"the case's directory cannot be made: {error.strerror or error}"
            ) from None

    def put(
        self, files: tuple[tuple[Template, Put], ...], case: TemplateScope, *, stamped: bool = False
    ) -> None:
        """Put files in place, and have it told afterwards which were read if they are to be
        `stamped`. Raises ExpressionFault or SurroundingsFault."""
        self._put = put_files(files, case, self.directories)
        if not stamped:
            return
        work = self.directories.open_work()
        try:
            self._stamped = stamped_unread(work, self._put)
        finally:
            os.close(work)

    def change(
        self, written: tuple[tuple[Template, Put], ...], removed: list[str], case: TemplateScope
    ) -> None:
        """Write and remove files while a program runs; what it then finds is as if it had been
        there before. Raises OSError, ExpressionFault, SurroundingsFault."""
        if not self._fresh:
            raise SurroundingsFault("files are only changed in a directory of the case's own")
        self.directories.touched()
        put_now(written, case, self.directories)
        for name in removed:
            self._remove(name)
        names = [os.path.normpath(template.render(case.scope)) for template, _ in written]
        # with the directories that were made for them
        above = {part for name in names for part in _directories_above(name)}
        for name in [*names, *(above - {*self._put}), *map(os.path.normpath, removed)]:
            now = state_of(os.path.join(self.directories.work, name))
            if now is None:
                self._put.pop(name, None)
            else:
                self._put[name] = now

    def take_as_there(self) -> None:
        """Take all that is in the directory now for what was put in place."""
        if self._fresh:
            self.directories.touched()
            self._put = snapshot(self.directories.work)

    def _remove(self, name: str) -> None:
        """Remove one file or directory. Raises OSError or SurroundingsFault."""
        if leaves_directory(name):
            raise SurroundingsFault(f"the file name {name!r} leads out of the case's directory")
        work = self.directories.open_work()
        try:
            with directory_inside(work, name, make=False) as (directory, last):
                reason = remove_at(directory, last)
        finally:
            os.close(work)
        if reason:
            raise SurroundingsFault(f"{name} could not be removed: {reason}")

    def look(self, outcome: Outcome, since_ns: int, *, first: bool, compared: bool) -> None:
        """Write into an outcome what the case's launches since a moment did to the directory.

        `first` tells that there was one launch so far, `compared` that the whole directory is
        compared with another's.
        """
        directories, fresh = self.directories, self._fresh
        self._was_changed = not first or directories.changed(since_ns)
        # A program that did nothing to the directory cannot have removed it; looking costs every
        # case a few calls.
        may_be_gone = fresh and self._was_changed and outcome.not_started is None
        in_place = not may_be_gone or directories.work_is_in_place
        outcome.directory = self.start_directory if in_place else ""
        self._mask(outcome)
        # Before we read them ourselves, and of the first launch alone, which found them unread.
        if first and in_place and self._stamped and outcome.not_started is None:
            work = directories.open_work()
            try:
                outcome.samples = {name: was_read(work, name) for name in self._stamped}
            finally:
                os.close(work)
        if not in_place:
            outcome.files = {name: FileChange(state="deleted") for name in (*self._put, ".")}
        elif fresh and (self._put or self._was_changed):
            outcome.files = file_changes(self._put, directories.work)
        if compared and fresh and in_place:
            outcome.state = directory_state(directories.work)

    def _mask(self, outcome: Outcome) -> None:
        """Write `<dir>`, `<home>` and `<tmp>` for the case's own directories, whose names differ
        from runner to runner."""
        root = self.directories.root_bytes
        if root in outcome.stdout or root in outcome.stderr:
            outcome.arrivals.clear()  # their sizes no longer fit
            for path, name in self.directories.masks:
                outcome.stdout = outcome.stdout.replace(path, name)
                outcome.stderr = outcome.stderr.replace(path, name)

    def leave(self) -> str:
        """Have the directories ready for the next case; return why something could not be removed,
        or nothing."""
        if self._was_changed:
            self._left_behind = self.directories.clean() or self._left_behind
        left, self._left_behind = self._left_behind, ""
        return left

    def keep(self, directory: str, id: str) -> str:
        """Copy the case's directory to where directories are kept, and return that place, or why
        it could not be."""
        place = os.path.join(directory, id)
        try:
            reason = remove_tree(place)
            if reason:
                return f"could not be saved: {place} already exists: {reason}"
            os.makedirs(place)
            # By descriptor: the program may have put a link to our own files in its place.
            work = self.directories.open_work()
            try:
                target = os.open(place, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
                try:
                    copy_inside(work, target)
                finally:
                    os.close(target)
            finally:
                os.close(work)
        except OSError as error:
            return f"could not be saved: {error.strerror or error}"
        return place
