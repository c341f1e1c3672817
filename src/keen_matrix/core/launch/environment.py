"""The clean environment of a case, and where its program is found."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable, Mapping

#: What every case finds in its environment, so that the same vector prints the same everywhere.
FIXED = {"LC_ALL": "C.UTF-8", "TZ": "UTC", "COLUMNS": "80", "TERM": "dumb", "NO_COLOR": "1"}


def base_environment(inherit: Iterable[str], outer: Mapping[str, str]) -> dict[str, str]:
    """Return the environment of every case except for HOME, TMPDIR and what the spec adds."""
    return {**FIXED, **{name: outer[name] for name in inherit if name in outer}}


#: Where node (22.1 and later) keeps what it compiles ("Module compile cache" in node's
#: documentation of node:module); older ones pass it over.
COMPILE_CACHE = "NODE_COMPILE_CACHE"
NODE = ("node", "nodejs")


def own_variables(runtime: str, changes: Mapping[str, str | None], root: str) -> dict[str, str | None]:
    """Return the variables that every launch of a run has beside those of the spec: what a launcher
    that is passed by would set, and where node keeps what it compiles, for as long as the run
    lasts."""
    own = {COMPILE_CACHE: os.path.join(root, "compiled")} if runtime in NODE else {}
    return {**own, **changes}


def find_program(
    word: str, path: str | None, here: str, directory: str | None = None
) -> tuple[str, str | None]:
    """Return the file that a launch's first word names, and None or why it cannot be started.

    A name without a slash is looked up in the case's own PATH (POSIX, 8.3), any other is taken as
    it stands. A relative path is looked up in the launch's `directory`, where one is given: an
    earlier step may have made it there.
    """
    if "\0" in word:
        return word, "a word cannot contain a NUL"
    if os.sep not in word:
        found = shutil.which(word, path=path or os.defpath)
        return (found, None) if found else (word, f'no program "{word}" was found in PATH')
    if not os.path.isabs(word) and directory is not None:
        made = os.path.join(directory, word)
        if os.path.lexists(made):
            return find_program(made, path, here)
    if not os.path.isabs(word):
        beside = os.path.join(here, word)
        hint = (
            f'; for the file beside the spec write "{{here}}/{os.path.normpath(word)}"'
            if os.path.exists(beside)
            else ""
        )
        return (word, f'"{word}" is a relative path, but each case runs in a directory of its own{hint}')
    if os.path.isdir(word):
        return word, f"{word} is a directory"
    if not os.path.exists(word):
        return word, f"{word} does not exist"
    if not os.access(word, os.X_OK):
        return word, f'{word} is not executable; run it through its interpreter, or "chmod +x" it'
    return word, None
