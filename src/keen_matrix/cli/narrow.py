"""`keen-matrix narrow`: a failing vector made as small as it can be while it fails the same way."""

from __future__ import annotations

import argparse
import json
from collections.abc import Mapping, Sequence
from contextlib import nullcontext
from functools import partial
from typing import TYPE_CHECKING

from keen_matrix.cli.faults import one_by_one
from keen_matrix.cli.insight import runs_of, screen_of
from keen_matrix.cli.launching import early_pool
from keen_matrix.cli.shared import JSON, add_format, add_spec_options, remark, split_ids, whole_number
from keen_matrix.cli.statuses import EXIT_FAILED, EXIT_NOT_RUN, EXIT_OK, worst_status
from keen_matrix.core import interruption, structs
from keen_matrix.core.doing import doing
from keen_matrix.core.errors import RunFault
from keen_matrix.core.launch.launchers import resolved_launch
from keen_matrix.core.model.lines import decode_record
from keen_matrix.core.model.record import PASSING, Record
from keen_matrix.core.results.journal import DEFAULT_JOURNAL
from keen_matrix.core.runs.starting.directly import made_ready
from keen_matrix.core.runs.starting.once import used_by
from keen_matrix.wording.counts import counted
from keen_matrix.wording.safe import shell_line

if TYPE_CHECKING:
    from keen_matrix.cli.console.screen import Screen
    from keen_matrix.cli.documents import NarrowedCase
    from keen_matrix.core.insight.narrow import Narrowed
    from keen_matrix.core.launch.workers.engine import WorkerPool
    from keen_matrix.core.model.case import Case
    from keen_matrix.core.model.spec import Matrix, Spec

EPILOG = """\
examples:
  keen-matrix run
  keen-matrix narrow                 one case for each cause in the last run
  keen-matrix narrow k3f9x2          this case

exit status: 0, also with nothing to narrow, 1 a case passes now, 2 wrong usage or a wrong spec, 3 no journal or no such
case, 130 interrupted
"""

#: Cases that are narrowed unless ids are given.
MOST_CASES = 8


def add_options(parser: argparse.ArgumentParser) -> None:
    """Add the options of the command."""
    add_spec_options(parser, ids="the beginnings of the ids of cases that failed")
    parser.add_argument(
        "--journal",
        metavar="FILE",
        default=DEFAULT_JOURNAL,
        help="the journal to read (default: that of the last run)",
    )
    parser.add_argument(
        "--launches",
        type=whole_number,
        default=200,
        metavar="N",
        help="the most launches to spend on one case (default 200)",
    )
    add_format(parser)


def main(options: argparse.Namespace) -> int:
    """Run the command and return the exit status."""
    with early_pool() as pool:
        return _narrow(options, pool)


def _narrow(options: argparse.Namespace, pool: WorkerPool) -> int:
    from keen_matrix.cli.documents import NarrowDocument, write_document

    screen = screen_of(options)
    ids, options.specs = split_ids(options.specs)
    runs = {spec.path: (spec, records) for spec, records in runs_of(options, screen, _to_narrow)}
    narrowing = _Narrowing(options, pool, screen, ids)
    statuses = one_by_one(list(runs), lambda path: narrowing.of_spec(*runs[path]), options)
    is_nothing = not narrowing.document and not any(statuses)
    if narrowing.gone:
        _tell_gone(narrowing.gone)
        if is_nothing:
            return EXIT_NOT_RUN
    if is_nothing and ids:
        asked = " or ".join(ids)
        raise RunFault(f"no case that failed has an id that begins with {asked}; keen-matrix run shows them")
    if is_nothing and not narrowing.is_json:
        screen.line(("no case of that run failed, so there is nothing to narrow", "good"))
    if narrowing.is_json:
        write_document(NarrowDocument(narrowing.document))
    return worst_status(statuses)


class _Narrowing:
    """Cases that are narrowed, and what is written of them."""

    def __init__(
        self, options: argparse.Namespace, pool: WorkerPool, screen: Screen, ids: Sequence[str]
    ) -> None:
        self._options, self._pool, self._screen, self._ids = options, pool, screen, ids
        self.is_json = options.format == JSON
        self.document: list[NarrowedCase] = []
        #: Ids of cases that are no longer in their specs.
        self.gone: list[str] = []
        #: What a narrowed case comes to → the id of the first that came to it.
        self._shown: dict[tuple[object, ...], str] = {}

    def of_spec(self, spec: Spec, records: Mapping[str, Record]) -> int:
        """Narrow the cases of one spec, and return the status that this comes to."""
        passed = 0
        chosen = chosen_cases(spec, records, self._ids)
        here = {case.id for _, case in chosen}
        self.gone.extend(id for id in wanted_ids(records, self._ids) if id not in here)
        spec = made_ready(spec, remark) if chosen else spec
        with used_by(spec, self._pool, remark) if chosen else nullcontext():
            for matrix, case in chosen:
                found, is_interrupted = self._narrowed(spec, matrix, case)
                passed += found.fields.verdict == "passed"
                self._write(spec, case, found)
                if is_interrupted:
                    raise KeyboardInterrupt
        return EXIT_FAILED if passed else EXIT_OK

    def _narrowed(self, spec: Spec, matrix: Matrix, case: Case) -> tuple[Narrowed, bool]:
        """Return the smallest vector, and whether the search for it was interrupted."""
        from keen_matrix.core.insight.narrow import Trials, narrowed

        launch = partial(narrowing_launcher, self._pool, spec)
        trials = Trials(spec, matrix, case, launch, self._options.launches)
        trials.at_once = self._pool.jobs
        try:
            with doing(f"narrowing {case.id[:6]}") as doing_so:
                trials.told = doing_so.told
                return narrowed(trials), False
        except KeyboardInterrupt:
            interruption.begin_ending()
            trials.found.notes.append("interrupted: this was found so far")
            return trials.found, True

    def _write(self, spec: Spec, case: Case, found: Narrowed) -> None:
        """Write what a case was narrowed to; one that comes to the same as another in a line."""
        from keen_matrix.cli.documents import narrowed_case

        first = self._shown.setdefault((spec.path, *essence_of(found)), case.id)
        is_first = not self.document
        self.document.append(narrowed_case(spec.path, case, found, block_of(found)))
        if self.is_json:
            return
        if not is_first:
            self._screen.line()
        if first != case.id and found.fields.verdict != "passed":
            place, line = (case.id[:6], "place"), shell_line(case.argv)
            self._screen.line((found.matrix.name, "strong"), "   ", place, "   ", line)
            self._screen.line(("  leads to the same call as ", "dim"), (first[:6], "place"))
        else:
            write_narrowed(self._screen, spec, case, found)


def _tell_gone(gone: Sequence[str]) -> None:
    ids = " ".join(each[:6] for each in gone[:MOST_CASES])
    more = f" and {len(gone) - MOST_CASES:,} more" if len(gone) > MOST_CASES else ""
    remark(
        f"{counted(len(gone), 'case')} of that run that failed {'is' if len(gone) == 1 else 'are'} "
        f"no longer in the spec, which has changed since then: {ids}{more}; keen-matrix run shows the "
        f"present cases"
    )


def chosen_cases(spec: Spec, records: Mapping[str, Record], ids: Sequence[str]) -> list[tuple[Matrix, Case]]:
    """Return the failing cases asked for, or one of each cause: the one with the fewest words."""
    from keen_matrix.core.vectors.unfold import unfold_matrix

    wanted = wanted_ids(records, ids)
    return [
        (matrix, case)
        for matrix in spec.matrices
        for case in unfold_matrix(spec, matrix)
        if case.id in wanted and records[case.id].matrix == matrix.name
    ]


def _to_narrow(fields: Record) -> Record | None:
    """Return a record where it did otherwise than expected: only then is there anything to
    narrow."""
    return None if fields.verdict in ("unchecked", "not-started", "blocked", *PASSING) else fields


def wanted_ids(records: Mapping[str, Record], ids: Sequence[str]) -> dict[str, None]:
    """Return the ids of the records asked for by the beginnings of their ids, or of one for each
    cause: the one with the fewest characters."""
    from keen_matrix.core.results.causes import cause_key

    if ids:
        return {id: None for id in records if id.startswith(tuple(ids))}
    by_cause: dict[object, tuple[int, str]] = {}
    for id, fields in records.items():
        key = (fields.matrix, *cause_key(fields))
        by_cause[key] = min(by_cause.get(key, (10**9, "")), (sum(map(len, fields.argv)), id))
    return {id: None for _, id in list(by_cause.values())[:MOST_CASES]}


def essence_of(found: Narrowed) -> tuple[object, ...]:
    """Return what tells a narrowed case from another: its words, what is around it, how it
    fails."""
    from keen_matrix.core.insight.narrow import failure_reason

    return (
        found.matrix.name,
        found.case.argv,
        found.case.more,
        tuple(block_of(found)[2:]),
        failure_reason(found.fields),
    )


def narrowing_launcher(pool: WorkerPool, spec: Spec, matrix: Matrix, cases: Sequence[Case]) -> list[Record]:
    """Launch cases of a matrix, which may be another than the spec's, and return their records in
    order."""
    from keen_matrix.core.structs import replace

    others = tuple(matrix if each.index == matrix.index else each for each in spec.matrices)
    changed = replace(spec, matrices=others)
    pool.plan(changed, resolved_launch(changed))
    numbered = [structs.replace(case, sequence=number) for number, case in enumerate(cases)]
    results = {result.sequence: decode_record(result.line) for result in pool.results(numbered)}
    return [results[number] for number in range(len(cases))]


def write_narrowed(screen: Screen, spec: Spec, case: Case, found: Narrowed) -> None:
    """Write the bare vector, how it was found, its shell line, and a block to paste into the
    spec."""
    from keen_matrix.cli.shown import shown_launch, surroundings_shown
    from keen_matrix.wording.failures import aspects_rows, pasted
    from keen_matrix.wording.repeating import repeat_line

    screen.line((found.matrix.name, "strong"), "   ", (case.id[:6], "place"), "   ", shell_line(case.argv))
    for step in found.steps:
        screen.line("  ", (f"{step.what:28}", "dim"), "  ", shell_line(step.words) or "no words")
    for note in found.notes:
        screen.line("  ", (note, "warn"))
    words = f"{len(found.case.argv)} of {counted(len(case.argv), 'word')} left"
    limit = "; the limit of launches was reached; --launches raises it" if found.stopped else ""
    screen.line("  ", (f"{words} after {counted(found.launches, 'launch')}{limit}", "dim"))
    if found.fields.verdict == "passed":
        return
    fields = structs.replace(found.fields, argv=found.case.argv)
    around = surroundings_shown(spec, found.matrix, fields)
    screen.rows(pasted("  ", repeat_line(shown_launch(spec), fields, around), "strong"))
    screen.rows(aspects_rows(screen, found.fields, everything=False))
    screen.line("  ", ("to save it in the spec:", "dim"))
    for line in block_of(found):
        screen.line("    ", (line, "expected"))


def block_of(found: Narrowed) -> list[str]:
    """Return a matrix with the bare vector and what it must satisfy, to be pasted into the spec."""
    words = json.dumps(
        [word.replace("{", "{{").replace("}", "}}") for word in found.case.argv], ensure_ascii=False
    )
    lines = ["[[matrix]]", f'name = "{found.case.id[:6]}, narrowed"', f"line = {words}"]
    around = found.matrix.steps[0].surroundings
    if around.stdin is not None and around.stdin.text is not None and around.stdin.text.constant is not None:
        lines.append(f"stdin = {json.dumps(around.stdin.text.constant, ensure_ascii=False)}")
    for aspect in found.fields.aspects:
        if not aspect.met and aspect.form == "is" and aspect.expected:
            value = aspect.expected
            if aspect.aspect == "exit":
                lines.append(f"expect.exit = {value if value.isdecimal() else json.dumps(value)}")
            elif aspect.aspect in ("stdout", "stderr"):
                text = json.dumps(value.replace("{", "{{").replace("}", "}}"), ensure_ascii=False)
                lines.append(f"expect.{aspect.aspect} = {text}")
    return lines
