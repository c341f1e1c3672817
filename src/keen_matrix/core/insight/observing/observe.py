"""What a program does with the calls that its source suggests, and with those of somebody's own."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from keen_matrix.core.expressions import Template
from keen_matrix.core.insight.observing.search import (
    SAMPLE,
    CallSearch,
    TriedCall,
    candidates_of,
    chosen_rows,
    sample_text,
)
from keen_matrix.core.insight.observing.source import SourceReading, program_source, reading_of_source
from keen_matrix.core.launch.workers.engine import WorkerPool, run_in
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.record import Record
from keen_matrix.core.model.spec import Bounds, Matrix, Program, Put, Spec, Stdin, Step, Surroundings
from keen_matrix.core.notation.nodes import Sequence as Items
from keen_matrix.core.runs.grounding.asking import AskedProgram
from keen_matrix.core.runs.keeping.call_rows import CallResult
from keen_matrix.core.runs.keeping.calls import Call
from keen_matrix.core.structs import Struct

#: Seconds that a call may take.
CALL_SECONDS = 5.0


class Observation(Struct, frozen=True, kw_only=True):
    """What was seen of a program."""

    results: tuple[CallResult, ...]
    #: The text of the file that calls are given, where one that is written down has it.
    sample: str = ""
    launches: int = 0
    #: Calls that crashed, did not end, or print something else each time.
    crashed: tuple[Call, ...] = ()
    varying: tuple[Call, ...] = ()


def observe_program(
    pool: WorkerPool, program: AskedProgram, root: str, here: str, calls: Sequence[Call] = ()
) -> Observation:
    """Return what a program does; `calls` are somebody's own, which come first. `here` is where
    the program was started from. Raises RunFault when it cannot be started."""
    reading = reading_of_source(program_source(program.words, root))
    typed = [word for call in calls for word in call.words]
    sample = sample_text(reading)
    launch = partial(_launched, pool, program, here, sample)
    own = (
        [TriedCall(call, record) for call, record in zip(calls, launch(calls), strict=True)] if calls else []
    )
    search = CallSearch(launch, reading, candidates_of(reading, dict.fromkeys(typed)))
    search.tried |= {each.call: each for each in own}
    tried = search.run()
    rows = [*(each for each in own if each.is_sound), *chosen_rows(_others(tried, own), reading)]
    again = launch([each.call for each in rows])
    results = [CallResult(each.call, each.record, other) for each, other in zip(rows, again, strict=True)]
    steady = tuple(each for each in results if each.is_steady and not _is_odd(each.record))
    return Observation(
        results=steady,
        sample=sample if any(SAMPLE in each.call.words for each in steady) else "",
        launches=len(tried) + len(again),
        crashed=tuple(each.call for each in tried if not each.is_sound),
        varying=tuple(each.call for each in results if not each.is_steady),
    )


def _others(tried: Sequence[TriedCall], own: Sequence[TriedCall]) -> list[TriedCall]:
    known = {each.call for each in own}
    return [each for each in tried if each.call not in known]


def _is_odd(record: Record) -> bool:
    """Tell whether a result cannot be stated: output that is no text."""
    return record.stdout_base64 is not None or record.stderr_base64 is not None


def _launched(
    pool: WorkerPool, program: AskedProgram, here: str, sample: str, calls: Sequence[Call]
) -> list[Record]:
    """Launch calls, each in a directory of its own with the sample in it, and return their
    records."""
    inputs = list(dict.fromkeys(each.stdin for each in calls))
    spec = Spec(
        path="draft",
        here=here,
        name="draft",
        digest="",
        rules=(),
        matrices=tuple(_matrix(program, index, text, sample) for index, text in enumerate(inputs)),
        program=Program(
            launch=tuple(Template(word, literal=True) for word in program.words),
            env_from_caller=program.from_caller,
            fresh_directory=not program.in_place,
        ),
    )
    cases = [
        Case(id=f"{number:010}", matrix=inputs.index(each.stdin), argv=each.words, sequence=number)
        for number, each in enumerate(calls)
    ]
    found = {record.id: record for record in run_in(pool, cases, spec)}
    return [found[each.id] for each in cases]


def _matrix(program: AskedProgram, index: int, text: str | None, sample: str) -> Matrix:
    """Return the matrix of calls with one text of standard input."""
    sample_file = (Template(SAMPLE, literal=True), Put(text=Template(sample, literal=True)))
    around = Surroundings(
        timeout=CALL_SECONDS,
        env=tuple((name, Template(value, literal=True)) for name, value in program.env),
        # In the user's own directory nothing is put.
        files=() if program.in_place else (sample_file,),
        stdin=None if text is None else Stdin(text=Template(text, literal=True)),
    )
    step = Step(line=Items(()), surroundings=around)
    bounds = Bounds(fresh_directory=not program.in_place)
    return Matrix(
        index=index, name=f"{index}", line=Items(()), line_text="", axes={}, steps=(step,), bounds=bounds
    )


__all__ = ["Observation", "SourceReading", "observe_program"]
