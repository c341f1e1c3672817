"""Grounding: the accepted vectors that derived ones stand on are launched before them.

Of each form of the synopsis these are the smallest vector and the fullest. One that the program
refuses is reduced until it is accepted: first by the options that its message names, then by taking
options out, halves and then single ones. What clashed is kept, so that it is told once and no
family stands on it. Then every other control is launched once, and the bases a second time: what
differs between two launches of one vector varies by itself.
"""

from __future__ import annotations

import re
import time
from collections.abc import Iterable, Sequence, Set
from dataclasses import dataclass, replace

from keen_matrix.core.expect.masks import Mask
from keen_matrix.core.expect.naming import is_named, without_usage
from keen_matrix.core.launch.engine import WorkerPool
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.waiting import can_be_seen
from keen_matrix.core.model.case import Case, Standing
from keen_matrix.core.model.lines import decode_record
from keen_matrix.core.model.record import Record
from keen_matrix.core.model.spec import Matrix, Spec, Stdin
from keen_matrix.core.results.causes import answer_of
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.stating import (
    stated_conflict,
    stated_example,
    stated_requirement,
    stated_value,
    untyped_names,
    values_told,
)
from keen_matrix.core.runs.varying import looks_like_time, varying_between
from keen_matrix.core.signature.families import COMPARING, family_of
from keen_matrix.core.signature.grounds import (
    Clash,
    FormGrounds,
    Grounds,
    Varying,
    Words,
)
from keen_matrix.core.signature.model import Option
from keen_matrix.core.signature.requests import Builder, Request, Wish, builders, plain_options
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.vectors.derived import standing_of
from keen_matrix.core.vectors.ids import case_id

MOST_REDUCING = 40
"""Launches that one form gets for finding out what it clashes in."""
UNKNOWN = ("--no-such-option", "-no-such-option", "-Z")
"""Options that no program has, in the ways in which they are written."""
SAID_LENGTH = 1_000
"""Characters of a message that are looked through for what it asks for."""
HUNG_COST = 10
"""Launches that one counts for which took its whole time."""
PROGRAMS_WORD = ("exit", "signal", "crash")
"""Aspects that tell whether a vector was accepted; others tell whether it did right."""
VARIES = "<varies>"
"""What stands in the place of what varies by itself."""
NEXT_SECOND = 1.1
"""Seconds after which a clock that a program prints shows another time."""


@dataclass(frozen=True, slots=True)
class Answer:
    """What a program did with a control."""

    works: bool
    """Whether it was accepted."""
    text: str
    """How it ended, and what it said, in a line, where it was not."""
    said: str
    """All that it said, up to a length."""
    record: Record


def is_accepted(record: Record) -> bool:
    """Tell whether a program took a vector: it ended as the spec expects of accepted ones, with 0
    where the spec says nothing of exits."""
    if record.verdict in ("crashed", "hung", "unlaunched"):
        return False
    if any(each.aspect in PROGRAMS_WORD for each in record.unmet):
        return False
    says = any(each.aspect in ("exit", "signal") for each in record.aspects)
    return says or record.exit == 0


class Experiments:
    """Launches the controls of one spec, each vector once, and keeps what came."""

    def __init__(
        self, spec: Spec, launch: ResolvedLaunch, pool: WorkerPool, watch: RunWatch
    ) -> None:
        matrices = () if spec.controls is None else (spec.controls, _silent(spec.controls))
        self._spec = replace(spec, matrices=matrices, grounds=None)
        self._launch, self._pool, self._watch = launch, pool, watch
        self._known: dict[Words, Answer] = {}
        self._is_planned = False
        self.launches = 0

    def answer(self, words: Words) -> Answer:
        """Return what the program does with one vector."""
        self.launch([words])
        return self._known[words]

    def launch(self, vectors: Iterable[Words]) -> None:
        """Launch those that were not launched before."""
        fresh = [each for each in dict.fromkeys(vectors) if each not in self._known]
        self._known |= self.launched(fresh)

    def launched(self, vectors: Sequence[Words], *, silent: bool = False) -> dict[Words, Answer]:
        """Launch vectors, again where they were launched before, and return what came. Standard
        input has ended at once, or is open and silent."""
        if not self._is_planned:
            self._pool.plan(self._spec, self._launch)
            self._is_planned = True
        cases = {case.id: case for case in (self._case(each, silent) for each in vectors)}
        found: dict[Words, Answer] = {}
        for result in self._pool.results(iter(cases.values())) if cases else ():
            record = decode_record(result.line)
            works = is_accepted(record)
            text = "" if works else answer_of(record)
            said = without_usage(record.stderr or "") or record.stdout or ""
            words = cases[record.id].argv  # those of the record went through JSON
            found[words] = Answer(works, text, f"{text}\n{said[:SAID_LENGTH]}", record)
            self.launches += 1
            self._watch.grounding(self.launches)
        return found

    def _case(self, words: Words, silent: bool) -> Case:
        matrix = self._spec.matrices[silent]
        standings: tuple[Standing, ...] = ()
        if self._spec.signature is not None:
            # whatever is said of it, here it is asked whether the program takes it
            standing = standing_of(self._spec.signature, words)
            standings = (standing._replace(status="accepted", kinds=()),)
        return Case(
            id=case_id((matrix.name, *words)), matrix=matrix.index, argv=words,
            standings=standings, family=matrix.family,
        )  # fmt: skip


def grounds_of(spec: Spec, experiments: Experiments) -> Grounds | None:
    """Return what experiments show of the controls of a spec's derived families; None of a spec
    without a signature."""
    signature = spec.signature
    if signature is None:
        return None
    experiments.launch(
        [each.words() for builder in builders(signature) for each in _bases(builder)]
    )
    forms = tuple(
        _Form(signature, number, experiments).grounds() for number in range(len(signature.forms))
    )
    grounds = Grounds(forms=forms)
    launchers = tuple(spec.program.launchers)
    controls = {
        vector.control
        for matrix in spec.matrices if matrix.family
        for vector in family_of(signature, matrix.family, launchers, grounds).vectors
        if vector.control is not None
    }  # fmt: skip
    experiments.launch(sorted(controls))
    answers = ((words, experiments.answer(words)) for words in sorted(controls))
    refused = tuple((words, answer.text) for words, answer in answers if not answer.works)
    sound = [each.words() for builder in builders(signature, grounds) for each in _bases(builder)]
    varying = _varying(experiments, [each for each in sound if experiments.answer(each).works])
    return replace(
        grounds, refused=refused, varying=varying, asking=_asking(signature, grounds, experiments)
    )


def grounded(spec: Spec, grounds: Grounds | None) -> Spec:
    """Return a spec whose derived vectors stand on what is known; what varies by itself is masked
    where launches are compared."""
    if grounds is None:
        return spec
    masks = tuple(
        Mask(each.pattern, VARIES, (each.stream,)) for each in grounds.varying if each.pattern
    )
    matrices = tuple(
        replace(matrix, masks=(*matrix.masks, *masks)) if matrix.family in COMPARING else matrix
        for matrix in spec.matrices
    )
    return replace(spec, grounds=grounds, matrices=matrices)


def are_as_before(
    spec: Spec, grounds: Grounds, controls: Set[Words], experiments: Experiments
) -> bool:
    """Tell whether the bases, the controls that a run stands on and all that was refused still do
    what is kept of them: a digest of the program does not see the libraries that it loads."""
    signature = spec.signature
    if signature is None or len(grounds.forms) != len(signature.forms):
        return False
    refused = {words for words, _ in grounds.refused}
    refused |= {clash.words for form in grounds.forms for clash in form.clashes}
    for number, form in enumerate(grounds.forms):
        plain = Builder(signature, signature.forms[number]).smallest()
        if plain is not None and (form.required or not form.works):
            refused.add(plain.words())
    sound = [each for each in builders(signature, grounds) if each.grounds.works]
    bases = {request.words() for builder in sound for request in _bases(builder)}
    working = (bases | controls) - refused
    experiments.launch(sorted(working | refused))
    return all(experiments.answer(words).works for words in working) and not any(
        experiments.answer(words).works for words in refused
    )


def _bases(builder: Builder) -> list[Request]:
    found = (builder.smallest(), builder.fullest())
    return list(dict.fromkeys(each for each in found if each is not None))


def _varying(experiments: Experiments, bases: Sequence[Words]) -> tuple[Varying, ...]:
    """Launch bases a second time, and return what differs from the first."""
    first = {words: experiments.answer(words).record for words in bases}
    if any(looks_like_time(record.stdout or "") for record in first.values()):
        time.sleep(NEXT_SECOND)
    second = experiments.launched(bases)
    found: dict[Varying, None] = {}
    for words, record in first.items():
        for stream in ("stdout", "stderr"):
            one, other = (
                each.compared_stream(stream) or "" for each in (record, second[words].record)
            )
            found.update(dict.fromkeys(varying_between(stream, one, other)))
    wholly = {each.stream for each in found if not each.pattern}
    return tuple(each for each in found if not each.pattern or each.stream not in wholly)


def _silent(controls: Matrix) -> Matrix:
    """Return what controls are launched as when nothing is to come on standard input."""
    (step,) = controls.steps
    around = replace(step.surroundings, stdin=Stdin(silent=True))
    steps = (replace(step, surroundings=around),)
    return replace(controls, index=controls.index + 1, name="silent controls", steps=steps)


def _asking(signature: Signature, grounds: Grounds, experiments: Experiments) -> tuple[Words, ...]:
    """Return the vectors at which a program asks something on its streams and waits for the answer:
    the bases, and each option beside the smallest. A program that only reads its input prints no
    line that it does not end."""
    if not can_be_seen():  # a wait could only be told from a hang by nothing
        return ()
    vectors: dict[Words, None] = {}
    for builder in builders(signature, grounds):
        wanted = [
            [option] for option in _optional(builder) if option.key not in builder.grounds.alone
        ]
        requests = [*_bases(builder), *map(builder.smallest, wanted)]
        vectors |= dict.fromkeys(each.words() for each in requests if each is not None)
    answers = experiments.launched(list(vectors), silent=True)
    asking = [words for words, answer in answers.items() if _asks(answer.record)]
    experiments.launch(asking)
    return tuple(each for each in asking if _ends(experiments.answer(each).record))


def _ends(record: Record) -> bool:
    """Tell whether a program came to an end by itself: one that did not is told of already."""
    return not any(each.form in ("timeout", "cap") for each in record.aspects)


def _asks(record: Record) -> bool:
    """Tell whether a program was waiting at a prompt, with nothing changed until then."""
    waits = any(each.form == "waits" for each in record.aspects)
    said = record.stdout or record.stderr or ""
    return waits and not record.files and bool(said) and not said.endswith("\n")


class _Form:
    """The experiments with one form of a synopsis."""

    def __init__(self, signature: Signature, number: int, experiments: Experiments) -> None:
        self._signature, self._number, self._experiments = signature, number, experiments
        self._builder = Builder(signature, signature.forms[number])
        self._left = MOST_REDUCING
        self._learnt: tuple[tuple[str, str], ...] = ()
        """Values with which a required option was accepted."""

    def grounds(self) -> FormGrounds:
        """Return what is known of the form after its experiments."""
        smallest = self._builder.smallest()
        if smallest is None:
            return FormGrounds()
        answer = self._experiments.answer(smallest.words())
        found = FormGrounds()
        if not answer.works:
            edit = stated_value(self._signature, smallest, answer.said)
            values = self._valued(smallest)
            if values:
                edit = stated_example(edit, dict(values))
                told = Clash(options=(), words=smallest.words(), answer=answer.text, edit=edit)
                found = FormGrounds(values=values, clashes=(told,))
            else:
                required = self._required(answer)
                if not required:
                    return FormGrounds(works=False, edit=edit)
                told_edit = stated_requirement(self._options(required))
                found = FormGrounds(required=required, edit=told_edit, values=self._learnt)
            self._rebuild(found)
        return self._with_actions(self._without_clashes(found))

    def _rebuild(self, found: FormGrounds) -> None:
        self._builder = Builder(self._signature, self._signature.forms[self._number], found)

    def _valued(self, request: Request) -> tuple[tuple[str, str], ...]:
        """Return values of NAMEs without a type with which a refused request is accepted; none
        where there are none. What the answer asks for is tried first."""
        answer = self._experiments.answer(request.words()).said
        names = untyped_names(self._signature, request, answer)
        for value in values_told(answer) if names else ():
            for chosen in dict.fromkeys([(names[0],), tuple(names)]):
                tried = request
                for place, number, name, _ in request.slots():
                    if name in chosen:
                        tried = tried.with_value(place, number, value)
                if self._works(tried):
                    return tuple((name, value) for name in chosen)
        return ()

    def _options(self, keys: Iterable[str]) -> list[Option]:
        by_key = {option.key: option for option in self._builder.form.options}
        return [by_key[key] for key in keys]

    def _works(self, request: Request | None) -> bool:
        """Tell whether a request is accepted, as long as there are launches left to ask with."""
        if request is None or self._left <= 0:
            return False
        before = self._experiments.launches
        works = self._experiments.answer(request.words()).works
        answer = self._experiments.answer(request.words())
        cost = HUNG_COST if answer.record.verdict == "hung" else 1
        self._left -= cost * (self._experiments.launches - before)
        return works

    def _with_actions(self, found: FormGrounds) -> FormGrounds:
        """Return the grounds with the options that end the call by themselves: an unknown option
        behind them is accepted, which by itself is refused."""
        builder = Builder(self._signature, self._builder.form, found)
        smallest, full = builder.smallest(), builder.fullest()
        if smallest is None or full is None or smallest == full:
            return found
        unknown = next(
            (each for each in UNKNOWN if self._is_refused_as_unknown(smallest, each)), ""
        )
        if not unknown or self._took(smallest, unknown) or not self._took(full, unknown):
            return found
        options = [part.option for part in full.options if part.option in _optional(builder)]
        actions = [
            each.key
            for each in options
            if (alone := builder.smallest([each])) is not None and self._took(alone, unknown)
        ]
        return replace(found, actions=tuple(actions))

    def _is_refused_as_unknown(self, request: Request, unknown: str) -> bool:
        judged = self._signature.judge(_with_unknown(request, unknown))
        return judged.status == "refused" and judged.kinds == ("unknown-option",)

    def _took(self, request: Request, unknown: str) -> bool:
        """Tell whether a request is accepted with an unknown option behind its options."""
        if self._left <= 0:
            return False
        self._left -= 1
        return self._experiments.answer(_with_unknown(request, unknown)).works

    # --- what is required ---

    def _required(self, refused: Answer) -> tuple[str, ...]:
        """Return the options that make the smallest vector accepted, where that takes some: those
        that the answer names are tried first, then single ones, then all."""
        optional = _optional(self._builder)
        named = [each for each in optional if _is_told(each, refused)]
        tries = [named] if len(named) > 1 else []
        tries += [[each] for each in (*named, *(each for each in optional if each not in named))]
        for options in tries:
            request = self._builder.smallest(options)
            if request is None:
                continue
            if self._works(request):
                return tuple(each.key for each in options)
            if len(options) == 1 and (values := self._valued(request)):
                self._learnt = values
                return (options[0].key,)
        full = self._builder.fullest()
        if full is None or not self._works(full):
            return ()
        kept = [part.option for part in full.options if part.option in optional]
        for option in list(kept):
            fewer = [each for each in kept if each is not option]
            if self._works(self._builder.smallest(fewer)):
                kept = fewer
        return tuple(option.key for option in kept)

    # --- what clashes ---

    def _without_clashes(self, found: FormGrounds) -> FormGrounds:
        full = self._builder.fullest()
        if full is None or self._works(full):
            return found
        answer = self._experiments.answer(full.words())
        clashes: list[Clash] = list(found.clashes)
        keys = {option.key for option in _optional(self._builder)} - set(found.required)
        options = [part.option for part in full.options if part.option.key in keys]
        plain = self._wished((), keys)
        if plain is not None and not self._works(plain):
            told = self._experiments.answer(plain.words())
            clashes.append(Clash(options=(), words=plain.words(), answer=told.text,
                                 edit=stated_value(self._signature, plain, told.text)))  # fmt: skip
            found = replace(found, few_operands=True)
            self._rebuild(found)
        named = [each for each in options if _is_told(each, answer)]
        rest = [each for each in options if each not in named]
        kept: list[Option] = []
        culprits: list[Option] = []
        for group in (rest, named) if named else (rest,):
            kept = self._grown(kept, group, keys, culprits)
        values = dict(found.values)
        for option in culprits:
            clash = self._clash(option, kept)
            learnt = self._values_for(clash, option)
            if learnt:  # its value alone was refused: told once, and kept clear of
                values |= learnt
                edit = stated_example(clash.edit, learnt)
                clash = replace(clash, options=(), edit=edit, about=option.key)
            clashes.append(clash)
        return replace(found, clashes=tuple(clashes), values=tuple(values.items()))

    def _values_for(self, clash: Clash, option: Option) -> dict[str, str]:
        """Return the values with which an option is accepted that was refused by itself."""
        alone = self._builder.smallest([option])
        if len(clash.options) != 1 or alone is None or not option.takes_value:
            return {}
        return dict(self._valued(alone))

    def _wished(self, options: Sequence[Option], keys: set[str]) -> Request | None:
        wanted = {option.key for option in options}
        few = self._builder.grounds.few_operands
        return self._builder.wished(Wish(wanted, full=True, without=keys - wanted, few=few))

    def _grown(
        self, kept: list[Option], group: list[Option], keys: set[str], culprits: list[Option]
    ) -> list[Option]:
        """Return the options of a group that are accepted beside those kept already; the others
        join the culprits. A group that is refused is tried in halves."""
        if not group:
            return kept
        if self._works(self._wished([*kept, *group], keys)):
            return [*kept, *group]
        if len(group) == 1:
            culprits.append(group[0])
            return kept
        middle = len(group) // 2
        kept = self._grown(kept, group[:middle], keys, culprits)
        return self._grown(kept, group[middle:], keys, culprits)

    def _clash(self, option: Option, kept: Sequence[Option]) -> Clash:
        """Return what an option clashes with: nothing but itself, one other, or all that are kept."""
        alone = self._builder.smallest([option])
        if alone is None or not self._works(alone):
            words = () if alone is None else alone.words()
            answer = None if alone is None else self._experiments.answer(words)
            text, said = ("", "") if answer is None else (answer.text, answer.said)
            edit = "" if alone is None else stated_value(self._signature, alone, said, option)
            return Clash(options=(option.key,), words=words, answer=text, edit=edit)
        with_all = self._builder.smallest([*kept, option])
        refusal = self._experiments.answer(with_all.words()) if with_all is not None else None
        named = [each for each in kept if refusal is not None and _is_told(each, refusal)]
        others = self._partner([*named, *(each for each in kept if each not in named)], option)
        both = self._builder.smallest([*others, option]) or alone
        text = self._experiments.answer(both.words()).text
        return Clash(
            options=(*(each.key for each in others), option.key), words=both.words(), answer=text,
            edit=stated_conflict([*others, option]) if len(others) == 1 else "",
        )  # fmt: skip

    def _partner(self, kept: Sequence[Option], option: Option) -> list[Option]:
        """Return the fewest of the options kept that are refused beside another one, one at best:
        those that are named are tried first, then halves."""
        for each in kept[:3]:
            if self._is_refused([each, option]):
                return [each]
        group = list(kept)
        while len(group) > 1:
            middle = len(group) // 2
            half = next(
                (each for each in (group[:middle], group[middle:]) if self._is_refused([*each, option])),
                None,
            )  # fmt: skip
            if half is None:
                break
            group = half
        return group

    def _is_refused(self, options: Sequence[Option]) -> bool:
        request = self._builder.smallest(options)
        return request is not None and self._left > 0 and not self._works(request)


def _with_unknown(request: Request, unknown: str) -> Words:
    """Return the words of a request with an unknown option behind its options."""
    words = request.words()
    behind = len(words) - sum(1 for part in request.operands if part.name)
    return (*words[:behind], unknown, *words[behind:])


def _optional(builder: Builder) -> list[Option]:
    """Return the options that a form can go without, none that asks for help among them."""
    smallest = builder.smallest()
    there = {part.option.key for part in smallest.options} if smallest is not None else set()
    return [
        each for each in plain_options(builder.signature, builder.form) if each.key not in there
    ]


def _is_told(option: Option, answer: Answer) -> bool:
    """Tell whether an answer names an option: by a spelling, its letter, its words or its NAME."""
    said = without_usage(answer.record.stderr or "") or (answer.record.stderr or "")
    names = [name for name in option.value_names if len(name) > 2]
    words = [re.sub(r"^-+", "", each) for each in option.spellings]
    told = [*option.spellings, *names, *(each for each in words if len(each) > 3)]
    return any(is_named(each, said) for each in told)
