"""How a spec says that a program is started: the keys of its [program] table, with files named from
the directory of the spec."""

from __future__ import annotations

import os
from collections.abc import Sequence

from keen_matrix.core.launch.runners import FoundProgram, started_by
from keen_matrix.core.launch.runners.base import BUILT, run_in_directory
from keen_matrix.core.spec.editing import literal, toml_text, toml_words

#: What a word may not have that is part of a launch text, which is split at blanks.
_APART = set(" \t\n'\"\\")


def started_for(words: Sequence[str], directory: str) -> FoundProgram:
    """Return how words start a program that are typed here, for a spec in a directory."""
    return started_by(words, os.getcwd(), os.path.join(os.path.abspath(directory or "."), BUILT))


def program_lines(started: FoundProgram, directory: str) -> list[str]:
    """Return the keys of [program] for a spec in a directory."""
    here = os.path.abspath(directory or ".")
    lines = [f"launch = {words_text(started.launch, here, started.root)}"]
    if started.build:
        build = run_in_directory(started.build, started.root, here)
        lines.append(f"build = {words_text(build, here, started.root)}")
    lines += [
        f"env.{name} = {toml_text(from_here(value, here, started.root))}" for name, value in started.env
    ]
    if started.from_caller:
        names = ", ".join(map(toml_text, started.from_caller))
        lines.append(f"env-from-caller = [{names}]")
    return lines


def absolute_lines(started: FoundProgram) -> list[str]:
    """Return the keys of [program] with files by absolute paths: for a spec that nobody keeps."""
    lines = [f"launch = {toml_words(started.launch)}"]
    if started.build:
        lines.append(f"build = {toml_words(run_in_directory(started.build, started.root))}")
    lines += [f"env.{name} = {toml_text(literal(value))}" for name, value in started.env]
    if started.from_caller:
        lines.append(f"env-from-caller = [{', '.join(map(toml_text, started.from_caller))}]")
    return lines


def words_text(words: Sequence[str], here: str, root: str = "") -> str:
    """Return words as a text of TOML, or as a list where a text would split them otherwise."""
    made = [from_here(each, here, root) for each in words]
    # An interpreter that is found in PATH is named as it was typed.
    if all(each and not _APART & {*each} for each in made):
        return toml_text(" ".join(made))
    return f"[{', '.join(map(toml_text, made))}]"


def from_here(word: str, here: str, root: str = "") -> str:
    """Return a word as a template, with what is in the directory of the spec, in that of the
    project, or where it was typed, named from the spec."""
    bases = [here, *filter(None, [root]), os.getcwd()]
    for base in bases:
        if len(base) > 1 and (word == base or word.startswith(base + os.sep)):
            relative = os.path.relpath(word, here)
            return "{here}" if relative == "." else "{here}/" + literal(relative)
    text = literal(word)
    for base in bases:
        if len(base) > 1:
            relative = os.path.relpath(base, here)
            text = text.replace(
                literal(base) + os.sep, "{here}/" + ("" if relative == "." else relative + os.sep)
            )
    return text
