"""Where settling experiments: a spec as it stands by now, and what the program does with
vectors."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from typing import Literal

from keen_matrix.core.errors import KeenMatrixError, Misuse
from keen_matrix.core.experiments.ask import Allowance, Answer, Experiments, OutOfLaunches, has_waited
from keen_matrix.core.experiments.edits import AppendEdit, edited
from keen_matrix.core.experiments.evidence import reason_not_to_state
from keen_matrix.core.experiments.findings import Finding, Shown
from keen_matrix.core.experiments.forms import UsageTrials, grounds_of_form
from keen_matrix.core.launch.launchers import ResolvedLaunch, resolved_launch
from keen_matrix.core.launch.process.waiting import can_be_seen
from keen_matrix.core.launch.through import Through
from keen_matrix.core.launch.workers.engine import WorkerPool
from keen_matrix.core.model.record import BROKEN
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.starting.directly import directly
from keen_matrix.core.runs.starting.program import started
from keen_matrix.core.signature.grounds import Grounds, UsageGrounds, Words
from keen_matrix.core.signature.requests import Builder, Request, builders
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.spec.load import load_spec
from keen_matrix.core.structs import replace

CAME_LENGTH = 100
#: Where a spec names options that derived vectors go without.
ASIDE = ("signature", "aside")


class Lab:
    """A spec that is being settled. Its text changes with each finding; what the program was seen
    to do stays known as long as the vectors have the same surroundings."""

    def __init__(
        self,
        path: str,
        text: str,
        pool: WorkerPool,
        watch: RunWatch,
        most: int,
        launch: ResolvedLaunch | None = None,
    ) -> None:
        """Make a lab; `launch` is how the program is started where that is known."""
        self.path, self.pool, self.watch, self.most = path, pool, watch, most
        self.findings: list[Finding] = []
        self.forms = Forms(self)
        self.text = text
        self.spec = self._loaded(text)
        #: What the program's launcher starts, where that is not started directly.
        self.saves: Through | None = None
        if launch is None:
            begun = started(self.spec, resolved_launch(self.spec), watch, are_many=True)
            launch, self.saves = begun.launch, begun.saves
        self.launch = launch
        self.limit = most
        #: Whether somebody said how many launches are allowed.
        self.is_given = True
        self.experiments = Experiments(self.spec, self.launch, pool, watch.grounding, most)

    def _loaded(self, text: str) -> Spec:
        spec = directly(load_spec(self.path, text))
        if spec.signature is None:
            raise Misuse(f"{self.path} has no signature, so there is nothing to settle")
        return spec

    @property
    def signature(self) -> Signature:
        """The signature as it stands by now."""
        assert self.spec.signature is not None  # a spec without one is not taken
        return self.spec.signature

    def allow(self, launches: int) -> None:
        """Let so many more launches be made, and never more than all."""
        self.limit = min(self.most, self.experiments.spent + launches)
        self.experiments.most = self.limit

    # --- what is found ---

    def add(self, finding: Finding) -> bool:
        """Take a finding, and state it in the spec; tell whether it is new."""
        finding = self._without_excuses(finding)
        if not finding.edits and any(each.text == finding.text for each in self.findings):
            return False
        if finding.edits and any(each.edits == finding.edits for each in self.findings):
            return False  # stated before: what goes back and forth would never end
        if finding.edits:
            text = edited(self.text, finding.edits)
            if text == self.text:
                return False
            try:
                spec = self._loaded(text)
                reason = reason_not_to_state(self, finding, spec.signature) if spec.signature else ""
                if reason:
                    return self.add(replace(finding, text=f"{finding.text}: {reason}", edits=()))
                self._change(text, spec)
            except KeenMatrixError:
                # It contradicts what is stated already; what was found until here is not to be
                # lost.
                return self.add(replace(finding, edits=()))
        self.findings.append(finding)
        return True

    def _without_excuses(self, finding: Finding) -> Finding:
        """Return a finding that sets nothing aside but what the program refuses: an option with
        which it crashes is a defect and stays in the derived cases, and one that prints and ends
        badly is no refusal either."""
        if not any(isinstance(each, AppendEdit) and each.key == ASIDE for each in finding.edits):
            return finding
        known = self.experiments.known
        answers = [known[each.words] for each in finding.shown if each.words in known]
        crashed = next((each for each in answers if each.record.verdict == "crashed"), None)
        if crashed is not None:
            text = f"{finding.text}: it crashes ({crashed.text.removeprefix('crashed: ')[:CAME_LENGTH]})"
            return replace(finding, text=text, edits=(), defect=True)
        if any(self._only_prints(each) for each in answers):
            return replace(finding, text=f"{finding.text}, or prints and ends badly", edits=())
        return finding

    def _only_prints(self, answer: Answer) -> bool:
        """Tell whether a launch printed on standard output alone and ended badly, in a program
        whose refusals are on standard error."""
        record = answer.record
        if answer.works or record.verdict == "timed-out" or record.stderr or not record.stdout:
            return False
        try:
            refusal = self.answer(("--no-such-option",))
        except OutOfLaunches:
            return False
        return not refusal.works and bool(refusal.record.stderr)

    def _change(self, text: str, spec: Spec) -> None:
        self.text, self.spec = text, spec
        fresh = Experiments(spec, self.launch, self.pool, self.watch.grounding, self.limit)
        fresh.go_on(self.experiments)
        self.experiments = fresh

    # --- what the program does ---

    def answer(self, words: Words) -> Answer:
        """Return what the program does with one vector. Raises OutOfLaunches."""
        return self.experiments.answer(words)

    def answers(self, vectors: Iterable[Words]) -> list[Answer]:
        """Return what it does with several, launched side by side. Raises OutOfLaunches."""
        listed = list(vectors)
        self.experiments.launch(listed)
        return [self.experiments.answer(each) for each in listed]

    def works(self, request: Request | None) -> bool:
        """Tell whether the program accepts a request."""
        return request is not None and self.answer(request.words()).works

    def shown(self, *vectors: Words) -> tuple[Shown, ...]:
        """Return vectors with the result of them, to show."""
        return tuple(Shown(words, came(self.answer(words))) for words in vectors)


class Forms:
    """The forms of the synopsis as the spec stands by now."""

    def __init__(self, lab: Lab) -> None:
        self.lab = lab
        #: The text of the spec, and what is known of its forms by it.
        self._known: tuple[str, dict[int, UsageGrounds]] = ("", {})
        #: What launches did not suffice for, by that text: the forms, and what was allowed.
        self._short: dict[int, Allowance] = {}

    def builders(self, *, grounded: bool = True) -> Sequence[Builder]:
        """Return a builder for each form, clear of what is known to be refused."""
        if not grounded:
            return builders(self.lab.signature)
        return builders(self.lab.signature, Grounds(forms=self.grounds()))

    def grounds(self) -> tuple[UsageGrounds, ...]:
        """Return what is known of each form: what it requires, what clashes in it."""
        return tuple(self.ground(number) for number in range(len(self.lab.signature.forms)))

    def ground(self, number: int) -> UsageGrounds:
        """Return what is known of one form. It costs launches for what is not known yet."""
        if self._known[0] != self.lab.text:
            self._known, self._short = (self.lab.text, {}), {}
        known = self._known[1]
        if number not in known:
            allowance = self.lab.experiments.allowance
            # all that it takes to come to the same end again would be in vain
            if number in self._short and self._short[number].covers(allowance):
                raise OutOfLaunches
            try:
                known[number] = grounds_of_form(self.trials(number))
            except OutOfLaunches:
                self._short[number] = self.lab.experiments.allowance
                raise
        return known[number]

    def sound_builder(self, number: int) -> Builder | None:
        """Return a builder of a form whose smallest vector is accepted: as the synopsis says, or
        with what it was seen to require; None where there is none."""
        plain = builders(self.lab.signature)[number]
        if self.lab.works(plain.smallest()):
            return plain
        found = Builder(self.lab.signature, self.lab.signature.forms[number], self.ground(number))
        return found if found.grounds.works and self.lab.works(found.smallest()) else None

    def trials(self, number: int) -> UsageTrials:
        """Return the experiments with one form."""
        return UsageTrials(self.lab.signature, number, self.lab.experiments)


def came(answer: Answer) -> str:
    """Return the result of a vector, in a line."""
    if not answer.works:
        return answer.text[:CAME_LENGTH]
    line = next(iter((answer.record.stdout or "").strip().splitlines()), "")
    told = f"accepted: {line}" if line else "accepted"
    return told[:CAME_LENGTH]


#: How the readers of arguments complain (getopt_long(3), perl's Getopt::Long).
_COMPLAINS = re.compile(
    r"(?:unrecogni[sz]ed|unknown|invalid|illegal) (?:option|flag|switch)\b|"
    r"option.{0,40} (?:requires an argument|doesn't allow an argument|is ambiguous)",
    re.IGNORECASE,
)


def complains(answer: Answer) -> bool:
    """Tell whether a program says that an option is wrong, whatever it does then."""
    return _COMPLAINS.search(answer.record.stderr or "") is not None


def refused_or_accepted(answer: Answer) -> Literal["accepted", "refused", "unknown"]:
    """Return what a program did with a vector; unknown where it crashed, timed out or was not
    launched."""
    if answer.works:
        return "accepted"
    return "refused" if answer.record.verdict not in BROKEN else "unknown"


def waits(lab: Lab, words: Words) -> bool:
    """Tell whether a program waits for standard input with a vector; yes where that cannot be
    seen."""
    if not can_be_seen():
        return True
    (answer,) = lab.experiments.launched([words], silent=True).values()
    return has_waited(answer.record)
