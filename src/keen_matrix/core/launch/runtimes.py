"""Which runtime a launch starts: told by its name, or by the first line of a script."""

from __future__ import annotations

import os
import re

#: Programs that run the script which their launch words name first.
INTERPRETERS = re.compile(
    r"(?:python|pypy|perl|ruby|node|nodejs|deno|bun|php|lua|tclsh|Rscript|bash|dash|ksh|zsh|sh|mono)[\d.]*"
)
FIRST_LINE = 512


def script_words(file: str) -> list[str]:
    """Return the words of a script's first line after its `#!`, an `env` left out; none of what is
    no script."""
    try:
        with open(file, "rb") as script:
            first = script.readline(FIRST_LINE).decode("utf-8", "replace")
    except OSError:
        return []
    words = first[2:].split() if first.startswith("#!") else []
    if words and os.path.basename(words[0]) == "env":
        words = [each for each in words[1:] if each != "-S"]
    return words


def runtime_name(file: str, word: str) -> str:
    """Return the name of the program that runs what a launch starts: that of its first word, or of
    the runtime that the first line of a script names."""
    name = os.path.basename(word)
    if INTERPRETERS.fullmatch(name):
        return name
    words = script_words(file)
    return os.path.basename(words[0]) if words else name
