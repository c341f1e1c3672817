"""The tracers. A new one is a module here and a line in TRACERS."""

from __future__ import annotations

from keen_matrix.core.insight.places.tracers.base import Traced, Tracer
from keen_matrix.core.insight.places.tracers.gcov import GcovTracer
from keen_matrix.core.insight.places.tracers.go import GoTracer
from keen_matrix.core.insight.places.tracers.node import NodeTracer
from keen_matrix.core.insight.places.tracers.perl import PerlTracer
from keen_matrix.core.insight.places.tracers.python import PythonTracer
from keen_matrix.core.insight.places.tracers.shell import ShellTracer
from keen_matrix.core.launch.launchers import ResolvedLaunch

#: The first that fits a launch is taken.
TRACERS: tuple[Tracer, ...] = (
    PythonTracer(),
    NodeTracer(),
    ShellTracer(),
    PerlTracer(),
    GoTracer(),
    GcovTracer(),  # any other binary
)


def tracer_of(launch: ResolvedLaunch) -> Tracer | None:
    """Return the tracer of a program; None where there is none for its runtime."""
    return next((each for each in TRACERS if each.fits(launch)), None)


__all__ = ["TRACERS", "Traced", "Tracer", "tracer_of"]
