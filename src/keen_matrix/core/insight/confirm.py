"""Further vectors that tell rival suspects apart: those that one of them covers and another does
not."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import chain, islice

from keen_matrix.core.insight.features import Feature, Observed, observe
from keen_matrix.core.insight.suspects import CauseFound, Suspicion
from keen_matrix.core.launch.workers.engine import WorkerPool, run_in
from keen_matrix.core.model.case import Case, Standing, case_fields
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.signature.families.accepted import all_requests
from keen_matrix.core.structs import replace
from keen_matrix.core.vectors.derived import standing_of
from keen_matrix.core.vectors.ids import case_id
from keen_matrix.core.vectors.unfold import unfold_matrix

TOLD_EACH = 500
#: Vectors that are looked through for such that tell rivals apart.
MOST_CANDIDATES = 20_000


class Candidates:
    """The vectors among which such are looked for that tell rivals apart: each is made and judged
    once, and no more than are looked at."""

    def __init__(self, spec: Spec, told: Callable[[str], None]) -> None:
        self._made: list[Case] = []
        self._rest = islice(_candidates(spec), MOST_CANDIDATES)
        self._told = told

    def __iter__(self) -> Iterator[Case]:
        # Gone through once for each cause: what was made for the first is there for the next.
        yield from self._made
        for case in self._rest:
            self._made.append(case)
            if len(self._made) % TOLD_EACH == 0:
                self._told(f"{len(self._made):,} cases looked at")
            yield case


def further_cases(
    spec: Spec, known: Sequence[Observed], suspicion: Suspicion, pool: Iterable[Case], most: int
) -> list[Case]:
    """Return up to `most` new cases, each covered by some of the rivals of a cause and not by
    others. `pool` are the candidates of the spec."""
    tried = {case.words for case in known}
    limits = {
        feature
        for case in known
        for feature in case.features
        if feature.relation in ("is at least", "is at most")
    }
    found: list[Case] = []
    for cause in suspicion.causes:
        rivals = [cause.suspect, *cause.rivals]
        limited = any(each.relation in ("is at least", "is at most") for each in cause.suspect.features)
        # One suspect without a limit: no case could tell it from anything.
        if len(rivals) < 2 and not limited:
            continue
        wanted = max(1, most // max(1, len(suspicion.causes)))
        seen_patterns: dict[tuple[bool, ...], int] = {}
        for case in chain(_between(spec, known, cause), pool if len(rivals) > 1 else ()):
            if len(found) >= most or wanted <= 0:
                break
            if case.argv in tried:
                continue
            features = _features(spec, case, limits)
            pattern = tuple(set(rival.features) <= features for rival in rivals)
            # What all rivals cover, or none, says the same of all of them.
            telling = any(pattern) and not all(pattern)
            # Three of a pattern: one may hold by chance, and thirty would leave no launches for
            # other patterns.
            if (telling or case.detail == BETWEEN) and seen_patterns.get(pattern, 0) < 3:
                seen_patterns[pattern] = seen_patterns.get(pattern, 0) + 1
                tried.add(case.argv)
                found.append(case)
                wanted -= 1
    return found


BETWEEN = "between"


def _between(spec: Spec, known: Sequence[Observed], cause: CauseFound) -> Iterator[Case]:
    """Yield the example of a cause with other numbers: at its limits, and halfway to the next
    number that holds."""
    if spec.signature is None:
        return
    example = next(case for case in known if case.words == cause.example)
    for feature in dict.fromkeys(f for each in (cause.suspect, *cause.rivals) for f in each.features):
        if (
            feature.relation not in ("is at least", "is at most")
            or feature.subject not in spec.signature.values
        ):
            continue
        number, limit = example.numbers[feature.subject], float(feature.value)
        alike = {
            case.numbers[feature.subject]
            for case in known
            if case.passed and feature.subject in case.numbers and _twin(case, example, feature.subject)
        }
        # Between the last number that passed and the first that failed lies the true limit.
        low = max((each for each in alike if each < limit), default=None)
        tries = [limit, *([(low + limit) // 2, limit - 1] if low is not None else [limit - 1])]
        for value in tries:
            words = tuple(f"{value:g}" if word == f"{number:g}" else word for word in cause.example)
            standing = standing_of(spec.signature, words)
            if standing.status == "accepted" and words != cause.example:
                home = next(
                    (matrix for matrix in spec.matrices if matrix.family == "accepted"), spec.matrices[0]
                )
                yield _case(home, words, standing, BETWEEN)


def _case(home: Matrix, words: tuple[str, ...], standing: Standing, detail: str = "") -> Case:
    return Case(
        id=case_id(("confirm", *words)),
        matrix=home.index,
        argv=words,
        values=dict(standing.bound),
        standings=(standing,),
        family=home.family,
        detail=detail,
    )


def _twin(case: Observed, example: Observed, subject: str) -> bool:
    """Tell whether a case has every option that another has, apart from one value."""
    given = {feature for feature in example.features if feature.relation == "given"}
    return given <= case.features and case.passed


def _candidates(spec: Spec) -> Iterator[Case]:
    """Yield further vectors: every combination that the signature's choices and edges allow, and
    every row of each matrix."""
    matrices = [matrix for matrix in spec.matrices if not matrix.family]
    if spec.signature is not None:
        home = (
            next((matrix for matrix in spec.matrices if matrix.family == "accepted"), None)
            or spec.matrices[0]
        )
        for words in all_requests(spec.signature):
            standing = standing_of(spec.signature, words)
            if standing.status == "accepted":
                yield _case(home, words, standing)
    for matrix in matrices:
        if not matrix.steps or len(matrix.steps) == 1:
            bounds = replace(matrix.bounds, limit=MOST_CANDIDATES)
            yield from unfold_matrix(spec, replace(matrix, combine="all", bounds=bounds))


def _features(spec: Spec, case: Case, limits: set[Feature]) -> set[Feature]:
    judgement = spec.signature.judge(case.argv) if spec.signature is not None else None
    seen = observe(case_fields(case, ""), spec.signature, judgement, with_values=judgement is None)
    found = set(seen.features)
    for limit in limits:
        number = seen.numbers.get(limit.subject)
        if number is None:
            continue
        bound = float(limit.value)
        above = limit.relation == "is at least"
        if (number >= bound) if above else (number <= bound):
            found.add(limit)
    return found


def observed_of(pool: WorkerPool, spec: Spec, cases: Sequence[Case]) -> list[Observed]:
    """Launch cases and return what was observed of them."""
    found = []
    for record in run_in(pool, cases, spec):
        judgement = spec.signature.judge(record.argv) if spec.signature is not None else None
        found.append(observe(record, spec.signature, judgement, with_values=judgement is None))
    return found


__all__ = ["Candidates", "further_cases", "observed_of"]
