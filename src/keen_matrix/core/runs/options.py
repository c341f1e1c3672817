"""What a run is asked to do, as values: no command line, no terminal."""

from __future__ import annotations

from typing import Literal, NamedTuple, TypeAlias, get_args

from keen_matrix.core.structs import Struct

#: In which order cases are run, by what is known of earlier runs.
Order: TypeAlias = Literal["failed", "new", "quick"]
ORDERS: tuple[Order, ...] = get_args(Order)


class Adaptation(Struct, frozen=True, kw_only=True):
    """What is taken instead of a spec's own."""

    #: The name of another way to start the program, of those that the spec knows.
    launcher: str | None = None
    #: Words that start another build of it.
    program: str | None = None
    #: What combinations are made with.
    seed: int | None = None


class Tags(NamedTuple):
    """Tags of matrices: one with a wanted tag is taken (every one where none is wanted), and none
    with an unwanted one."""

    wanted: tuple[str, ...] = ()
    unwanted: tuple[str, ...] = ()

    def options(self) -> list[str]:
        """Return them as they are written on a command line."""
        return [f"--tag {each}" for each in self.wanted] + [f"--not-tag {each}" for each in self.unwanted]


class CaseChoice(Struct, frozen=True, kw_only=True):
    """Which cases are run."""

    #: Patterns of ids, matrices and words, of which one must fit; none takes every case.
    only: tuple[str, ...] = ()
    #: Tags of matrices that are run, and that are not.
    tags: Tags = Tags()
    #: Only those that failed, by the journal.
    failed: bool = False
    #: The part, from 1, and how many parts there are.
    shard: tuple[int, int] | None = None
    #: Vectors that a matrix may have, where its own limit is lower.
    limit: int | None = None

    @property
    def is_chosen(self) -> bool:
        """Whether some cases were asked for, and not simply all."""
        return not self.is_all

    @property
    def is_all(self) -> bool:
        """Whether every case of the specs is taken."""
        return not (self.only or any(self.tags) or self.failed or self.shard)


class Ordering(Struct, frozen=True, kw_only=True):
    """In which order cases are run, and when the run stops before its end."""

    #: None for the order of the spec. By what is known of earlier runs: `failed` cases first, `new`
    #: for what covers most, `quick` ones before slow ones.
    by: Order | None = None
    #: Seconds after which no further case is started.
    budget: float | None = None
    #: Cases that failed, after which no further one is started.
    stop_after: int | None = None

    @property
    def is_own(self) -> bool:
        """Whether cases go in another order than that of the spec."""
        return self.by is not None


class Launching(Struct, frozen=True, kw_only=True):
    """How cases are launched."""

    #: Launches at a time.
    jobs: int
    #: Launches of each case.
    repeat: int = 1
    #: Whether Python programs are forked from a keeper; None leaves it to the spec.
    warm: bool | None = None
    #: The same where the spec says nothing; None leaves it to what is found out.
    usual_warm: bool | None = None
    #: The percentage of cases that are first launched warm and cold.
    warm_check: float = 5.0
    #: The address of a Dask scheduler, or `local`.
    cluster: str | None = None
    #: Whether its workers see the same files.
    cluster_shared: bool = False
    #: Whether directories of cases that failed are kept.
    keep_directories: bool = False
    #: Whether output is shown as it comes.
    live: bool = False


class RunOptions(Struct, frozen=True, kw_only=True):
    """All that a run is asked."""

    journal: str
    launching: Launching
    adaptation: Adaptation = Adaptation()
    choice: CaseChoice = CaseChoice()
    ordering: Ordering = Ordering()
    #: Whether the run in the journal is gone on with, instead of beginning again.
    resume: bool = False
    #: Whether cases that passed in the journal, and for which nothing has changed since, are taken
    #: over from it.
    changed: bool = False
    #: Files that are written when it is over: a change of them is none of the program's.
    reports: tuple[str, ...] = ()
