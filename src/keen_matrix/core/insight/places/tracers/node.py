"""Node: what V8 counts of each block (NODE_V8_COVERAGE in node's documentation of its command line)."""

from __future__ import annotations

import glob
import json
import os
from collections.abc import Collection
from urllib.parse import unquote, urlsplit

from keen_matrix.core.insight.places.trace import Place, Trace
from keen_matrix.core.insight.places.tracers.base import (
    MOST_TRACE,
    Traced,
    is_own,
    runtime_of,
)
from keen_matrix.core.launch.launchers import ResolvedLaunch

FOLDER = "NODE_V8_COVERAGE"


class NodeTracer:
    """Traces programs for node."""

    name = "node"

    def fits(self, launch: ResolvedLaunch) -> bool:
        """Tell whether a launch starts node."""
        return runtime_of(launch) in ("node", "nodejs")

    def missing(self, launch: ResolvedLaunch) -> str:
        """Nothing is needed beside node."""
        return ""

    def traced(self, launch: ResolvedLaunch, folder: str, own: Collection[str]) -> Traced:
        """Return the launch with a folder for what V8 counts."""
        return Traced(launch, {FOLDER: os.path.join(folder, "{case_id}.v8")})

    def trace(self, folder: str, id: str, own: Collection[str]) -> Trace | None:
        """Return the lines of blocks that ran. V8 counts, and tells no order."""
        ran: set[Place] = set()
        can_run: set[Place] = set()
        for name in glob.glob(os.path.join(glob.escape(folder), f"{id}.v8", "*.json")):
            if os.path.getsize(name) > MOST_TRACE:
                continue
            with open(name, encoding="utf-8") as file:
                scripts = json.load(file).get("result", [])
            for script in scripts:
                path = os.path.realpath(unquote(urlsplit(script["url"]).path))
                if (
                    script["url"].startswith("file:")
                    and is_own(path, own)
                    and "/node_modules/" not in path
                ):
                    lines, every = counted_lines(path, script["functions"])
                    ran |= {Place(path, line) for line in lines}
                    can_run |= {Place(path, line) for line in every}
        return Trace(frozenset(ran), can_run=frozenset(can_run)) if ran else None


def counted_lines(path: str, functions: Collection[dict[str, object]]) -> tuple[set[int], set[int]]:
    """Return the lines of a script that ran, and all that hold code.

    A range counts for all in it that no smaller range counts; offsets are UTF-16 units (Chrome
    DevTools Protocol, Profiler.CoverageRange).
    """
    with open(path, encoding="utf-8", errors="replace") as file:
        text = file.read()
    units = text.encode("utf-16-le")
    counts = [1] * (len(units) // 2)
    ranges = [each for function in functions for each in _ranges(function)]
    # larger ranges first: what is counted inside them is counted more exactly
    for start, stop, count in sorted(ranges, key=lambda each: (each[0], -each[1])):
        counts[start:stop] = [count] * (max(0, min(stop, len(counts)) - start))
    starts = [0]
    for at, unit in enumerate(units[::2]):
        if unit == 10 and units[at * 2 + 1] == 0:
            starts.append(at + 1)
    ran: set[int] = set()
    every: set[int] = set()
    is_comment = False
    for number, line in enumerate(text.split("\n"), 1):
        bare = line.strip()
        is_comment = is_comment or bare.startswith("/*")
        holds = bool(bare.strip("{}()[];,")) and not is_comment and not bare.startswith("//")
        is_comment = is_comment and "*/" not in bare
        if not holds:
            continue
        every.add(number)
        first = starts[number - 1] + len(line) - len(line.lstrip())
        stop = starts[number] if number < len(starts) else len(counts)
        # what begins the line tells: `} else {` ends a block that may have run
        if counts[first:stop] and counts[min(first + 1, stop - 1)]:
            ran.add(number)
    return ran, every


def _ranges(function: dict[str, object]) -> list[tuple[int, int, int]]:
    found = function["ranges"]
    listed = found if isinstance(found, list) else []
    return [
        (int(each["startOffset"]), int(each["endOffset"]), int(each["count"])) for each in listed
    ]


__all__ = ["NodeTracer", "counted_lines"]
