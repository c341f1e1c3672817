"""`keen-matrix fill`: expectations that are left open get the actual results."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from keen_matrix.cli.console.differences import write_difference
from keen_matrix.cli.console.progress import Progress
from keen_matrix.cli.faults import one_by_one
from keen_matrix.cli.launching import early_pool
from keen_matrix.cli.shared import add_spec_options, remark, spec_paths, split_ids, text_of_spec, write_spec
from keen_matrix.cli.statuses import EXIT_FAILED, EXIT_INTERRUPTED, EXIT_OK, worst_status
from keen_matrix.core import interruption
from keen_matrix.core.errors import Misuse
from keen_matrix.wording.counts import counted

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.model.record import Record
    from keen_matrix.core.model.spec import Spec
    from keen_matrix.core.runs.keeping.filling import Filler, Target

EPILOG = """\
examples:
  keen-matrix fill fare.matrix.toml            show the results for "<fill>" and for empty cells of
                                               columns that only expectations use
  keen-matrix fill fare.matrix.toml --write    the same, and write them
  keen-matrix fill k3f9x2 --write              replace the expectations of this case

Each case is run twice; a value that differs between the two is not filled in. A recorded result may be wrong: read it.
exit status: 0 nothing is left to fill, 1 something is, 2 wrong usage or a wrong spec,
3 the program cannot be launched or no case has this id, 130 interrupted
"""
#: Of each case: what varies on its own is nothing to expect.
LAUNCHES = 2
IDS_SHOWN = 6


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_spec_options(parser, ids="cases whose expected values are replaced by the actual results")
    parser.add_argument(
        "--write", action="store_true", help="write into the spec: the results; comments are kept"
    )
    parser.add_argument(
        "--broken", action="store_true", help="also record the results of cases that crashed or timed out"
    )


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    with early_pool() as pool:
        return _filled(options, pool)


def _filled(options: argparse.Namespace, pool: WorkerPool) -> int:
    from keen_matrix.cli.console.screen import Screen

    ids, names = split_ids(options.specs)
    screen = Screen(sys.stdout, color=options.color)
    found: dict[str, tuple[Filler, list[Target]]] = {}

    def prepare(path: str) -> int:
        found[path] = _prepared(path, ids)
        return EXIT_OK

    def fill(path: str) -> int:
        return _fill(screen, *found[path], options, pool, replacing=bool(ids))

    statuses = one_by_one(spec_paths(names), prepare, options)
    if EXIT_INTERRUPTED in statuses:
        return EXIT_INTERRUPTED
    for id in ids:
        if not any(case.id.startswith(id) for _, targets in found.values() for _, case in targets):
            from keen_matrix.core.errors import RunFault

            raise RunFault(f"no case has an id that begins with {id!r}; keen-matrix unfold lists them")
    wanted = [path for path, (_, targets) in found.items() if targets]
    if not wanted and not any(statuses):
        screen.line(("nothing to fill: no expectation says <fill>", "good"))
    return worst_status([*statuses, *one_by_one(wanted, fill, options)])


def _prepared(path: str, ids: Sequence[str]) -> tuple[Filler, list[Target]]:
    """Return what fills in the expectations of a spec, and its cases that are launched for that."""
    from keen_matrix.cli.specs import with_kept_grounds
    from keen_matrix.core.results.journal import DEFAULT_JOURNAL
    from keen_matrix.core.runs.keeping.filling import Filler
    from keen_matrix.core.spec.load import load_spec
    from keen_matrix.core.vectors.unfold import unfold_matrix

    text = text_of_spec(path)
    spec = load_spec(path, text)
    filler = Filler(with_kept_grounds(spec, DEFAULT_JOURNAL) if ids else spec, text)
    if not ids:
        return filler, list(filler.open_cases())
    targets = [
        (matrix, case)
        for matrix in filler.spec.matrices
        for case in unfold_matrix(filler.spec, matrix)
        if case.id.startswith(tuple(ids))
    ]
    for id in ids:
        same = {case.id for _, case in targets if case.id.startswith(id)}
        if len(same) > 1:
            raise Misuse(f"several ids begin with {id!r}: {' '.join(sorted(same)[:6])}")
    return filler, targets


def _fill(
    screen: Screen,
    filler: Filler,
    targets: Sequence[Target],
    options: argparse.Namespace,
    pool: WorkerPool,
    *,
    replacing: bool,
) -> int:
    """Fill in the expectations of one spec, and return the exit status."""
    path = filler.spec.path
    records, missing = _records(filler.spec, targets, options.color, pool)
    for matrix, case in targets:
        if case.id in records:
            filler.take(matrix, case, records[case.id], replacing=replacing, broken=options.broken)
    changes = filler.texts(missing)
    filling = filler.filling
    for place, (before, after) in changes.items():
        name = os.path.relpath(place)
        names = (name, f"{name}, filled in")
        write_difference(screen, before.splitlines(), after.splitlines(), names)
    for why, listed in filling.told.items():
        shown = " ".join(each[:6] for each in listed[:IDS_SHOWN])
        more = " …" if len(listed) > IDS_SHOWN else ""
        screen.line(("left as it is", "warn"), f"   {why}   ", (shown + more, "place"))
    filled = counted(len(filling.filled), "case")
    screen.line((f"{path}: {filled} filled in, of {len(targets):,} looked at", "strong"))
    if missing:
        screen.line((f"interrupted: {counted(len(missing), 'case')} had not finished", "warn"))
    if changes and not options.write:
        words = ["keen-matrix", "fill", *options.specs, "--write"]
        screen.line("to write it: ", (" ".join(words), "strong"))
    elif changes:
        _write(path, changes)
        for place in changes:
            screen.line((os.path.relpath(place), "place"), " written")
    if missing:
        return EXIT_INTERRUPTED
    return EXIT_FAILED if filling.told or (changes and not options.write) else EXIT_OK


def _records(
    spec: Spec, targets: Sequence[Target], color: str, pool: WorkerPool
) -> tuple[dict[str, Record], list[Target]]:
    """Return the result of cases by their ids, and the cases of which nothing did since an
    interruption ended it."""
    wanted = [each for each in targets if not each[1].said.skipped and not each[1].fault]
    records: dict[str, Record] = {}
    try:
        for record in _launched(spec, [case for _, case in wanted], color, pool):
            records[record.id] = record
    except KeyboardInterrupt:
        missing = [each for each in wanted if each[1].id not in records]
        if not missing:
            raise
        interruption.begin_ending()
        return records, missing
    return records, []


def _launched(spec: Spec, cases: Sequence[Case], color: str, pool: WorkerPool) -> Iterable[Record]:
    from keen_matrix.core.launch.launchers import resolved_launch
    from keen_matrix.core.launch.workers.engine import Manner
    from keen_matrix.core.model.lines import decode_record
    from keen_matrix.core.runs.starting.directly import made_ready
    from keen_matrix.core.runs.starting.once import used_by

    spec = made_ready(spec, remark)
    launch = resolved_launch(spec)
    bar = Progress(len(cases), enabled=True, color=color, doing="launching")
    with used_by(spec, pool, remark), bar:
        pool.plan(spec, launch, Manner(repeat=LAUNCHES))
        for result in pool.results(iter(cases)):
            bar.step(passed=True)
            yield decode_record(result.line)


def _write(path: str, changes: dict[str, tuple[str, str]]) -> None:
    """Write what changes: the spec last, and only when it can be read with that. Raises SpecFault
    or Misuse."""
    from keen_matrix.core.files import replacing
    from keen_matrix.core.runs.keeping.filling import read_raw
    from keen_matrix.core.spec.load import load_spec

    spec = changes.get(path)
    try:
        for place, (before, after) in changes.items():
            if place == path:
                continue
            os.makedirs(os.path.dirname(place), exist_ok=True)
            if os.path.exists(place) != bool(before) or (before and read_raw(place, place) != before):
                raise Misuse(f"{place} was changed meanwhile, or exists already; it is left as it is")
            with replacing(place) as file:
                file.write(after.encode("utf-8", "surrogateescape"))
    except OSError as error:
        raise Misuse(f"{error.filename or path} cannot be written: {error.strerror}") from None
    if spec is not None:
        load_spec(path, spec[1])  # what we write must be right
        write_spec(path, *spec)
