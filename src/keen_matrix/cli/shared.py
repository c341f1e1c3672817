"""Options and helpers that several commands share."""

from __future__ import annotations

import argparse
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from fnmatch import fnmatchcase
from typing import TYPE_CHECKING

from keen_matrix.core.errors import Misuse, nearest

if TYPE_CHECKING:
    from keen_matrix.core.spec.model import Matrix, Spec
    from keen_matrix.core.vectors.case import Case

SUFFIX = ".matrix.toml"


def add_spec_options(parser: argparse.ArgumentParser) -> None:
    """Add the specs, and how output looks."""
    parser.add_argument(
        "specs",
        nargs="*",
        metavar="SPEC",
        help=f"spec files or folders of them (default: every *{SUFFIX} below here)",
    )
    parser.add_argument(
        "--color", choices=["auto", "always", "never"], default="auto",
        help="colour the output (default: on a terminal, unless NO_COLOR is set)",
    )  # fmt: skip


def add_selection_options(parser: argparse._ActionsContainer) -> None:
    """Add the choice of vectors."""
    parser.add_argument(
        "--only", action="append", default=[], metavar="PATTERN",
        help="take only vectors whose id begins so, whose matrix is named so, or that hold such a word (* and ? allowed; "
        "--only=-v "
        "for a word with a dash); "
        "may be given again",
    )  # fmt: skip


def whole_number(text: str) -> int:
    """Read an option value that must be a whole number above 0."""
    try:
        number = int(text)
    except ValueError:
        number = 0
    if number < 1:
        raise argparse.ArgumentTypeError(f"expected a whole number above 0, found {text!r}")
    return number


def percent(text: str) -> float:
    """Read an option value that is a percentage."""
    try:
        value = float(text.removesuffix("%"))
    except ValueError:
        value = -1.0
    if not 0 <= value <= 100:
        raise argparse.ArgumentTypeError(f"expected a percentage from 0 to 100, found {text!r}")
    return value


def spec_paths(given: list[str]) -> list[str]:
    """Return the spec files that the command line names. Raises Misuse when there are none."""
    if not given:
        found = list(_specs_below("."))
        if not found:
            raise Misuse(f"no *{SUFFIX} was found below this folder; name a spec, or try: keen-matrix demo")
        return found
    paths: list[str] = []
    for name in given:
        if os.path.isdir(name):
            below = list(_specs_below(name))
            if not below:
                raise Misuse(f"no *{SUFFIX} was found below {name}")
            paths += below
        elif not os.path.lexists(name):
            raise Misuse(_no_such_spec(name))
        elif _is_journal(name):
            raise Misuse(f"{name} holds results and is no spec; commands that read results take it as --journal {name}")
        else:
            paths.append(name)
    return list(dict.fromkeys(paths))


def _is_journal(name: str) -> bool:
    if not os.path.isfile(name):  # reading a pipe would take from what it holds
        return False
    try:
        with open(name, "rb") as file:
            return file.read(10) == b'{"journal"'
    except OSError:
        return False


def _no_such_spec(name: str) -> str:
    message = f"{name} does not exist"
    if os.path.exists(name + SUFFIX):
        return f"{message}; did you mean {name}{SUFFIX}?"
    folder = os.path.dirname(name) or "."
    try:
        known = {each.removesuffix(SUFFIX): each for each in os.listdir(folder)}
        hint = nearest(os.path.basename(name).removesuffix(SUFFIX), known)
    except (OSError, ValueError):
        hint = None
    return f"{message}; did you mean {os.path.normpath(os.path.join(folder, known[hint]))}?" if hint else message


def _specs_below(folder: str) -> Iterator[str]:
    for root, folders, files in os.walk(folder):
        folders[:] = sorted(each for each in folders if not each.startswith(".") and each != "node_modules")
        for name in sorted(files):
            if name.endswith(SUFFIX):
                yield os.path.normpath(os.path.join(root, name))


def selector(patterns: Iterable[str], spec: Spec) -> Callable[[Case], bool] | None:
    """Return the test that --only stands for, or None when every case is taken."""
    from keen_matrix.core.vectors.ids import ALPHABET, ID_LENGTH, SHORTEST_ID

    wanted = list(patterns)
    if not wanted:
        return None
    names = {matrix.index: matrix.name for matrix in spec.matrices}
    ids = tuple(each for each in wanted if SHORTEST_ID <= len(each) <= ID_LENGTH and set(each) <= set(ALPHABET))

    def selected(case: Case) -> bool:
        if ids and case.id.startswith(ids):
            return True
        return any(
            fnmatchcase(names[case.matrix], pattern) or any(fnmatchcase(word, pattern) for word in case.argv)
            for pattern in wanted
        )

    return selected


def counted_noun(count: int, noun: str) -> str:
    """Return a count with its noun: `1 spec`, `no errors`, `12,000 vectors`."""
    if count == 1:
        return f"1 {noun}"
    return f"{count:,} {noun}s" if count else f"no {noun}s"


def find_case(specs: Sequence[Spec], id: str) -> tuple[Spec, Matrix, Case]:
    """Return the case whose id begins so, with its spec and matrix. Raises Misuse when there is none, or several."""
    from keen_matrix.core.vectors.unfold import unfold_matrix

    found = [
        (spec, matrix, case)
        for spec in specs
        for matrix in spec.matrices
        for case in unfold_matrix(spec, matrix)
        if case.id.startswith(id)
    ]
    if not found:
        raise Misuse(f"no vector has an id that begins with {id!r}; keen-matrix unfold lists them")
    if len({case.id for _, _, case in found}) > 1:
        ids = " ".join(case.id for _, _, case in found[:6])
        raise Misuse(f"several ids begin with {id!r}: {ids}")
    return found[0]
