"""Where settling experiments: a spec as it stands by now, and what the program does with vectors."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from typing import Literal

from keen_matrix.core.errors import Misuse
from keen_matrix.core.expressions import Scope, Template
from keen_matrix.core.insight.settling.edits import KeyEdit, edited, is_guessed
from keen_matrix.core.insight.settling.findings import Finding, Shown
from keen_matrix.core.insight.settling.sources import text_of_script
from keen_matrix.core.launch.engine import WorkerPool
from keen_matrix.core.launch.launchers import ResolvedLaunch, resolved_launch
from keen_matrix.core.model.spec import Matrix, Put, Spec, Surroundings
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.experiments import Answer, Experiments
from keen_matrix.core.runs.forms import FormTrials, grounds_of_form
from keen_matrix.core.signature.grounds import FormGrounds, Grounds, Words
from keen_matrix.core.signature.readers import Runtime
from keen_matrix.core.signature.requests import Builder, Request, builders
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.spec.drafted import SAMPLE_FILE, SAMPLE_LINES
from keen_matrix.core.spec.load import load_spec

CAME_LENGTH = 100
_BY_SHEBANG: tuple[tuple[str, Runtime], ...] = (
    ("python", "python"), ("node", "node"), ("perl", "perl"), ("ruby", "ruby"),
    ("bash", "shell"), ("dash", "shell"), ("ksh", "shell"), ("zsh", "shell"), ("sh", "shell"),
)  # fmt: skip


class Lab:
    """A spec that is being settled. Its text changes with each finding; what the program was seen
    to do stays known as long as the vectors have the same surroundings."""

    def __init__(self, path: str, text: str, pool: WorkerPool, watch: RunWatch, most: int) -> None:
        self.path, self.pool, self.watch, self.most = path, pool, watch, most
        self.findings: list[Finding] = []
        self._script: str | None = None
        self._grounds: tuple[str, dict[int, FormGrounds]] = ("", {})
        """The text of the spec, and what is known of its forms by it."""
        self.text = text
        self.spec = self._loaded(text)
        self.launch: ResolvedLaunch = resolved_launch(self.spec)
        self.limit = most
        self.experiments = Experiments(self.spec, self.launch, pool, watch, most)

    def _loaded(self, text: str) -> Spec:
        spec = load_spec(self.path, text)
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
        if not finding.edits and any(each.text == finding.text for each in self.findings):
            return False
        if finding.edits:
            text = edited(self.text, finding.edits)
            if text == self.text:
                return False
            self._change(text)
        self.findings.append(finding)
        return True

    def _change(self, text: str) -> None:
        old = self.spec
        spec = self._loaded(text)
        self.text, self.spec = text, spec
        fresh = Experiments(spec, self.launch, self.pool, self.watch, self.limit)
        fresh.go_on(self.experiments, same=_surroundings(spec) == _surroundings(old))
        self.experiments = fresh

    def is_guessed(self, name: str) -> bool:
        """Tell whether the type of a NAME is only a guess of the draft."""
        return is_guessed(self.text, name)

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
        """Return vectors with what came of them, to show."""
        return tuple(Shown(words, came(self.answer(words))) for words in vectors)

    @property
    def has_sample(self) -> bool:
        """Whether a file stands ready for the program to read."""
        return any(name.constant == SAMPLE_FILE for name, _ in _around(self.spec.controls))

    def with_sample(self, content: str = "") -> Lab:
        """Return a lab in which a file stands ready for the program to read, with a content where
        that is given."""
        if not content and self.has_sample:
            return self
        return self.with_edit(KeyEdit(("files", SAMPLE_FILE), content or SAMPLE_LINES))

    @property
    def has_input(self) -> bool:
        """Whether the spec says what stands on standard input."""
        controls = self.spec.controls
        return controls is not None and controls.steps[0].surroundings.stdin is not None

    def with_edit(self, edit: KeyEdit) -> Lab:
        """Return a lab with a spec that says something else; its launches count as well."""
        text = edited(self.text, [edit])
        other = Lab(self.path, text, self.pool, self.watch, self.limit)
        other.experiments.go_on(self.experiments, same=False)
        return other

    # --- what vectors are made of ---

    def builders(self, *, grounded: bool = True) -> Sequence[Builder]:
        """Return a builder for each form, clear of what is known to be refused."""
        if not grounded:
            return builders(self.signature)
        return builders(self.signature, Grounds(forms=self.form_grounds()))

    def form_grounds(self) -> tuple[FormGrounds, ...]:
        """Return what is known of each form: what it requires, what clashes in it."""
        return tuple(self.ground(number) for number in range(len(self.signature.forms)))

    def ground(self, number: int) -> FormGrounds:
        """Return what is known of one form. It costs launches for what is not known yet."""
        if self._grounds[0] != self.text:
            self._grounds = (self.text, {})
        known = self._grounds[1]
        if number not in known:
            known[number] = grounds_of_form(self.trials(number))
        return known[number]

    def sound_builder(self, number: int) -> Builder | None:
        """Return a builder of a form whose smallest vector is accepted: as the synopsis says, or
        with what it was seen to require; None where there is none."""
        plain = builders(self.signature)[number]
        if self.works(plain.smallest()):
            return plain
        found = Builder(self.signature, self.signature.forms[number], self.ground(number))
        return found if found.grounds.works and self.works(found.smallest()) else None

    def trials(self, number: int) -> FormTrials:
        """Return the experiments with one form."""
        return FormTrials(self.signature, number, self.experiments)

    @property
    def script(self) -> str:
        """The program's own text, where it is a script; else an empty one."""
        if self._script is None:
            scope = Scope({"here": self.spec.here})
            launch = [str(each.render(scope)) for each in self.spec.program.launch]
            self._script = text_of_script([self.launch.file, *launch])
        return self._script

    @property
    def runtime(self) -> Runtime:
        """What the program is run by: told by its launch words, else by its first line."""
        words = [os.path.basename(self.launch.file), *map(os.path.basename, self.launch.words[:1])]
        try:
            with open(self.launch.file, "rb") as file:
                first = file.readline(200).decode("utf-8", "replace")
        except OSError:
            first = ""
        words += first[2:].replace("/", " ").split() if first.startswith("#!") else []
        for word in words:
            for name, runtime in _BY_SHEBANG:
                if word == name or (
                    word.startswith(name) and word[len(name) :].strip(".0123456789") == ""
                ):
                    return runtime
        return "binary"


def came(answer: Answer) -> str:
    """Return what came of a vector, in a line."""
    if not answer.works:
        return answer.text[:CAME_LENGTH]
    line = next(iter((answer.record.stdout or "").strip().splitlines()), "")
    told = f"accepted: {line}" if line else "accepted"
    return told[:CAME_LENGTH]


def refused_or_accepted(answer: Answer) -> Literal["accepted", "refused", "unknown"]:
    """Return what a program did with a vector; unknown where it crashed, hung or was not
    launched."""
    if answer.works:
        return "accepted"
    return (
        "refused" if answer.record.verdict not in ("crashed", "hung", "unlaunched") else "unknown"
    )


def _surroundings(spec: Spec) -> Surroundings | None:
    """Return what vectors have around them."""
    return None if spec.controls is None else spec.controls.steps[0].surroundings


def _around(controls: Matrix | None) -> tuple[tuple[Template, Put], ...]:
    """Return the files that vectors have around them."""
    return () if controls is None else controls.steps[0].surroundings.files
