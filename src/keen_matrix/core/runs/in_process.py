"""A run from a script: as `keen-matrix run` does it, with events and records as values."""

from __future__ import annotations

import os
from collections.abc import Sequence

from keen_matrix.core import interruption
from keen_matrix.core.launch.workers.engine import WorkerPool
from keen_matrix.core.launch.workers.links import default_jobs
from keen_matrix.core.results.journal import DEFAULT_JOURNAL, Journal
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.options import CaseChoice, Launching, Ordering, RunOptions
from keen_matrix.core.runs.run import run_prepared as run_all
from keen_matrix.core.runs.state import RunResult


def run_specs(
    paths: str | os.PathLike[str] | Sequence[str | os.PathLike[str]],
    *,
    only: Sequence[str] = (),
    jobs: int | None = None,
    stop_after: int | None = None,
    journal: str | os.PathLike[str] = DEFAULT_JOURNAL,
    watch: RunWatch | None = None,
) -> RunResult:
    """Run specs: unfold them, try what their derived vectors stand on, launch, check, and write
    every record to a journal as it comes. The options are those of the command.

    `watch` hears of everything while it goes: `came` of each record. A spec that cannot be run ends
    nothing: it is told to `watch.refused`, and stands in `faults` of what is returned. An
    interruption raises KeyboardInterrupt, when everything that finished is in the journal.

    Raises Misuse when no case is asked for, RunFault when the journal cannot be written.
    """
    given = [paths] if isinstance(paths, (str, os.PathLike)) else list(paths)
    launches = jobs or default_jobs()
    options = RunOptions(
        journal=os.fspath(journal),
        launching=Launching(jobs=launches),
        choice=CaseChoice(only=tuple(only)),
        ordering=Ordering(stop_after=stop_after),
    )
    interruption.hear(())  # signals are the script's own; an end that an earlier run began is over
    with Journal(options.journal) as written, WorkerPool(launches) as pool:
        found = run_all([os.fspath(each) for each in given], options, pool, written, watch or RunWatch())
    if found.is_interrupted:
        raise KeyboardInterrupt
    return found
