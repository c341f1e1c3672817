"""How a launch is shown as something that a person could type: its words and its surroundings."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from keen_matrix.core.errors import RunFault

if TYPE_CHECKING:
    from keen_matrix.core.expressions import Scope
    from keen_matrix.core.model.record import CaseFields
    from keen_matrix.core.model.spec import Matrix, Spec, Stdin
    from keen_matrix.wording.repeating import AroundShown


def shown_launch(spec: Spec) -> list[str]:
    """Return the launch words as a person would type them from here."""
    from keen_matrix.core.expressions import Scope

    here = os.path.relpath(spec.here)
    words: list[str] = []
    for template in spec.program.launch:
        word = template.render(Scope({"here": spec.here}))
        near = os.path.normpath(template.render(Scope({"here": here})))
        if template.constant is not None and word.startswith(os.getcwd() + os.sep):  # a file of --program
            near = os.path.relpath(word)
        shorter = near != word and os.path.exists(near) and len(near) < len(word)
        words.append((near if os.sep in near or words else f".{os.sep}{near}") if shorter else word)
    return words


def _put_stdin(shown: AroundShown, stdin: Stdin, scope: Scope, here: str) -> None:
    """Put in what stands for standard input in a shell line: a text, a file, a command line, or
    that it is closed."""
    from keen_matrix.wording.safe import exact_line, is_written_whole, shell_line

    if stdin.closed:
        shown.closed = True
    elif stdin.file is not None:
        shown.file = os.path.normpath(os.path.join(here, stdin.file.render(scope)))
    elif stdin.chain:
        commands = [[word.render(scope) for word in words] for words in stdin.chain]
        exact = all(is_written_whole(word) for words in commands for word in words)
        shown.command = " | ".join((exact_line if exact else shell_line)(words) for words in commands)
        shown.inexact = not exact
    elif stdin.text is not None:
        shown.stdin = stdin.text.render(scope)


def surroundings_shown(spec: Spec, matrix: Matrix, fields: CaseFields) -> AroundShown:
    """Return the environment, standard input and files that a case of a matrix had, for the line
    that repeats it."""
    from keen_matrix.core.errors import ExpressionFault
    from keen_matrix.core.launch.directories.surroundings import replies_of
    from keen_matrix.core.model.case import case_scope
    from keen_matrix.core.oracle import named_functions
    from keen_matrix.wording.repeating import AroundShown, answering
    from keen_matrix.wording.safe import quoted

    shown = AroundShown()
    try:
        scope = case_scope(
            fields.values, tuple(fields.argv), fields.id, spec.here, named_functions(spec.program.oracle)
        )
        around = matrix.steps[0].surroundings
        shown.env = {name: None if each is None else each.render(scope) for name, each in around.env}
        shown.files = [name.render(scope) for name, _ in around.files]
        typed = around.stdin.text if around.stdin is not None else None
        if around.terminal is not None and not around.terminal.stdin_apart and typed is not None:
            shown.notes.append(f"typing {quoted(typed.render(scope), 60)}")
        elif around.stdin is not None:
            _put_stdin(shown, around.stdin, scope, os.path.relpath(spec.here))
        shown.notes += [
            note
            for note, there in (("on a terminal", around.terminal), ("until it is stopped", around.stop))
            if there
        ]
        if around.dialogue:
            replies = [each for asked in around.dialogue for each in replies_of(asked, scope)]
            shown.notes.append(answering(replies))
    except (ExpressionFault, RunFault):
        pass
    return shown
