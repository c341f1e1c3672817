"""Controls as they are launched: each accepted vector once, and what the program did with it."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

from keen_matrix.core.expect.naming import without_usage
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.warm.keepers import WarmPlan
from keen_matrix.core.launch.workers.engine import Manner, WorkerPool
from keen_matrix.core.model.case import Case, Standing
from keen_matrix.core.model.lines import decode_record
from keen_matrix.core.model.record import BROKEN, Record
from keen_matrix.core.model.spec import Matrix, Spec, Stdin
from keen_matrix.core.results.causes import answer_of
from keen_matrix.core.signature.examples import steps_before
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.structs import Struct, replace
from keen_matrix.core.vectors.derived import standing_of
from keen_matrix.core.vectors.ids import case_id

#: Characters of a message that are looked through for what it asks for.
SAID_LENGTH = 1_000
#: Aspects that tell whether a vector was accepted; others tell whether it did right.
PROGRAMS_WORD = ("exit", "signal", "crash")


class Answer(Struct, frozen=True):
    """What a program did with a control."""

    #: Whether it was accepted.
    works: bool
    #: How it ended, and what it said, in a line, where it was not.
    text: str
    #: All that it said, up to a length.
    said: str
    record: Record


def is_accepted(record: Record) -> bool:
    """Tell whether a program took a vector: it ended as the spec expects of accepted ones, with 0
    where the spec says nothing of exits."""
    if record.verdict in BROKEN:
        return False
    if any(each.aspect in PROGRAMS_WORD for each in record.unmet):
        return False
    says = any(each.aspect in ("exit", "signal") for each in record.aspects)
    return says or record.exit == 0


def has_waited(record: Record) -> bool:
    """Tell whether a program waited for standard input on which nothing came."""
    return any(each.form == "waits" for each in record.aspects)


class Allowance(Struct, frozen=True):
    """What experiments may still do, after so many launches."""

    spent: int
    most: float

    def covers(self, other: Allowance) -> bool:
        """Tell whether it allows all that another one does, with nothing launched between."""
        return self.spent == other.spent and self.most >= other.most


class OutOfLaunches(Exception):
    """All launches that were allowed are used up."""


#: Launches that are made before it is seen whether more are allowed.
LOT = 32
#: Launches that one counts for which took its whole time.
HUNG_COST = 10
#: Seconds that a launch is waited for at least where launches are counted, and how many times as
#: long as the first ones took.
LEAST_PATIENCE, PATIENCE = 2.0, 30


class Experiments:
    """Launches the controls of one spec, each vector once, and keeps what came. `told` is called
    with the number of launches after each.

    OutOfLaunches is raised before more launches are made than `most`, which may be changed. No
    clock decides what is launched, so that the same program on a busy machine comes to the same.
    """

    def __init__(
        self,
        spec: Spec,
        resolved: ResolvedLaunch,
        pool: WorkerPool,
        told: Callable[[int], object],
        most: int | None = None,
    ) -> None:
        matrices = () if spec.controls is None else (spec.controls, _silent(spec.controls))
        #: What is launched: the spec's own controls, and the same with nothing on standard input.
        self.spec = replace(spec, matrices=matrices, grounds=None)
        #: How the program is started.
        self.resolved = resolved
        self._pool, self._told = pool, told
        around = None if spec.controls is None else spec.controls.steps[0].surroundings
        # how long a launch is waited for changes nothing of what came
        around = None if around is None else replace(around, timeout=math.inf)
        self._around = around
        #: What vectors have around and before them → the result of each.
        self._known_by: dict[object, dict[Words, Answer]] = {self._what_precedes: {}}
        self._known = self._known_by[self._what_precedes]
        #: Which of the plans of the pool is ours, since others share it, its patience and
        #: warmth.
        self._planned_as: tuple[int, float | None, WarmPlan | None] | None = None
        self.most = most
        #: Launches that were made, and what they count: one that timed out counts several.
        self.launches = self.spent = 0
        self._patience: float | None = None
        #: How they are launched warm; None where they are not.
        self.warm: WarmPlan | None = None

    def go_on(self, before: Experiments) -> None:
        """Go on where others ended: their launches count. The result of them too, of vectors that
        have the same around them: these come to the same, whatever else the spec says by now."""
        self.launches, self.spent, self._patience = before.launches, before.spent, before._patience
        self.warm = before.warm
        self._known_by = before._known_by
        self._known = self._known_by.setdefault(self._what_precedes, {})

    @property
    def _what_precedes(self) -> object:
        """What vectors have around them and before them."""
        signature = self.spec.signature
        return self._around if signature is None or not signature.before else (self._around, signature.before)

    def count(self, others: Experiments) -> None:
        """Count the launches of experiments that went on from these."""
        self.launches, self.spent = others.launches, others.spent

    def answer(self, words: Words) -> Answer:
        """Return what the program does with one vector."""
        self.launch([words])
        return self._known[words]

    @property
    def allowance(self) -> Allowance:
        """What is allowed by now."""
        most = math.inf if self.most is None else self.most
        return Allowance(self.spent, most)

    @property
    def known(self) -> Mapping[Words, Answer]:
        """What is known of vectors by now."""
        return self._known

    def launch(self, vectors: Iterable[Words], *, again: bool = False) -> None:
        """Launch those that were not launched before; `again`: all of them, cold, and that
        counts."""
        fresh = [each for each in dict.fromkeys(vectors) if again or each not in self._known]
        self._check(len(fresh))
        for at in range(0, len(fresh), LOT):  # by lots, since launches may end between them
            self._known.update(self.launched(fresh[at : at + LOT], cold=again))

    def launch_ahead(self, vectors: Iterable[Words], most: int) -> None:
        """Launch side by side what will be asked for one by one: so many of them as are allowed."""
        fresh = [each for each in dict.fromkeys(vectors) if each not in self._known]
        room = most if self.most is None else min(most, self.most - self.spent)
        self.launch(fresh[: max(room, 0)])

    def launched(
        self, vectors: Sequence[Words], *, silent: bool = False, cold: bool = False
    ) -> dict[Words, Answer]:
        """Launch vectors, again where they were launched before, and return what came. Standard
        input has ended at once, or is open and silent; `cold` launches start from nothing."""
        # whether a program asks shows as soon as the others have ended
        patience = patience_after(self._known.values()) if silent else self._patience
        warm = None if cold else self.warm
        if self._planned_as != (self._pool.plans, patience, warm):
            within = _within(self.spec, patience)
            self._pool.plan(within, self.resolved, Manner(warm=warm))
            self._planned_as = self._pool.plans, patience, warm
        cases = {case.id: case for case in (self._case(each, silent) for each in vectors)}
        self._check(len(cases))
        found = {words: answer for _, words, answer in self._results(cases)}
        if patience is not None:
            # A short wait is a matter of how busy the machine is: what did not end beside others is
            # tried on its own before that is believed.
            for id, case in cases.items():
                if found[case.argv].record.verdict == "timed-out":
                    found |= {words: answer for _, words, answer in self._results({id: case})}
        # Where launches are counted, none is waited for longer than many times what the first ones
        # took: an option that follows a file without end would take the whole time in every vector.
        if self.most is not None and self._patience is None:
            self._patience = patience_after(found.values())
        return found

    def _results(self, cases: Mapping[str, Case]) -> Iterator[tuple[str, Words, Answer]]:
        """Launch cases side by side, and yield the id, the words and the result of each as it
        comes."""
        for result in self._pool.results(iter(cases.values())) if cases else ():
            record = decode_record(result.line)
            works = is_accepted(record)
            text = "" if works else answer_of(record)
            said = without_usage(record.stderr or "") or record.stdout or ""
            self.launches += 1
            self.spent += HUNG_COST if record.verdict == "timed-out" else 1
            self._told(self.launches)
            # the words of the record went through JSON
            words = cases[record.id].argv
            yield record.id, words, Answer(works, text, f"{text}\n{said[:SAID_LENGTH]}", record)

    def _check(self, count: int) -> None:
        """Raise OutOfLaunches before any of so many is launched that may not be: half of a lot that
        was meant to be compared tells nothing."""
        if self.most is not None and self.spent + count > self.most:
            raise OutOfLaunches

    def _before(self, words: Words) -> tuple[Words, ...]:
        """Return what is launched before a vector."""
        signature = self.spec.signature
        return () if signature is None or not signature.before else steps_before(signature, words)

    def _case(self, words: Words, silent: bool) -> Case:
        matrix = self.spec.matrices[silent]
        standings: tuple[Standing, ...] = ()
        if self.spec.signature is not None:
            # whatever is said of it, here it is asked whether the program takes it
            standing = standing_of(self.spec.signature, words)
            standings = (standing._replace(status="accepted", kinds=()),)
        return Case(
            id=case_id((matrix.name, *words)),
            matrix=matrix.index,
            argv=words,
            before=self._before(words),
            standings=standings,
            family=matrix.family,
        )


def patience_after(answers: Iterable[Answer]) -> float | None:
    """Return how many seconds a launch is waited for after some that ended; None where none did."""
    seconds = [each.record.seconds for each in answers if each.record.verdict != "timed-out"]
    return max(LEAST_PATIENCE, PATIENCE * max(seconds)) if seconds else None


def _within(spec: Spec, patience: float | None) -> Spec:
    """Return a spec with no timeout that is longer than our patience."""
    if patience is None:
        return spec
    matrices = []
    for matrix in spec.matrices:
        steps = []
        for step in matrix.steps:
            around = step.surroundings
            steps.append(replace(step, surroundings=replace(around, timeout=min(around.timeout, patience))))
        matrices.append(replace(matrix, steps=tuple(steps)))
    return replace(spec, matrices=tuple(matrices))


def _silent(controls: Matrix) -> Matrix:
    """Return what controls are launched as when nothing is to come on standard input."""
    (step,) = controls.steps
    around = replace(step.surroundings, stdin=Stdin(silent=True))
    steps = (replace(step, surroundings=around),)
    return replace(controls, index=controls.index + 1, name="silent controls", steps=steps)
