"""Exit statuses: one meaning each, in every command."""

from __future__ import annotations

from collections.abc import Iterable

#: Everything passed, or nothing was found.
EXIT_OK = 0
#: Something failed, or was found; never anything else.
EXIT_FAILED = 1
#: Wrong usage or a wrong spec.
EXIT_MISUSE = 2
#: Nothing could be run, or what a command reads is not there.
EXIT_NOT_RUN = 3
#: Everything that was run passed, and the budget did not suffice for the rest.
EXIT_BUDGET = 4
EXIT_INTERRUPTED = 130

_FROM_WORST = (EXIT_INTERRUPTED, EXIT_MISUSE, EXIT_NOT_RUN, EXIT_FAILED, EXIT_BUDGET, EXIT_OK)


def worst_status(statuses: Iterable[int]) -> int:
    """Return the status that stands for several: a wrong spec before one that could not be run,
    before a case that differs."""
    found = set(statuses)
    return next((each for each in _FROM_WORST if each in found), EXIT_OK)
