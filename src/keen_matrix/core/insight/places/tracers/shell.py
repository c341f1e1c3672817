"""Shell scripts: bash with -x on a descriptor of its own (BASH_XTRACEFD, PS4 and BASH_ENV in the
Bash reference manual). A script for sh is run by bash as a POSIX shell, since no other shell has
such a descriptor; where that makes a difference, the case is left out."""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Collection

from keen_matrix.core.insight.places.trace import Place, Trace, trace_of
from keen_matrix.core.insight.places.tracers.base import (
    HOOKS,
    POSIX,
    TRACE,
    Traced,
    is_missing,
    is_own,
    told_lines,
    tracer_runtime,
)
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.runtimes import INTERPRETERS

_TOLD = re.compile(r"\++\t(.*?)\t(\d+)\t")
#: Lines of a script on which nothing runs: blank, comments, and words that only hold others
#: together.
_NOTHING = re.compile(
    r"\s*(#.*|\}|\{|\)|fi|done|esac|else|then|do|;;|in|[\w.-]+\s*\(\)\s*\{?|[^()\s]*\)|function\s+.*)?\s*(;;|#.*)?"
)


class ShellTracer:
    """Traces scripts for bash and sh."""

    name = "shell"

    def fits(self, launch: ResolvedLaunch) -> bool:
        """Tell whether a launch starts a script for sh or bash."""
        return tracer_runtime(launch) in ("sh", "bash", "dash")

    def missing(self, launch: ResolvedLaunch) -> str:
        """Tell that there is no bash, or that there is no script."""
        if "-c" in launch.words[1:]:
            return "the launch words have -c, so the program is in no file"
        return is_missing("bash", "lines of shell scripts are traced with bash")

    def traced(self, launch: ResolvedLaunch, directory: str, own: Collection[str]) -> Traced:
        """Return the launch by bash, which reads our file first."""
        bash = shutil.which("bash") or "bash"
        is_script = not INTERPRETERS.fullmatch(os.path.basename(launch.words[0]))
        words = (bash, launch.file, *launch.words[1:]) if is_script else (bash, *launch.words[1:])
        variables = {
            TRACE: os.path.join(directory, "{case_id}"),
            "BASH_ENV": os.path.join(HOOKS, "shell_lines.bash"),
        }
        if tracer_runtime(launch) != "bash":
            variables[POSIX] = "1"
        return Traced(ResolvedLaunch(bash, words, launch.changes), variables)

    def trace(self, directory: str, id: str, own: Collection[str]) -> Trace | None:
        """Return what was reported; what could have been are the lines that hold a command."""
        order: list[Place] = []
        for line in told_lines(directory, id):
            match = _TOLD.match(line)
            if match:
                file = os.path.realpath(match[1])
                if is_own(file, own):
                    order.append(Place(file, int(match[2])))
        if not order:
            return None
        files = {place.file for place in order}
        return trace_of(order, [Place(file, line) for file in files for line in lines_of_script(file)])


def lines_of_script(file: str) -> frozenset[int]:
    """Return the lines of a shell script on which a command seems to begin."""
    try:
        with open(file, encoding="utf-8", errors="replace") as text:
            lines = text.read().split("\n")
    except OSError:
        return frozenset()
    found, ends, goes_on = set(), "", False
    for number, line in enumerate(lines, 1):
        if ends:  # inside a here-document
            ends = "" if line.strip() == ends else ends
            continue
        if not goes_on and not _NOTHING.fullmatch(line):
            found.add(number)
        goes_on = line.endswith("\\")
        here = re.search(r"<<-?\s*['\"\\]?(\w+)", line)
        ends = here[1] if here else ""
    return frozenset(found)
