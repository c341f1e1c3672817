"""How a program is started by the words that a person types: by itself, through an interpreter or
a tool that runs another command, or through a runner that builds or finds it first.

A runner is passed by where that is possible: what it builds is built once and then started
directly, so that every call has the program's own exit and streams. A runner is one row of
`runners()` and one function.
"""

from __future__ import annotations

import os
import re
from collections.abc import Sequence

from keen_matrix.core.launch.runners.base import BUILT, FoundProgram, Runner, TypedPlace, absolute_words
from keen_matrix.core.launch.runners.interpreters import INTERPRETER_KINDS, interpreted
from keen_matrix.core.launch.runners.wrappers import words_of_wrapper

#: File names of the commands of all runners: their modules are only read for one of these.
RUNNER_NAMES = re.compile(
    r"go|cargo|g?make|dotnet|gradlew?|mvnw?|npm|yarn|pnpm|npx|uv|poetry|pipenv|pdm|hatch|rye"
)
#: Commands in front of each other: `env A=1 nice timeout 5 ./fare`.
MOST_WRAPPERS = 8


def started_by(words: Sequence[str], directory: str, out: str, *, may_ask: bool = True) -> FoundProgram:
    """Return how words start a program that were typed in a directory; `out` is where what a runner
    builds is put.

    Starts nothing, but (with `may_ask`) a build tool that says what it would do: `make -n`.
    """
    lead: list[str] = []
    rest = list(words)
    for _ in range(MOST_WRAPPERS):
        count = words_of_wrapper(rest)
        if not count:
            break
        lead += rest[:count]
        rest = rest[count:]
    found = _found(rest, TypedPlace(directory, out, may_ask)) if rest else None
    if found is None:
        found = FoundProgram(
            words=tuple(rest[:1]), given=tuple(rest[1:]), launch=absolute_words(rest[:1], directory)
        )
    if lead:
        found = found.after(lead)
    return found


def hidden_status(started: FoundProgram, stdout: str, stderr: str) -> int | None:
    """Return the exit of the program that its runner hides, where its last such line says it."""
    if not started.hides:
        return None
    found = list(re.finditer(started.hides, f"{stdout}\n{stderr}", re.MULTILINE))
    return int(found[-1]["status"]) if found else None


def runners() -> tuple[Runner, ...]:
    """Return every runner that is known."""
    from keen_matrix.core.launch.runners.build_tools import BUILD_TOOLS
    from keen_matrix.core.launch.runners.packages import PACKAGE_RUNNERS

    return (*BUILD_TOOLS, *PACKAGE_RUNNERS)


def _found(words: list[str], place: TypedPlace) -> FoundProgram | None:
    name = os.path.basename(words[0])
    for runner in runners() if RUNNER_NAMES.fullmatch(name) else ():
        if runner.names.fullmatch(name) and (found := runner.find(words, place)) is not None:
            return found.of_runner(runner)
    return interpreted(words, place)


__all__ = [
    "BUILT",
    "INTERPRETER_KINDS",
    "RUNNER_NAMES",
    "FoundProgram",
    "Runner",
    "TypedPlace",
    "hidden_status",
    "runners",
    "started_by",
]
