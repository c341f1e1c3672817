"""What the insight commands share: the last run of a spec, read from its journal."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

from keen_matrix.cli.shared import JSON, add_spec_options, spec_paths, tell_run
from keen_matrix.core.errors import Misuse
from keen_matrix.core.model.record import Header, Record
from keen_matrix.core.results.journal import DEFAULT_JOURNAL

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.model.spec import Spec


def add_run_options(parser: argparse.ArgumentParser) -> None:
    """Add the specs and the journal."""
    add_spec_options(parser)
    parser.add_argument(
        "--journal",
        metavar="FILE",
        default=DEFAULT_JOURNAL,
        help="the journal to read (default: that of the last run)",
    )


def screen_of(options: argparse.Namespace) -> Screen:
    """Return where lines for people go: beside a document for programs, standard error."""
    from keen_matrix.cli.console.screen import Screen

    return Screen(sys.stderr if options.format == JSON else sys.stdout, color=options.color)


def runs_of(
    options: argparse.Namespace,
    screen: Screen,
    kept: Callable[[Record], Record | None] = lambda fields: fields,
) -> Iterator[tuple[Spec, dict[str, Record]]]:
    """Say which run is looked at, and yield each spec that the journal holds a run of, with its
    records by id.

    A journal may be larger than memory: `kept` returns what is needed of a record, None for
    nothing. Specs are those named, or all below here. Raises Misuse when there is no run of a spec
    that was named, or of any."""
    from keen_matrix.cli.specs import load_all, with_kept_grounds
    from keen_matrix.core.results.reading import cases_of

    paths = spec_paths(options.specs)
    by_spec: dict[str, dict[str, Record]] = {}
    headers: dict[str, Header] = {}
    for header, fields in cases_of([options.journal]):
        path = os.path.abspath(str(header.spec))
        headers[path] = header
        records = by_spec.setdefault(path, {})
        needed = kept(fields)
        if needed is None:
            records.pop(fields.id, None)
        else:
            records[fields.id] = needed
    found = False
    tell_run(screen, [options.journal])
    for spec in load_all(paths, None):
        path = os.path.abspath(spec.path)
        if path in by_spec:
            found, records = True, by_spec[path]
            as_then = as_run(spec, headers[path])
            yield with_kept_grounds(as_then, options.journal), records
        elif options.specs:
            raise Misuse(f"{options.journal} has no run of {spec.path}; run it first")
    if not found:
        raise Misuse(f"{options.journal} has no run of the specs below this directory; run them first")


def as_run(spec: Spec, header: Header | None) -> Spec:
    """Return a spec with the launcher or the other build of the program that a run of it was made
    with."""
    from keen_matrix.core.runs.starting.adapting import program_words
    from keen_matrix.core.structs import replace

    program = spec.program
    if header is None:
        return spec
    if header.program:
        program = replace(program, launch=program_words(header.program))
    elif header.launcher in program.launchers:
        program = replace(program, launch=program.launchers[header.launcher])
    return replace(spec, program=program)
