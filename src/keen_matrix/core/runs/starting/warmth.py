"""Whether a program may be run warm: it must do the same both ways, and be worth it."""

from __future__ import annotations

import os
from collections.abc import Callable, Generator, Iterable, Iterator, Mapping, Sequence
from itertools import islice
from types import MappingProxyType
from typing import NamedTuple

from keen_matrix.core.expect.limits import DurationAspect, MemoryAspect
from keen_matrix.core.experiments.ask import Answer, Experiments
from keen_matrix.core.launch.environment import base_environment
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.warm.keepers import ColdOnly, WarmPlan, imported_modules, warm_plan
from keen_matrix.core.launch.warm.warmcheck import Launched, check_warm, otherwise_warm, warm_difference
from keen_matrix.core.launch.workers.engine import WorkerPool
from keen_matrix.core.launch.workers.wire import ResultFrame
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.record import PASSING, VERDICTS, Record
from keen_matrix.core.model.spec import Matrix, Rule, Spec
from keen_matrix.core.runs.options import RunOptions
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.structs import replace

#: Cases up to which keepers are not worth their start, and for which nobody is to wait for a
#: check.
FEW = 20
#: Further cases from which they are: with some fifty, of a program of 40 ms, both ways take as
#: long; and from which they may be at all.
WORTH, WORTH_LEAST = 60, 20
#: What a warm launch takes, and what the keepers and the check take in all, beside as long as some
#: cold launches do (benchmarks/waiting.py starts).
FORK_SECONDS, KEEPER_SECONDS, KEEPER_LAUNCHES = 0.015, 1.25, 5
#: Vectors with which it is found out what a program imports, and cases that are looked through for
#: them.
MOST_PROBED, LOOKED_THROUGH = 3, 1_000
#: Cases that fail when they are launched warm, and are launched cold before they are
#: told.
MOST_DOUBTED = 20


def worth_from(seconds: float) -> int:
    """Return from how many further cases on keepers are worth their start, by the seconds of a cold
    launch; 0 is one that is not known."""
    saved = seconds - FORK_SECONDS
    if saved <= 0:
        return WORTH
    cost = KEEPER_SECONDS + KEEPER_LAUNCHES * seconds
    return min(WORTH, max(WORTH_LEAST, round(cost / saved)))


class Warmth(NamedTuple):
    """How a program is run warm; None, with the reason, when it is not."""

    plan: WarmPlan | None
    reason: str = ""


def asked_warm(options: RunOptions, spec: Spec) -> bool | None:
    """Return whether programs are to be run warm; None when nobody has said."""
    launching = options.launching
    said = (launching.warm, spec.program.warm, launching.usual_warm)
    return next((each for each in said if each is not None), None)


def may_find_out(options: RunOptions) -> bool:
    """Tell whether a run may try on its own if programs can be warm. A budget is for cases, and not
    for checks. Forks of one keeper share what an interpreter draws at its start, so that output
    that differs from launch to launch would not show."""
    is_budget = options.ordering.budget is not None
    return not (is_budget or options.choice.failed or options.launching.repeat > 1)


def trusted_warm_plan(
    what: Launched,
    cases: Iterable[Case],
    percent: float,
    *,
    tried: WarmPlan | None = None,
    cold: Mapping[str, ResultFrame] = MappingProxyType({}),
) -> Warmth:
    """Return how a program is run warm, once a percentage of its cases did the same both ways.

    `cases` may be gone through several times. `tried` is how it was run warm before, for controls
    say; `cold` has the result of cases that were launched cold already."""
    known = {id: frame.record for id, frame in cold.items()}
    try:
        plan = tried or program_plan(what.spec, what.launch, unlike_vectors(cases))
        found = check_warm(what, plan, _launched(cases), percent, known)
    except ColdOnly as reason:
        return Warmth(None, str(reason))
    if found.id:
        return Warmth(None, f"the case {found.id[:6]} differs in {found.aspect} when it is launched warm")
    return Warmth(plan)


def _launched(cases: Iterable[Case]) -> Iterator[Case]:
    """Return the cases that a run launches."""
    return (case for case in cases if not case.said.skipped and case.blocked is None)


def unlike_vectors(cases: Iterable[Case]) -> list[tuple[str, ...]]:
    """Return a few vectors of which a program makes different things: one that is accepted, one
    that is refused and one that asks for help; without a signature, of as many words each."""
    found: dict[object, tuple[str, ...]] = {}
    for case in islice(_launched(cases), LOOKED_THROUGH):
        said = case.standing
        found.setdefault((said.status, said.help) if said else len(case.argv), case.argv)
        if len(found) == MOST_PROBED:
            break
    return list(found.values())


def program_plan(spec: Spec, launch: ResolvedLaunch, vectors: Sequence[Sequence[str]]) -> WarmPlan:
    """Return how a program is run warm, with what it imports when it is called with the first few
    of some vectors. Raises ColdOnly where it cannot be."""
    plan = warm_plan(launch.file, launch.words)
    probed = [*dict.fromkeys(map(tuple, vectors))][:MOST_PROBED]
    environment = base_environment(spec.program.env_from_caller, os.environ)
    return replace(plan, modules=imported_modules(plan, probed, environment))


def turn_warm(experiments: Experiments, unlike: Iterable[Words] = ()) -> list[Record]:
    """Launch a Python program warm from here on, if what was launched so far comes to the same
    warm; return the records of that, none where it stays cold. Nothing that is warm is kept as an
    answer that was cold before. What it imports shows with vectors that are `unlike`, and with
    those."""
    cold, spec = dict(experiments.known), experiments.spec
    if spec.program.warm is False or not may_be_warm(spec, experiments.resolved):
        return []
    try:
        both = {each.works: words for words, each in cold.items()}
        experiments.warm = program_plan(spec, experiments.resolved, [*both.values(), *unlike])
    except ColdOnly:
        return []
    found = experiments.launched(list(cold))
    differing = otherwise_warm(
        _records(found), _records(cold), lambda some: _records(experiments.launched(some, cold=True))
    )
    if differing:
        experiments.warm = None
        return []
    return [each.record for each in found.values()]


def _records(answers: Mapping[Words, Answer]) -> dict[Words, Record]:
    return {words: each.record for words, each in answers.items()}


def may_be_warm(spec: Spec, launch: ResolvedLaunch) -> frozenset[int]:
    """Return the matrices that may be run warm where a spec says nothing of it: those of a Python
    program whose cases share nothing that further launches would change, and whose time and memory
    nobody checks."""
    program = spec.program
    if program.once is not None or program.jobs is not None or not is_python(launch):
        return frozenset()
    common = [*spec.rules, *spec.help_rules, *spec.tidy_rules]
    if spec.refusal is not None:
        common += [spec.refusal.general, *spec.refusal.kinds.values()]
    if _are_about_cost(common):
        return frozenset()
    return frozenset(each.index for each in spec.matrices if _is_free(each))


def _is_free(matrix: Matrix) -> bool:
    rules = [*matrix.rules, *(rule for step in matrix.steps for rule in step.rules)]
    bounds = matrix.bounds
    return bounds.fresh_directory and bounds.jobs is None and not _are_about_cost(rules)


def _are_about_cost(rules: Iterable[Rule]) -> bool:
    aspects = (aspect for rule in rules for aspect in rule.aspects.values())
    return any(isinstance(each, (DurationAspect, MemoryAspect)) for each in aspects)


def is_python(launch: ResolvedLaunch) -> bool:
    """Tell whether a launch starts a Python program that a keeper can run."""
    try:
        warm_plan(launch.file, launch.words)
    except ColdOnly:
        return False
    return True


class Held:
    """The results of warm launches, of which the first that failed are launched cold as well,
    before they are reported: what is no fault of the program's must not look like one.

    Where a cold launch does otherwise, everything further is launched cold.
    """

    def __init__(
        self, pool: WorkerPool, plan: Callable[[bool], None], told: Callable[[str], None], most: int
    ) -> None:
        self._pool, self._plan, self._told = pool, plan, told
        #: How many are launched cold at most; with as many that fail a run may be over.
        self._most = most
        self._doubted: list[tuple[Case, ResultFrame]] = []
        self._trusted = False

    @property
    def withheld(self) -> list[ResultFrame]:
        """Results that came and are not told yet."""
        return [frame for _, frame in self._doubted]

    def results(self, cases: Iterable[Case]) -> Generator[ResultFrame, None, None]:
        """Yield a result for every case, as the pool does; it has been told to launch them warm."""
        supply = iter(cases)
        waiting: dict[str, Case] = {}
        while True:
            for frame in self._pool.results(self._handed(supply, waiting)):
                case = waiting.pop(frame.id)
                if self._trusted or VERDICTS[frame.verdict] in PASSING:
                    yield frame
                else:
                    self._doubted.append((case, frame))
            if not self._doubted:
                return
            self._plan(False)
            unlike = ""
            for case, cold in [*self._launched_cold()]:
                unlike = unlike or self._unlike(case, cold)
                self._doubted = [each for each in self._doubted if each[0].id != case.id]
                yield cold
            if unlike:
                self._told(f"launched cold from here: {unlike} when it is launched warm")
                yield from self._pool.results(supply)
                return
            self._trusted = True
            self._plan(True)

    def _handed(self, supply: Iterator[Case], waiting: dict[str, Case]) -> Iterator[Case]:
        while len(self._doubted) < self._most:
            case = next(supply, None)
            if case is None:
                return
            waiting[case.id] = case
            yield case

    def _launched_cold(self) -> Iterator[tuple[Case, ResultFrame]]:
        cases = {case.id: case for case, _ in self._doubted}
        for frame in self._pool.results(iter(list(cases.values()))):
            yield cases[frame.id], frame

    def _unlike(self, case: Case, cold: ResultFrame) -> str:
        """Return in what a case differs cold, if it does not vary on its own."""
        warm = next(frame for each, frame in self._doubted if each.id == case.id)
        aspect = warm_difference(warm.record, cold.record)
        if not aspect:
            return ""
        (again,) = self._pool.results(iter([case]))  # to its end, or the pool would wait for it
        if warm_difference(again.record, cold.record):
            return ""
        return f"the case {case.id[:6]} differs in {aspect}"
