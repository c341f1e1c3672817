"""Specs that calls are written into, and specs that are begun with calls."""

from __future__ import annotations

import os
from collections.abc import Mapping
from typing import TYPE_CHECKING

from keen_matrix.cli.console.differences import write_difference
from keen_matrix.cli.shared import write_spec
from keen_matrix.core.errors import Misuse
from keen_matrix.core.runs.keeping.kept_texts import is_free
from keen_matrix.wording.safe import shell_line

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.runs.keeping.trying import KeptText


def write_kept(screen: Screen, path: str, before: str, kept: KeptText) -> None:
    """Show the change of a spec and make it. Raises Misuse when it cannot be written."""
    from keen_matrix.core.spec.load import load_spec

    if not kept.files:
        load_spec(path, kept.text)  # what we write must be right
    directory = os.path.dirname(path)
    _refuse_taken(directory, kept.files)
    screen.line()
    names = (path, f"{path}, with it")
    write_difference(screen, before.splitlines(), kept.text.splitlines(), names)
    try:
        _write_files(screen, directory, kept.files)
        load_spec(path, kept.text)
    except OSError as error:
        raise Misuse(f"{error.filename or path} cannot be written: {error.strerror}") from None
    write_spec(path, before, kept.text)
    screen.line((path, "place"), f" written: {kept.where}")


def refuse_existing(target: str) -> None:
    """Raise Misuse where a new spec would replace something."""
    if os.path.lexists(target):
        raise Misuse(
            f"{target} cannot be written: it exists already; --new begins a spec, and "
            f"keen-matrix try {target} --write adds to one"
        )


def _refuse_taken(directory: str, files: Mapping[str, str]) -> None:
    """Raise Misuse where a file that a spec needs has become something else meanwhile."""
    for name, text in files.items():
        path = os.path.join(directory, name)
        if not is_free(path, text):
            raise Misuse(f"{path} cannot be written: something else is there")


def begin_spec(screen: Screen, target: str, text: str, files: Mapping[str, str]) -> None:
    """Write a new spec and the files that it needs, over none that is there. Raises Misuse."""
    from keen_matrix.core.files import replacing
    from keen_matrix.core.spec.load import load_spec

    directory = os.path.dirname(target)
    refuse_existing(target)
    _refuse_taken(directory, files)
    screen.line()
    try:
        if directory:
            os.makedirs(directory, exist_ok=True)
        _write_files(screen, directory, files)
        load_spec(target, text)
        with replacing(target) as file:
            file.write(text.encode("utf-8", "surrogateescape"))
    except OSError as error:
        raise Misuse(f"{error.filename or target} cannot be written: {error.strerror}") from None
    run = shell_line(["keen-matrix", "run", target])
    screen.line((target, "place"), " written; run it: ", (run, "strong"))


def _places(directory: str, files: Mapping[str, str]) -> list[str]:
    return [os.path.join(directory, name) for name in files]


def _write_files(screen: Screen, directory: str, files: Mapping[str, str]) -> None:
    """Write the files that a spec needs beside it. Raises OSError."""
    from keen_matrix.core.files import replacing

    for place, content in zip(_places(directory, files), files.values(), strict=True):
        os.makedirs(os.path.dirname(place), exist_ok=True)
        with replacing(place) as file:
            file.write(content.encode("utf-8", "surrogateescape"))
        screen.line((place, "place"), " written")
