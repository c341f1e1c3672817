"""A vector that is written into a spec: its change is shown, and made."""

from __future__ import annotations

import os
from typing import TYPE_CHECKING

from keen_matrix.cli.console.differences import write_difference
from keen_matrix.cli.shared import write_spec
from keen_matrix.core.errors import Misuse

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.runs.keeping.trying import KeptText


def write_kept(screen: Screen, path: str, before: str, kept: KeptText) -> None:
    """Show the change of a spec and make it. Raises Misuse when it cannot be written."""
    from keen_matrix.core.files import replacing
    from keen_matrix.core.spec.load import load_spec

    if not kept.files:
        load_spec(path, kept.text)  # what we write must be right
    directory = os.path.dirname(path)
    for name in kept.files:
        if os.path.lexists(os.path.join(directory, name)):
            raise Misuse(
                f"{os.path.join(directory, name)} exists already; give the matrix another name: --write NAME"
            )
    screen.line()
    names = (path, f"{path}, with it")
    write_difference(screen, before.splitlines(), kept.text.splitlines(), names)
    try:
        for name, content in kept.files.items():
            place = os.path.join(directory, name)
            os.makedirs(os.path.dirname(place), exist_ok=True)
            with replacing(place) as file:
                file.write(content.encode("utf-8", "surrogateescape"))
            screen.line((place, "place"), " written")
        load_spec(path, kept.text)
    except OSError as error:
        raise Misuse(f"{error.filename or path} cannot be written: {error.strerror}") from None
    write_spec(path, before, kept.text)
    screen.line((path, "place"), f" written: {kept.where}")
