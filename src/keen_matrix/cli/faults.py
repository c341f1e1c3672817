"""Errors as commands tell them, and those of one spec among several."""

from __future__ import annotations

import argparse
import contextlib
import os
import sys
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from keen_matrix.cli.statuses import EXIT_INTERRUPTED, EXIT_MISUSE, EXIT_NOT_RUN
from keen_matrix.core import interruption
from keen_matrix.wording.safe import escape_lines

if TYPE_CHECKING:
    from keen_matrix.core.errors import KeenMatrixError


def tell(text: str) -> None:
    """Write a message to standard error, if there is any."""
    with contextlib.suppress(OSError, ValueError):
        print(f"keen-matrix: {text}", file=sys.stderr, flush=True)


def exit_status_of(error: Exception, options: argparse.Namespace, path: str = "") -> int:
    """Tell of an error that is whoever called us's, or their program's, and return the exit status
    of a command that ends with it. A path is the spec that it is about, where it could be another.

    Raises KeyboardInterrupt where a signal is after it, and the error itself when it is our own.
    """
    # Not at the start: a command that only prints its help has no errors, and they cost a library.
    from keen_matrix.core.errors import ExpressionFault, Misuse, NotationFault, RunFault, SpecFault

    interruption.check()
    if not isinstance(error, (SpecFault, Misuse, ExpressionFault, NotationFault, RunFault)):
        raise error
    return tell_fault(error, options, path)


def tell_fault(fault: KeenMatrixError, options: argparse.Namespace, path: str = "") -> int:
    """Tell of such an error, and return the exit status of a command that ends with it."""
    from keen_matrix.core.errors import RunFault, SpecFault

    if isinstance(fault, SpecFault):
        from keen_matrix.cli.console.problems import print_problems

        print_problems(fault.problems, options)
        if not fault.problems:
            tell("a spec cannot be used; keen-matrix lint shows why")
        return EXIT_MISUSE
    could_run = not isinstance(fault, RunFault)
    text = str(fault) or ("wrong usage; see --help" if could_run else "nothing could be run")
    lead = f"{path}: " if path and not text.startswith(path) else ""
    tell(escape_lines(lead + text))
    return EXIT_MISUSE if could_run else EXIT_NOT_RUN


def tell_interruption() -> int:
    """Tell that a signal ended a command, and return its exit status."""
    interruption.begin_ending()
    tell("interrupted")
    return EXIT_INTERRUPTED


def one_by_one(paths: Sequence[str], do: Callable[[str], int], options: argparse.Namespace) -> list[int]:
    """Do something with one spec after another, and return the exit statuses.

    What is wrong with one spec is reported, and leaves the others theirs. An interruption ends it,
    and the rest is reported; what was found until then is the caller's to show."""
    statuses: list[int] = []
    for path in paths:
        statuses.append(_with_one(path, do, options, os.path.relpath(path) if paths[1:] else ""))
        if statuses[-1] == EXIT_INTERRUPTED:
            break
    rest = paths[len(statuses) :]
    if rest:
        tell(f"not begun: {escape_lines(', '.join(map(os.path.relpath, rest)))}")
    return statuses


def _with_one(path: str, do: Callable[[str], int], options: argparse.Namespace, shown: str) -> int:
    try:
        try:
            return do(path)
        except Exception as error:
            return exit_status_of(error, options, shown)
    except KeyboardInterrupt:
        return tell_interruption()
