"""Perl: a debugger of our own, which only tells lines (perldebguts, "Debugger Internals"; perlrun,
PERL5OPT)."""

from __future__ import annotations

import os
import re
from collections.abc import Collection

from keen_matrix.core.insight.places.trace import Trace
from keen_matrix.core.insight.places.tracers.base import HOOKS, TRACE, Traced, tabbed_trace, tracer_runtime
from keen_matrix.core.launch.launchers import ResolvedLaunch


class PerlTracer:
    """Traces Perl programs."""

    name = "perl"

    def fits(self, launch: ResolvedLaunch) -> bool:
        """Tell whether a launch starts a Perl program."""
        return re.fullmatch(r"perl[\d.]*", tracer_runtime(launch)) is not None

    def missing(self, launch: ResolvedLaunch) -> str:
        """Nothing is needed beside perl."""
        return ""

    def traced(self, launch: ResolvedLaunch, directory: str, own: Collection[str]) -> Traced:
        """Return the launch with our module loaded first."""
        options = f"-I{HOOKS} -d:KeenMatrixTrace"
        return Traced(launch, {TRACE: os.path.join(directory, "{case_id}"), "PERL5OPT": options})

    def trace(self, directory: str, id: str, own: Collection[str]) -> Trace | None:
        """Return what was reported."""
        return tabbed_trace(directory, id, own)
