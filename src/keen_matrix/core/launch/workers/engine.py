"""The engine: feeds cases to worker processes and takes their results as they finish."""

from __future__ import annotations

import os
import select
import time
from collections import Counter, deque
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, TypeAlias

from keen_matrix.core import interruption
from keen_matrix.core.errors import RunFault
from keen_matrix.core.launch.environment import base_environment, own_variables
from keen_matrix.core.launch.launchers import ResolvedLaunch, other_launches, resolved_launch
from keen_matrix.core.launch.process.state import STOPPED_SECONDS
from keen_matrix.core.launch.runtimes import runtime_name
from keen_matrix.core.launch.workers.links import CLOSE_SECONDS, WorkerLink, WorkerSet, default_jobs
from keen_matrix.core.launch.workers.wire import (
    FaultFrame,
    LiveFrame,
    Plan,
    ReadyFrame,
    ResultFrame,
    pack,
    result_frame,
    unpack,
)
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.lines import decode_record
from keen_matrix.core.model.record import Record
from keen_matrix.core.model.signals import signal_name
from keen_matrix.core.model.spec import Spec, Step
from keen_matrix.core.notation.nodes import Sequence as LineSequence
from keen_matrix.core.structs import Struct, replace

if TYPE_CHECKING:
    from keen_matrix.core.launch.warm.keepers import WarmPlan

_RECEIVE_BYTES = 1 << 16
MOST_FAILED_STARTS = 3


_NO_LINE = LineSequence(())
LiveSink: TypeAlias = Callable[[LiveFrame], None]


def _bare_spec(spec: Spec) -> Spec:
    """Return what workers need of a spec: nothing of how its cases are made."""
    nothing = {"axes": {}, "rows": (), "columns": (), "line": _NO_LINE, "only_if": (), "always": ()}
    matrices = tuple(replace(each, **nothing, steps=_bare(each.steps)) for each in spec.matrices)
    # What the signature says of a vector travels with the case.
    return replace(spec, path=os.path.abspath(spec.path), signature=None, matrices=matrices)


def _bare(steps: tuple[Step, ...]) -> tuple[Step, ...]:
    """Return steps without their lines, whose words travel with each case."""
    return tuple(replace(step, line=_NO_LINE) for step in steps)


class Manner(Struct, frozen=True, kw_only=True):
    """How the cases of a run are launched."""

    #: How often each case is launched.
    repeat: int = 1
    #: The directory in which directories of failing cases are kept; empty: they are not.
    keep: str = ""
    #: Has the program forked from keepers.
    warm: WarmPlan | None = None
    #: The most programs that run at a time; 0 stands for what all matrices of the spec allow.
    most: int = 0


class WorkerPool:
    """The worker processes of a run. Use it as a context: leaving it ends every program and
    removes every directory.

    A worker that is lost, killed or stopped by a program say, is replaced: what it ran is ended,
    and its unfinished cases are run again, each alone. A case that a second worker is lost on is
    crashed.
    """

    def __init__(self, jobs: int, workers: WorkerSet | None = None) -> None:
        self.jobs = jobs
        self._live: LiveSink | None = None
        self._workers = workers or WorkerSet(jobs)
        self.root, self.workers = self._workers.root, self._workers.workers
        self._plan: Callable[[WorkerLink, int], Plan] | None = None
        self._names: dict[int, str] = {}
        #: Whether all cases of a run have been handed out.
        self._dry = self._abandoned = False
        #: How many plans there were: of several that share a pool, each sees whether its own is the
        #: last.
        self.plans = 0
        #: The most programs that run at a time; None where only the workers limit them.
        self._most: int | None = None
        #: Cases, as they travel, that a worker was lost on.
        self._again: deque[Case] = deque()
        #: How many workers each case was lost with.
        self._losses: Counter[tuple[int, str]] = Counter()
        #: WorkerSet in a row that ended before they had taken a plan.
        self._failed_starts = 0

    def plan(
        self, spec: Spec, launch: ResolvedLaunch, how: Manner | None = None, *, live: LiveSink | None = None
    ) -> None:
        """Tell every worker what it will run and how; `live` gets output as it comes."""
        how = how or Manner()
        self.plans += 1
        self._live = live
        bare = _bare_spec(spec)
        base = base_environment(spec.program.env_from_caller, os.environ)
        own = own_variables(runtime_name(launch.file, launch.words[0]), dict(launch.changes), self.root)
        environment = {name: value for name, value in {**base, **own}.items() if value is not None}
        # In our own directory: the program under another name is made there, and goes with it.
        launchers = other_launches(spec, launch, os.path.join(self.root, "renamed"))
        self._most = how.most or spec.least_jobs
        self._names = {matrix.index: matrix.name for matrix in spec.matrices}
        self._workers.watch()

        def plan_of(worker: WorkerLink, jobs: int) -> Plan:
            return Plan(
                spec=bare,
                file=launch.file,
                launch=launch.words,
                environment=environment,
                root=self._workers.root_of(worker),
                jobs=jobs,
                cap=spec.program.output_cap,
                keep=how.keep,
                repeat=how.repeat,
                live=live is not None,
                launchers=launchers,
                warm=how.warm,
            )

        self._plan = plan_of
        for worker in self._used:
            self._send_plan(worker)

    @property
    def _used(self) -> list[WorkerLink]:
        """The workers that get cases: no more than programs may run."""
        return self.workers if self._most is None else self.workers[: self._most]

    def _send_plan(self, worker: WorkerLink) -> None:
        if self._plan is None:
            return
        worker.ready = False
        most = worker.jobs if self._most is None else self._most // len(self._used)
        worker.unsent += pack(self._plan(worker, min(worker.jobs, most)))

    def results(self, cases: Iterable[Case]) -> Generator[ResultFrame, None, None]:
        """Yield a result for every case, as they finish. Cases are taken from the iterable no
        earlier than needed."""
        supply = iter(cases)
        self._dry = False
        looked = time.monotonic()
        while True:
            interruption.check()
            # A cluster's task may be taken away while it waits; nobody asks for its results then.
            if self._abandoned:
                raise RunFault("the run was aborted")
            self._feed(supply)
            if self._dry and not self._again and not any(worker.outstanding for worker in self._used):
                return
            # A stopped worker is heard of by nothing, so the wait has an end.
            for worker in _heard(self._used, STOPPED_SECONDS):
                yield from self._receive(worker)
            if time.monotonic() - looked >= STOPPED_SECONDS:
                looked = time.monotonic()
                for worker in list(self._used):
                    if worker.stays_stopped():  # its end shows on its socket
                        yield from self._replace(worker, "was stopped")

    def _feed(self, supply: Iterator[Case]) -> None:
        """Hand cases to the workers that want some: first, and each alone, those that a worker was
        lost on."""
        if self._again:
            for worker in self._used:
                # Alone, or the next loss would not tell which of several cases ends workers.
                if self._again and not worker.outstanding:
                    _hand(worker, [self._again.popleft()])
                    worker.solitary = True
            return
        if self._dry:
            return
        wanting = [(worker, worker.wanted, list[Case]()) for worker in self._used]
        # one to each in turn, so that the last cases of a run are shared out
        for turn in range(max(count for _, count, _ in wanting)):
            for _, count, batch in wanting:
                if turn < count and not self._dry:
                    case = next(supply, None)
                    if case is None:
                        self._dry = True
                        break
                    batch.append(case)
        for worker, _, batch in wanting:
            _hand(worker, batch)

    def _replace(self, worker: WorkerLink, how: str) -> Iterator[ResultFrame]:
        """Put another worker in the place of a lost one, and yield the results of cases that two
        were lost on.

        Raises RunFault when workers end one after another before they can launch anything: that is
        no program's doing.
        """
        # Workers that end before their first case end for a reason of ours or of the machine's;
        # without a limit they would be started for ever.
        self._failed_starts = 0 if worker.ready else self._failed_starts + 1
        if self._failed_starts >= MOST_FAILED_STARTS:
            raise RunFault(f"the worker processes end as they start: {worker.fault or f'the last {how}'}")
        for key, case in worker.cases.items():
            # A worker that had not taken its plan was not lost on a case.
            self._losses[key] += worker.ready
            # Only a case that was alone in its worker is known to be the one that ends workers.
            if self._losses[key] > 1 and worker.solitary:
                text = f"the worker process that launched it {how}, twice"
                text = f"{text}: {worker.fault}" if worker.fault else text
                yield _crashed(case, self._names[case.matrix], text)
            else:
                self._again.append(case)
        self._send_plan(self._workers.replace(worker))

    def _receive(self, worker: WorkerLink) -> Iterator[ResultFrame]:
        try:
            # As much as is there, many results at a time: a call for each would be most of what the
            # engine does.
            data = worker.control.recv(_RECEIVE_BYTES)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        if not data:
            try:
                # Its socket is closed, so it ends at once, or hangs in something that is not worth
                # waiting for.
                code = worker.process.wait(CLOSE_SECONDS)
            except TimeoutError:
                code = 0
            how = f"was ended by signal {signal_name(-code)}" if code < 0 else "ended by itself"
            yield from self._replace(worker, how)
            return
        for body in worker.reader.feed(data):
            result = unpack(body)
            if isinstance(result, LiveFrame):
                if self._live is not None:
                    self._live(result)
            elif isinstance(result, ReadyFrame):
                worker.ready, self._failed_starts = True, 0
            elif isinstance(result, FaultFrame):
                worker.fault = result.text
            else:
                worker.cases.pop((result.sequence, result.id), None)
                worker.solitary = False
                # A moving mean: batches follow a matrix that is slower than the one before.
                worker.pace += (result.seconds - worker.pace) * 0.2
                yield result

    def abandon(self) -> None:
        """Have `results`, in whichever thread it is, end with a RunFault within a moment; the pool
        can then be closed."""
        self._abandoned = True

    def close(self) -> None:
        """End every program that still runs, every worker, and remove every directory; not beside
        `results` in a thread."""
        self._workers.close()

    def __enter__(self) -> WorkerPool:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def _hand(worker: WorkerLink, batch: list[Case]) -> None:
    if batch:
        worker.hand(batch, pack(batch))


def _heard(workers: Sequence[WorkerLink], seconds: float) -> list[WorkerLink]:
    """Send what waits to be sent, until something can be received or the time is over; return
    whose it is."""
    poller = select.poll()
    # Made again each time, since workers are replaced.
    by_fd = {worker.control.fileno(): worker for worker in workers}
    for fd, worker in by_fd.items():
        if worker.unsent:
            worker.send()
        # Room to write is only waited for where something is to be written, or the wait would end
        # at once.
        poller.register(fd, select.POLLIN | (select.POLLOUT if worker.unsent else 0))
    found = []
    for fd, events in poller.poll(seconds * 1000):
        if events & ~select.POLLOUT:
            found.append(by_fd[fd])
    return found


def _crashed(case: Case, matrix: str, text: str) -> ResultFrame:
    """Return the result of a case that no worker survives."""
    from keen_matrix.core.expect.cascade import AspectResult, Judged
    from keen_matrix.core.expect.mismatch import Mismatch
    from keen_matrix.core.expect.recording import CaseRecorder
    from keen_matrix.core.model.outcome import Outcome

    recorder = CaseRecorder(case, matrix)
    mismatch = Mismatch(form="crash", expected="", actual=text)
    result = AspectResult(aspect="crash", met=False, mismatch=mismatch)
    recorder.add(case.argv, Outcome(), Judged(verdict="crashed", aspects=(result,)))
    return result_frame(case, recorder.record(0))


def run(cases: Iterable[Case], spec: Spec, *, jobs: int | None = None, repeat: int = 1) -> Iterator[Record]:
    """Launch the cases of a spec and yield the record of each as it finishes.

    `jobs` is how many programs run at a time (default: one for each processor), `repeat` how often
    each case is launched. Raises RunFault when the program cannot be launched at all.
    """
    resolved_launch(spec)  # no worker is started for what cannot be launched
    with WorkerPool(jobs or default_jobs()) as pool:
        yield from run_in(pool, cases, spec, repeat=repeat)


def run_in(pool: WorkerPool, cases: Iterable[Case], spec: Spec, *, repeat: int = 1) -> Iterator[Record]:
    """Launch the cases of a spec as `run` does, by workers that are there already."""
    pool.plan(spec, resolved_launch(spec), Manner(repeat=repeat))
    for result in pool.results(cases):
        yield decode_record(result.line)


__all__ = ["Manner", "WorkerPool", "run", "run_in"]
