"""What a run is asked to do, as values: no command line, no terminal."""

from __future__ import annotations

from keen_matrix.core.structs import Struct


class Adaptation(Struct, frozen=True, kw_only=True):
    """What is taken in place of a spec's own."""

    launcher: str | None = None
    """The name of another way to start the program, of those that the spec knows."""
    program: str | None = None
    """Words that start another build of it."""
    seed: int | None = None
    """What combinations are made with."""


class Choice(Struct, frozen=True, kw_only=True):
    """Which cases are run."""

    only: tuple[str, ...] = ()
    """Patterns of ids, matrices and words, of which one must fit; none takes every case."""
    tags: tuple[str, ...] = ()
    """Tags of matrices: those with one of them, and with none that stands behind a `!`."""
    failed: bool = False
    """Only those that did not hold, by the journal."""
    shard: tuple[int, int] | None = None
    """The part, from 1, and how many parts there are."""
    limit: int | None = None
    """Vectors that a matrix may have, where its own limit is lower."""

    @property
    def is_all(self) -> bool:
        """Whether every case of the specs is taken."""
        return not (self.only or self.tags or self.failed or self.shard)


class Ordering(Struct, frozen=True, kw_only=True):
    """In which order cases are run, and when the run stops before its end."""

    by_gain: bool = False
    """First what covers most, by what is known from before."""
    budget: float | None = None
    """Seconds after which no further case is started; the order is then by gain."""
    failed_first: bool = False
    slow_last: bool = False
    stop_after: int | None = None
    """Cases that did not hold, after which no further one is started."""

    @property
    def is_own(self) -> bool:
        """Whether cases go in another order than that of the spec."""
        return self.by_gain or self.budget is not None or self.failed_first or self.slow_last


class Launching(Struct, frozen=True, kw_only=True):
    """How cases are launched."""

    jobs: int
    """Launches at a time."""
    repeat: int = 1
    """Launches of each case."""
    warm: bool | None = None
    """Whether Python programs are forked from a keeper; None leaves it to the spec."""
    usual_warm: bool | None = None
    """The same where the spec says nothing; None leaves it to what is found out."""
    warm_check: float = 5.0
    """The percentage of cases that are first launched warm and cold."""
    cluster: str | None = None
    """The address of a Dask scheduler, or `local`."""
    cluster_shared: bool = False
    """Whether its workers see the same files."""
    keep_directories: bool = False
    """Whether directories of cases that did not hold are kept."""
    live: bool = False
    """Whether output is told as it comes."""


class RunOptions(Struct, frozen=True, kw_only=True):
    """All that a run is asked."""

    journal: str
    launching: Launching
    adaptation: Adaptation = Adaptation()
    choice: Choice = Choice()
    ordering: Ordering = Ordering()
    resume: bool = False
    """Whether the run in the journal is gone on with, instead of beginning anew."""
    changed: bool = False
    """Whether cases that held in the journal, and for which nothing has changed since, are taken over from it."""
    reports: tuple[str, ...] = ()
    """Files that are written when it is over: a change of them is none of the program's."""
