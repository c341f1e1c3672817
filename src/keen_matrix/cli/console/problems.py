"""Problems of specs, as lines."""

from __future__ import annotations

import sys
import textwrap
from collections.abc import Iterable

from keen_matrix.cli.console.screen import Screen
from keen_matrix.core.errors import Problem
from keen_matrix.core.spec.including import placed

#: Cells that a broken line gets at least, however narrow the terminal is.
LEAST_ROOM = 20


def print_problems(problems: Iterable[Problem], options: object, *, to_stdout: bool = False) -> None:
    """Write problems with their line and a caret under the place."""
    screen = Screen(sys.stdout if to_stdout else sys.stderr, color=getattr(options, "color", "auto"))
    for problem in problems:
        write_problem(screen, placed(problem))


def write_problem(screen: Screen, problem: Problem) -> None:
    """Write one problem."""
    style = "bad" if problem.severity == "error" else "warn"
    text = f" {problem.message}"
    screen.line((f"{problem.place}:", "place"), *([(" warning:", "warn")] if style == "warn" else []), text)
    if problem.excerpt:
        line, caret = problem.excerpt
        bar = screen.sign("bar")
        screen.line((f"  {bar} ", "dim"), line)
        screen.line((f"  {bar} ", "dim"), (caret, style))
    if problem.expected:
        label = "" if problem.wanted == problem.expected else "expected "
        indent = f"    {label}"
        lines = [problem.expected]
        if screen.is_terminal:  # a long list of choices is broken between them
            room = max(screen.width - len(indent), LEAST_ROOM)
            lines = textwrap.wrap(problem.expected, room, break_on_hyphens=False) or lines
        for line in lines:
            screen.line(indent, (line, "expected"))
            indent = " " * len(indent)
    if problem.suggestion:
        screen.line("    did you mean ", (f'"{problem.suggestion}"', "strong"), "?")
