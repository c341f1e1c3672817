"""Problems of specs, as lines."""

from __future__ import annotations

import sys
from collections.abc import Iterable

from keen_matrix.cli.console.screen import Screen
from keen_matrix.core.errors import Problem
from keen_matrix.core.spec.source import placed


def print_problems(
    problems: Iterable[Problem], options: object, *, to_stdout: bool = False
) -> None:
    """Write problems with the line they stand on and a caret under the place."""
    screen = Screen(
        sys.stdout if to_stdout else sys.stderr, color=getattr(options, "color", "auto")
    )
    for problem in problems:
        write_problem(screen, placed(problem))


def write_problem(screen: Screen, problem: Problem) -> None:
    """Write one problem."""
    style = "bad" if problem.severity == "error" else "warn"
    text = f" {problem.message}"
    screen.line(
        (f"{problem.place}:", "place"), *([(" warning:", "warn")] if style == "warn" else []), text
    )
    if problem.excerpt:
        line, caret = problem.excerpt
        bar = screen.sign("bar")
        screen.line((f"  {bar} ", "dim"), line)
        screen.line((f"  {bar} ", "dim"), (caret, style))
    if problem.expected:
        label = "" if problem.wanted == problem.expected else "expected "
        screen.line(f"    {label}", (problem.expected, "expected"))
    if problem.suggestion:
        screen.line("    did you mean ", (f'"{problem.suggestion}"', "strong"), "?")
