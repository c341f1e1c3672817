"""Specs as the commands take them: read, adapted to what the command line asks for, counted and
built."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from keen_matrix.core.errors import Misuse, Problem, RunFault, SpecFault, nearest

if TYPE_CHECKING:
    from keen_matrix.core.expressions import Template
    from keen_matrix.core.model.spec import Spec


BUILD_TAIL = 20
"""Lines of a failed build's output that are repeated in the error."""


def load_all(paths: Sequence[str]) -> list[Spec]:
    """Return all specs. Raises SpecFault with the problems of all of them."""
    from keen_matrix.core.spec.kept import kept_spec

    specs: list[Spec] = []
    problems: list[Problem] = []
    for path in paths:
        try:
            specs.append(kept_spec(path))
        except SpecFault as fault:
            problems += fault.problems
    if problems:
        raise SpecFault(problems)
    return specs


def adapted(spec: Spec, options: argparse.Namespace) -> Spec:
    """Return a spec with the launcher, program and seed that the command line asks for. Raises
    Misuse."""
    program = spec.program
    if options.launcher is not None and options.program is not None:
        raise Misuse("--launcher and --program both say how to start the program; give one of them")
    if options.launcher is not None:
        if options.launcher not in program.launchers:
            hint = nearest(options.launcher, program.launchers)
            known = ", ".join(program.launchers) or "none"
            more = f"; did you mean {hint}?" if hint else f"; it has {known}"
            raise Misuse(f"{spec.path} has no launcher {options.launcher!r}{more}")
        program = replace(program, launch=program.launchers[options.launcher])
    if options.program is not None:
        program = replace(program, launch=program_words(options.program))
    if options.seed is not None:
        spec = replace(
            spec, matrices=tuple(replace(matrix, seed=options.seed) for matrix in spec.matrices)
        )
    return replace(spec, program=program)


def program_words(text: str) -> tuple[Template, ...]:
    """Return the launch words of --program; a word that names a file from here is made to name it
    from anywhere."""
    from keen_matrix.core.expressions import Template
    from keen_matrix.core.spec.load import launch_templates

    words = launch_templates(text)
    if not words:
        raise Misuse("--program is empty; expected the words that start the program")
    return tuple(
        Template(os.path.abspath(word.constant), literal=True)
        if word.constant is not None and _names_a_file(word.constant, first=number == 0)
        else word
        for number, word in enumerate(words)
    )


def _names_a_file(word: str, *, first: bool) -> bool:
    """Tell whether a word of a program names a file from here; the first, without a slash, is
    looked up in PATH."""
    return os.path.exists(word) if os.sep in word else not first and os.path.isfile(word)


def build(spec: Spec) -> None:
    """Run the build command of a spec, its output going to standard error as it comes. Raises
    RunFault when it fails."""
    import subprocess

    from keen_matrix.core.expressions import Scope
    from keen_matrix.wording.safe import escape, shell_line

    words = [word.render(Scope({"here": spec.here})) for word in spec.program.build]
    print(f"build: {escape(shell_line(words))}", file=sys.stderr, flush=True)
    tail: list[str] = []
    try:
        with subprocess.Popen(
            words,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            cwd=spec.here,
        ) as process:
            assert process.stdout is not None
            for raw in process.stdout:
                line = escape(raw.decode("utf-8", "replace").rstrip("\n"))
                print(f"  {line}", file=sys.stderr, flush=True)
                tail = [*tail[-BUILD_TAIL + 1 :], line]
    except (OSError, ValueError) as error:
        raise RunFault(
            f"the build cannot be run: {getattr(error, 'strerror', None) or error}"
        ) from None
    if process.returncode:
        shown = "".join(f"\n  {line}" for line in tail)
        raise RunFault(
            f"the build ended with exit {process.returncode}, so nothing was run; its last lines:{shown}"
        )


def try_expressions(spec: Spec) -> None:
    """Raise SpecFault with the expressions that fail in every vector, before anything is launched."""
    from keen_matrix.core.oracle import oracle_functions
    from keen_matrix.core.spec.tried import mistaken_expressions

    # run here too, not in the workers alone: one that fails is told once, and not by every case
    functions = oracle_functions(spec.program.oracle)
    problems = mistaken_expressions(spec, frozenset(functions), functions)
    if problems:
        raise SpecFault(problems)


def vector_count(spec: Spec) -> int | None:
    """Return how many rows the matrices of a spec have together, without unfolding; None when that
    is not known."""
    from keen_matrix.core.vectors.counting import matrix_count

    counts = [matrix_count(spec, matrix) for matrix in spec.matrices]
    return None if any(count is None for count in counts) else sum(count or 0 for count in counts)


def refuse_too_many(spec: Spec, limit: int | None) -> None:
    """Raise Misuse when a matrix has more vectors than its limit, before anything is built."""
    from keen_matrix.core.vectors.counting import matrix_count
    from keen_matrix.core.vectors.faults import MOST_VECTORS

    for matrix in spec.matrices:
        count = matrix_count(spec, matrix)
        if count == 0 and not matrix.family:  # conditions that nothing meets: say which, and where
            from keen_matrix.core.spec.load import read_spec

            errors = [
                each for each in read_spec(spec.path, deep=True)[1] if each.severity == "error"
            ]
            raise SpecFault(
                errors
                or [Problem(path=spec.path, message=f'the matrix "{matrix.name}" has no vectors')]
            )
        most = max(limit or 0, matrix.limit or 0) or MOST_VECTORS
        if count is not None and count > most:
            raise Misuse(
                f'{spec.path}: the matrix "{matrix.name}" has {count:,} vectors, more than {most:,}; '
                f'combine = "pairs" needs far fewer, limit = {count} in the matrix or --limit {count} allows them all'
            )
