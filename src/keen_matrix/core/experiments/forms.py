"""Experiments with one form of a synopsis: which of its vectors is accepted, what it takes, and
what clashes in those that are refused."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from itertools import combinations

from keen_matrix.core.expect.naming import is_named, without_usage
from keen_matrix.core.experiments.ask import Answer, Experiments
from keen_matrix.core.experiments.minimal import minimal, parted
from keen_matrix.core.experiments.stating import (
    stated_conflict,
    stated_example,
    stated_requirement,
    stated_value,
    untyped_names,
    values_told,
)
from keen_matrix.core.notation.synopsis import Operand
from keen_matrix.core.signature.examples import named_words
from keen_matrix.core.signature.grounds import Clash, UsageGrounds, Words
from keen_matrix.core.signature.judging.findings import Judgement
from keen_matrix.core.signature.model import Option, UsageModel
from keen_matrix.core.signature.requests import Builder, Request, Wish, plain_options
from keen_matrix.core.signature.signature import Signature, unequal_condition, with_unequal
from keen_matrix.core.signature.values import Text
from keen_matrix.core.structs import replace

#: Launches that one form gets in a round of finding out what it clashes in, beside one for each
#: option.
MOST_REDUCING = 40
#: How often clashes are looked for at most in a fullest vector that is refused.
ROUNDS = 3
#: Options that are tried each on its own as the one that another clashes with, before halves are.
MOST_LIKELY = 3
#: Options that a message names which asks for one of them.
MOST_ASKED = 4
#: Options that no program has, in the ways in which they are written.
UNKNOWN = ("--no-such-option", "-no-such-option", "-Z")


class UsageTrials:
    """The experiments with one form of a synopsis."""

    def __init__(self, signature: Signature, number: int, experiments: Experiments) -> None:
        self.signature, self.number, self.experiments = signature, number, experiments
        self.builder = Builder(signature, signature.forms[number])
        self.allow()
        #: Values with which a required option was accepted.
        self.learnt: tuple[tuple[str, str], ...] = ()
        #: Answer of a clash → the options that others were found to clash with when it came.
        self.partners: dict[str, list[Option]] = {}

    def allow(self) -> None:
        """Let as many launches be made as a round of reducing gets."""
        self.left = MOST_REDUCING + len(self.builder.form.options)

    def rebuild(self, found: UsageGrounds) -> None:
        """Go on with requests that keep clear of what was found."""
        self.signature = with_unequal(self.signature, found.unequal)
        self.builder = Builder(self.signature, self.signature.forms[self.number], found)

    def valued(self, request: Request) -> tuple[tuple[str, str], ...]:
        """Return values of NAMEs without a type with which a refused request is accepted; none
        where there are none. What the answer asks for is tried first."""
        answer = self.experiments.answer(request.words()).said
        names = untyped_names(self.signature, request, answer)
        for value in values_told(answer) if names else ():
            for chosen in dict.fromkeys([(names[0],), tuple(names)]):
                tried = request
                for place, number, name, _ in request.slots():
                    if name in chosen:
                        tried = tried.with_value(place, number, value)
                if self.works(tried):
                    return tuple((name, value) for name in chosen)
        return ()

    def options(self, keys: Iterable[str]) -> list[Option]:
        """Return the options of keys."""
        by_key = {option.key: option for option in self.builder.form.options}
        return [by_key[key] for key in keys]

    def works(self, request: Request | None) -> bool:
        """Tell whether a request is accepted, as long as there are launches left to ask with."""
        return request is not None and self.took_words(request.words())

    def took(self, request: Request, unknown: str) -> bool:
        """Tell whether a request is accepted with an unknown option after its options."""
        return self.took_words(with_unknown(request, unknown))

    def took_words(self, words: Words) -> bool:
        """Tell whether some words are accepted, as long as there are launches left to ask with."""
        if self.left <= 0:
            return False
        before = self.experiments.spent
        works = self.experiments.answer(words).works
        self.left -= self.experiments.spent - before
        return works

    def ahead(self, vectors: Iterable[Words]) -> None:
        """Launch side by side what is about to be asked for one by one, as far as launches are
        left."""
        before = self.experiments.spent
        self.experiments.launch_ahead(vectors, self.left)
        self.left -= self.experiments.spent - before

    def wished(self, options: Sequence[Option], keys: set[str]) -> Request | None:
        """Return the fullest request with some of the options whose keys are given, and no other of
        them."""
        wanted = {option.key for option in options}
        few = self.builder.grounds.few_operands
        return self.builder.wished(Wish(wanted, full=True, without=keys - wanted, few=few))

    def refuses(self, options: Sequence[Option]) -> bool:
        """Tell whether the smallest request with options was seen to be refused."""
        request = self.builder.smallest(options)
        return request is not None and self.left > 0 and not self.works(request)


def grounds_of_form(trials: UsageTrials) -> UsageGrounds:
    """Return what is known of the form after its experiments."""
    smallest = trials.builder.smallest()
    if smallest is None:
        return UsageGrounds()
    answer = trials.experiments.answer(smallest.words())
    found = UsageGrounds()
    if not answer.works:
        edit = stated_value(trials.signature, smallest, answer.said)
        unequal = _unequal(trials, smallest)
        values = () if unequal else trials.valued(smallest)
        if unequal:
            edit = f'only-if = ["{unequal_condition(unequal[0])}"]'
            told = Clash(options=(), words=smallest.words(), answer=answer.text, edit=edit)
            found = UsageGrounds(unequal=unequal, clashes=(told,))
        elif values:
            edit = stated_example(edit, dict(values))
            told = Clash(options=(), words=smallest.words(), answer=answer.text, edit=edit)
            found = UsageGrounds(values=values, clashes=(told,))
        else:
            found = _with_what_is_required(trials, answer, edit)
            if not found.works:
                return found
        trials.rebuild(found)
    # Before clashes: an option that ends the call hides whatever follows it.
    found = _with_lone_actions(trials, found)
    trials.rebuild(found)
    for _ in range(ROUNDS):
        before, found = found, _without_clashes(trials, found)
        if found == before:
            break
        # without the first clashes the fullest call is another one, which may have others in it
        trials.rebuild(found)
        # A round of its own, since what is found now could not be seen before.
        trials.allow()
    return _with_actions(trials, found)


def _unequal(trials: UsageTrials, request: Request) -> tuple[tuple[str, str], ...]:
    """Return the two NAMEs in a refused request that have the same value, and with which it is
    accepted when they differ."""
    slots = list(request.slots())
    for (_, _, first, word), (place, number, second, other) in combinations(slots, 2):
        if word != other or first == second:
            continue
        another = next((each for each in trials.builder.legal(second) if each != word), None)
        if another is not None and trials.works(request.with_value(place, number, another)):
            return ((first, second),)
    return ()


# --- what acts alone ---


def _with_lone_actions(trials: UsageTrials, found: UsageGrounds) -> UsageGrounds:
    """Return the grounds with the options that are accepted without the operands that the form
    requires: they end the call by themselves, and hide what the others clash in."""
    full = trials.builder.fullest()
    if full is None or not any(part.name for part in full.operands):
        return found
    bare = _without_operands(full)
    if trials.signature.judge(bare).status != "refused" or not trials.took_words(bare):
        return found
    optional = [part.option for part in full.options if part.option in optional_of(trials.builder)]
    bare_by_key = {
        each.key: _without_operands(request)
        for each in optional
        if (request := trials.builder.smallest([each])) is not None
    }
    trials.ahead(bare_by_key.values())
    alone = [key for key, words in bare_by_key.items() if trials.took_words(words)]
    # where nothing asks for the operands at all, no option of it ends anything
    smallest = trials.builder.smallest()
    if smallest is None or trials.took_words(_without_operands(smallest)):
        return found
    return replace(found, actions=tuple(alone))


def _without_operands(request: Request) -> Words:
    """Return the words of a request without its operands; keywords stay."""
    return replace(request, operands=tuple(e for e in request.operands if not e.name)).words()


def _with_actions(trials: UsageTrials, found: UsageGrounds) -> UsageGrounds:
    """Return the grounds with the options that end the call by themselves: an unknown option
    after them is accepted, which on its own is refused."""
    builder = Builder(trials.signature, trials.builder.form, found)
    smallest, full = builder.smallest(), builder.fullest()
    if smallest is None or full is None or smallest == full:
        return found
    # The unknown option must be refused beside the smallest vector, or it tells nothing beside the
    # fullest.
    unknown = next((each for each in UNKNOWN if _is_refused_as_unknown(trials, smallest, each)), "")
    if not unknown or trials.took(smallest, unknown) or not trials.took(full, unknown):
        return found
    options = [part.option for part in full.options if part.option in optional_of(builder)]
    followed = {
        each.key: with_unknown(alone, unknown)
        for each in options
        if (alone := builder.smallest([each])) is not None
    }
    trials.ahead(followed.values())
    actions = [key for key, words in followed.items() if trials.took_words(words)]
    return replace(found, actions=tuple(dict.fromkeys([*found.actions, *actions])))


def _is_refused_as_unknown(trials: UsageTrials, request: Request, unknown: str) -> bool:
    judged = trials.signature.judge(with_unknown(request, unknown))
    return judged.status == "refused" and judged.kinds == ("unknown-option",)


# --- what is required ---


def _with_what_is_required(trials: UsageTrials, answer: Answer, edit: str) -> UsageGrounds:
    """Return the grounds with what makes the smallest vector accepted: an operand or options that
    the synopsis calls optional."""
    by_example = _by_example(trials)
    if by_example is not None:
        return by_example
    # a message that lists every option, as a usage without the word does, asks for none of them
    named = [each for each in optional_of(trials.builder) if _is_told(each, answer)]
    tells_options = 0 < len(named) <= MOST_ASKED
    operands = () if tells_options else _required_operand(trials)
    required = () if operands else _required(trials, answer)
    if not operands and not required and tells_options:
        operands = _required_operand(trials)
    if operands:
        return UsageGrounds(operands=operands, edit=f"synopsis: {operands[0]}, without brackets")
    if required:
        told = stated_requirement(trials.options(required))
        return UsageGrounds(required=required, edit=told, values=trials.learnt)
    return UsageGrounds(works=False, edit=edit)


def _by_example(trials: UsageTrials) -> UsageGrounds | None:
    """Return the grounds with the fewest options and operands of an example that make a call of the
    form accepted; None where no example is one of the form, or is accepted itself."""
    signature, form = trials.signature, trials.builder.form
    for words in signature.examples:
        judged = signature.judge(words)
        if not _is_of(form, judged) or not trials.took_words(words):
            continue
        found = _ByExample(trials, judged).found()
        if found is not None:
            return found
    return None


class _ByExample:
    """What of one example makes the smallest call of a form accepted."""

    def __init__(self, trials: UsageTrials, judged: Judgement) -> None:
        self._trials = trials
        signature, form = trials.signature, trials.builder.form
        plain = trials.builder.plain([], full=False)
        there = {part.name for part in plain.operands} | {part.option.key for part in plain.options}
        keys = {option.key for option in form.options}
        given = [each for each in judged.bindings if each not in there]
        self._options = [each for each in given if each in keys]
        self._operands = [each for each in given if each in signature.values and each not in keys]
        named = dict(reversed(list(named_words(signature, judged))))
        self._values = {
            name: word for name, word in named.items() if isinstance(signature.values[name], Text)
        }

    def found(self) -> UsageGrounds | None:
        """Return the grounds; None where all of the example does not do."""
        if not self._works(self._options, self._operands):
            return None
        self._options = list(minimal(self._options, lambda some: self._works(some, self._operands)))
        self._operands = list(minimal(self._operands, lambda some: self._works(self._options, some)))
        kept, self._values = self._values, {}
        if not self._works(self._options, self._operands):
            self._values = kept
        edit = f"synopsis: {self._operands[0]}, without brackets" if self._operands else ""
        if self._options:
            edit = stated_requirement(self._trials.options(self._options))
        return replace(self._grounds(self._options, self._operands), edit=edit)

    def _works(self, options: Sequence[str], operands: Sequence[str]) -> bool:
        builder = self._trials.builder
        with_it = Builder(builder.signature, builder.form, self._grounds(options, operands))
        return self._trials.works(with_it.smallest())

    def _grounds(self, options: Sequence[str], operands: Sequence[str]) -> UsageGrounds:
        return UsageGrounds(
            required=tuple(options), operands=tuple(operands), values=tuple(self._values.items())
        )


def _is_of(form: UsageModel, judged: Judgement) -> bool:
    """Tell whether all that an accepted call binds is of one form."""
    names = {item.name.name for item in form.form.walk() if isinstance(item, Operand)}
    return judged.status == "accepted" and set(judged.bindings) <= names | {each.key for each in form.options}


def _required_operand(trials: UsageTrials) -> tuple[str, ...]:
    """Return the optional operand with which the smallest vector is accepted, if there is one."""
    there = {part.name for part in (trials.builder.plain([], full=False)).operands}
    items = trials.builder.form.form.walk()
    names = dict.fromkeys(item.name.name for item in items if isinstance(item, Operand))
    for name in names:
        if name not in there and trials.works(trials.builder.with_counts(name, 1)):
            return (name,)
    return ()


def _required(trials: UsageTrials, refused: Answer) -> tuple[str, ...]:
    """Return the options that make the smallest vector accepted, where that takes some: those
    that the answer names are tried first, then single ones, then all."""
    optional = optional_of(trials.builder)
    named = [each for each in optional if _is_told(each, refused)]
    # All that are named at once come first: "-a or -b is required" names two, and either may do.
    tries = [named] if len(named) > 1 else []
    tries += [[each] for each in (*named, *(each for each in optional if each not in named))]
    for options in tries:
        request = trials.builder.smallest(options)
        if request is None:
            continue
        if trials.works(request):
            if not any(each in named for each in options) and _ends_reading(trials, request):
                continue  # what stands behind it is not read at all, so that it makes up for nothing
            return tuple(each.key for each in _needed(trials, options))
        # The option may be the right one and only its value wrong.
        if len(options) == 1 and (values := trials.valued(request)):
            trials.learnt = values
            return (options[0].key,)
    full = trials.builder.fullest()
    if full is None or not trials.works(full):
        return ()
    kept = [part.option for part in full.options if part.option in optional]
    kept = minimal(kept, lambda some: trials.works(trials.builder.smallest(some)))
    # what made the fullest call accepted may be its operands, and none of its options
    works = trials.works(trials.builder.smallest(kept))
    return tuple(option.key for option in kept) if works else ()


def _ends_reading(trials: UsageTrials, request: Request) -> bool:
    """Tell whether an unknown option is accepted after the options of a request."""
    unknown = next((each for each in UNKNOWN if _is_refused_as_unknown(trials, request, each)), "")
    return bool(unknown) and trials.took(request, unknown)


def _needed(trials: UsageTrials, options: Sequence[Option]) -> Sequence[Option]:
    """Return the one of several options that is needed, where any other on its own is refused; else
    all of them. A message that lists every option names them all."""
    if len(options) < 2:
        return options
    requests = [trials.builder.smallest([each]) for each in options]
    trials.ahead(each.words() for each in requests if each is not None)
    alone = [each for each, tried in zip(options, requests, strict=True) if trials.works(tried)]
    return alone if len(alone) == 1 else options


# --- what clashes ---


def _without_clashes(trials: UsageTrials, found: UsageGrounds) -> UsageGrounds:
    full = trials.builder.fullest()
    if full is None or trials.works(full):
        return found
    answer = trials.experiments.answer(full.words())
    clashes: list[Clash] = list(found.clashes)
    keys = {option.key for option in optional_of(trials.builder)} - set(found.required)
    options = [part.option for part in full.options if part.option.key in keys]
    plain = trials.wished((), keys)
    if plain is not None and not trials.works(plain):
        told = trials.experiments.answer(plain.words())
        clashes.append(
            Clash(
                options=(),
                words=plain.words(),
                answer=told.text,
                edit=stated_value(trials.signature, plain, told.text),
            )
        )
        found = replace(found, few_operands=True)
        trials.rebuild(found)
    named = [each for each in options if _is_told(each, answer)]
    rest = [each for each in options if each not in named]
    kept, culprits = parted(rest, works := lambda some: trials.works(trials.wished(some, keys)))
    kept, more = parted(named, works, kept)
    culprits += more
    values = dict(found.values)
    alone = (trials.builder.smallest([option]) for option in culprits)
    trials.ahead(each.words() for each in alone if each is not None)
    for option in culprits:
        clash = _clash(trials, option, kept, keys)
        if clash is None:
            continue
        learnt = _values_for(trials, clash, option)
        if learnt:  # its value alone was refused: told once, and kept clear of
            values |= learnt
            edit = stated_example(clash.edit, learnt)
            clash = replace(clash, options=(), edit=edit, about=option.key)
        clashes.append(clash)
    return replace(found, clashes=tuple(clashes), values=tuple(values.items()))


def _clash(trials: UsageTrials, option: Option, kept: Sequence[Option], keys: set[str]) -> Clash | None:
    """Return what an option clashes with: nothing but itself, one other, or all that are kept; None
    where it is accepted and no other is beside it."""
    alone = trials.builder.smallest([option])
    # asked for whatever launches are left: what was not launched is not refused
    if alone is None or not trials.experiments.answer(alone.words()).works:
        words = () if alone is None else alone.words()
        answer = None if alone is None else trials.experiments.answer(words)
        text, said = ("", "") if answer is None else (answer.text, answer.said)
        edit = "" if alone is None else stated_value(trials.signature, alone, said, option)
        return Clash(options=(option.key,), words=words, answer=text, edit=edit)
    if not kept:
        return None
    with_all = trials.builder.smallest([*kept, option])
    refusal = trials.experiments.answer(with_all.words()) if with_all is not None else None
    said = "" if refusal is None else refusal.said
    named = [each for each in kept if refusal is not None and _is_told(each, refusal)]
    # what says the same is of the same clash: of ten styles each excludes the one that is kept
    likely = [each for each in trials.partners.get(said, []) if each in kept]
    likely += [each for each in named if each not in likely]
    others = _partner(trials, [*likely, *(each for each in kept if each not in likely)], option)
    both = trials.builder.smallest([*others, option]) or alone
    refused = trials.experiments.answer(both.words())
    if refused.works:
        return beside_operands(trials, option, keys)
    text = refused.text
    if len(others) == 1:
        trials.partners.setdefault(said, []).extend(others)
    elif trials.left <= 0:  # it is refused beside one of them, and is kept away from all
        return Clash(options=(option.key,), words=both.words(), answer=text, about=option.key)
    return Clash(
        options=(*(each.key for each in others), option.key),
        words=both.words(),
        answer=text,
        edit=stated_conflict([*others, option]) if len(others) == 1 else "",
    )


def beside_operands(trials: UsageTrials, option: Option, keys: set[str]) -> Clash | None:
    """Return that an option is refused beside operands, which none of the others is; None where it
    is accepted, and no launches were left to find its partner with."""
    beside = trials.wished([option], keys)
    answer = trials.experiments.answer(beside.words()) if beside is not None else None
    if beside is None or answer is None or answer.works:
        return None
    edit = stated_value(trials.signature, beside, answer.said)
    if not edit and any(trials.signature.values[name].type == "file" for _, _, name, _ in beside.slots()):
        edit = f"[files]: content that {option.key} takes"
    return Clash(options=(option.key,), words=beside.words(), answer=answer.text, edit=edit, about=option.key)


def _values_for(trials: UsageTrials, clash: Clash, option: Option) -> dict[str, str]:
    """Return the values with which an option is accepted that was refused on its own."""
    alone = trials.builder.smallest([option])
    if len(clash.options) != 1 or alone is None or not option.takes_value:
        return {}
    return dict(trials.valued(alone))


def _partner(trials: UsageTrials, kept: Sequence[Option], option: Option) -> list[Option]:
    """Return the fewest of the options kept that are refused beside another one, one at best:
    those that are named are tried first, then halves."""
    # Those that are most likely first; then halves find any other in a few launches.
    for each in kept[:MOST_LIKELY]:
        if trials.refuses([each, option]):
            return [each]
    # From the end: what is least likely is left out first.
    return minimal(kept[::-1], lambda some: trials.refuses([*some, option]))[::-1]


def with_unknown(request: Request, unknown: str) -> Words:
    """Return the words of a request with an unknown option after its options."""
    words = request.words()
    behind = len(words) - sum(1 for part in request.operands if part.name)
    return (*words[:behind], unknown, *words[behind:])


def optional_of(builder: Builder) -> list[Option]:
    """Return the options that a form can go without, none that asks for help among them."""
    smallest = builder.smallest()
    there = {part.option.key for part in smallest.options} if smallest is not None else set()
    return [each for each in plain_options(builder.signature, builder.form) if each.key not in there]


def _is_told(option: Option, answer: Answer) -> bool:
    """Tell whether an answer names an option: by a spelling, its letter, its words or its NAME."""
    said = without_usage(answer.record.stderr or "") or (answer.record.stderr or "")
    names = [name for name in option.value_names if len(name) > 2]
    words = [re.sub(r"^-+", "", each) for each in option.spellings]
    told = [*option.spellings, *names, *(each for each in words if len(each) > 3)]
    return any(is_named(each, said) for each in told)
