"""The workers of a command that launches programs: started before anything is loaded, told of at
the end."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from typing import TYPE_CHECKING

from keen_matrix.cli.shared import remark
from keen_matrix.core.launch.workers.links import WorkerSet, default_jobs
from keen_matrix.wording.safe import escape

if TYPE_CHECKING:
    from contextlib import AbstractContextManager

    from keen_matrix.core.launch.workers.engine import WorkerPool


@contextmanager
def early_workers(jobs: int) -> Iterator[WorkerSet]:
    """Have workers for so many programs at a time, and tell at the end what they could not remove.

    They are forks of this process, which starts them in a hundredth of the time of an interpreter.
    What this process has in memory is in theirs, and counts into the peak of every program: a
    command enters this before it loads what it needs."""
    with WorkerSet(jobs, forked=True) as workers:
        yield workers
    for each in workers.left_behind:
        remark(f"not removed: {escape(each)}")


@contextmanager
def early_pool(jobs: int | None = None) -> Iterator[WorkerPool]:
    """Have a pool of such workers (as many as there are processors, unless it is said), for all
    that a command launches."""
    number = default_jobs() if jobs is None else jobs
    with early_workers(number) as workers:
        from keen_matrix.core.launch.workers.engine import WorkerPool

        with WorkerPool(number, workers) as pool:
            yield pool


def pool_if(launches: bool) -> AbstractContextManager[WorkerPool | None]:
    """Return a context of such a pool for a command that launches only where it is asked to."""
    return early_pool() if launches else nullcontext()
