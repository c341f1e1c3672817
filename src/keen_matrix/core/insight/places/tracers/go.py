"""Go, built with -cover: each launch writes its counts into a directory of its own (GOCOVERDIR in
"Coverage profiling support for integration tests" of Go's documentation), and Go's covdata reads
them."""

from __future__ import annotations

import os
import re
import subprocess
from collections.abc import Collection, Iterator, Sequence
from functools import lru_cache
from typing import NamedTuple

from keen_matrix.core.insight.places.trace import Place, Trace
from keen_matrix.core.insight.places.tracers.base import Traced, has_in_it, is_compiled, is_missing, is_own
from keen_matrix.core.launch.launchers import ResolvedLaunch

#: Time that Go's own tools get: newer ones are built the first time that they are asked for.
GO_SECONDS = 60.0
_BUILD, _COUNTS = b"\xff Go buildinf:", b"build\t-cover=true"
_WARNING = "warning: GOCOVERDIR not set, no coverage data emitted\n"
_BLOCK = re.compile(r"(.+):(\d+)\.(\d+),(\d+)\.(\d+) \d+ (\d+)")


class GoTracer:
    """Traces Go programs that count their own blocks."""

    name = "go"

    def fits(self, launch: ResolvedLaunch) -> bool:
        """Tell whether a launch starts a binary that Go has built."""
        return is_compiled(launch.file) and has_in_it(launch.file, _BUILD)

    def missing(self, launch: ResolvedLaunch) -> str:
        """Tell that it was built without counts, or that there is no Go."""
        if not has_in_it(launch.file, _COUNTS):
            return (
                f"{os.path.basename(launch.file)} does not count its lines; build it with go build "
                f"-cover (Go 1.20 or later)"
            )
        return is_missing("go", "its covdata reads the program's counters")

    def traced(self, launch: ResolvedLaunch, directory: str, own: Collection[str]) -> Traced:
        """Return the launch with a directory for its counts; without one it warns of that."""
        name = "{case_id}.go"
        return Traced(
            launch, {"GOCOVERDIR": os.path.join(directory, name)}, directories=(name,), unsaid=_WARNING
        )

    def trace(self, directory: str, id: str, own: Collection[str]) -> Trace | None:
        """Return what covdata reads. Go counts, and tells no order; a program that panics has
        written nothing."""
        ran: set[Place] = set()
        can_run: set[Place] = set()
        blocks: dict[str, list[Block]] = {}
        for name, block in _blocks(os.path.join(directory, f"{id}.go")):
            blocks.setdefault(name, []).append(block)
        for name, each in blocks.items():
            path = source_of(name, tuple(own))
            if path:
                with open(path, encoding="utf-8", errors="replace") as file:
                    counts = lines_of_blocks(file.read().split("\n"), each)
                can_run |= {Place(path, line) for line in counts}
                ran |= {Place(path, line) for line, count in counts.items() if count}
        return Trace(frozenset(ran), can_run=frozenset(can_run)) if ran else None


class Block(NamedTuple):
    """A piece of a file that runs as a whole; lines, and columns in bytes, are counted from 1."""

    line: int
    column: int
    last_line: int
    last_column: int
    times: int


def lines_of_blocks(text: Sequence[str], blocks: Collection[Block]) -> dict[int, int]:
    """Return each line on which a block has code, and how often it ran.

    On a line with several blocks the one that begins it tells; of a block inside another (a
    function literal) the lines are the inner one's."""
    counts: dict[int, int] = {}
    for block in sorted(blocks, key=lambda each: (each[:2], -each.last_line, -each.last_column)):
        for line in range(block.line, min(block.last_line, len(text)) + 1):
            raw = text[line - 1].encode()
            start = block.column - 1 if line == block.line else 0
            stop = block.last_column - 1 if line == block.last_line else len(raw)
            code = raw[start:stop].strip(b" \t{}();,")
            begins = not raw[:start].strip(b" \t{}();,")
            if code and not code.startswith(b"//") and (begins or line not in counts):
                counts[line] = block.times
    return counts


@lru_cache(maxsize=1_000)
def source_of(name: str, own: tuple[str, ...]) -> str:
    """Return the file that a name of Go's stands for, the path of its package with the file behind
    it; empty where no directory of the program has it. The longest part of the name that is there
    is taken."""
    if os.path.isabs(name):
        path = os.path.realpath(name)
        return path if is_own(path, own) and os.path.isfile(path) else ""
    parts = name.split("/")
    for first in range(len(parts)):
        for directory in own:
            path = os.path.realpath(os.path.join(directory, *parts[first:]))
            if is_own(path, own) and os.path.isfile(path):
                return path
    return ""


def _blocks(directory: str) -> Iterator[tuple[str, Block]]:
    """Yield the blocks that one launch counted, with the names of their files."""
    try:
        if not os.listdir(directory):
            return
        out = os.path.join(directory, "blocks.txt")
        subprocess.run(
            [*_covdata(), "textfmt", f"-i={directory}", f"-o={out}"],
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=GO_SECONDS,
            check=False,
        )
        with open(out, encoding="utf-8", errors="replace") as file:
            lines = file.read().splitlines()
    except (OSError, subprocess.TimeoutExpired):
        return
    for line in lines:
        match = _BLOCK.fullmatch(line)
        if match:
            yield match[1], Block(*map(int, match.groups()[1:]))


@lru_cache(maxsize=1)
def _covdata() -> tuple[str, ...]:
    """Return the words that start covdata: the tool itself where Go tells where it is, which saves
    the start of `go` for each case."""
    try:
        done = subprocess.run(
            ["go", "tool", "-n", "covdata"],
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            timeout=GO_SECONDS,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired):
        return "go", "tool", "covdata"
    path = done.stdout.strip()
    return (path,) if os.access(path, os.X_OK) else ("go", "tool", "covdata")
