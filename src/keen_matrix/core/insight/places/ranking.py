"""Which lines explain best that some vectors failed.

A line is scored by how well "runs it" goes with failing: Ochiai's coefficient ("An Evaluation of
Similarity Coefficients for Software Fault Localization", 2006), with D* ("The DStar Method for
Effective Software Fault Localization", 2014) as a check. That a line does *not* run can explain as
much; then, and for the first line of a part that only some runs enter, the line is as suspicious
that decides it: the nearest one above that other runs run too. Ties are broken by nearness to where
a failing run leaves the way of the most alike run that passed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from math import sqrt
from typing import Literal, TypeAlias

from keen_matrix.core.insight.places.trace import Place
from keen_matrix.core.insight.places.tracing import TracedCase, distance
from keen_matrix.core.results.causes import cause_key
from keen_matrix.core.structs import Struct, replace

#: What a line scores that decides whether another runs, beside that one.
DECIDES = 0.999
#: The same of a line that does not run, where that explains failing.
SKIPPED = 0.99


Why: TypeAlias = Literal["runs", "decides", "skipped"]
_Found: TypeAlias = "tuple[float, Why, frozenset[int]]"

#: Score below which a line explains little.
WEAK = 0.7


class RankedPlace(Struct, frozen=True, kw_only=True):
    """A place, and how well it explains failing."""

    place: Place
    #: The last of the lines from there on of which the very same is so.
    last: int
    #: From 0 to 1.
    score: float
    #: "runs", "decides" or "skipped".
    why: Why
    #: Failing runs that it explains.
    failing: int
    #: Holding runs that are alike in this.
    holding: int
    #: The failing run with the fewest words that it explains.
    example: TracedCase


class Ranking(Struct, frozen=True, kw_only=True):
    """The places in order, and what that stands on."""

    places: list[RankedPlace]
    #: The failing ones.
    runs: Sequence[TracedCase]
    failing: int
    holding: int
    #: The failing run with the fewest words.
    example: TracedCase | None
    #: Whether D* has the same place first.
    measures_agree: bool
    #: Whether any line goes with failing: else failing and passing runs run the same lines.
    separates: bool

    @property
    def is_strong(self) -> bool:
        """Whether a line explains it well."""
        return self.separates and self.places[0].score >= WEAK


class Parting(Struct, frozen=True):
    """Where a failing run leaves the way of one that passed."""

    failing: TracedCase
    holding: TracedCase
    #: The last line of the common way.
    last: Place | None
    #: The line that the failing run goes on with; None where it ends.
    next: Place | None
    #: The line that the other goes on with.
    instead: Place | None
    #: How many lines they have run by then.
    step: int


def ochiai(failing: int, holding: int, all_failing: int) -> float:
    """Return Ochiai's coefficient of a line that so many failing and passing runs run."""
    return failing / sqrt(all_failing * (failing + holding)) if failing else 0.0


def dstar(failing: int, holding: int, all_failing: int) -> float:
    """Return D*, with the star 2, of such a line."""
    without = holding + all_failing - failing
    return failing**2 / without if without else float("inf")


def parting(run: TracedCase, holding: Sequence[TracedCase]) -> Parting | None:
    """Return where a run leaves the way of the most alike that passed; None where no order is
    reported, or they go the same way."""
    near = min(
        (each for each in holding if each.trace.order),
        key=lambda each: (distance(each.case, run.case), each.case.sequence),
        default=None,
    )
    if near is None or not run.trace.order:
        return None
    mine, other = run.trace.order, near.trace.order
    step = next(
        (n for n, (a, b) in enumerate(zip(mine, other, strict=False)) if a != b), min(len(mine), len(other))
    )
    if step == len(mine) == len(other):
        return None
    return Parting(
        run,
        near,
        mine[step - 1] if step else None,
        mine[step] if step < len(mine) else None,
        other[step] if step < len(other) else None,
        step,
    )


class _Spectra:
    """For each line, which runs run it."""

    def __init__(self, runs: Sequence[TracedCase]) -> None:
        self.runs = runs
        self.all_failing = sum(run.failed for run in runs)
        self.ran: dict[Place, frozenset[int]] = {}
        by_place: dict[Place, set[int]] = {}
        for number, run in enumerate(runs):
            for place in run.trace.places:
                by_place.setdefault(place, set()).add(number)
        self.ran = {place: frozenset(numbers) for place, numbers in by_place.items()}
        self.every = frozenset(range(len(runs)))
        self.lines: dict[str, list[int]] = {}
        for place in sorted(self.ran):
            self.lines.setdefault(place.file, []).append(place.line)

    def count(self, numbers: frozenset[int]) -> tuple[int, int]:
        """Return how many of some runs failed, and how many passed."""
        failing = sum(self.runs[number].failed for number in numbers)
        return failing, len(numbers) - failing

    def score(self, numbers: frozenset[int]) -> float:
        """Return how well being one of some runs goes with failing."""
        return ochiai(*self.count(numbers), self.all_failing)

    def decides(self, place: Place) -> Place | None:
        """Return the nearest line above that other runs run too."""
        mine = self.ran[place]
        for line in reversed([each for each in self.lines[place.file] if each < place.line]):
            above = Place(place.file, line)
            if self.ran[above] > mine:
                return above
        return None


def _simplicity(run: TracedCase) -> tuple[int, str]:
    return len(run.case.argv), run.case.id


def ranked(runs: Sequence[TracedCase]) -> Ranking:
    """Return the places that explain best why some runs failed."""
    spectra = _Spectra(runs)
    found = _scored(spectra)
    near = _nearness(runs)
    order = sorted(
        (place for place in found if spectra.count(found[place][2])[0]),
        key=lambda place: (-found[place][0], near.get(place, len(near)), place),
    )
    places = _joined(runs, spectra, found, order)
    # A line that all runs go through has this score; whatever is no better says nothing.
    common = ochiai(spectra.all_failing, len(runs) - spectra.all_failing, spectra.all_failing)
    best = places[0].score if places else 0.0
    check = max((dstar(*spectra.count(found[place][2]), spectra.all_failing) for place in order), default=0.0)
    # Two formulas that weigh the same counts otherwise: where they disagree about the first place,
    # it is reported with less certainty.
    agreed = bool(places) and dstar(places[0].failing, places[0].holding, spectra.all_failing) == check
    failed = sorted((run for run in runs if run.failed), key=_simplicity)
    return Ranking(
        places=places,
        runs=failed,
        failing=len(failed),
        holding=len(runs) - len(failed),
        example=failed[0] if failed else None,
        measures_agree=agreed,
        separates=best > common + 1e-9,
    )


def _scored(spectra: _Spectra) -> dict[Place, _Found]:
    """Return each place with its best score, what gives it and the runs that it is about."""
    found: dict[Place, _Found] = {}

    def add(place: Place, score: float, why: Why, numbers: frozenset[int]) -> None:
        if place not in found or score > found[place][0]:
            found[place] = score, why, numbers

    for place, numbers in spectra.ran.items():
        skipping = spectra.every - numbers
        add(place, spectra.score(numbers), "runs", numbers)
        above = spectra.decides(place)
        if above is not None:
            add(above, DECIDES * spectra.score(numbers), "decides", numbers)
            # those that do not come so far have not skipped it
            passing = spectra.ran[above] & skipping
            add(above, DECIDES * spectra.score(passing), "decides", passing)
            add(place, SKIPPED * spectra.score(passing), "skipped", passing)
    return found


def _joined(
    runs: Sequence[TracedCase], spectra: _Spectra, found: Mapping[Place, _Found], order: Sequence[Place]
) -> list[RankedPlace]:
    """Return places in an order; neighbouring lines of the very same runs are one."""
    places: list[RankedPlace] = []
    for place in order:
        score, why, numbers = found[place]
        # Neighbouring lines that the very same runs went through are one place: a branch, not five
        # lines.
        beside = next(
            (n for n, each in enumerate(places) if _goes_on(each, place, found[place], found, spectra)), None
        )
        if beside is not None:
            both = (places[beside].place.line, places[beside].last, place.line)
            places[beside] = replace(places[beside], place=Place(place.file, min(both)), last=max(both))
            continue
        failing, holding = spectra.count(numbers)
        # The simplest one is what somebody will step through.
        example = min((runs[n] for n in numbers if runs[n].failed), key=_simplicity)
        places.append(
            RankedPlace(
                place=place,
                last=place.line,
                score=score,
                why=why,
                failing=failing,
                holding=holding,
                example=example,
            )
        )
    return places


def _goes_on(
    ranked: RankedPlace, place: Place, own: _Found, found: Mapping[Place, _Found], spectra: _Spectra
) -> bool:
    """Tell whether a place is the line next to others of which the very same is so."""
    if ranked.place.file != place.file or found[ranked.place] != own:
        return False
    lines = spectra.lines[place.file]
    at = lines.index(place.line)
    beside = lines[max(0, at - 1) : at + 2]
    return ranked.place.line in beside or ranked.last in beside


def ranked_causes(runs: Sequence[TracedCase]) -> list[Ranking]:
    """Return a ranking for each cause: failing runs that went wrong in the same way, with all that
    passed. Of several causes that have the same line first, it is one. Those that a line explains
    well are first, then those of most runs."""
    holding = [run for run in runs if not run.failed]
    by_cause: dict[object, list[TracedCase]] = {}
    for run in runs:
        if run.failed:
            by_cause.setdefault(cause_key(run.record), []).append(run)
    by_place: dict[object, list[TracedCase]] = {}
    for number, failing in enumerate(by_cause.values()):
        first = ranked([*failing, *holding])
        # Two causes with one suspicious line are most likely one fault that shows twice.
        key: object = first.places[0].place if first.separates else ("no line", number)
        by_place.setdefault(key, []).extend(failing)
    found = [ranked([*failing, *holding]) for failing in by_place.values()]
    return sorted(found, key=lambda each: (not each.is_strong, not each.separates, -each.failing))


def _nearness(runs: Sequence[TracedCase]) -> Mapping[Place, int]:
    """Return for lines how many steps they are from where a failing run leaves its control's
    way."""
    holding = [run for run in runs if not run.failed]
    found: dict[Place, int] = {}
    for run in runs:
        parts = parting(run, holding) if run.failed else None
        if parts is None:
            continue
        for number, place in enumerate(run.trace.order):
            # Behind the parting before in front of it, where both are as near: what led there was
            # the same for both.
            steps = abs(number - parts.step) * 2 + (number < parts.step)
            if steps < found.get(place, steps + 1):
                found[place] = steps
    return found
