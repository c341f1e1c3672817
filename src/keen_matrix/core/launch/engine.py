"""The engine: feeds cases to worker processes and takes their results as they finish."""

from __future__ import annotations

import contextlib
import os
import re
import select
from collections.abc import Callable, Generator, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias

from keen_matrix.core.errors import RunFault
from keen_matrix.core.expressions import Scope
from keen_matrix.core.launch.environment import base_environment, find_program
from keen_matrix.core.launch.wire import LiveFrame, Plan, ResultFrame, case_tuple, pack, unpack
from keen_matrix.core.launch.workers import CLOSE_SECONDS, Worker, Workers, default_jobs
from keen_matrix.core.notation.nodes import Sequence as LineSequence
from keen_matrix.core.spec.model import Spec, Step
from keen_matrix.core.vectors.case import Case

if TYPE_CHECKING:
    from keen_matrix.core.launch.warm import WarmPlan

_RECEIVE_BYTES = 1 << 16


_NO_LINE = LineSequence(())
LiveSink: TypeAlias = Callable[[LiveFrame], None]


def _bare(steps: tuple[Step, ...]) -> tuple[Step, ...]:
    """Return steps without their lines, whose words travel with each case."""
    return tuple(replace(step, line=_NO_LINE) for step in steps)


class WorkerPool:
    """The worker processes of a run. Use it as a context: leaving it ends every program and removes every directory."""

    def __init__(self, jobs: int, workers: Workers | None = None) -> None:
        self.jobs = jobs
        self._live: LiveSink | None = None
        self._workers = workers or Workers(jobs)
        self.root, self.workers = self._workers.root, self._workers.workers

    def plan(
        self,
        spec: Spec,
        launch: ResolvedLaunch,
        *,
        keep: str = "",
        repeat: int = 1,
        live: LiveSink | None = None,
        warm: WarmPlan | None = None,
    ) -> None:
        """Tell every worker what it will run.

        `keep` is the folder in which directories of failing cases are kept, `repeat` how often each case is launched,
        `live` gets output as it comes, and `warm` has the program forked from keepers.
        """
        self._live = live
        bare = replace(
            spec,
            path=os.path.abspath(spec.path),
            signature=None,  # what it says of a vector travels with the case
            matrices=tuple(
                replace(
                    matrix, axes={}, rows=(), columns=(), line=_NO_LINE, where=(), always=(), steps=_bare(matrix.steps)
                )
                for matrix in spec.matrices
            ),
        )
        environment = base_environment(spec.program.env_inherit, os.environ)
        launchers = other_launches(spec, launch, os.path.join(self.root, "renamed"))
        for number, worker in enumerate(self.workers):
            worker.unsent += pack(
                Plan(
                    spec=bare,
                    file=launch.file,
                    launch=launch.words,
                    environment=environment,
                    root=os.path.join(self.root, str(number)),
                    slots=worker.slots,
                    cap=spec.program.output_cap,
                    keep=keep,
                    repeat=repeat,
                    live=live is not None,
                    launchers=launchers,
                    warm=warm,
                )
            )

    def results(self, cases: Iterable[Case]) -> Generator[ResultFrame, None, None]:
        """Yield a result for every case, as they finish. Cases are taken from the iterable no earlier than needed."""
        poller = select.poll()
        by_fd = {worker.control.fileno(): worker for worker in self.workers}
        for fd in by_fd:
            poller.register(fd, select.POLLIN)
        supply = iter(cases)
        dry = False
        watched = dict.fromkeys(by_fd, select.POLLIN)
        while True:
            if not dry and any(worker.wanted > 0 for worker in self.workers):
                dry = self._feed(supply)
            for fd, worker in by_fd.items():
                if worker.unsent:
                    self._send(worker)
                mask = select.POLLIN | (select.POLLOUT if worker.unsent else 0)
                if watched[fd] != mask:
                    watched[fd] = mask
                    poller.modify(fd, mask)
            if dry and not any(worker.outstanding for worker in self.workers):
                return
            for fd, _ in poller.poll():
                yield from self._receive(by_fd[fd])

    def _feed(self, supply: Iterator[Case]) -> bool:
        """Hand cases to the workers that want some, a few at a time to each; tell whether the supply has run dry."""
        wanting = [(worker, worker.wanted, list[Any]()) for worker in self.workers]
        dry = False
        # one to each in turn, so that the last cases of a run are shared out
        for turn in range(max(count for _, count, _ in wanting)):
            for worker, count, batch in wanting:
                if turn < count and not dry:
                    case = next(supply, None)
                    if case is None:
                        dry = True
                        break
                    batch.append(case_tuple(case))
                    worker.outstanding += 1
        for worker, _, batch in wanting:
            if batch:
                worker.unsent += pack(batch)
        return dry

    @staticmethod
    def _send(worker: Worker) -> None:
        try:
            sent = worker.control.send(worker.unsent)
            del worker.unsent[:sent]
        except BlockingIOError:
            pass
        except OSError:
            worker.unsent.clear()  # the worker is gone; reading from it says so

    def _receive(self, worker: Worker) -> Iterator[ResultFrame]:
        try:
            data = worker.control.recv(_RECEIVE_BYTES)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        if not data:
            code = worker.process.wait(CLOSE_SECONDS)
            raise RunFault(f"a worker process ended unexpectedly (exit {code}); finished cases are in the journal")
        for body in worker.reader.feed(data):
            result = unpack(body)
            if isinstance(result, LiveFrame):
                if self._live is not None:
                    self._live(result)
                continue
            worker.outstanding -= 1
            worker.pace += (result.seconds - worker.pace) * 0.2
            yield result

    def close(self) -> None:
        """End every program that still runs, every worker, and remove every directory."""
        self._workers.close()

    def __enter__(self) -> WorkerPool:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


class ResolvedLaunch(NamedTuple):
    """The file that a launch starts, and its words as the spec has them."""

    file: str
    words: tuple[str, ...]


def resolved_launch(spec: Spec) -> ResolvedLaunch:
    """Return how a spec's program is started. Raises RunFault when there is no such program."""
    scope = Scope({"here": spec.here})
    words = [template.render(scope) for template in spec.program.launch]
    environment = base_environment(spec.program.env_inherit, os.environ)
    own = dict(spec.matrices[0].steps[0].surroundings.env).get("PATH") if spec.matrices else None
    search = own.constant if own is not None and own.constant is not None else environment.get("PATH")
    found, reason = find_program(words[0], search, spec.here)
    reason = reason or missing_script(spec, words)
    if reason:
        raise RunFault(f"the program cannot be launched: {reason}")
    return ResolvedLaunch(found, tuple(words))


INTERPRETERS = re.compile(
    r"(?:python|pypy|perl|ruby|node|nodejs|deno|bun|php|lua|tclsh|Rscript|bash|dash|ksh|zsh|sh|mono)[\d.]*"
)
"""Programs that run the script which their launch words name first."""


def missing_script(spec: Spec, words: Sequence[str]) -> str:
    """Return why an interpreter would find no script: the file below {here} that its first operand names is not there."""
    if not INTERPRETERS.fullmatch(os.path.basename(words[0])):
        return ""
    script = next((word for word in words[1:] if not word.startswith("-")), "")
    own = script.startswith(spec.here + os.sep)
    return f"{script} does not exist" if own and not os.path.exists(script) else ""


def check_launchers(spec: Spec, launch: ResolvedLaunch) -> None:
    """Look up every other way to start a program that a spec's families and comparisons need. Raises RunFault."""
    named = replace(spec, matrices=tuple(each for each in spec.matrices if each.family != "renamed"))
    other_launches(named, launch, "")


def other_launches(spec: Spec, launch: ResolvedLaunch, folder: str) -> dict[str, tuple[str, tuple[str, ...]]]:
    """Return the other ways to start a spec's program that its derived families need, by name.

    The family `renamed` starts it through a link in `folder`. Raises RunFault when a launcher does not exist.
    """
    families = {matrix.family for matrix in spec.matrices}
    found: dict[str, tuple[str, tuple[str, ...]]] = {}
    if spec.program.launchers:
        for name, words in spec.program.launchers.items():
            try:
                found[name] = tuple(resolved_launch(replace(spec, program=replace(spec.program, launch=words))))  # type: ignore[assignment]
            except RunFault:
                if "launchers" in families or any(
                    m.other is not None and name in m.other.launchers for m in spec.matrices
                ):
                    raise
    if spec.reference is not None:
        words = spec.reference.launch
        found["reference"] = tuple(resolved_launch(replace(spec, program=replace(spec.program, launch=words))))  # type: ignore[assignment]
    if "renamed" in families:
        found["renamed"] = _renamed(launch, folder)
    return found


def _renamed(launch: ResolvedLaunch, folder: str) -> tuple[str, tuple[str, ...]]:
    """Link the program, or the script that its launch names last, under another name."""
    from keen_matrix.core.signature.families.renamed import RENAMED

    os.makedirs(folder, exist_ok=True)
    at = next((n for n in range(len(launch.words) - 1, 0, -1) if os.path.isfile(launch.words[n])), 0)
    target = launch.words[at] if at else launch.file
    link = os.path.join(folder, RENAMED + os.path.splitext(target)[1])
    with contextlib.suppress(FileExistsError):
        os.symlink(os.path.abspath(target), link)
    words = (*launch.words[:at], link, *launch.words[at + 1 :])
    return (launch.file if at else link), words


@dataclass(frozen=True, slots=True)
class Result:
    """A finished case, as the journal records it."""

    fields: Mapping[str, Any]

    @property
    def verdict(self) -> str:
        """The verdict on the case."""
        return str(self.fields["verdict"])


def run(cases: Iterable[Case], spec: Spec, *, jobs: int | None = None, repeat: int = 1) -> Iterator[Result]:
    """Launch the cases of a spec and yield a Result for each as it finishes.

    `jobs` is how many programs run at a time (default: one for each processor), `repeat` how often each case is launched.
    Raises RunFault when the program cannot be launched at all.
    """
    import json

    launch = resolved_launch(spec)
    with WorkerPool(jobs or default_jobs()) as pool:
        pool.plan(spec, launch, repeat=repeat)
        for result in pool.results(cases):
            yield Result(json.loads(result.line))


__all__ = ["Result", "WorkerPool", "default_jobs", "resolved_launch", "run"]
