"""How the launches of one runner start."""

from __future__ import annotations

from keen_matrix.core.expressions import Scope
from keen_matrix.core.launch.directories.changes import happening_of
from keen_matrix.core.launch.directories.place import CasePlace
from keen_matrix.core.launch.directories.surroundings import (
    TemplateScope,
    environment_of,
    is_constant,
    other_program,
    start_of,
)
from keen_matrix.core.launch.process.starters import WarmStarts
from keen_matrix.core.launch.start import Start
from keen_matrix.core.launch.workers.case_run import CaseRun, Shared, StepLaunch
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.command import Command
from keen_matrix.core.model.spec import Step
from keen_matrix.core.structs import replace


class StepStarts:
    """Puts what surrounds a launch in place, and works out how it starts: once, where that is the
    same for every case."""

    def __init__(self, shared: Shared, place: CasePlace) -> None:
        self._plan, self._steps, self._place = shared.plan, shared.steps, place
        self._others = shared.others
        plan = shared.plan
        self._warm = WarmStarts(plan.warm, plan.environment) if plan.warm is not None else None
        self._starts_in = ""
        #: How launches start whose surroundings are the same for every case, by the identity of
        #: their step in the spec.
        self._starts: dict[int, Start] = {}

    @property
    def keeper_pid(self) -> int:
        """The number of the keeper's process; 0 when there is none."""
        return self._warm.pid if self._warm is not None else 0

    def go_on(self, before: StepStarts) -> None:
        """Take over the keeper that another runner had in the same place, under the plan before."""
        if self._warm is not None and before._warm is not None:
            self._warm.go_on(before._warm)

    def prepare(self, run: CaseRun, step: StepLaunch, *, goes_on: bool = False) -> None:
        """Put the surroundings of a launch in place and work out how it starts; one that `goes_on`
        finds the directory as another left it. Raises SurroundingsFault or ExpressionFault."""
        case = run.case
        spec_step = self._spec_step(case, step.number)
        around, scope = spec_step.surroundings, step.context.scope
        if case.is_fresh(step.number) and not goes_on:
            self._place.make(again=step.number > 0 or step.is_again)
            if around.files:
                filling = TemplateScope(scope, self._plan.spec.here)
                self._place.put(around.files, filling, stamped=case.family == "accepted")
        root = self._place.directories.root
        if self._starts_in != root:
            # other directories than those that the known ways to start lead to
            self._starts, self._starts_in = {}, root
        start = self._starts.get(id(spec_step)) if case.relation is None else None
        if start is None:
            start = self._start_of(case, step, spec_step)
            if case.relation is None and is_constant(around) and not spec_step.is_other:
                self._starts[id(spec_step)] = start
        if around.start_in is not None:
            start = replace(start, directory=self._starts_where(spec_step, scope))
        step.start = start
        if self._warm is not None and self._is_own(case, step, spec_step):
            self._start_warm(self._warm, step, start)

    def _start_of(self, case: Case, step: StepLaunch, spec_step: Step) -> Start:
        """Work out how a launch starts."""
        plan, around, scope = self._plan, spec_step.surroundings, step.context.scope
        env = environment_of(plan.environment, around, scope, self._place.directories)
        command = (
            other_program(step.argv, env, plan.spec.here, self._starts_where(spec_step, scope))
            if spec_step.is_other
            else self.command(case, step.number)
        )
        filling = TemplateScope(scope, plan.spec.here)
        start = start_of(command, env, self._place.start_directory, around, filling)
        if not around.meanwhile:
            return start
        happenings = tuple(happening_of(each, filling, env, self._place) for each in around.meanwhile)
        return replace(start, meanwhile=happenings)

    def _starts_where(self, spec_step: Step, scope: Scope) -> str:
        """Return the directory that a launch of a step starts in."""
        start_in = spec_step.surroundings.start_in
        if start_in is None:
            return self._place.start_directory
        return self._place.inside(start_in.render(scope))

    def _is_own(self, case: Case, step: StepLaunch, spec_step: Step) -> bool:
        """Tell whether a launch starts the program itself, as the spec launches it; how it is
        launched is what some families are about."""
        about_launching = case.family in ("renamed", "launchers", "elsewhere")
        own = self.command(case, step.number).words == self._plan.launch
        return own and not (about_launching or spec_step.is_other)

    @staticmethod
    def _start_warm(warm: WarmStarts, step: StepLaunch, start: Start) -> None:
        """Have a keeper start a launch, if it can."""
        if warm.can_start(start):
            # Where no keeper can be had, the program is started as usual: warm is a way to be fast,
            # no other result.
            step.starter = warm.starter() or step.starter

    def command(self, case: Case, number: int) -> Command:
        """Return the file and the words that a launch starts with: other ones where launchers are
        compared."""
        plan, relation = self._plan, case.relation
        launcher = relation.launcher(number) if relation is not None else ""
        if launcher:
            other = plan.launchers[launcher]
            return Command(other.file, other.words)
        return Command(plan.file, plan.launch)

    def _spec_step(self, case: Case, number: int) -> Step:
        """Return the step of the spec that a launch belongs to: launches that are compared are all
        of the first, or as the comparison has them."""
        if case.relation is None:
            return self._steps[case.matrix][number]
        first = self._steps[case.matrix][0]
        return self._others.get(case.matrix, first) if number else first

    def close(self) -> None:
        """End the keeper, if there is one: another is started when it is needed."""
        if self._warm is not None:
            self._warm.close()
