"""What the synopsis should say: what is required, and what acts alone."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Sequence
from itertools import combinations

from keen_matrix.core.expect.naming import is_named
from keen_matrix.core.experiments.ask import patience_after
from keen_matrix.core.experiments.edits import OBSERVED, AppendEdit, Edit, KeyEdit, SynopsisEdit, is_stated
from keen_matrix.core.experiments.findings import Finding, Shown
from keen_matrix.core.experiments.forms import optional_of
from keen_matrix.core.insight.settling.lab import Lab, refused_or_accepted, waits
from keen_matrix.core.insight.settling.lines import (
    asked_for,
    operands_left_out,
    short,
    spellings_of_keys,
    synopsis_edit,
    with_value_of,
    without_brackets,
)
from keen_matrix.core.model.spec import Surroundings
from keen_matrix.core.notation.synopsis import Choice, Item, Operand
from keen_matrix.core.signature.grounds import UsageGrounds, Words
from keen_matrix.core.signature.requests import Builder, Request, Wish, is_aside, plain_options
from keen_matrix.core.signature.signature import unequal_condition


def settle_required(lab: Lab) -> Iterator[Finding]:
    """Find options and operands that the synopsis calls optional and that are required, and values
    that must differ."""
    for number, form in enumerate(lab.signature.lines):
        plain = Builder(lab.signature, lab.signature.forms[number]).smallest()
        if lab.works(plain):
            continue
        found = lab.forms.ground(number)
        shown = lab.shown(plain.words()) if plain is not None else ()
        for pair in found.unequal:
            edit = AppendEdit(("signature", "only-if"), unequal_condition(pair), OBSERVED)
            text = f"{pair[0]} and {pair[1]} must not be the same"
            yield Finding(text=text, shown=shown, edits=(edit,))
        keys = set(found.required)
        changed = without_brackets(form, spellings_of_keys(lab, number, keys), set(found.operands))
        others = _other_ways(lab, number, found) if len(keys) == 1 else []
        if others:
            yield _one_of(lab, number, [*found.required, *others], shown)
        elif (keys or found.operands) and changed != form:
            names = " and ".join((*found.required, *found.operands))
            text = f"{names} {'is' if len(keys) + len(found.operands) == 1 else 'are'} required"
            yield Finding(text=text, shown=shown, edits=(synopsis_edit(lab, number, changed),))
        if not found.works and _needs_command(lab, number):
            lines = [*lab.signature.lines]
            del lines[number]
            fewer = SynopsisEdit(tuple(map(str, lines)))
            yield Finding(text="a subcommand is needed", shown=shown, edits=(fewer,))
        elif not found.works and plain is not None:
            line = " ".join(plain.words()) or "no words"
            yield Finding(
                text=f"no call of {short(form)} is accepted, not even {line}",
                shown=shown,
                edits=tuple(_without_form(lab, number, plain)),
            )


#: What a message says of an option that takes a value and got none (getopt_long(3), argparse).
_WANTS_VALUE = re.compile(
    r"requires? (?:an? )?(?:argument|value|parameter)|(?:needs|expects|expected) (?:an? |one )?(?:argument|value)|"
    r"missing (?:argument|value|parameter)|argument (?:missing|expected|required)|value (?:missing|expected|required)",
    re.IGNORECASE,
)


def settle_valued_flags(lab: Lab) -> Iterator[Finding]:
    """Find options that the synopsis has as flags and of which the program says that a value is
    missing: a help may list `-o, --output  the file to write`."""
    for number, form in enumerate(lab.signature.lines):
        builder = Builder(lab.signature, lab.signature.forms[number])
        base = builder.smallest()
        flags = [e for e in plain_options(lab.signature, builder.form) if not e.takes_value]
        if base is None or not flags:
            continue
        # at the end of the words, where no operand can be taken for its value: after operands, or
        # without them, where none may precede an option
        words = base.words()
        bare = words[: base.behind_keywords()]
        last = {each.key: (*words, each.key) for each in flags}
        alone = {each.key: (*bare, each.key) for each in flags}
        lab.answers([*last.values(), *alone.values()])
        last |= {key: words for key, words in alone.items() if _wants_value(lab, words, key)}
        wanting = [
            each for each in flags if any(_wants_value(lab, last[each.key], one) for one in each.spellings)
        ]
        changed = form
        for option in wanting:
            changed = with_value_of(changed, option.spellings)
        if changed != form:
            names = ", ".join(each.key for each in wanting)
            yield Finding(
                text=f"{names} {'takes' if len(wanting) == 1 else 'take'} a value",
                shown=lab.shown(*(last[each.key] for each in wanting[:2])),
                edits=(synopsis_edit(lab, number, changed),),
            )


def _wants_value(lab: Lab, words: Words, spelling: str) -> bool:
    """Tell whether a program says that an option lacks its value; some say so and go on."""
    said = lab.answer(words).record.stderr or ""
    names = (spelling, spelling.lstrip("-"))
    return bool(_WANTS_VALUE.search(said)) and any(is_named(each, said) for each in names)


#: Flags that are tried by themselves, whether all of them need an operand.
FEW_FLAGS = 3


def settle_operands_of_options(lab: Lab) -> Iterator[Finding]:
    """Find an operand that is required as soon as there is an option: called with no words a
    program shows its help, and with an option alone it asks for what it is to work on."""
    for number, form in enumerate(lab.signature.lines):
        builder = Builder(lab.signature, lab.signature.forms[number])
        plain = builder.smallest()
        if plain is None or plain.words() or not lab.works(plain):
            continue
        options = plain_options(lab.signature, builder.form)
        flags = [each for each in options if not each.takes_value][:FEW_FLAGS]
        alone = [made.words() for each in flags if (made := builder.smallest([each])) is not None]
        answers = lab.answers(alone)
        # what is said of each in its own words is about that option
        if len(alone) < 2 or any(each.works for each in answers):
            continue
        if len({each.said for each in answers}) > 1 or waits(lab, alone[0]):
            continue
        for name in operands_left_out(builder):
            wishes = [Wish({each.key}, full=False, counts={name: 1}) for each in flags]
            requests = [made for each in wishes if (made := builder.wished(each)) is not None]
            changed = without_brackets(form, set(), {name})
            works = [each.works for each in lab.answers(each.words() for each in requests)]
            if len(works) == len(flags) and all(works) and changed != form:
                lines = synopsis_edit(lab, number, changed).lines
                yield Finding(
                    text=f"{name} is required even with options",
                    shown=lab.shown(alone[0], requests[0].words()),
                    edits=(SynopsisEdit((*lines, "")),),
                )
                return


def _without_form(lab: Lab, number: int, smallest: Request) -> Iterator[Edit]:
    """Yield what sets aside the options that make up a form of which no case is accepted, as
    observed: what they need cannot be said. Where there is no other form, or it has them too, the
    run is to tell."""
    others = [each for at, each in enumerate(lab.signature.forms) if at != number]
    elsewhere = {option.key for form in others for option in form.options}
    answer = lab.answer(smallest.words())
    if not others or refused_or_accepted(answer) != "refused":
        return
    for part in smallest.options:
        if part.option.key not in elsewhere:
            key = ("signature", "aside")
            yield AppendEdit(key, part.option.key, f"{OBSERVED}: {answer.text}")
            return


def _needs_command(lab: Lab, number: int) -> bool:
    """Tell whether a form that is never accepted is that of the program without a subcommand, which
    another form has."""
    forms = lab.signature.forms
    plain = not forms[number].keywords and all(
        isinstance(item, Choice) and not any(isinstance(each, Operand) for each in _inside(item))
        for item in lab.signature.lines[number].items
    )
    others = [each for at, each in enumerate(forms) if at != number]
    return plain and any(each.keywords for each in others)


def _inside(choice: Choice) -> Iterator[Item]:
    for form in choice.alternatives:
        yield from form.walk()


def _other_ways(lab: Lab, number: int, found: UsageGrounds) -> list[str]:
    """Return the other options that make the smallest vector accepted, each on its own."""
    trials = lab.forms.trials(number)
    sample = next(iter(found.values), ("", ""))[1]
    ways = []
    for option in optional_of(trials.builder):
        if option.key in found.required:
            continue
        request = trials.builder.smallest([option])
        tries = [request]
        if request is not None and sample and option.takes_value:
            slots = [each for each in request.slots() if each[2] in option.value_names]
            tries += [request.with_value(place, nr, sample) for place, nr, _, _ in slots]
        if any(lab.works(each) for each in tries):
            ways.append(option.key)
    return ways


def _one_of(lab: Lab, number: int, keys: Sequence[str], shown: tuple[Shown, ...]) -> Finding:
    """Return that one of some options is required: in a group, with dots where several of them go
    together."""
    form = lab.signature.lines[number]
    text = f"one of {', '.join(keys)} is required"
    trials = lab.forms.trials(number)
    options = [each for each in trials.builder.form.options if each.key in keys]
    pairs = combinations(options, 2)
    together = any(lab.works(trials.builder.smallest(pair)) for pair in pairs)
    spellings = [spellings_of_keys(lab, number, {key}) for key in keys]
    changed = asked_for(form, spellings, several=together)
    edits = () if changed is None else (synopsis_edit(lab, number, changed),)
    return Finding(text=text, shown=shown, edits=edits)


def settle_endless(lab: Lab) -> Iterator[Finding]:
    """Find options with which the program does not end, as one that follows a file: they are set
    aside before they are in all that comes, since each launch with one takes its whole time."""
    for number in range(len(lab.signature.forms)):
        builder = lab.forms.sound_builder(number)
        requests = (
            {
                each.key: made
                for each in plain_options(lab.signature, builder.form)
                if (made := builder.smallest([each])) is not None
                and each.key in {part.option.key for part in made.options}
            }
            if builder is not None
            else {}
        )
        answers = lab.answers(each.words() for each in requests.values())
        for (key, request), answer in zip(requests.items(), answers, strict=True):
            if answer.record.verdict == "timed-out":
                edit = AppendEdit(("signature", "aside"), key, f"{OBSERVED}: it did not end")
                shown = lab.shown(request.words())
                yield Finding(text=f"with {key} it does not end", shown=shown, edits=(edit,))


def settle_timeout(lab: Lab) -> Iterator[Finding]:
    """State how long a launch is waited for, where some do not end: a small multiple of what the
    others take, so that a run has its verdict on each of the former as soon as it can be
    reported."""
    known = lab.experiments.known
    aside = {
        spelling
        for option in lab.signature.options
        if is_aside(lab.signature, option)
        for spelling in option.spellings
    }
    endless = [
        words
        for words, answer in known.items()
        if answer.record.verdict == "timed-out" and not aside & lab.signature.judge(words).given
    ]
    patience = patience_after(known.values())
    if not endless or patience is None:
        return
    seconds = math.ceil(patience)
    if seconds >= Surroundings().timeout or is_stated(lab.text, "program", "timeout"):
        return
    longest = max(each.record.seconds for each in known.values() if each.record.verdict != "timed-out")
    yield Finding(
        text=f"calls that end take at most {longest:.2g} s; others do not end within {seconds} s",
        shown=lab.shown(endless[0]),
        edits=(KeyEdit(("program", "timeout"), seconds, OBSERVED),),
    )


def settle_actions(lab: Lab) -> Iterator[Finding]:
    """Find options that end the call by themselves."""
    spelt = {option.key: ",".join(option.spellings) for option in lab.signature.options}
    for number, found in enumerate(lab.forms.grounds()):
        builder = lab.forms.trials(number).builder
        for key in found.actions:
            option = next(each for each in builder.form.options if each.key == key)
            alone = builder.smallest([option])
            shown = lab.shown(alone.words()) if alone is not None else ()
            edit = AppendEdit(("signature", "actions"), spelt[key], OBSERVED)
            yield Finding(text=f"{key} acts alone", shown=shown, edits=(edit,))
