"""A spec whose program is started through a runner, made to start it directly: what the runner
builds is built once, and every case has the program's own exit and streams."""

from __future__ import annotations

import os
from collections.abc import Callable

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expressions import Scope, Template
from keen_matrix.core.launch.runners import FoundProgram, started_by
from keen_matrix.core.launch.runners.base import BUILT, run_in_directory
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.starting.building import build, run_build
from keen_matrix.core.structs import replace


def runner_of(spec: Spec) -> FoundProgram | None:
    """Return how a runner starts the program of a spec; None where it is started by itself, or the
    spec says how it is built."""
    if spec.program.build:
        return None
    try:
        words = [each.render(Scope({"here": spec.here})) for each in spec.program.launch]
    except ExpressionFault:
        return None
    found = started_by(words, spec.here, os.path.join(spec.here, BUILT))
    is_own = found.launch == tuple(words) and not found.env
    return None if is_own or not (found.runner or found.env) else found


def directly(spec: Spec) -> Spec:
    """Return a spec whose program is started without its runner, where there is one."""
    found = runner_of(spec)
    if found is None:
        return spec
    program = replace(
        spec.program,
        # what was typed after the runner's own words is the program's, in each case
        launch=_literal((*found.launch, *found.given)),
        build=_literal(run_in_directory(found.build, found.root, spec.here)) if found.build else (),
        env_from_caller=tuple(dict.fromkeys((*spec.program.env_from_caller, *found.from_caller))),
    )
    matrices = tuple(_with_env(each, found) for each in spec.matrices) if found.env else spec.matrices
    controls = _with_env(spec.controls, found) if spec.controls is not None and found.env else spec.controls
    return replace(spec, program=program, matrices=matrices, controls=controls)


def _literal(words: tuple[str, ...]) -> tuple[Template, ...]:
    return tuple(Template(each, literal=True) for each in words)


def _with_env(matrix: Matrix, found: FoundProgram) -> Matrix:
    """Return a matrix whose launches have the variables that the program needs, but for those that
    the spec sets."""
    more = tuple((name, Template(value, literal=True)) for name, value in found.env)
    steps = tuple(
        replace(step, surroundings=replace(step.surroundings, env=(*more, *step.surroundings.env)))
        for step in matrix.steps
    )
    return replace(matrix, steps=steps)


class _Telling(RunWatch):
    """Says which build is made."""

    def __init__(self, remarks: Callable[[str], None]) -> None:
        self._remarks = remarks

    def is_building(self, line: str, *, first: bool) -> None:
        if first:
            self._remarks(f"building: {line}")


def built(started: FoundProgram, remarks: Callable[[str], None]) -> FoundProgram:
    """Return how a program is started, once what its runner builds is there. Raises RunFault."""
    if started.build:
        run_build(started.build, started.root, _Telling(remarks))
    return started


def made_ready(spec: Spec, remarks: Callable[[str], None]) -> Spec:
    """Return a spec whose program can be started now: without a runner, and built. Raises
    RunFault."""
    ready = directly(spec)
    if ready.program.build:
        build(ready, _Telling(remarks))
    return ready
