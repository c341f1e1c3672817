"""`keen-matrix lint`: read specs and point out every problem."""

from __future__ import annotations

import argparse
import sys

from keen_matrix.cli.shared import add_spec_options, spec_paths
from keen_matrix.wording.counts import counted

EPILOG = """\
example:
  keen-matrix lint fare.matrix.toml
  keen-matrix lint --effective fare.matrix.toml   what it comes to, and where each value stands

Nothing is run: no program, no build, no oracle file, whose names are read from its text.
exit status: 0 no errors, 2 errors or wrong usage
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_spec_options(parser)
    parser.add_argument(
        "--effective",
        action="store_true",
        help="show what each spec comes to with what it includes and the project file, and where each value stands",
    )


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.cli.console.problems import write_problem
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.oracle import asking, forbidden
    from keen_matrix.core.spec.load import read_spec

    screen = Screen(sys.stdout, color=options.color)
    paths = spec_paths(options.specs)
    errors = warnings = 0
    if options.effective:
        from keen_matrix.cli.console.effective import write_effective

        for number, path in enumerate(paths):
            if number:
                screen.line()
            write_effective(screen, path)
        return 0
    for path in paths:
        with asking(forbidden):
            _, problems = read_spec(path, deep=True)
        for problem in problems:
            write_problem(screen, problem)
        errors += sum(problem.severity == "error" for problem in problems)
        warnings += sum(problem.severity == "warning" for problem in problems)
    if errors or warnings:
        screen.line()
    text = (
        f"{counted(len(paths), 'spec')}: {counted(errors, 'error')}, {counted(warnings, 'warning')}"
    )
    screen.line((text, "bad" if errors else "good"))
    return 2 if errors else 0
