"""The build command of a spec, run once before its cases."""

from __future__ import annotations

import os
import shlex
from collections.abc import Sequence

from keen_matrix.core.errors import RunFault
from keen_matrix.core.expressions import Scope
from keen_matrix.core.launch.process.between import Between
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.runs.events import RunWatch

#: Lines of a failed build's output that are repeated in the error.
BUILD_TAIL = 20


def build(spec: Spec, watch: RunWatch) -> None:
    """Run the build command of a spec, its output told as it comes. Raises RunFault when it
    fails."""
    run_build([word.render(Scope({"here": spec.here})) for word in spec.program.build], spec.here, watch)


def run_build(words: Sequence[str], directory: str, watch: RunWatch) -> None:
    """Run a build command in a directory, its output told as it comes. Raises RunFault when it
    fails."""
    watch.is_building(shlex.join(words), first=True)
    tail: list[str] = []
    try:
        reading, writing = os.pipe()
        with open(reading, "rb") as output:
            try:
                # Both streams together, in the order in which a terminal would show them.
                process = Between(
                    words, file=words[0], directory=directory, env=os.environ, stdout=writing, stderr=writing
                )
            finally:
                os.close(writing)
            with process:
                for raw in output:
                    line = raw.decode("utf-8", "replace").rstrip("\n")
                    watch.is_building(line, first=False)
                    tail = [*tail[-BUILD_TAIL + 1 :], line]
                process.wait(None)
    except (OSError, ValueError) as error:
        raise RunFault(f"the build cannot be run: {getattr(error, 'strerror', None) or error}") from None
    if process.returncode:
        shown = "".join(f"\n  {line}" for line in tail)
        raise RunFault(
            f"the build ended with exit {process.returncode}, so nothing was run; its last lines:{shown}"
        )
