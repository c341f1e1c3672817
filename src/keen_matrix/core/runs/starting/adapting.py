"""Specs with another launcher, program or seed than their own."""

from __future__ import annotations

import os

from keen_matrix.core.errors import Misuse, nearest
from keen_matrix.core.expressions import Template
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.runs.options import Adaptation
from keen_matrix.core.structs import replace


def adapted(spec: Spec, asked: Adaptation) -> Spec:
    """Return a spec with the launcher, program and seed that are asked for. Raises Misuse."""
    program = spec.program
    if asked.launcher is not None and asked.program is not None:
        raise Misuse("--launcher and --program both say how to start the program; give one of them")
    if asked.launcher is not None:
        if asked.launcher not in program.launchers:
            hint = nearest(asked.launcher, program.launchers)
            known = ", ".join(program.launchers) or "none"
            more = f"; did you mean {hint}?" if hint else f"; it has {known}"
            raise Misuse(f"{spec.path} has no launcher {asked.launcher!r}{more}")
        program = replace(program, launch=program.launchers[asked.launcher])
    if asked.program is not None:
        program = replace(program, launch=program_words(asked.program))
    if asked.seed is not None:
        seeded = tuple(replace(matrix, seed=asked.seed) for matrix in spec.matrices)
        spec = replace(spec, matrices=seeded)
    return replace(spec, program=program)


def program_words(text: str) -> tuple[Template, ...]:
    """Return the launch words of --program; a word that names a file from here is made to name it
    from anywhere. Raises Misuse."""
    from keen_matrix.core.spec.compiling.tables import launch_templates

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
