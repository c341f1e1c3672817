"""`keen-matrix try`: one vector now."""

from __future__ import annotations

import argparse
import difflib
import os
import shlex
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from keen_matrix.cli.shared import remark, spec_paths, text_of_spec, write_spec
from keen_matrix.core.errors import Misuse

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.model.record import Record
    from keen_matrix.core.runs.trying import KeptText, Tried

EPILOG = """\
examples:
  keen-matrix try fare.matrix.toml -- Skerry Holm -n 2         as that spec would launch it
  keen-matrix try fare.matrix.toml --keep -- Skerry Holm -n 2  and written into the spec with what came
  keen-matrix try fare.matrix.toml                             a prompt: one vector after another
  keen-matrix try -- python3 fare.py Skerry Holm               without any spec

At the prompt Tab completes options and values, what the signature says stands below the line, and :help lists what else
there is. From a pipe each line is a vector. A vector is launched once, as `run` would launch it. Nothing is written but
by --keep, which says first what it will write.
exit status: 0 its expectations are met, or there are none, 1 they are not, 2 wrong usage or a wrong spec,
3 it could not be launched
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command; the words behind -- are taken before."""
    parser.add_argument(
        "specs",
        nargs="*",
        metavar="SPEC -- WORD",
        help="the spec, and behind -- the words of the vector",
    )
    parser.add_argument(
        "--keep", nargs="?", const="", metavar="NAME",
        help="write the vector into the spec with what came: as a row of a matrix of that shape, else as a matrix (of that name)",
    )  # fmt: skip
    parser.add_argument(
        "--color", choices=["auto", "always", "never"], default="auto",
        help="colour the output (default: on a terminal, unless NO_COLOR is set)",
    )  # fmt: skip


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    from keen_matrix.cli.console.screen import Screen

    words: Sequence[str] | None = options.words
    screen = Screen(sys.stdout, color=options.color)
    if words is None:
        return _prompt(screen, options)
    if not options.specs:
        return _try_program(screen, words, keep=options.keep is not None)
    paths = spec_paths(options.specs)
    if len(paths) > 1:
        raise Misuse(f"try takes one spec, and {len(paths)} were given: {' '.join(paths[:4])}")
    return _try_vector(screen, paths[0], words, options.keep)


def _prompt(screen: Screen, options: argparse.Namespace) -> int:
    """Take vectors from a prompt, or line by line from what is no terminal."""
    paths = spec_paths(options.specs)
    if options.keep is not None or len(paths) > 1:
        raise Misuse(
            "try needs the words of a vector behind --: keen-matrix try fare.matrix.toml -- Skerry Holm"
        )
    from keen_matrix.cli.prompt import prompt

    return prompt(screen, paths[0])


def _try_vector(screen: Screen, path: str, words: Sequence[str], keep: str | None) -> int:
    from keen_matrix.core.runs.trying import tried_case, with_vector

    text = text_of_spec(path)
    tried = tried_case(path, text, words)
    _write_tried(screen, tried)
    record, is_shown = _launched(screen, tried)
    screen.line()
    _write_outcome(screen, tried, record, is_shown=is_shown)
    if keep is not None:
        kept = with_vector(text, tried, record, keep)
        write_kept(screen, path, text, kept)
    return _status(record)


def _try_program(screen: Screen, words: Sequence[str], *, keep: bool) -> int:
    """Launch a program without any spec, and say how to go on."""
    from keen_matrix.core.runs.trying import spec_of_program, tried_case

    if not words:
        raise Misuse(
            "try needs the words that start a program behind --: keen-matrix try -- python3 fare.py Skerry"
        )
    if keep:
        raise Misuse(
            "--keep needs the spec to write into: keen-matrix try fare.matrix.toml --keep -- Skerry"
        )
    tried = tried_case("try.matrix.toml", spec_of_program(words), ())
    record, is_shown = _launched(screen, tried)
    screen.line()
    _write_outcome(screen, tried, record, is_shown=is_shown)
    program = (
        [each for each in words if not each.startswith("-")][:2]
        if os.path.isfile(words[-1])
        else words[:2]
    )
    screen.line()
    screen.line(
        "next: ",
        (f"keen-matrix draft -- {shlex.join(program)}", "strong"),
        ("   a first spec of it", "dim"),
    )
    return _status(record)


def _launched(screen: Screen, tried: Tried) -> tuple[Record, bool]:
    """Launch a case, its output shown as it comes; return its record, and whether any was shown."""
    from keen_matrix.cli.live import LiveStreams
    from keen_matrix.core.launch.engine import WorkerPool
    from keen_matrix.core.launch.launchers import resolved_launch
    from keen_matrix.core.runs.once import used_by

    live = LiveStreams(screen)
    screen.flush()
    with WorkerPool(1) as pool, used_by(tried.spec, pool, remark):
        pool.plan(tried.spec, resolved_launch(tried.spec), live=live.show)
        (result,) = pool.results([tried.case])
        record = result.record
    # prompts and replies, and launches one after another, are told apart once they have ended
    return record, live.has_shown and not record.dialogue and not record.steps


def _write_tried(screen: Screen, tried: Tried) -> None:
    """Write what the spec says of the vector."""
    from keen_matrix.cli.console.why import write_why
    from keen_matrix.wording.safe import shell_line

    if not tried.is_there:
        line = shell_line(tried.case.argv) or "no words"
        screen.line((tried.spec.path, "strong"), "   ", line)
    else:
        screen.line(
            ("this is ", "dim"), (tried.case.id[:6], "place"), (f" of {tried.matrix.name}", "dim")
        )
    write_why(screen, tried.spec, tried.matrix, tried.case, brief=not tried.is_there)
    screen.line()
    screen.line(("comes", "strong"))


def _write_outcome(screen: Screen, tried: Tried, record: Record, *, is_shown: bool) -> None:
    from keen_matrix.cli.replay import write_outcome

    write_outcome(screen, tried.spec, tried.matrix, record, is_shown=is_shown)


def write_kept(screen: Screen, path: str, before: str, kept: KeptText) -> None:
    """Show the change of a spec and make it. Raises Misuse when it cannot be written."""
    from keen_matrix.core.files import replacing
    from keen_matrix.core.spec.load import load_spec

    if not kept.files:
        load_spec(path, kept.text)  # what we write must be right
    folder = os.path.dirname(path)
    for name in kept.files:
        if os.path.lexists(os.path.join(folder, name)):
            raise Misuse(
                f"{os.path.join(folder, name)} is there already; give the matrix another name: --keep NAME"
            )
    screen.line()
    shown = difflib.unified_diff(
        before.splitlines(), kept.text.splitlines(), path, f"{path}, with it", lineterm="", n=1
    )
    for line in shown:
        style = {"+": "expected", "-": "found", "@": "dim"}.get(line[:1], "")
        screen.line((line, style))
    try:
        for name, content in kept.files.items():
            place = os.path.join(folder, name)
            os.makedirs(os.path.dirname(place), exist_ok=True)
            with replacing(place) as file:
                file.write(content.encode("utf-8", "surrogateescape"))
            screen.line((place, "place"), " written")
        load_spec(path, kept.text)
    except OSError as error:
        raise Misuse(f"{error.filename or path} cannot be written: {error.strerror}") from None
    write_spec(path, before, kept.text)
    screen.line((path, "place"), f" written: {kept.where}")


def _status(record: Record) -> int:
    from keen_matrix.core.model.record import PASSING

    if record.verdict == "unlaunched":
        return 3
    return 0 if record.verdict in (*PASSING, "unchecked") else 1
