"""What every tracer answers: one for each runtime, chosen by how the program is launched."""

from __future__ import annotations

import glob
import mmap
import os
import shutil
from collections.abc import Collection, Iterator
from typing import NamedTuple, Protocol

from keen_matrix.core.insight.places.trace import Place, Trace, trace_of
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.runtimes import runtime_name
from keen_matrix.core.launch.warm import keepers

#: Files that runtimes load.
HOOKS = os.path.join(os.path.dirname(os.path.abspath(keepers.__file__)), "hooks")
TRACE, OWN, POSIX = "KEEN_MATRIX_TRACE", "KEEN_MATRIX_TRACE_OWN", "KEEN_MATRIX_POSIX"
#: What binaries of macOS begin with (mach-o/loader.h and mach-o/fat.h).
_MACH_O = (b"\xcf\xfa\xed\xfe", b"\xca\xfe\xba\xbe")
#: Bytes of one trace that are read.
MOST_TRACE = 64 << 20


class Traced(NamedTuple):
    """How a program is launched so that its lines are reported."""

    launch: ResolvedLaunch
    #: Variables of each launch; `{case_id}` in them is the id of the case.
    variables: dict[str, str]
    #: Those that a keeper does without, since it has the lines of its child told on its own. Where
    #: there are none, no launch is warm.
    warm_without: frozenset[str] = frozenset()
    #: Directories that have to be there before a launch, below the one for traces, named as in
    #: variables.
    directories: tuple[str, ...] = ()
    #: What a program prints on standard error only where its lines are not told.
    unsaid: str = ""


class Tracer(Protocol):
    """Has the lines of programs of one runtime told, with nothing of the program changed."""

    name: str

    def fits(self, launch: ResolvedLaunch) -> bool:
        """Tell whether a launch starts a program of this runtime."""
        ...

    def missing(self, launch: ResolvedLaunch) -> str:
        """Return what has to be installed or done first; empty where nothing is missing."""
        ...

    def traced(self, launch: ResolvedLaunch, directory: str, own: Collection[str]) -> Traced:
        """Return how it is launched; traces go to `directory`, files of the program are below
        `own`."""
        ...

    def trace(self, directory: str, id: str, own: Collection[str]) -> Trace | None:
        """Return what the launch of a case ran; None where nothing was reported."""
        ...


def tracer_runtime(launch: ResolvedLaunch) -> str:
    """Return the name of the runtime that a launch starts."""
    return runtime_name(launch.file, launch.words[0])


def is_own(file: str, own: Collection[str]) -> bool:
    """Tell whether a file is the program's own."""
    return any(file.startswith(each.rstrip(os.sep) + os.sep) or file == each for each in own)


def told_lines(directory: str, id: str) -> Iterator[str]:
    """Yield the lines that the processes of a case have told, those of the first process first."""
    names = glob.glob(os.path.join(glob.escape(directory), f"{id}.*"))
    numbered = [each for each in names if each.rpartition(".")[2].isdecimal()]
    for name in sorted(numbered, key=lambda each: os.stat(each).st_mtime_ns):
        with open(name, encoding="utf-8", errors="surrogateescape") as file:
            yield from file.read(MOST_TRACE).splitlines()


def tabbed_trace(directory: str, id: str, own: Collection[str]) -> Trace | None:
    """Return a trace of lines `FILE<tab>NUMBER`, those with a `!` before them being lines that can
    run."""
    order: list[Place] = []
    can_run: list[Place] = []
    known: dict[str, str] = {}
    for line in told_lines(directory, id):
        file, _, number = line.partition("\t")
        if not number.isdecimal():
            continue
        bare = file.removeprefix("!")
        whole = known.get(bare)
        if whole is None:
            path = os.path.realpath(bare)
            whole = known[bare] = path if is_own(path, own) else ""
        if whole:
            (can_run if file.startswith("!") else order).append(Place(whole, int(number)))
    return trace_of(order, can_run) if order else None


def is_compiled(file: str) -> bool:
    """Tell whether a program is a binary of this system."""
    try:
        with open(file, "rb") as binary:
            return binary.read(4) in (b"\x7fELF", *_MACH_O)
    except OSError:
        return False


def has_in_it(file: str, what: bytes) -> bool:
    """Tell whether some bytes are in a binary, which may be large: it is not read into memory."""
    try:
        with open(file, "rb") as binary, mmap.mmap(binary.fileno(), 0, access=mmap.ACCESS_READ) as whole:
            return whole.find(what) >= 0
    except (OSError, ValueError):  # an empty file cannot be mapped
        return False


def is_missing(program: str, why: str) -> str:
    """Return that a program has to be installed, where it is not there."""
    return "" if shutil.which(program) else f"{program} is not there: {why}"
