"""Settling a spec: the steps, one after another, each on what those before it found."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

from keen_matrix.core.experiments.ask import OutOfLaunches
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.insight.settling.answers import settle_help, settle_surroundings, settle_varying
from keen_matrix.core.insight.settling.combinations import settle_combinations
from keen_matrix.core.insight.settling.conflicts import settle_conflicts, settle_needs, settle_pairs
from keen_matrix.core.insight.settling.contents import settle_read
from keen_matrix.core.insight.settling.examples import settle_examples
from keen_matrix.core.insight.settling.going_with import settle_going_with
from keen_matrix.core.insight.settling.habits import settle_habits, settle_repeats
from keen_matrix.core.insight.settling.lab import Lab
from keen_matrix.core.insight.settling.outcomes import settle_outcomes
from keen_matrix.core.insight.settling.preceding import settle_before
from keen_matrix.core.insight.settling.reading import settle_reader
from keen_matrix.core.insight.settling.refusing import settle_kinds, settle_refusals
from keen_matrix.core.insight.settling.replacing import settle_replacing
from keen_matrix.core.insight.settling.structure import (
    settle_actions,
    settle_endless,
    settle_operands_of_options,
    settle_required,
    settle_timeout,
    settle_valued_flags,
)
from keen_matrix.core.insight.settling.values import settle_counts, settle_smallest, settle_told, settle_types
from keen_matrix.core.runs.grounding.controls import hollow_of
from keen_matrix.core.structs import Struct


class SettlingStep(NamedTuple):
    """One step. `needs` is what it is about, and has to be there by then; `finds` what it can state
    in the spec."""

    find: Callable[[Lab], Iterator[Finding]]
    needs: str
    finds: str
    #: Whether its findings do not change what others of it stand on: it begins again when all are
    #: stated, and not after each. Of ten options that exclude each other, each would cost all
    #: launches again.
    is_together: bool = False
    #: Whether it gets on with any number of launches.
    is_frugal: bool = False


#: In this order: each step stands on accepted calls, which the first ones see to. What acts alone
#: hides conflicts until it is written down. Steps are numbered from 1 as they are here.
STEPS: tuple[SettlingStep, ...] = (
    SettlingStep(settle_examples, "help, manual page, README", "examples that work", is_frugal=True),
    SettlingStep(settle_outcomes, "silent ends", "a status that is no refusal"),
    SettlingStep(settle_smallest, "each usage", "values with which its smallest call is accepted"),
    SettlingStep(settle_before, "usages that are never accepted", "calls that have to come first"),
    SettlingStep(settle_counts, "operands", "how many words each takes"),
    SettlingStep(settle_required, "smallest calls", "operands and options that are required"),
    SettlingStep(settle_smallest, "what is required", "values of that"),
    SettlingStep(
        settle_read, "accepted calls that print nothing", "a file of which there is something to say"
    ),
    SettlingStep(settle_valued_flags, "flags", "options that take a value", is_together=True),
    SettlingStep(settle_operands_of_options, "options", "operands that go with one option only"),
    SettlingStep(settle_endless, "options", "options with which the program does not end", is_together=True),
    SettlingStep(
        settle_told, "messages", "values that the program asks for", is_together=True, is_frugal=True
    ),
    SettlingStep(settle_needs, "options refused alone", "other options that they need", is_together=True),
    SettlingStep(settle_going_with, "examples", "options and operands that go with one value only"),
    SettlingStep(
        settle_types, "values without a type", "their types and bounds", is_together=True, is_frugal=True
    ),
    SettlingStep(settle_outcomes, "silent ends by now", "a status that is no refusal"),
    SettlingStep(settle_reader, "calls on which readers differ", "the reader"),
    SettlingStep(settle_habits, "the same, without a reader", "single habits"),
    SettlingStep(settle_replacing, "options and operands", "options that replace an operand"),
    SettlingStep(settle_actions, "options", "those that end the call"),
    SettlingStep(settle_conflicts, "the fullest call", "options that exclude each other", is_together=True),
    SettlingStep(settle_repeats, "options", "what a second time means"),
    SettlingStep(settle_help, "help", "the stream it is printed on, and its exit status"),
    SettlingStep(settle_refusals, "refusals", "their exit, stream and words"),
    SettlingStep(settle_pairs, "pairs of options", "those that are refused together", is_together=True),
    SettlingStep(
        settle_combinations, "what a run launches", "values that are refused together", is_together=True
    ),
    SettlingStep(settle_kinds, "refusals by kind", "exits and streams of one kind"),
    SettlingStep(settle_varying, "accepted calls", "output that differs from launch to launch"),
    SettlingStep(settle_timeout, "accepted calls", "a timeout that suits them"),
    SettlingStep(settle_surroundings, "accepted calls", "surroundings that the program depends on"),
)
#: Of the launches that are left at each pass, what one step may take, and what it may at least, so
#: that those after it have their turn. What is left then goes to those that were cut short, in
#: their order.
SHARES, LEAST_SHARE = (0.35, 0.5, 1.0), 60
MOST_FINDINGS = 500


class Settled(Struct, frozen=True):
    """What settling came to."""

    findings: tuple[Finding, ...]
    before: str
    #: The text of the spec with all findings in it.
    after: str
    launches: int
    #: Whether the launches did not suffice for everything.
    is_stopped: bool
    is_interrupted: bool = False
    #: What the launches did not suffice for; nothing of it is stated.
    open_questions: tuple[str, ...] = ()
    #: What of the accepted launches shows nothing of the program at work, in words.
    hollow: tuple[str, ...] = ()

    def difference(self, path: str) -> list[str]:
        """Return the change of the spec, as lines of a unified difference."""
        old, new = self.before.splitlines(), self.after.splitlines()
        return list(difflib.unified_diff(old, new, path, f"{path}, settled", lineterm="", n=2))


def settled(lab: Lab) -> Settled:
    """Return what experiments find out of a spec. An interruption, and the end of the launches,
    keep what was found until then."""
    before = lab.text
    stopped = interrupted = False
    cut: Sequence[SettlingStep] = STEPS
    try:
        for share in SHARES:
            left = lab.most - lab.experiments.spent
            cut = [step for step in cut if not _has_done(lab, step, round(left * share))]
            if not cut:
                break
        stopped = bool(cut)
    except KeyboardInterrupt:
        interrupted = True
    launches = lab.experiments.launches
    hollow = tuple(sentence for _, sentence in hollow_of(lab.spec, lab.experiments))
    questions = tuple(dict.fromkeys(step.finds for step in cut)) if stopped else ()
    found = tuple(lab.findings)
    return Settled(found, before, lab.text, launches, stopped, interrupted, questions, hollow)


def _has_done(lab: Lab, step: SettlingStep, launches: int) -> bool:
    """Have a step work with some launches, and tell whether they sufficed."""
    # a step that launches every option once needs as many, or would not begin
    least = LEAST_SHARE + (0 if step.is_frugal else len(lab.signature.options))
    lab.allow(max(launches, least))
    lab.watch.asking(step.finds, STEPS.index(step) + 1, len(STEPS))
    try:
        _work(lab, step)
    except OutOfLaunches:
        return False
    return True


def _work(lab: Lab, step: SettlingStep) -> None:
    """Have a step work until it finds nothing new. It begins again after each change of the spec:
    vectors are made otherwise then, and those that are known cost no launch."""
    for _ in range(MOST_FINDINGS):
        text = lab.text
        for finding in step.find(lab):
            if lab.add(finding) and lab.text != text and not step.is_together:
                break
        # Nothing new: whatever the step finds now, it found before.
        if lab.text == text:
            return
