"""A shell script that launches one case by hand: its directory, files, environment, standard
input, words."""

from __future__ import annotations

import base64
import os
import shlex
from collections.abc import Iterator
from typing import TYPE_CHECKING, NamedTuple

from keen_matrix.core.expressions import Scope
from keen_matrix.core.launch.directories.surroundings import replies_of
from keen_matrix.core.launch.environment import base_environment
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.model.case import Case, case_scope
from keen_matrix.core.oracle import named_functions
from keen_matrix.core.runs.starting.directly import directly
from keen_matrix.wording.safe import quoted

if TYPE_CHECKING:
    from keen_matrix.core.model.spec import Matrix, Put, Spec, Stdin, Surroundings

_HEAD = """\
#!/bin/sh
# One case of {spec}, matrix "{matrix}", as Keen Matrix launches it ({id}).
{notes}set -eu
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir "$work/dir" "$work/home" "$work/tmp"
cd "$work/dir"
"""


#: Stands in every script: by it a later one knows an earlier one that it may replace.
MARK = b", as Keen Matrix launches it ("


class ByHand(NamedTuple):
    """How a script differs that connects the program to whoever runs it."""

    #: Words of another program that starts it, such as a debugger's.
    under: tuple[str, ...] = ()


def pasted_script(spec: Spec, matrix: Matrix, case: Case, by_hand: ByHand | None = None) -> str:
    """Return the script. It exits with the last launch's exit code. With `by_hand` the program gets
    the standard streams and the terminal of whoever runs it."""
    scope = case_scope(
        case.named, case.argv, case.id, spec.here, named_functions(spec.program.oracle), case.standing
    )
    spec = directly(spec)
    launch = resolved_launch(spec)
    around = matrix.steps[0].surroundings
    notes = "".join(
        f"# {text}\n"
        for text, there in (
            ("Keen Matrix runs it on a terminal: run this script on one.", around.terminal),
            ("Keen Matrix answers its prompts: answer them yourself.", around.dialogue),
            ("Keen Matrix ends it with a signal: stop it yourself.", around.stop),
        )
        if there
    )
    lines = [
        _HEAD.format(
            spec=_plain(os.path.basename(spec.path)), matrix=_plain(matrix.name), id=case.id, notes=notes
        )
    ]
    lines += _files(around, scope, spec.here)
    if not matrix.bounds.fresh_directory:
        lines.append(f"cd {shlex.quote(spec.here)}\n")
    vectors = [case.argv, *(() if case.relation is not None else case.more)]
    if len(vectors) > 1:
        lines.append("set +e   # the next step is launched whatever this one exits with\n")
    for number, words in enumerate(vectors):
        step = matrix.steps[min(number, len(matrix.steps) - 1)].surroundings
        own = [] if number in case.others else launch.words
        line = _launch(spec, step, [*own, *words], scope, by_hand)
        if step.start_in is not None:
            line = f"(cd {shlex.quote(step.start_in.render(scope))}\n{line})\n"
        lines.append(line)
    return "".join(lines)


def _plain(text: str) -> str:
    return "".join(character if character.isprintable() else "?" for character in text)


def _launch(spec: Spec, around: Surroundings, words: list[str], scope: Scope, by_hand: ByHand | None) -> str:
    env = base_environment(spec.program.env_from_caller, os.environ)
    for name, template in around.env:
        if template is None:
            env.pop(name, None)
        else:
            env[name] = template.render(scope)
    if by_hand is not None:
        words = [*by_hand.under, *words]
        # the terminal is a real one
        env |= {name: os.environ[name] for name in ("TERM", "COLUMNS", "LINES") if name in os.environ}
    pairs = [shlex.quote(f"{name}={value}") for name, value in sorted(env.items())]
    prefix = " ".join(['HOME="$work/home"', 'TMPDIR="$work/tmp"', *pairs])
    line = f"env -i {prefix} \\\n  {' '.join(map(shlex.quote, words))}"
    if by_hand is not None:
        return f"{line}\n"
    on_screen = around.terminal is not None and not around.terminal.stdin_apart
    if on_screen or (around.dialogue and around.stdin is None):
        # standard input is that of who runs the script, and types
        typed = around.stdin.text if around.stdin is not None else None
        told = f"# type: {quoted(typed.render(scope))}\n" if typed is not None else ""
        told += "".join(
            f"# {_plain(each.prompt.render(scope))} is answered with: {_plain(reply)}\n"
            for each in around.dialogue
            for reply in replies_of(each, scope)
        )
        return f"{told}{line}\n"
    return _fed(around.stdin, line, scope, spec.here) + "\n"


def _fed(stdin: Stdin | None, line: str, scope: Scope, here: str) -> str:
    if stdin is None:
        return f"{line} < /dev/null"
    if stdin.closed:
        return f"{line} <&-"
    if stdin.silent:
        return f"sleep 60 | {line}   # standard input stays open and silent"
    if stdin.file is not None:
        return f"{line} < {shlex.quote(os.path.join(here, stdin.file.render(scope)))}"
    if stdin.chain:
        feeding = " | ".join(
            " ".join(shlex.quote(word.render(scope)) for word in words) for words in stdin.chain
        )
        return f"{feeding} | {line}"
    text = stdin.text.render(scope) if stdin.text is not None else ""
    return f"{_printed(text)} | {line}" if text else f"{line} < /dev/null"


def _printed(text: str) -> str:
    """Return the command that prints a text: a word cannot contain a NUL of a shell's."""
    if "\0" not in text:
        return f"printf %s {shlex.quote(text)}"
    return f"printf %s {base64.b64encode(text.encode('utf-8', 'surrogateescape')).decode()} | base64 -d"


def _files(around: Surroundings, scope: Scope, here: str) -> Iterator[str]:
    for template, put in around.files:
        name = template.render(scope)
        path = shlex.quote(name)
        if os.path.dirname(name):
            yield f"mkdir -p {shlex.quote(os.path.dirname(name))}\n"
        yield _put(put, path, scope, here)
        if put.mode is not None:
            yield f"chmod {put.mode:o} {path}\n"


def _put(put: Put, path: str, scope: Scope, here: str) -> str:
    if put.directory:
        return f"mkdir -p {path}\n"
    if put.link is not None:
        return f"ln -s {shlex.quote(put.link.render(scope))} {path}\n"
    if put.copy is not None:
        return f"cp -r {shlex.quote(os.path.join(here, put.copy.render(scope)))} {path}\n"
    if put.data is not None:
        return f"printf %s {shlex.quote(base64.b64encode(put.data).decode())} | base64 -d > {path}\n"
    return f"{_printed(put.text.render(scope) if put.text is not None else '')} > {path}\n"
