"""Specs made ready for a run: read, adapted, counted, built, their programs looked up."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Sequence
from typing import NamedTuple

from keen_matrix.core.errors import (
    ExpressionFault,
    KeenMatrixError,
    Misuse,
    NotationFault,
    Problem,
    RunFault,
    SpecFault,
)
from keen_matrix.core.launch.launchers import ResolvedLaunch, check_launchers, resolved_launch
from keen_matrix.core.model.lookups import stamp
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.results.journal import FAULT_KEPT, Journal, bare_header
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.options import RunOptions
from keen_matrix.core.runs.starting.adapting import adapted
from keen_matrix.core.runs.starting.building import build
from keen_matrix.core.runs.starting.directly import directly
from keen_matrix.core.spec.kept import kept_spec


class Ready(NamedTuple):
    """A spec that can be run, and how its program starts."""

    spec: Spec
    launch: ResolvedLaunch


class Prepared(NamedTuple):
    """The specs that can be run, and why the others cannot."""

    ready: list[Ready]
    faults: list[KeenMatrixError]
    #: Seconds that builds took.
    building: float = 0.0


def prepare(paths: Sequence[str], options: RunOptions, journal: Journal, watch: RunWatch) -> Prepared:
    """Make specs ready. One that cannot be run ends nothing: it is reported, and noted in the
    journal, from which reports are made."""
    ready: list[Ready] = []
    faults: list[KeenMatrixError] = []
    building = Building(watch)
    for path in paths:
        try:
            ready.append(_made_ready(path, options, building))
        except (SpecFault, Misuse, ExpressionFault, NotationFault, RunFault) as fault:
            watch.refused(path, fault)
            faults.append(fault)
            # Reports are made of the journal: a spec that could not be run must not look as if it
            # had not been asked for.
            told = bare_header(path, options.launching.jobs)
            told.fault = str(fault)[:FAULT_KEPT]
            journal.write_line(told)
    return Prepared(ready, faults, building.seconds)


class Building:
    """Runs builds, and counts the seconds that they take."""

    def __init__(self, watch: RunWatch) -> None:
        self._watch, self.seconds = watch, 0.0

    def build(self, spec: Spec) -> None:
        """Run the build command of a spec. Raises RunFault when it fails."""
        began = time.monotonic()
        try:
            build(spec, self._watch)
        finally:
            self.seconds += time.monotonic() - began


def _made_ready(path: str, options: RunOptions, building: Building) -> Ready:
    spec = directly(adapted(kept_spec(path), options.adaptation))
    if options.resume:
        _refuse_changed(spec, options.journal)
    # Before the build: a spec with too many vectors is refused at once, and not after minutes.
    check_prepared(spec, options.choice.limit)
    if spec.program.build:
        building.build(spec)
    launch = resolved_launch(spec)
    check_launchers(spec, launch)
    return Ready(spec, launch)


def load_ahead(paths: Sequence[str], limit: int | None) -> None:
    """Load what a run of some specs needs, so that it is there when the run begins. What is wrong
    with them is reported then."""
    from keen_matrix.core.results import budget, compare, kept_grounds  # noqa: F401
    from keen_matrix.core.vectors.unfold import unfold

    for path in paths:
        with contextlib.suppress(KeenMatrixError, OSError):
            spec = kept_spec(path)
            check_prepared(spec, limit)
            next(iter(unfold(spec)), None)


def _refuse_changed(spec: Spec, journal: str) -> None:
    """Raise Misuse when a run is to go on with a spec that has changed since."""
    from keen_matrix.core.results.reading import headers_of

    for fields in headers_of(journal):
        if fields.spec == spec.path and fields.spec_digest not in ("", spec.digest):
            raise Misuse(f"{spec.path} has changed since the run in {journal}; run it again")


#: Editions of specs that were found right in this process.
_checked: set[tuple[object, ...]] = set()


def check_prepared(spec: Spec, limit: int | None) -> None:
    """Raise SpecFault or Misuse when a spec cannot be run whatever the program does; once for each
    edition of its text, its tables and its oracle."""
    beside = [*spec.parts.tables, *filter(None, [spec.program.oracle])]
    # A watched run checks the same text once a round; what has not changed was found right.
    edition = (spec.path, spec.digest, spec.seed, limit, repr(spec.program.launch), *map(stamp, beside))
    if edition not in _checked:
        refuse_too_many(spec, limit)
        try_expressions(spec)
        _checked.add(edition)


def try_expressions(spec: Spec) -> None:
    """Raise SpecFault with the expressions that fail in every vector, before anything is
    launched."""
    from keen_matrix.core.oracle import oracle_functions
    from keen_matrix.core.spec.tried import mistaken_expressions

    # run here too, not in the workers alone: one that fails is reported once, and not by every case
    functions = oracle_functions(spec.program.oracle)
    problems = mistaken_expressions(spec, frozenset(functions), functions)
    if problems:
        raise SpecFault(problems)


def vector_count(spec: Spec) -> int | None:
    """Return how many rows the matrices of a spec have together, without unfolding; None when that
    is not known."""
    from keen_matrix.core.vectors.counting import matrix_count

    counts = [matrix_count(spec, matrix) for matrix in spec.matrices]
    return None if any(count is None for count in counts) else sum(count or 0 for count in counts)


def refuse_too_many(spec: Spec, limit: int | None) -> None:
    """Raise Misuse when a matrix has more vectors than its limit, before anything is built."""
    from keen_matrix.core.vectors.counting import matrix_count
    from keen_matrix.core.vectors.faults import MOST_VECTORS

    for matrix in spec.matrices:
        allowed = max(limit or 0, matrix.bounds.limit or 0)
        if matrix.family and not allowed:
            continue  # it has a limit of its own, far below; to make it only to count it takes long
        count = matrix_count(spec, matrix)
        if count == 0 and not matrix.family:  # conditions that nothing meets: say which, and where
            from keen_matrix.core.spec.load import read_spec

            errors = [each for each in read_spec(spec.path, deep=True)[1] if each.severity == "error"]
            nothing = f'the matrix "{matrix.name}" has no cases'
            raise SpecFault(errors or [Problem(path=spec.path, message=nothing)])
        most = allowed or MOST_VECTORS
        if count is not None and count > most:
            raise Misuse(
                f'{spec.path}: the matrix "{matrix.name}" has {count:,} cases, more than {most:,}; '
                f'combine = "pairs" needs far fewer, limit = {count} in the matrix or --limit '
                f"{count} allows them all"
            )
