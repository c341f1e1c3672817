"""Suspects: the smallest sets of features that failing cases have and passing ones do not;
separate causes told apart.

Cases are bits of integers, a set of features the conjunction of its members' bits. The set that
explains most failing cases and no passing one is taken, the smaller of two that explain as much;
then the cases that it leaves.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import combinations

from keen_matrix.core.insight.features import Feature, Observed, add_limits
from keen_matrix.core.structs import Struct, field

#: Features of a set: a fault that takes four at once is beyond what pairs and triples of values
#: show.
MOST_SIZE = 3
#: Features, those that separate best, of which sets are made.
MOST_FEATURES = 60
MOST_CAUSES = 12
MOST_RIVALS = 6


class Suspect(Struct, frozen=True):
    """A set of features, with how many failing and how many passing cases have all of them."""

    features: tuple[Feature, ...]
    fails: int
    holds: int

    def __str__(self) -> str:
        return " and ".join(map(str, self.features))


class CauseFound(Struct):
    """One cause: its suspect, and rivals that explain as much with as few features."""

    suspect: Suspect
    rivals: list[Suspect] = field(default_factory=list)
    ids: list[str] = field(default_factory=list)
    #: Failing cases that were still unexplained.
    of: int = 0
    example: tuple[str, ...] = ()


class Suspicion(Struct):
    """What the failing cases of one pool share."""

    pool: str
    failing: int
    holding: int
    causes: list[CauseFound] = field(default_factory=list)
    unexplained: list[str] = field(default_factory=list)


def suspects_of(pool: str, cases: Sequence[Observed]) -> Suspicion:
    """Return what tells the failing cases of a pool from the passing ones."""
    # Limits such as "is at least 10" only make sense over the values that occur.
    add_limits(cases)
    # Sets of cases are bits of one integer: an intersection is one operation, for a hundred
    # thousand cases too.
    failing = sum(1 << number for number, case in enumerate(cases) if not case.passed)
    holding = sum(1 << number for number, case in enumerate(cases) if case.passed)
    found = Suspicion(pool, failing.bit_count(), holding.bit_count())
    bits = _bits(cases)
    left = failing
    while left and len(found.causes) < MOST_CAUSES:
        cause = _best(bits, left, holding)
        if cause is None:
            break
        suspect, covered, rivals = cause
        those = sorted((case for number, case in enumerate(cases) if covered >> number & 1), key=_plainness)
        ids = [case.id for case in those]
        found.causes.append(CauseFound(suspect, rivals, ids, left.bit_count(), those[0].words))
        # What one cause explains must not hide another one: the rest is looked at on its own.
        left &= ~covered
    found.unexplained = [case.id for number, case in enumerate(cases) if left >> number & 1]
    return found


def _plainness(case: Observed) -> tuple[int, int, tuple[str, ...]]:
    return len(case.words), sum(map(len, case.words)), case.words


def _bits(cases: Sequence[Observed]) -> dict[Feature, int]:
    bits: dict[Feature, int] = {}
    for number, case in enumerate(cases):
        for feature in case.features:
            bits[feature] = bits.get(feature, 0) | 1 << number
    return bits


def _best(bits: dict[Feature, int], left: int, holding: int) -> tuple[Suspect, int, list[Suspect]] | None:
    """Return the set that explains most of what is left without touching a passing cases, what it
    covers, and its rivals."""
    total = left.bit_count()
    useful = {feature: each for feature, each in bits.items() if each & left and each & holding != holding}
    if not useful:
        useful = {feature: each for feature, each in bits.items() if each & left}
    ranked = sorted(useful, key=lambda each: (-_separation(useful[each], left, holding, total), str(each)))[
        :MOST_FEATURES
    ]
    best: list[tuple[tuple[int, int, int], tuple[Feature, ...], int]] = []
    for size in range(1, MOST_SIZE + 1):
        for features in combinations(ranked, size):
            cover = left
            others = holding
            for feature in features:
                cover &= useful[feature]
                others &= useful[feature]
                # No set with these features can cover anything; the rest of them need not be asked.
                if not cover:
                    break
            if cover and not others:
                best.append(((cover.bit_count(), -size, -_looseness(features)), features, cover))
        if best and max(each[0][0] for each in best) == total:
            break  # nothing larger explains more
    if not best:
        return None
    # The texts decide at last, so that the same run gives the same suspect on every machine.
    top = max(best, key=lambda each: (each[0], [str(f) for f in each[1]]))
    equal = [each for each in best if each[0][:2] == top[0][:2] and each[2] == top[2] and each[1] != top[1]]
    rivals = [
        Suspect(_in_order(features), cover.bit_count(), 0)
        for _, features, cover in sorted(equal, key=lambda e: -e[0][2])
    ]
    return Suspect(_in_order(top[1]), top[2].bit_count(), 0), top[2], rivals[:MOST_RIVALS]


def _in_order(features: Iterable[Feature]) -> tuple[Feature, ...]:
    """Return features as a sentence has them: options first, then values, then limits and
    traits."""
    ranks = {"given": 0, "absent": 1, "is": 2}
    return tuple(sorted(features, key=lambda each: (ranks.get(each.relation, 3), str(each))))


def _separation(each: int, left: int, holding: int, total: int) -> float:
    """Return how well a feature alone tells failing from passing cases: the difference of its
    shares in both."""
    share = (each & left).bit_count() / total
    return share - (each & holding).bit_count() / max(1, holding.bit_count())


def _looseness(features: Iterable[Feature]) -> int:
    """Return how indirect features are: an option or value says more than a limit, and that more
    than a trait of words."""
    return sum(
        {"given": 0, "is": 1, "absent": 2, "is at least": 1, "is at most": 1}.get(each.relation, 3)
        for each in features
    )


def sentence(cause: CauseFound, suspicion: Suspicion) -> str:
    """Return a cause as a plain sentence."""
    count, of = cause.suspect.fails, cause.of
    cases = (
        f"all {of} cases that failed"
        if count == of and len(suspicion.causes) == 1
        else f"{count} cases that failed"
    )
    if of == count == 1:
        cases = "the one case that failed"
    parts = [str(each) for each in cause.suspect.features if each.relation in ("given", "absent")]
    traits = " and ".join(
        str(each) for each in cause.suspect.features if each.relation not in ("given", "absent")
    )
    first, *rest = parts or [""]
    joined = f"{first} together with {' and '.join(rest)}" if rest else first
    has = f"{cases} {'has' if count == 1 else 'have'} {joined}"
    if not traits:
        return f"{has}; no case that passed has"
    return f"{f'{has}, and {traits}' if parts else f'in {cases} {traits}'}; no case that passed is like that"


__all__ = ["CauseFound", "Suspect", "Suspicion", "sentence", "suspects_of"]
