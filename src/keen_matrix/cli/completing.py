"""Completion in a shell: commands, options, and what only the specs of this directory know: names
of matrices, ids."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from contextlib import suppress
from typing import TYPE_CHECKING

from keen_matrix.cli.shared import spec_paths
from keen_matrix.core.errors import KeenMatrixError

if TYPE_CHECKING:
    from keen_matrix.core.model.spec import Spec

MOST_IDS = 2_000


def complete(parser: argparse.ArgumentParser) -> None:
    """Answer the shell and leave, when it asks for completions."""
    import argcomplete

    for action in _actions(parser):
        if "--only" in action.option_strings:
            action.completer = matrix_names  # type: ignore[attr-defined]
        elif action.dest == "ids":
            action.completer = ids  # type: ignore[attr-defined]
        elif action.metavar == "ID|SPEC":
            action.completer = ids_and_specs  # type: ignore[attr-defined]
        elif action.dest == "specs":
            action.completer = argcomplete.completers.FilesCompleter(["toml"])  # type: ignore[attr-defined]
    argcomplete.autocomplete(parser)


def _actions(parser: argparse.ArgumentParser) -> Iterator[argparse.Action]:
    for action in parser._actions:
        yield action
        if isinstance(action, argparse._SubParsersAction):
            for sub in action.choices.values():
                yield from _actions(sub)


def _specs() -> Iterator[Spec]:
    from keen_matrix.core.spec.kept import kept_spec

    try:
        for path in spec_paths([]):
            yield kept_spec(path)
    except KeenMatrixError:
        return


def matrix_names(prefix: str, **_: object) -> list[str]:
    """Return the names of matrices and families that begin so."""
    return [matrix.name for spec in _specs() for matrix in spec.matrices if matrix.name.startswith(prefix)]


def ids(prefix: str, **_: object) -> list[str]:
    """Return the ids of cases that begin so."""
    from itertools import islice

    from keen_matrix.core.oracle import OracleNotRun, asking, forbidden
    from keen_matrix.core.vectors.unfold import unfold

    found: list[str] = []
    for spec in _specs():
        with suppress(OracleNotRun, KeenMatrixError), asking(forbidden):  # completing runs nothing
            found += [case.id[:6] for case in islice(unfold(spec), MOST_IDS) if case.id.startswith(prefix)]
    return found


def ids_and_specs(prefix: str, **others: object) -> list[str]:
    """Return the spec files, and the ids of cases, that begin so."""
    import argcomplete

    return [*argcomplete.completers.FilesCompleter(["toml"])(prefix, **others), *ids(prefix)]
