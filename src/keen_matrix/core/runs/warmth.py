"""Whether a program may be run warm: it must do the same both ways."""

from __future__ import annotations

import os
from collections.abc import Iterable
from typing import NamedTuple

from keen_matrix.core.launch.engine import WorkerPool
from keen_matrix.core.launch.environment import base_environment
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.warm import ColdOnly, WarmPlan, imported_modules, warm_plan
from keen_matrix.core.launch.warmcheck import check_warm
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.structs import replace


class Warmth(NamedTuple):
    """How a program is run warm; None, with the reason, when it is not."""

    plan: WarmPlan | None
    reason: str = ""


def trusted_warm_plan(
    pool: WorkerPool, spec: Spec, launch: ResolvedLaunch, cases: Iterable[Case], percent: float
) -> Warmth:
    """Return how a program is run warm, once a percentage of its cases did the same both ways.

    `cases` may be gone through several times.
    """
    try:
        plan = warm_plan(launch.file, launch.words)
        first = next(iter(cases), None)
        environment = base_environment(spec.program.env_from_caller, os.environ)
        modules = imported_modules(plan, first.argv if first else (), environment)
        plan = replace(plan, modules=modules)
        found = check_warm(pool, spec, launch, plan, lambda: iter(cases), percent)
    except ColdOnly as reason:
        return Warmth(None, str(reason))
    if found.id:
        return Warmth(
            None, f"the case {found.id[:6]} differs in {found.aspect} when it is launched warm"
        )
    return Warmth(plan)
