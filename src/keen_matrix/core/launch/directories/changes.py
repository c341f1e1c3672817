"""What is done to the files of a case while its program runs, and what else happens then."""

from __future__ import annotations

import os
import shlex
from collections.abc import Mapping
from functools import partial

from keen_matrix.core.launch.directories.place import CasePlace
from keen_matrix.core.launch.directories.surroundings import (
    SurroundingsFault,
    TemplateScope,
    found_command,
    rendered_bytes,
    signal_of,
)
from keen_matrix.core.launch.process.meanwhile import Happening
from keen_matrix.core.model.spec import Meanwhile


def happening_of(
    asked: Meanwhile, case: TemplateScope, env: Mapping[str, str], place: CasePlace
) -> Happening:
    """Return what happens while a program runs, filled in for one case. Raises ExpressionFault or
    SurroundingsFault."""
    removed = [each.render(case.scope) for each in asked.remove]
    written = [name.render(case.scope) for name, _ in asked.write]
    command = (
        found_command(asked.launch, case, env, "the command of meanwhile cannot be launched")
        if asked.launch
        else None
    )
    signal = signal_of(asked.signal, case.scope) if asked.signal is not None else 0
    names = [
        *([f"write {', '.join(written)}"] if written else []),
        *([f"remove {', '.join(removed)}"] if removed else []),
        *([shlex.join(command.words)] if command else []),
        *([f"signal {asked.signal.render(case.scope)}"] if asked.signal is not None else []),
    ]
    when = f"{asked.after:g} s" if asked.after is not None else ""
    text = rendered_bytes(asked.text, case.scope) if asked.text is not None else b""
    return Happening(
        after=asked.after,
        text=text,
        name=f"{' and '.join(names)} after {when or repr(text.decode('utf-8', 'replace'))}",
        change=partial(_change, place, asked, removed, case) if written or removed else None,
        command=command,
        signal=signal,
        alone=asked.alone,
    )


def _change(place: CasePlace, asked: Meanwhile, removed: list[str], case: TemplateScope) -> str:
    """Change files now; return why that was not possible, or nothing."""
    try:
        place.change(asked.write, removed, case)
    except SurroundingsFault as fault:
        return str(fault)
    except OSError as error:
        return error.strerror or os.strerror(error.errno or 0)
    return ""
