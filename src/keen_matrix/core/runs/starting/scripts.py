"""The script that a program is: its text, what runs it, and the library in it that reads its
words."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence

from keen_matrix.core.launch.warm.shims import interpreter_of
from keen_matrix.core.signature.readers import READERS, Reader, Runtime, can_spell

#: Bytes of a script that are read; a larger one has too many words to try.
MOST_SOURCE = 200_000
_BY_SHEBANG: tuple[tuple[str, Runtime], ...] = (
    ("python", "python"),
    ("node", "node"),
    ("nodejs", "node"),
    ("perl", "perl"),
    ("ruby", "ruby"),
    ("bash", "shell"),
    ("dash", "shell"),
    ("ksh", "shell"),
    ("zsh", "shell"),
    ("sh", "shell"),
)


def text_of_script(launch: Sequence[str]) -> str:
    """Return the text of the script among launch words; an empty one where the program is none."""
    return next(filter(None, map(_text, launch)), "")


def _text(path: str) -> str:
    """Return the text of a file; an empty one for what is none."""
    try:
        if not os.path.isfile(path) or os.path.getsize(path) > MOST_SOURCE:
            return ""
        with open(path, "rb") as file:
            content = file.read(MOST_SOURCE)
    except OSError:
        return ""
    return "" if b"\0" in content else content.decode("utf-8", "replace")


def language_of(file: str, words: Sequence[str]) -> Runtime:
    """Return what a program is run by: told by its file and the word after it, else by the first
    line of the file."""
    told = [os.path.basename(file), *map(os.path.basename, words[:1])]
    told += map(os.path.basename, interpreter_of(file))
    for word in told:
        for name, runtime in _BY_SHEBANG:
            if word == name or (word.startswith(name) and word[len(name) :].strip(".0123456789") == ""):
                return runtime
    return "binary"


def names_reader(script: str, row: Reader) -> bool:
    """Tell whether a script names a reader."""
    return bool(row.named) and re.search(rf"\b{re.escape(row.named)}\b", script) is not None


def reader_named(script: str, runtime: Runtime, spellings: Sequence[str]) -> str:
    """Return the reader that a script names, of those of its language that have options spelt so;
    an empty text where it names none, or several. Of two that one library can be, the one whose
    switch is in the text is it: Getopt::Long bundles only when it is told to."""
    named = [
        name
        for name, row in READERS.items()
        if row.runtime == runtime and names_reader(script, row) and can_spell(spellings, row)
    ]
    if len(named) > 1:
        bundles = re.search(r"\bbundling\b", script) is not None
        named = [each for each in named if READERS[each].habits.bundling == bundles]
    return named[0] if len(named) == 1 else ""


__all__ = ["language_of", "names_reader", "reader_named", "text_of_script"]
