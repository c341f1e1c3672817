"""C and C++, built with --coverage: each launch writes its counts below a directory of its own
(GCOV_PREFIX in "Data File Relocation to Support Cross-Profiling" of the GCC manual), and gcov reads
them."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Collection

from keen_matrix.core.insight.places.trace import Place, Trace
from keen_matrix.core.insight.places.tracers.base import Traced, has_in_it, is_compiled, is_missing, is_own
from keen_matrix.core.launch.launchers import ResolvedLaunch

GCOV_SECONDS = 20.0
_COUNTS = b".gcda\0"


class GcovTracer:
    """Traces programs that count their own lines."""

    name = "gcov"

    def fits(self, launch: ResolvedLaunch) -> bool:
        """Tell whether a launch starts a binary that was compiled."""
        return is_compiled(launch.file)

    def missing(self, launch: ResolvedLaunch) -> str:
        """Tell that it was built without counts, or that there is no gcov."""
        if not has_in_it(launch.file, _COUNTS):
            return (
                f"{os.path.basename(launch.file)} does not count its lines; compile and link it with "
                f"--coverage"
            )
        return is_missing("gcov", "it is part of the compiler")

    def traced(self, launch: ResolvedLaunch, directory: str, own: Collection[str]) -> Traced:
        """Return the launch with a directory for its counts."""
        return Traced(launch, {"GCOV_PREFIX": os.path.join(directory, "{case_id}.gcov")})

    def trace(self, directory: str, id: str, own: Collection[str]) -> Trace | None:
        """Return what gcov reads. It counts, and tells no order."""
        top = os.path.join(directory, f"{id}.gcov")
        ran: set[Place] = set()
        can_run: set[Place] = set()
        for root, _, names in os.walk(top):
            for name in names:
                if name.endswith(".gcda"):
                    at = os.path.join(root, name)
                    for place, count in _counts(at, "/" + os.path.relpath(at, top)):
                        if is_own(place.file, own):
                            can_run.add(place)
                            ran |= {place} if count else set()
        return Trace(frozenset(ran), can_run=frozenset(can_run)) if ran else None


def _counts(counts: str, original: str) -> list[tuple[Place, int]]:
    """Return the lines of one object and how often each ran."""
    notes = original.removesuffix(".gcda") + ".gcno"
    if not os.path.isfile(notes):
        return []
    shutil.copy(notes, counts.removesuffix(".gcda") + ".gcno")
    try:
        done = subprocess.run(
            ["gcov", "--json-format", "--stdout", counts],
            cwd=os.path.dirname(original),
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=GCOV_SECONDS,
            check=False,
        )
        found = json.loads(done.stdout)
    except (OSError, ValueError, subprocess.TimeoutExpired):
        return []
    home = found.get("current_working_directory", os.path.dirname(original))
    return [
        (Place(os.path.realpath(os.path.join(home, each["file"])), line["line_number"]), line["count"])
        for each in found.get("files", [])
        for line in each["lines"]
    ]
