"""Python: sys.monitoring (3.12 and later) or sys.settrace, in the program's own interpreter and
those it starts ("sys" and "site" in the Python library reference)."""

from __future__ import annotations

import os
import re
from collections.abc import Collection

from keen_matrix.core.insight.places.trace import Place, Trace
from keen_matrix.core.insight.places.tracers.base import (
    HOOKS,
    OWN,
    TRACE,
    Traced,
    tabbed_trace,
    tracer_runtime,
)
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.structs import replace

#: Switches by which an interpreter looks at no PYTHONPATH or loads no sitecustomize.
ALONE = re.compile(r"-[A-Za-z]*[SEI][A-Za-z]*")


class PythonTracer:
    """Traces Python programs."""

    name = "python"

    def fits(self, launch: ResolvedLaunch) -> bool:
        """Tell whether a launch starts a Python program."""
        return re.fullmatch(r"(python|pypy)[\d.]*", tracer_runtime(launch)) is not None

    def missing(self, launch: ResolvedLaunch) -> str:
        """Tell of switches that keep everything out."""
        alone = next((each for each in launch.words[1:] if ALONE.fullmatch(each)), "")
        return f"the launch words have {alone}, so no tracer can be loaded into the program" if alone else ""

    def traced(self, launch: ResolvedLaunch, directory: str, own: Collection[str]) -> Traced:
        """Return the launch with a directory of ours in PYTHONPATH."""
        path = os.pathsep.join([HOOKS, *filter(None, [os.environ.get("PYTHONPATH")])])
        return Traced(
            launch,
            {TRACE: os.path.join(directory, "{case_id}"), OWN: os.pathsep.join(own), "PYTHONPATH": path},
            warm_without=frozenset({"PYTHONPATH"}),
        )

    def trace(self, directory: str, id: str, own: Collection[str]) -> Trace | None:
        """Return what was reported, and what could have been: the lines of the code of each
        file."""
        found = tabbed_trace(directory, id, own)
        if found is None:
            return None
        files = {place.file for place in found.places}
        can_run = [Place(file, line) for file in files for line in lines_of_code(file)]
        return replace(found, can_run=frozenset(can_run))


def lines_of_code(file: str) -> frozenset[int]:
    """Return the lines of a Python file on which something can run; none of a file that does not
    compile."""
    return _lines_of(file, _changed(file))


def _changed(file: str) -> int:
    try:
        return os.stat(file).st_mtime_ns
    except OSError:
        return 0


_known: dict[tuple[str, int], frozenset[int]] = {}


def _lines_of(file: str, changed: int) -> frozenset[int]:
    found = _known.get((file, changed))
    if found is None:
        try:
            with open(file, "rb") as text:
                codes = [compile(text.read(), file, "exec", dont_inherit=True)]
        except (OSError, SyntaxError, ValueError):
            codes = []
        lines: set[int] = set()
        while codes:
            code = codes.pop()
            # the first line of a module is reported as line 0 or 1 where nothing stands
            lines |= {line for _, _, line in code.co_lines() if line}
            codes += [each for each in code.co_consts if hasattr(each, "co_lines")]
        found = _known[file, changed] = frozenset(lines)
    return found
