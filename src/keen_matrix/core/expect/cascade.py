"""The cascade: which rule has the last word on each aspect of a case, and the verdict that
follows."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from itertools import compress
from typing import NamedTuple

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expect.aspects import (
    Aspect,
    CrashAspect,
    FileAspect,
    LeftoversAspect,
    OtherFilesAspect,
    StreamAspect,
    failed_expectation,
    named_file,
    takes_no_time,
)
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.crash import crash_sign
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expect.open import is_left_open, names_used
from keen_matrix.core.expect.tidy import TidyAspect
from keen_matrix.core.expressions import Scope
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.record import FROM_WORST, Verdict
from keen_matrix.core.model.signals import signal_name
from keen_matrix.core.model.spec import Rule
from keen_matrix.core.structs import Struct


def worst_of(verdicts: Iterable[Verdict]) -> Verdict:
    """Return the verdict that stands for several launches: passed only when all passed; unchecked
    says least."""
    found = set(verdicts)
    # What was checked passed; that some launch had nothing to check takes nothing from it.
    if found == {"passed", "unchecked"}:
        return "passed"
    return next(each for each in FROM_WORST if each in found)


#: Aspects that a rule only relaxes; naming one checks nothing.
BUILT_IN = (CrashAspect, LeftoversAspect)


#: Aspects that may have something to remark on.
REMARKABLE = frozenset({"blame", "help", "tidy"})


#: Sets of rules whose checks are kept.
MOST_KNOWN = 1_000


class Chosen(NamedTuple):
    """An aspect with the place of the rule that set it."""

    aspect: Aspect
    origin: str


class AspectResult(Struct, frozen=True, kw_only=True):
    """How one aspect came out. Passed aspects have no mismatch."""

    aspect: str
    met: bool
    mismatch: Mismatch | None = None
    rule: str = ""


class Judged(Struct, frozen=True, kw_only=True):
    """The verdict on a case and every aspect that was looked at."""

    verdict: Verdict
    aspects: tuple[AspectResult, ...]
    #: What is worth a word though it is no failure.
    remarks: tuple[str, ...] = ()
    #: Aspects that were not looked at, since it is not known yet what is to come.
    left_open: tuple[str, ...] = ()
    #: Aspects whose expectation any output would meet in this case.
    asked_nothing: tuple[str, ...] = ()


class Cascade:
    """The rules of one matrix, from the most general to the most particular."""

    def __init__(self, rules: Iterable[Rule]) -> None:
        self._rules = tuple(rules)
        self._remarkable = any(name in REMARKABLE for rule in self._rules for name in rule.aspects)
        self._quick = all(takes_no_time(aspect) for rule in self._rules for aspect in rule.aspects.values())
        # Without conditions the same rules apply to all cases, and nothing is evaluated for any of
        # them.
        always = all(rule.when is None for rule in self._rules)
        self._fixed = _Checks(self._rules) if always else None
        self._known: dict[tuple[bool, ...], _Checks] = {}

    @property
    def quick(self) -> bool:
        """Whether checking takes no time to speak of: exit codes and texts compared, no patterns,
        files or commands."""
        return self._quick

    def chosen(self, scope: Scope) -> Mapping[str, Chosen]:
        """Return for each aspect the expectation that has the last word. Raises ExpressionFault."""
        return self._checks(scope).chosen

    def _checks(self, scope: Scope) -> _Checks:
        """Return what the rules that apply come to; it is worked out once for the same rules."""
        if self._fixed is not None:
            return self._fixed
        applies = tuple(rule.when is None or bool(rule.when.evaluate(scope)) for rule in self._rules)
        found = self._known.get(applies)
        if found is None:
            # Conditions on values that differ everywhere would fill the memory with sets that never
            # come again.
            if len(self._known) >= MOST_KNOWN:
                self._known.clear()
            found = self._known[applies] = _Checks(compress(self._rules, applies))
        return found

    def judge(self, outcome: Outcome, context: CheckContext, *, timeout: float, cap: int) -> Judged:
        """Return the verdict on an outcome. A failing expression is a failed aspect, never an
        error here."""
        try:
            checks = self._checks(context.scope)
        except ExpressionFault as fault:
            result = AspectResult(aspect="rules", met=False, mismatch=failed_expectation(fault))
            return Judged(verdict="failed", aspects=(result,))
        chosen = checks.chosen
        # Nearly all launches end well and say nothing on standard error: one look, and none of the
        # checks is begun.
        built_in = () if _plainly_fine(outcome) else tuple(_built_in(outcome, chosen, timeout, cap))
        verdict = _verdict_of_no_answer(outcome)
        if verdict is not None:
            return Judged(verdict=verdict, aspects=built_in)
        aspects = list(built_in)
        left_open: list[str] = []
        asked_nothing: list[str] = []
        for check in checks.steps:
            # What is left open is no expectation yet, so it neither holds nor fails.
            if check.is_open or (context.open_names and not check.names.isdisjoint(context.open_names)):
                left_open.append(check.met.aspect)
            else:
                self._check(check, outcome, context, aspects)
                if check.may_ask_nothing and aspects[-1].met and _asks_nothing(check, outcome, context):
                    aspects.pop()
                    asked_nothing.append(check.met.aspect)
        remarks = self._remarks(chosen, outcome, context) if self._remarkable else ()
        verdict = _verdict(aspects, len(built_in))
        if (left_open or asked_nothing) and verdict == "passed":
            verdict = "unchecked"  # it was not asked for all that is wanted
        return Judged(
            verdict=verdict,
            aspects=tuple(aspects),
            remarks=remarks,
            left_open=tuple(left_open),
            asked_nothing=tuple(asked_nothing),
        )

    @staticmethod
    def _remarks(chosen: Mapping[str, Chosen], outcome: Outcome, context: CheckContext) -> tuple[str, ...]:
        from keen_matrix.core.expect.refusals import remarks_of

        return tuple(remarks_of((each.aspect for each in chosen.values()), outcome, context))

    @staticmethod
    def _check(check: _Check, outcome: Outcome, context: CheckContext, found: list[AspectResult]) -> None:
        """Add the results of one aspect: one for each mismatch, or one that it is met."""
        met = check.met
        try:
            # To the end at once: a check that fails half way must not leave half of its results.
            mismatches = list(check.aspect.check(outcome, context))
        except (ExpressionFault, ValueError, TypeError) as error:
            mismatches = [failed_expectation(error)]
        if not mismatches:
            found.append(met)
        for mismatch in mismatches:
            name = met.aspect
            if isinstance(check.aspect, FileAspect) and not mismatch.problem and mismatch.recorded is None:
                # as the case has it; a baseline is kept under the name of the spec
                name = f"files.{named_file(check.aspect.name, context.scope)}"
            found.append(AspectResult(aspect=name, met=False, mismatch=mismatch, rule=met.rule))


class _Check(NamedTuple):
    """One aspect to be checked, and the result when it is met."""

    aspect: Aspect
    met: AspectResult
    #: Whether it is not known yet what is to come.
    is_open: bool
    #: What its texts and expressions use.
    names: frozenset[str]
    may_ask_nothing: bool


def _asks_nothing(check: _Check, outcome: Outcome, context: CheckContext) -> bool:
    return isinstance(check.aspect, StreamAspect) and check.aspect.asks_nothing(outcome, context)


class _Checks:
    """What a set of rules comes to."""

    def __init__(self, rules: Iterable[Rule]) -> None:
        # A later rule replaces an aspect and leaves the others: the last word is found aspect by
        # aspect.
        self.chosen = {
            name: Chosen(aspect, rule.origins.get(name, ""))
            for rule in rules
            for name, aspect in rule.aspects.items()
        }
        self.steps = tuple(
            self._step(name, each)
            for name, each in self.chosen.items()
            if not isinstance(each.aspect, BUILT_IN) and not _only_remarks(each.aspect)
        )

    def _step(self, name: str, chosen: Chosen) -> _Check:
        aspect = chosen.aspect
        if isinstance(aspect, OtherFilesAspect):  # the files that other aspects look at are no others
            named = tuple(name.removeprefix("files.") for name in self.chosen if name.startswith("files."))
            aspect = OtherFilesAspect((*aspect.named, *named), aspect.allowed)
        met = AspectResult(aspect=name, met=True, rule=chosen.origin)
        may_ask_nothing = isinstance(aspect, StreamAspect) and aspect.may_ask_nothing
        return _Check(aspect, met, is_left_open(aspect), names_used(aspect), may_ask_nothing)


def _only_remarks(aspect: Aspect) -> bool:
    """Tell whether an aspect has remarks to make, and nothing to check."""
    return isinstance(aspect, TidyAspect) and not aspect.is_expected


def _verdict_of_no_answer(outcome: Outcome) -> Verdict | None:
    """Return the verdict on a launch of which nothing that was seen answers any expectation; None
    for any other."""
    if outcome.not_started is not None:
        return "not-started"
    if outcome.timed_out:
        return "timed-out"
    return "failed" if outcome.flooded or outcome.unasked is not None or outcome.waits else None


def _plainly_fine(outcome: Outcome) -> bool:
    """Tell at once of the commonest outcome that no built-in check can fail."""
    return (
        outcome.exit is not None
        and not outcome.stderr
        # on standard output an error that went unhandled shows as well
        and not (outcome.stdout and (outcome.exit or outcome.together))
        and not (
            outcome.timed_out
            or outcome.flooded
            or outcome.feeders
            or outcome.leftovers
            or outcome.unasked is not None
            or outcome.unused_replies
            or outcome.asked_more
            or outcome.missed
            or outcome.waits
        )
    )


def _built_in(
    outcome: Outcome, chosen: Mapping[str, Chosen], timeout: float, cap: int
) -> Iterable[AspectResult]:
    """Yield the built-in checks that failed: launched, ended in time, no flood, no crash."""
    if outcome.not_started is not None:
        yield _failed("launch", Mismatch(form="launch", expected="", actual=outcome.not_started))
        return
    if outcome.waits:
        yield _failed("input", Mismatch(form="waits", expected="", actual=_said(outcome)))
        return
    if outcome.unasked is not None:
        prompt = outcome.unasked.decode("utf-8", "surrogateescape")
        yield _failed("dialogue", Mismatch(form="prompt", expected=prompt, actual=_said(outcome)))
    yield from _unlike_the_plan(outcome)
    if outcome.timed_out:
        form = "timeout" if outcome.stopped is None else "stop"
        yield _failed(
            "timeout", Mismatch(form=form, expected=f"{timeout:g}", actual=f"{outcome.seconds:.3f}")
        )
    elif outcome.flooded:
        yield _failed("output", Mismatch(form="cap", expected=str(cap), actual=outcome.flooded))
    # Whoever expects a signal expects the end that others call a crash.
    elif "signal" not in chosen and not _allowed(chosen, "crash", CrashAspect):
        sign = crash_sign(outcome) if outcome.signal is None or outcome.signal != outcome.stopped else None
        # A program that was ended since its prompt did not come has not crashed.
        if sign and outcome.unasked is None:
            yield _failed("crash", Mismatch(form="crash", expected="", actual=sign))
    for each in outcome.feeders:
        ended_by = None if each.signal is None else signal_name(each.signal)
        # a program that reads no further than it needs ends its feeders by SIGPIPE
        if each.exit or ended_by not in (None, "PIPE"):
            how = f"exit {each.exit}" if ended_by is None else f"signal {ended_by}"
            yield _failed("stdin", Mismatch(form="feeder", expected=each.name, actual=how))
    if outcome.leftovers and not _allowed(chosen, "leftovers", LeftoversAspect):
        origin = chosen["leftovers"].origin if "leftovers" in chosen else ""
        mismatch = Mismatch(form="leftovers", expected="", actual=", ".join(outcome.leftovers))
        yield AspectResult(aspect="leftovers", met=False, mismatch=mismatch, rule=origin)


def _unlike_the_plan(outcome: Outcome) -> Iterable[AspectResult]:
    """Yield what of a dialogue, or of what should happen meanwhile, came otherwise."""
    if outcome.unused_replies:
        left = "\n".join(each.decode("utf-8", "surrogateescape") for each in outcome.unused_replies)
        yield _failed("dialogue", Mismatch(form="unused-replies", expected=left, actual=_said(outcome)))
    if outcome.asked_more:
        yield _failed("dialogue", Mismatch(form="asked-more", expected="", actual=_said(outcome)))
    for name, reason in outcome.missed:
        found = reason or "it ended before"
        yield _failed("meanwhile", Mismatch(form="meanwhile", expected=name, actual=found))


def _said(outcome: Outcome) -> str:
    """Return what the program had printed when the prompt that was waited for did not come."""
    return (outcome.stdout + outcome.stderr)[-2_000:].decode("utf-8", "surrogateescape")


def _failed(aspect: str, mismatch: Mismatch) -> AspectResult:
    return AspectResult(aspect=aspect, met=False, mismatch=mismatch)


def _allowed(
    chosen: Mapping[str, Chosen], name: str, kind: type[CrashAspect] | type[LeftoversAspect]
) -> bool:
    found = chosen.get(name)
    return found is not None and isinstance(found.aspect, kind) and found.aspect.allowed


def _verdict(aspects: Sequence[AspectResult], built_in: int) -> Verdict:
    """Return the verdict that the results come to; the first `built_in` of them are of built-in
    checks."""
    failed = {result.aspect for result in aspects if not result.met}
    # Before all else: what a program prints on the way down answers no other expectation.
    if "crash" in failed:
        return "crashed"
    if failed:
        return "failed"
    # Built-in checks alone are no expectation: a case for which nothing was asked has not passed.
    return "passed" if len(aspects) > built_in else "unchecked"
