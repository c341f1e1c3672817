"""`keen-matrix lint`: read specs and point out every problem."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Sequence

from keen_matrix.cli.shared import add_spec_options, spec_paths
from keen_matrix.cli.statuses import EXIT_FAILED, EXIT_OK
from keen_matrix.core.errors import Problem
from keen_matrix.wording.counts import counted

TEXT, JSON, SARIF, ANNOTATIONS = "text", "json", "sarif", "annotations"
FORMATS = (TEXT, JSON, SARIF, ANNOTATIONS)

EPILOG = """\
example:
  keen-matrix lint fare.matrix.toml
  keen-matrix lint --format sarif > lint.sarif    for code scanning
  keen-matrix lint --effective fare.matrix.toml   the merged spec, and where each value comes from

Nothing is run: no program, no build, no oracle file (only its function names are read).
exit status: 0 no errors, 1 errors (with --strict also warnings), 2 wrong usage
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_spec_options(parser)
    parser.add_argument(
        "--effective",
        action="store_true",
        help="show each spec merged with its includes and the project file, and where each value comes from",
    )
    parser.add_argument("--strict", action="store_true", help="count warnings as errors")
    parser.add_argument("-q", "--quiet", action="store_true", help="only the summary line")
    parser.add_argument(
        "--format",
        choices=FORMATS,
        metavar="FORMAT",
        default=TEXT,
        help="output format: text, json, sarif (for code scanning) or annotations (of a CI system); default: text",
    )


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.oracle import asking, forbidden
    from keen_matrix.core.spec.kept import kept_problems

    screen = Screen(sys.stdout, color=options.color)
    paths = spec_paths(options.specs)
    if options.effective:
        from keen_matrix.cli.console.effective import write_effective

        for number, path in enumerate(paths):
            if number:
                screen.line()
            write_effective(screen, path)
        return 0
    every: list[Problem] = []
    for path in paths:
        with asking(forbidden):
            problems = kept_problems(path)
        if problems and options.format == TEXT and not options.quiet:
            from keen_matrix.cli.console.problems import write_problem

            for problem in problems:
                write_problem(screen, problem)
        every += problems
    errors = sum(problem.severity == "error" for problem in every)
    warnings = len(every) - errors
    status = EXIT_FAILED if errors or (options.strict and warnings) else EXIT_OK
    if options.format != TEXT:
        _write_as(options.format, paths, every)
        return status
    if (errors or warnings) and not options.quiet:
        screen.line()
    text = f"{counted(len(paths), 'spec')}: {counted(errors, 'error')}, {counted(warnings, 'warning')}"
    screen.line((text, "bad" if status else "good"))
    return status


def _write_as(format: str, paths: Sequence[str], problems: Sequence[Problem]) -> None:
    """Write problems in a form for programs."""
    if format == JSON:
        from keen_matrix.cli.documents import lint_document, write_document

        write_document(lint_document(paths, problems))
    elif format == SARIF:
        from keen_matrix.reports.sarif import write_sarif

        write_sarif(problems, sys.stdout.buffer)
    else:
        from keen_matrix.reports.annotations import problem_command

        for each in problems:
            sys.stdout.write(problem_command(each) + "\n")
