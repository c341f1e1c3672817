"""Node: what V8 counts of each block (NODE_V8_COVERAGE in node's documentation of its command
line), told of the sources where the script has a source map."""

from __future__ import annotations

import glob
import itertools
import json
import os
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any, TypeAlias
from urllib.parse import unquote, urlsplit

from keen_matrix.core.insight.places.trace import Place, Trace
from keen_matrix.core.insight.places.tracers.base import MOST_TRACE, Traced, is_own, tracer_runtime
from keen_matrix.core.launch.launchers import ResolvedLaunch

DIRECTORY = "NODE_V8_COVERAGE"
#: What comes of a source map that is none: it is the program's, and says anything.
NO_MAP = (LookupError, TypeError, ValueError, AttributeError)
#: Where a range of a script begins and ends, and how often it ran.
Range: TypeAlias = tuple[int, int, int]


class NodeTracer:
    """Traces programs for node."""

    name = "node"

    def fits(self, launch: ResolvedLaunch) -> bool:
        """Tell whether a launch starts node."""
        return tracer_runtime(launch) in ("node", "nodejs")

    def missing(self, launch: ResolvedLaunch) -> str:
        """Nothing is needed beside node."""
        return ""

    def traced(self, launch: ResolvedLaunch, directory: str, own: Collection[str]) -> Traced:
        """Return the launch with a directory for what V8 counts."""
        return Traced(launch, {DIRECTORY: os.path.join(directory, "{case_id}.v8")})

    def trace(self, directory: str, id: str, own: Collection[str]) -> Trace | None:
        """Return the lines of blocks that ran. V8 counts, and tells no order."""
        ran: set[Place] = set()
        can_run: set[Place] = set()
        for name in glob.glob(os.path.join(glob.escape(directory), f"{id}.v8", "*.json")):
            if os.path.getsize(name) > MOST_TRACE:
                continue
            with open(name, encoding="utf-8") as file:
                told = json.load(file)
            for script in told.get("result", []):
                if not script["url"].startswith("file:"):
                    continue
                mapped = told.get("source-map-cache", {}).get(script["url"])
                for path, (lines, every) in _lines_of(script, mapped, own).items():
                    ran |= {Place(path, line) for line in lines}
                    can_run |= {Place(path, line) for line in every}
        return Trace(frozenset(ran), can_run=frozenset(can_run)) if ran else None


#: Lines of a file that ran, and all that hold code.
Lines: TypeAlias = tuple[set[int], set[int]]


def _lines_of(
    script: Mapping[str, Any], mapped: Mapping[str, Any] | None, own: Collection[str]
) -> dict[str, Lines]:
    """Return the lines of the program's own files that a script was made of: of the sources that
    its source map names where they are there, and of itself otherwise."""
    ranges = [each for function in script["functions"] for each in _ranges(function)]
    if mapped is not None and mapped.get("data"):
        try:
            sources = mapped_lines(mapped["data"], mapped.get("lineLengths") or [], ranges)
        except NO_MAP:
            sources = {}
        found = {path: lines for path, lines in sources.items() if _is_its_own(path, own)}
        if found:
            return found
    path = _path_of(script["url"])
    return {path: lines_of_ranges(path, ranges)} if _is_its_own(path, own) else {}


def _path_of(url: str) -> str:
    return os.path.realpath(unquote(urlsplit(url).path))


def _is_its_own(path: str, own: Collection[str]) -> bool:
    return is_own(path, own) and "/node_modules/" not in path and os.path.isfile(path)


def _counts(length: int, ranges: Iterable[Range]) -> list[int]:
    """Return how often each unit of a script ran. A range counts for all in it that no smaller
    range counts; offsets are UTF-16 units (Chrome DevTools Protocol, Profiler.CoverageRange)."""
    counts = [1] * length
    # larger ranges first: what is counted inside them is counted more exactly
    for start, stop, count in sorted(ranges, key=lambda each: (each[0], -each[1])):
        counts[start:stop] = [count] * (max(0, min(stop, length) - start))
    return counts


def lines_of_ranges(path: str, ranges: Iterable[Range]) -> Lines:
    """Return the lines of a script that ran, and all that hold code."""
    with open(path, encoding="utf-8", errors="replace") as file:
        text = file.read()
    units = text.encode("utf-16-le")
    counts = _counts(len(units) // 2, ranges)
    starts = [0]
    for at, unit in enumerate(units[::2]):
        if unit == 10 and units[at * 2 + 1] == 0:
            starts.append(at + 1)
    lines = text.split("\n")
    every = _lines_with_code(lines)
    ran: set[int] = set()
    for number in every:
        line = lines[number - 1]
        first = starts[number - 1] + len(line) - len(line.lstrip())
        stop = starts[number] if number < len(starts) else len(counts)
        # what begins the line tells: `} else {` ends a block that may have run
        if counts[first:stop] and counts[min(first + 1, stop - 1)]:
            ran.add(number)
    return ran, every


def _lines_with_code(lines: Sequence[str]) -> set[int]:
    """Return the lines on which more stands than brackets and comments."""
    found: set[int] = set()
    is_comment = False
    for number, line in enumerate(lines, 1):
        bare = line.strip()
        is_comment = is_comment or bare.startswith("/*")
        if bare.strip("{}()[];,") and not is_comment and not bare.startswith("//"):
            found.add(number)
        is_comment = is_comment and "*/" not in bare
    return found


def mapped_lines(map: Mapping[str, Any], lengths: Sequence[int], ranges: Iterable[Range]) -> dict[str, Lines]:
    """Return the lines of the sources of a script, by path: what begins a line of a source tells
    whether it ran.

    `map` is a source map (ECMA-426, version 3, whose sources node has made whole URLs), `lengths`
    are those of the script's lines in UTF-16 units, without what ends them."""
    starts = [0, *itertools.accumulate(length + 1 for length in lengths)]
    counts = _counts(starts[-1], ranges)
    sources = [_path_of(each) if each.startswith("file:") else "" for each in map["sources"]]
    first: dict[tuple[str, int], tuple[int, bool]] = {}
    for line, column, source, source_line, source_column in segments(map["mappings"]):
        at = starts[line] + column if line < len(starts) else len(counts)
        if at >= len(counts) or not sources[source]:
            continue
        place = (sources[source], source_line + 1)
        if place not in first or source_column < first[place][0]:
            first[place] = (source_column, counts[at] > 0)
    found: dict[str, Lines] = {}
    for (path, number), (_, has_run) in first.items():
        ran, every = found.setdefault(path, (set(), set()))
        every.add(number)
        if has_run:
            ran.add(number)
    return {path: _with_code(path, lines) for path, lines in found.items()}


def _with_code(path: str, lines: Lines) -> Lines:
    """Return lines without those on which brackets stand alone, which a map names too."""
    try:
        with open(path, encoding="utf-8", errors="replace") as file:
            holding = _lines_with_code(file.read().split("\n"))
    except OSError:
        return lines
    return lines[0] & holding, lines[1] & holding


def segments(mappings: str) -> Iterator[tuple[int, int, int, int, int]]:
    """Yield the segments of a source map that name a source: line and column of the script, number,
    line and column of the source, all counted from 0 (ECMA-426, "Mappings structure")."""
    source = source_line = source_column = 0
    for line, text in enumerate(mappings.split(";")):
        column = 0  # the only one that begins anew in each line
        for segment in filter(None, text.split(",")):
            column_step, *steps = _numbers(segment)
            column += column_step
            if len(steps) >= 3:
                source += steps[0]
                source_line += steps[1]
                source_column += steps[2]
                yield line, column, source, source_line, source_column


_DIGITS = {
    digit: number
    for number, digit in enumerate("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/")
}


def _numbers(segment: str) -> list[int]:
    """Return the numbers of a segment: base 64, five bits a digit, the lowest first, the sixth
    saying that more follow; the lowest bit of a number is its sign."""
    found, value, shift = [], 0, 0
    for each in segment:
        digit = _DIGITS[each]
        value |= (digit & 31) << shift
        shift += 5
        if not digit & 32:
            found.append(-(value >> 1) if value & 1 else value >> 1)
            value = shift = 0
    return found


def _ranges(function: Mapping[str, Any]) -> list[Range]:
    return [
        (int(each["startOffset"]), int(each["endOffset"]), int(each["count"])) for each in function["ranges"]
    ]


__all__ = ["NodeTracer", "lines_of_ranges", "mapped_lines", "segments"]
