"""Cases launched once more, with the lines told that they run."""

from __future__ import annotations

import glob
import os
import shutil
import tempfile
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence

from keen_matrix.core import interruption
from keen_matrix.core.expressions import Template
from keen_matrix.core.insight.places.trace import Trace
from keen_matrix.core.insight.places.tracers import Tracer
from keen_matrix.core.launch.environment import base_environment
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.warm.keepers import ColdOnly, WarmPlan, imported_modules, warm_plan
from keen_matrix.core.launch.workers.engine import Manner, WorkerPool
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.record import Record
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.results.causes import cause_key
from keen_matrix.core.runs.starting.warmth import FEW, may_be_warm, unlike_vectors
from keen_matrix.core.runs.watching.sources import places_of
from keen_matrix.core.structs import Struct, field, replace
from keen_matrix.core.vectors.unfold import unfold

FAILING = ("failed", "crashed", "timed-out")
REFERENCES = ("reference", "reference-accepted")
#: Cases that passed which are traced for each one that did not, before all others.
ALIKE = 3
TOLD_EACH = 10


class TracedCase(Struct, frozen=True, eq=False):
    """A case that was launched with its lines told."""

    case: Case
    #: Of the run that is looked at.
    record: Record
    trace: Trace

    @property
    def failed(self) -> bool:
        """Whether it failed."""
        return self.record.verdict in FAILING


class Traces(Struct):
    """The result of tracing."""

    runs: list[TracedCase] = field(default_factory=list)
    #: Ids of cases that did otherwise when they were traced, and are left out.
    otherwise: list[str] = field(default_factory=list)
    #: Ids of cases that told no line: they ended by a signal, or ran no file of the program's
    #: own.
    silent: list[str] = field(default_factory=list)
    #: Cases that were not launched.
    left: int = 0
    #: Whether that is since an interruption ended it.
    is_interrupted: bool = False


def traceable(spec: Spec, records: Mapping[str, Record], ids: Sequence[str]) -> list[Case]:
    """Return the cases of a run that one launch makes, those that failed being only those
    whose ids begin so where ids are given."""
    found = []
    for case in unfold(spec):
        record = records.get(case.id)
        if record is None:
            continue
        if case.relation is not None and case.relation.name in REFERENCES:
            case = replace(case, relation=None, more=(), others=())  # its own launch alone
        if case.relation is not None or case.more:
            continue
        failed = record.verdict in FAILING
        if record.verdict == "passed" or (failed and (not ids or case.id.startswith(tuple(ids)))):
            found.append(case)
    return found


def distance(left: Case, right: Case) -> int:
    """Return how much two cases differ in their words; less where one is the control of the
    other."""
    if left.argv in (right.control, right.argv) or right.argv == left.control:
        return 0
    one, other = Counter(left.argv), Counter(right.argv)
    return 1 + 2 * sum(((one - other) + (other - one)).values()) + (left.matrix != right.matrix)


def chosen(cases: Sequence[Case], records: Mapping[str, Record], most: int) -> list[Case]:
    """Return at most so many cases: those that failed, one of each cause before a second of
    any, with those that passed and are most like them."""
    if len(cases) <= most:
        return _mixed(cases, records)
    by_cause: dict[object, list[Case]] = {}
    holding = []
    for case in cases:
        if records[case.id].verdict == "passed":
            holding.append(case)
        else:
            by_cause.setdefault((case.matrix, *cause_key(records[case.id])), []).append(case)
    failing = list(_in_turn([sorted(each, key=lambda case: len(case.argv)) for each in by_cause.values()]))
    taken: dict[str, Case] = {}
    # Half for those that failed at most: without some that passed, every line looks guilty.
    for case in failing[: max(1, most // 2)]:
        taken[case.id] = case
        near = sorted(holding, key=lambda each: (distance(each, case), each.sequence))
        taken |= {each.id: each for each in near[:ALIKE]}
    rest = (each for each in (*failing, *holding) if each.id not in taken)
    for case in rest:
        if len(taken) >= most:
            break
        taken[case.id] = case
    return list(taken.values())[:most]


def _mixed(cases: Sequence[Case], records: Mapping[str, Record]) -> list[Case]:
    """Return cases so that wherever an interruption ends their launches, there are some that passed
    beside some that did not."""
    failing = [case for case in cases if records[case.id].verdict in FAILING]
    return list({case.id: case for case in _in_turn([failing, list(cases)])}.values())


def _in_turn(lists: Sequence[list[Case]]) -> Iterator[Case]:
    for number in range(max(map(len, lists), default=0)):
        yield from (each[number] for each in lists if number < len(each))


class Following:
    """A program whose lines are reported while cases of it are launched. A context: leaving it
    removes what was reported."""

    def __init__(
        self, spec: Spec, launch: ResolvedLaunch, tracer: Tracer, told: Callable[[str], None]
    ) -> None:
        self.spec, self.launch, self.tracer = spec, launch, tracer
        self.own = own_directories(spec, launch)
        self._told = told
        self._directory = ""

    def __enter__(self) -> Following:
        # Made here and not when the value is: an interruption between the two would leave it
        # behind.
        self._directory = tempfile.mkdtemp(prefix="keen-matrix-lines-")
        self._how = self.tracer.traced(self.launch, self._directory, self.own)
        return self

    def __exit__(self, *_: object) -> None:
        shutil.rmtree(self._directory, ignore_errors=True)

    def evidence(self, pool: WorkerPool, cases: Sequence[Case], records: Mapping[str, Record]) -> Traces:
        """Launch cases with their lines told, and compare what they do with their records; an
        interruption leaves what is known by then.

        A program that may be run warm is, for all but the few cases that do otherwise so: these are
        launched once more, cold, and only what differs then as well is left out.
        """
        found = Traces()
        try:
            self._follow(pool, cases, records, found)
        except KeyboardInterrupt:
            interruption.begin_ending()
            found.is_interrupted = True
            known = len(found.runs) + len(found.otherwise) + len(found.silent)
            found.left = len(cases) - known
        return found

    def _follow(
        self, pool: WorkerPool, cases: Sequence[Case], records: Mapping[str, Record], found: Traces
    ) -> None:
        warm = self._warm_plan(cases)
        if warm is not None:
            cases = [case for case, _ in self._launched(pool, cases, records, (found, warm))]
            for case in cases:  # what their first launches told
                for name in glob.glob(os.path.join(glob.escape(self._directory), f"{case.id}.*")):
                    os.unlink(name)  # files only: what has directories is never warm
        for case, is_silent in self._launched(pool, cases, records, (found, None)):
            (found.silent if is_silent else found.otherwise).append(case.id)

    def _launched(
        self,
        pool: WorkerPool,
        cases: Sequence[Case],
        records: Mapping[str, Record],
        into: tuple[Traces, WarmPlan | None],
    ) -> list[tuple[Case, bool]]:
        """Launch cases; what is known of them goes into the evidence. Return those of which nothing
        is, and whether that is because they told no line."""
        if not cases:
            return []
        found, warm = into
        unsaid = self._how.unsaid
        variables = tuple(
            (name, Template(self._in_directory(text))) for name, text in self._how.variables.items()
        )
        pool.plan(_with(self.spec, variables), self._how.launch, Manner(warm=warm))
        by_id = {case.id: case for case in cases}
        for case in cases:
            # Some runtimes write into a directory only when it is there.
            for name in self._how.directories:
                os.makedirs(os.path.join(self._directory, name.format(case_id=case.id)), exist_ok=True)
        left = []
        for number, result in enumerate(pool.results(iter(cases)), 1):
            if number % TOLD_EACH == 0:
                self._told(f"{number} of {len(cases)} launches")
            case, record = by_id[result.id], records[result.id]
            # A launch that did otherwise ran other lines, and would blame them.
            did_so = _did(result.record, unsaid) == _did(record, unsaid)
            trace = self.tracer.trace(self._directory, case.id, self.own) if did_so else None
            if trace is None:
                left.append((case, did_so))
            else:
                found.runs.append(TracedCase(case, record, trace))
        return left

    def _in_directory(self, text: str) -> str:
        """Return the text of a variable as a template that leaves the name of our directory as it
        is."""
        # A directory for temporary files may have a brace in its name.
        return text.replace(self._directory, self._directory.replace("{", "{{").replace("}", "}}"))

    def _warm_plan(self, cases: Sequence[Case]) -> WarmPlan | None:
        """Return how the program is run warm; None where it is not to be, cannot be, or is not
        worth it."""
        asked = self.spec.program.warm
        if not self._how.warm_without or asked is False or (asked is None and len(cases) <= FEW):
            return None
        free = may_be_warm(self.spec, self._how.launch)
        if asked is None and not all(case.matrix in free for case in cases):
            return None
        environment = base_environment(self.spec.program.env_from_caller, os.environ)
        try:
            plan = warm_plan(self._how.launch.file, self._how.launch.words)
            modules = imported_modules(plan, unlike_vectors(cases), environment)
        except ColdOnly:
            return None
        return replace(plan, modules=modules, own_variables=self._how.warm_without)


def _did(record: Record, unsaid: str) -> tuple[object, ...]:
    """Return what a launch did, as far as tracing must not change it: how it ended, and what it
    printed. Of several launches that are compared it is the first, which is the program's own."""
    first = record.steps[0] if record.steps else record
    found: list[object] = [first.exit, first.signal]
    for name in ("stdout", "stderr"):
        text = getattr(first, name)
        if text is not None and unsaid:
            text = text.replace(unsaid, "")
        found.append(getattr(first, f"{name}_base64") if text is None else text)
    # Times and process ids differ in any second launch.
    masked = () if record.steps else (record.stdout_masked, record.stderr_masked)
    if any(each is not None for each in masked):  # what varies by itself is in the others
        return first.exit, first.signal, *masked
    return tuple(found)


def _with(spec: Spec, variables: tuple[tuple[str, Template], ...]) -> Spec:
    """Return a spec in which every launch has some more variables."""

    def with_them(matrix: Matrix) -> Matrix:
        steps = tuple(
            replace(
                step,
                surroundings=replace(
                    step.surroundings,
                    env=(
                        *(each for each in step.surroundings.env if each[0] not in dict(variables)),
                        *variables,
                    ),
                ),
            )
            for step in matrix.steps
        )
        return replace(matrix, steps=steps)

    return replace(spec, matrices=tuple(map(with_them, spec.matrices)))


def own_directories(spec: Spec, launch: ResolvedLaunch) -> tuple[str, ...]:
    """Return where the program's own files are: its directories, and single files that the launch
    names."""
    places = places_of(spec, launch)
    scripts = [os.path.realpath(each) for each in launch.words if os.path.isfile(each)]
    directories = [*places.directories, *map(os.path.dirname, scripts)]
    return tuple(dict.fromkeys(each for each in directories if each not in ("/", "/usr/bin", "/bin")))
