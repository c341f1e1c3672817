"""Options and helpers that several commands share."""

from __future__ import annotations

import argparse
import codecs
import os
import re
import sys
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from keen_matrix.cli.faults import tell
from keen_matrix.core.errors import Misuse, RunFault, nearest
from keen_matrix.core.files import SUFFIX, open_regular
from keen_matrix.core.runs.options import Adaptation

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.model.spec import Matrix, Spec
    from keen_matrix.core.runs.options import Tags


TEXT, JSON = "text", "json"


def add_format(parser: argparse._ActionsContainer) -> None:
    """Add the choice between lines for people and JSON."""
    parser.add_argument(
        "--format",
        choices=(TEXT, JSON),
        metavar="FORMAT",
        default=TEXT,
        help="output format: text for people, or json for programs (default: text)",
    )


def add_color(parser: argparse.ArgumentParser) -> None:
    """Add the choice of colours, which every command has that writes lines for people."""
    parser.add_argument(
        "--color",
        choices=["auto", "always", "never"],
        default="auto",
        help="colour the output (default: on a terminal, unless NO_COLOR is set)",
    )
    parser.add_argument(
        "--no-color", action="store_const", const="never", dest="color", help="the same as --color never"
    )


def add_spec_options(parser: argparse.ArgumentParser, *, ids: str = "") -> None:
    """Add the specs, and how output looks. With `ids`, which says what they are for, ids of cases
    may stand among the specs."""
    parser.add_argument(
        "specs",
        nargs="*",
        metavar="ID|SPEC" if ids else "SPEC",
        help=(f"{ids}; " if ids else "")
        + f"spec files or directories of them (default: every *{SUFFIX} below here)",
    )
    add_color(parser)


def add_selection_options(parser: argparse._ActionsContainer) -> None:
    """Add the choice of vectors."""
    parser.add_argument(
        "--only",
        action="append",
        default=[],
        metavar="PATTERN",
        help="only cases whose id starts with PATTERN, whose matrix has that name, or that contain "
        "that word; * and ? are wildcards; repeatable; for a word with a leading dash write --only=-v",
    )
    parser.add_argument(
        "--tag", action="append", default=[], metavar="TAG", help="only matrices with this tag; repeatable"
    )
    parser.add_argument(
        "--not-tag", action="append", default=[], metavar="TAG", help="no matrices with this tag; repeatable"
    )


def tags_of(options: argparse.Namespace) -> Tags:
    """Return the tags that a command line chooses by."""
    from keen_matrix.core.runs.options import Tags

    return Tags(tuple(options.tag), tuple(options.not_tag))


def adaptation_of(options: argparse.Namespace) -> Adaptation:
    """Return what a command line puts instead of a spec's own launcher, program and seed."""
    return Adaptation(launcher=options.launcher, program=options.program, seed=options.seed)


def output_file(text: str) -> str | None:
    """Read where an output goes: a file, or with - standard output (POSIX, Utility Syntax Guideline
    13)."""
    return None if text == "-" else text


def whole_number(text: str) -> int:
    """Read an option value that must be a whole number above 0."""
    try:
        number = int(text)
    except ValueError:
        number = 0
    if number < 1:
        raise argparse.ArgumentTypeError(f"expected a whole number above 0, found {text!r}")
    return number


def integer(text: str) -> int:
    """Read an option value that must be a whole number of either sign."""
    try:
        return int(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"expected a whole number, found {text!r}") from None


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
            raise Misuse(
                f"no *{SUFFIX} was found below this directory; name a spec, or try: keen-matrix demo"
            )
        return found
    paths: list[str] = []
    for name in given:
        if name == "-":  # standard input (POSIX, Utility Syntax Guideline 13)
            paths.append(name)
        elif os.path.isdir(name):
            below = list(_specs_below(name))
            if not below:
                raise Misuse(f"no *{SUFFIX} was found below {name}")
            paths += below
        # A link that leads nowhere is there, and is reported as what it is when it is read.
        elif not os.path.lexists(name):
            raise Misuse(_no_such_spec(name))
        elif _is_journal(name):
            raise Misuse(
                f"{name} has results in it and is not a spec; commands that read results take it "
                f"as --journal {name}"
            )
        else:
            paths.append(name)
    # A directory and a file in it may both be named; a spec is run once.
    return list(dict.fromkeys(paths))


def split_ids(given: Sequence[str]) -> tuple[list[str], list[str]]:
    """Return the ids, or beginnings of ids, among operands, and the specs. What is there as a file
    or directory is a spec."""
    from keen_matrix.core.vectors.ids import ALPHABET, ID_LENGTH, SHORTEST_ID

    def is_id(name: str) -> bool:
        return (
            SHORTEST_ID <= len(name) <= ID_LENGTH
            and set(name) <= set(ALPHABET)
            # What is there as a file is meant as one, even if it reads like an id.
            and not os.path.lexists(name)
        )

    ids = [name for name in given if is_id(name) and not os.path.exists(name + SUFFIX)]
    return ids, [name for name in given if name not in ids]


def tell_run(screen: Screen, journals: Sequence[str]) -> None:
    """Write which run a command looks at, and that a newer one is in another journal."""
    from keen_matrix.core.results.reading import headers_of

    times = sorted(
        str(each.started)[:16].replace("T", " ")
        for path in journals
        for each in headers_of(path)
        if each.started
    )
    if not times and not any(map(os.path.exists, journals)):
        return  # whoever reads them tells that there is none
    shown = " ".join(journals[:3]) + (f" and {len(journals) - 3} more" if len(journals) > 3 else "")
    time = f"{times[0]} UTC" if times else "an unknown time"
    screen.line((f"run of {time}, in ", "dim"), (shown, "place"))
    screen.flush()
    tell_newer_run(journals)


def tell_newer_run(journals: Sequence[str]) -> None:
    """Say so on standard error when the newest run of this project stands in none of some
    journals."""
    from keen_matrix.core.results.history import DEFAULT_HISTORY, History
    from keen_matrix.core.results.reading import headers_of

    try:
        with History(DEFAULT_HISTORY) as history, history.faults_told():
            newest = history.newest()
    except RunFault:
        return
    if newest is None or newest[1] in map(os.path.abspath, journals) or not os.path.exists(newest[1]):
        return
    started = max((str(each.started) for path in journals for each in headers_of(path)), default="")
    if newest[0] > started:
        print(
            f"keen-matrix: a newer run, of {newest[0][:16].replace('T', ' ')} UTC, is in "
            f"{os.path.relpath(newest[1])}",
            file=sys.stderr,
        )


def text_of_spec(path: str) -> str:
    """Return the text of a spec that is to be changed. Raises SpecFault."""
    try:
        with open_regular(path) as file:
            return file.read().decode("utf-8-sig")
    except (OSError, UnicodeDecodeError):
        from keen_matrix.core.spec.load import load_spec

        load_spec(path)  # tells what is wrong with its place
        raise


def write_spec(path: str, before: str, after: str) -> None:
    """Put the new text of a spec instead of the old one. Raises Misuse when that was changed
    meanwhile, or cannot be written."""
    from keen_matrix.core.files import replacing

    if text_of_spec(path) != before:
        raise Misuse(f"{path} was changed meanwhile; nothing is written; run the command again")
    try:
        with open_regular(path) as old:
            mark = old.read(len(codecs.BOM_UTF8))
        # The byte order mark that an editor put in front is no part of the text, and stays.
        mark = mark if mark == codecs.BOM_UTF8 else b""
        with replacing(path) as file:
            file.write(mark + after.encode())
    except OSError as error:
        raise Misuse(f"{path} cannot be written: {error.strerror}") from None


def remark(text: str) -> None:
    """Say something that ends nothing, on standard error."""
    from keen_matrix.wording.safe import escape_lines

    tell(escape_lines(text))


def _is_journal(name: str) -> bool:
    if not os.path.isfile(name):  # reading a pipe would take from what is in it
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
    directory = os.path.dirname(name) or "."
    try:
        known = {
            each.removesuffix(SUFFIX).lower(): each for each in os.listdir(directory) if each.endswith(SUFFIX)
        }
        wanted = re.sub(r"\.(?:m\w*\.)?toml$|\.m\w*$", "", os.path.basename(name).lower())
        hint = nearest(wanted, known)
    except (OSError, ValueError):
        hint = None
    return (
        f"{message}; did you mean {os.path.normpath(os.path.join(directory, known[hint]))}?"
        if hint
        else message
    )


def _specs_below(directory: str) -> Iterator[str]:
    for root, directories, files in os.walk(directory):
        # In place, as os.walk wants it, and sorted, or the order of a run would be that of the
        # disk.
        directories[:] = sorted(
            each for each in directories if not each.startswith(".") and each != "node_modules"
        )
        for name in sorted(files):
            if name.endswith(SUFFIX):
                yield os.path.normpath(os.path.join(root, name))


def find_case(specs: Sequence[Spec], id: str) -> tuple[Spec, Matrix, Case]:
    """Return the case whose id begins so, with its spec and matrix.

    Raises RunFault when there is none, Misuse when there are several, also when two specs have the
    same case.
    """
    from keen_matrix.core.vectors.unfold import unfold_matrix

    found = [
        (spec, matrix, case)
        for spec in specs
        for matrix in spec.matrices
        for case in unfold_matrix(spec, matrix)
        if case.id.startswith(id)
    ]
    if not found:
        raise RunFault(f"no case has an id that begins with {id!r}; keen-matrix unfold lists them")
    if len({case.id for _, _, case in found}) > 1:
        ids = " ".join(case.id for _, _, case in found[:6])
        raise Misuse(f"several ids begin with {id!r}: {ids}")
    owners = list(dict.fromkeys(spec.path for spec, _, _ in found))
    if len(owners) > 1:
        raise Misuse(f"the id {found[0][2].id} is in {' and in '.join(owners)}; name the spec too")
    return found[0]
