"""Whose the processes are that programs of one worker have left behind."""

from __future__ import annotations

import os
from collections.abc import Sequence

from keen_matrix.core.launch.directories import leftovers
from keen_matrix.core.launch.process.launch import Launch
from keen_matrix.core.launch.workers.case_runner import CaseRunner


class Strays:
    """Finds what a finished launch left after among the children that a worker did not start
    itself."""

    def __init__(self, runners: Sequence[CaseRunner], *, alone: bool) -> None:
        self._runners = runners
        #: Whether one program runs at a time: what is there is surely its own then.
        self._alone = alone

    def of(self, runner: CaseRunner, unsure: bool) -> list[int]:
        """Return running processes that the finished launch of a runner left behind, or, when
        `unsure`, may have."""
        launch = runner.launch
        if launch is None:
            return []
        # In one sweep and without looking at any of them: nothing is left running, so nothing is
        # anybody's.
        if self._alone and not _reap_all():
            return []
        running = leftovers.reap_strays(self._known())
        if self._alone:
            return running
        found = []
        for pid in running:
            ours = leftovers.belongs_to(pid, launch.pid, runner.place.directories.home)
            # None: it cannot be reported, as for a moment while a process becomes another program
            if ours or (ours is None and unsure) or (not ours and self._is_nobodys(pid, launch)):
                found.append(pid)
        return found

    def _known(self) -> set[int]:
        """Return the processes that we started ourselves and that are looked after."""
        known = {runner.starts.keeper_pid for runner in self._runners}
        for runner in self._runners:
            launch = runner.launch
            if launch is not None:
                known.update(launch.feeders.pids)
                if not launch.finished:
                    known.add(launch.pid)
        return known

    def _is_nobodys(self, pid: int, launch: Launch) -> bool:
        """Tell whether a process that no launch can be told to have is counted to the first in
        whose time it was started.

        A daemon that has a session and an environment of its own shows no other trace of whose it
        is.
        """
        for runner in self._runners:
            other = runner.launch
            if other is None or other is launch or not other.pid:
                continue
            # It is known by another's session or environment, so it is not ours to end.
            if leftovers.belongs_to(pid, other.pid, runner.place.directories.home):
                return False
        return leftovers.started_since(pid, launch.started)


def _reap_all() -> bool:
    """Reap every child that has ended, of which a program may leave thousands; tell whether others
    are left."""
    try:
        while os.waitpid(-1, os.WNOHANG) != (0, 0):
            pass
    except ChildProcessError:
        return False
    return True
