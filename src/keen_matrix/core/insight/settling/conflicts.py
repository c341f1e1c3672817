"""Options that the program refuses together, or by themselves: a group of the synopsis says so
where it can, else a condition, else they are set aside."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from itertools import combinations

from keen_matrix.core.expect.naming import is_named
from keen_matrix.core.experiments.ask import Answer
from keen_matrix.core.experiments.edits import OBSERVED, AppendEdit, Edit, SynopsisEdit, ValueEdit
from keen_matrix.core.experiments.findings import Finding, Shown
from keen_matrix.core.experiments.forms import UNKNOWN, UsageTrials, beside_operands, optional_of
from keen_matrix.core.experiments.minimal import minimal
from keen_matrix.core.insight.settling.lab import Lab, refused_or_accepted, waits
from keen_matrix.core.insight.settling.lines import (
    grouped,
    name_in_conditions,
    operands_left_out,
    short,
    spellings_in,
    spellings_of_keys,
    synopsis_edit,
    without_option,
)
from keen_matrix.core.insight.settling.tried_words import typed_findings, words_told
from keen_matrix.core.insight.settling.values import open_slots
from keen_matrix.core.notation.synopsis import Choice, Usage
from keen_matrix.core.signature.families.accepted import pairs_of
from keen_matrix.core.signature.grounds import Clash, UsageGrounds
from keen_matrix.core.signature.model import Option
from keen_matrix.core.signature.requests import Builder, Request, Wish, plain_options
from keen_matrix.core.structs import replace


def settle_conflicts(lab: Lab) -> Iterator[Finding]:
    """Find options that the program refuses together, or by themselves."""
    for number in range(len(lab.signature.forms)):
        # line by line: what is stated of the first is stated of those below it too, and costs
        # nothing there
        found = lab.forms.ground(number)
        if not found.works:
            continue
        clashes = (*found.clashes, *_refused_alone(lab, number, found))
        yield from _stated(lab, number, found, clashes)


def settle_needs(lab: Lab) -> Iterator[Finding]:
    """Find options that are refused by themselves with a message that names another one: most
    likely it is what they need."""
    for number in range(len(lab.signature.forms)):
        builder = lab.forms.sound_builder(number)
        if builder is None:
            continue
        options = plain_options(lab.signature, builder.form)
        for clash in _refused_alone(lab, number, builder.grounds):
            (key,) = clash.options
            # of "--dir must be used with --prof" the other one
            said = clash.answer.replace(key, "")
            others = [each for each in options if each.key != key]
            if not any(is_named(each, said) for other in others for each in other.spellings):
                continue
            # a message that is about a value may seem to name an option: `a 1-character string`
            typed = list(_other_values(lab, number, clash))
            if typed:
                yield from typed
                continue
            finding = _lone(lab, number, builder.grounds, clash)
            # that it is refused whatever is beside it is for later, when more is known
            if _is_condition(finding):
                yield finding


def _is_condition(finding: Finding) -> bool:
    return any(
        isinstance(each, AppendEdit) and each.key == ("signature", "only-if") for each in finding.edits
    )


def settle_pairs(lab: Lab) -> Iterator[Finding]:
    """Find what clashes in the vectors in which every pair of options is: the fullest one has only
    one of a group in it, and hides what the others of the group are refused beside."""
    for number in range(len(lab.signature.forms)):
        found = lab.forms.ground(number)
        if found.works:
            # what is refused on its own would hide what the others clash in
            alone = (each for each in _refused_alone(lab, number, found) if not each.about)
            found = replace(found, clashes=(*found.clashes, *alone))
            yield from _stated(lab, number, found, _clashes_in_pairs(lab, number, found))


#: Vectors with pairs that are launched together before what is refused of them is reduced.
SIDE_BY_SIDE = 8
#: Options that are named of those that are refused together.
MOST_NAMED = 4
#: Options that are tried beside one that is refused on its own.
MOST_PARTNERS = 12


def _clashes_in_pairs(lab: Lab, number: int, found: UsageGrounds) -> Iterator[Clash]:
    trials = lab.forms.trials(number)
    trials.rebuild(found)
    requests = list(pairs_of(lab.signature, trials.builder))
    told: set[frozenset[str]] = set()
    is_operand_tried = False
    for at, request in enumerate(requests):
        if at % SIDE_BY_SIDE == 0:  # not all at once: where launches end, what came before is found
            lab.answers(each.words() for each in requests[at : at + SIDE_BY_SIDE])
        answer = lab.answer(request.words())
        options = [part.option for part in request.options]
        if answer.works or any(each <= {option.key for option in options} for each in told):
            continue
        fewest = _fewest(lab, trials, options, answer)
        if len(fewest) > 1:
            told.add(frozenset(each.key for each in fewest))
            smallest = trials.builder.smallest(fewest)
            assert smallest is not None  # it was seen to be refused
            words = smallest.words()
            keys = tuple(each.key for each in fewest)
            yield Clash(options=keys, words=words, answer=lab.answer(words).text)
        elif not fewest and not is_operand_tried and any(part.name for part in request.operands):
            # no options clash: one of them may be refused beside operands, which the smallest has
            # none of
            is_operand_tried = True
            wanted = {each.key for each in optional_of(trials.builder)}
            tried = (beside_operands(trials, each, wanted) for each in options)
            yield from (each for each in tried if each is not None)


def _fewest(lab: Lab, trials: UsageTrials, options: Sequence[Option], answer: Answer) -> Sequence[Option]:
    """Return the fewest of some options that are refused together, those that the answer names
    tried first; none where it is their values that are refused."""

    def refused(some: Sequence[Option]) -> bool:
        request = trials.builder.smallest(some)
        if request is None or not {each.key for each in some} <= _keys(request):
            return False
        return refused_or_accepted(lab.answer(request.words())) == "refused"

    named = [each for each in options if any(is_named(s, answer.said) for s in each.spellings)]
    for some in (*((each,) for each in named[:MOST_NAMED]), *combinations(named[:MOST_NAMED], 2)):
        if refused(some):
            return some
    if not refused(options):
        return []
    return minimal(options, refused)


def _stated(lab: Lab, number: int, found: UsageGrounds, clashes: Iterable[Clash]) -> Iterator[Finding]:
    for clash in clashes:
        form = lab.signature.forms[number]
        there = {each.key for each in plain_options(lab.signature, form)}
        if not {*clash.options} <= there:
            continue  # one of them was set aside, or left the form, by what was stated before it
        # a message that is about a value is no conflict: of a file that is not there, say
        typed = list(_other_values(lab, number, clash))
        if typed:
            yield from typed
        elif len(clash.options) > 1:
            yield from _conflict(lab, number, found, clash)
        elif clash.options:
            yield _lone(lab, number, found, clash)


def _refused_alone(lab: Lab, number: int, found: UsageGrounds) -> Iterator[Clash]:
    """Yield the options that are refused by themselves, though the fullest call is accepted:
    beside an option of it they do nothing."""
    trials = lab.forms.trials(number)
    trials.rebuild(found)
    # What clashes already is reported; alone it would be reported again.
    known = {key for clash in found.clashes for key in (*clash.options, clash.about)}
    options = [
        each
        for each in optional_of(trials.builder)
        if each.key not in known and each.key not in found.actions
    ]
    vectors = [
        (each.key, request.words())
        for each in options
        if (request := trials.builder.smallest([each])) is not None and each.key in _keys(request)
    ]
    answers = lab.answers(words for _, words in vectors)
    for (key, words), answer in zip(vectors, answers, strict=True):
        if not answer.works:
            yield Clash(options=(key,), words=words, answer=answer.text)


def _other_values(lab: Lab, number: int, clash: Clash) -> Iterator[Finding]:
    """Yield the types of open values with which options are accepted that seem to clash: of one
    option all, of several those that the message shows."""
    keys = clash.options or ((clash.about,) if clash.about else ())
    builder = Builder(lab.signature, lab.signature.forms[number])
    request = builder.smallest(each for each in builder.form.options if each.key in keys)
    if not keys or request is None or lab.works(request):
        return
    words = {(place, at): word for place, at, _, word in request.slots()}
    slots = [
        slot
        for slot in open_slots(lab, request)
        if len(keys) == 1 or is_named(words[slot.place, slot.number], clash.answer)
    ]
    yield from typed_findings(lab, request, slots)


def _lone(lab: Lab, number: int, found: UsageGrounds, clash: Clash) -> Finding:
    """Return that an option is refused on its own, or which other one it needs: where there is one
    that makes it accepted, and every vector that has it without is refused."""
    key = clash.options[0]
    shown = (Shown(clash.words, clash.answer),)
    if clash.about:
        return _refused_beside(lab, number, found, clash)
    if not _speaks_of(lab, clash):  # it is something else that it needs than an option
        return _refused_by_itself(lab, number, clash, shown)
    ways = _ways(lab, number, clash)
    if len(ways) != 1:  # where several do, it is something else that it needs
        return _refused_by_itself(lab, number, clash, shown)
    ((other, request, taken),) = ways
    edits: list[Edit] = [
        AppendEdit(("signature", "only-if"), f"not has('{key}') or has('{other}')", OBSERVED)
    ]
    edits += [
        ValueEdit(name, {"of": [word], "open": True}, OBSERVED)
        for (_, _, name, old), (_, _, _, word) in zip(request.slots(), taken.slots(), strict=True)
        if old != word
    ]
    return Finding(text=f"{key} needs {other}", shown=(*shown, *lab.shown(taken.words())), edits=tuple(edits))


def _refused_beside(lab: Lab, number: int, found: UsageGrounds, clash: Clash) -> Finding:
    """Return that an option is refused beside operands, whose input it cannot use; or beside
    options, of which its partner was not found."""
    key = clash.options[0]
    own = spellings_of_keys(lab, number, {key, *found.required})
    is_beside_operands = lab.signature.judge(clash.words).given <= own
    edit = AppendEdit(("signature", "aside"), key, f"{OBSERVED}: {clash.answer}")
    return Finding(
        text=f"{key} is refused beside {'operands' if is_beside_operands else 'others'}",
        shown=(Shown(clash.words, clash.answer),),
        edits=(edit,) if is_beside_operands else (),
    )


def _ways(lab: Lab, number: int, clash: Clash) -> list[tuple[str, Request, Request]]:
    """Return other options that make an option accepted and without which it is refused, each with
    the vector that has both and the one that is accepted."""
    key = clash.options[0]
    builder = Builder(lab.signature, lab.signature.forms[number])
    options = {each.key: each for each in plain_options(lab.signature, builder.form)}
    others = [each for each in options if each != key]
    told = [each for each in others if is_named(each, clash.answer)]
    ways: list[tuple[str, Request, Request]] = []
    # where its message names others, it is one of these, or none
    beside = {
        other: request
        for other in (told or others)[:MOST_PARTNERS]
        # where a condition asks for more of them, which of these does it is not known
        if (request := builder.smallest([options[other], options[key]])) is not None
        and _keys(request) == {key, other}
    }
    lab.experiments.launch_ahead((_turned(each).words() for each in beside.values()), MOST_PARTNERS)
    for other, request in beside.items():
        taken = _with_value_told(lab, request, options[key], clash)
        if taken is not None and not _works_without(lab, number, options, key, other):
            ways.append((other, request, taken))
        if other in told and ways:
            break
    return ways


def _keys(request: Request) -> set[str]:
    return {part.option.key for part in request.options}


def _works_without(lab: Lab, number: int, options: Mapping[str, Option], key: str, other: str) -> bool:
    """Tell whether an option is accepted in any vector that goes without another one which makes it
    accepted: it needs that one or some other, and no condition of ours says so."""
    spellings = spellings_of_keys(lab, number, {key}), spellings_of_keys(lab, number, {other})
    if any(
        answer.works and _has(words, spellings[0]) and not _has(words, spellings[1])
        for words, answer in lab.experiments.known.items()
    ):
        return True
    trials = lab.forms.trials(number)
    fuller = trials.wished([each for each in options.values() if each.key != other], set(options))
    return fuller is not None and key in _keys(fuller) and lab.works(fuller)


def _has(words: Iterable[str], spellings: Set[str]) -> bool:
    return any(word.split("=")[0] in spellings for word in words)


def _refused_by_itself(lab: Lab, number: int, clash: Clash, shown: tuple[Shown, ...]) -> Finding:
    """Return that an option is refused whatever is beside it, as observed: it is set aside. Where
    another form has it accepted, it is this one that goes without it. An option that is refused as
    one that there is not, or that crashes or hangs, is reported and not settled: the help and the
    program differ."""
    key = clash.options[0]
    if _works_elsewhere(lab, number, key):
        form = lab.signature.lines[number]
        fewer = without_option(form, spellings_of_keys(lab, number, {key}))
        return Finding(
            text=f"{key} is refused in {short(form)}",
            shown=shown,
            edits=() if fewer is None else (synopsis_edit(lab, number, fewer),),
        )
    builder = Builder(lab.signature, lab.signature.forms[number])
    answer = lab.answer(clash.words) if clash.words else None
    if answer is not None and _is_unknown(lab, builder, clash, answer):
        return Finding(text=f"{key} is in the synopsis, but the program does not know it", shown=shown)
    text = f"{key} is refused on its own"
    if answer is None or refused_or_accepted(answer) != "refused":
        return Finding(text=text, shown=shown)
    needed = _needed_operand(lab, number, key, shown)
    if needed is not None:
        return needed
    edit = AppendEdit(("signature", "aside"), key, f"{OBSERVED}: {clash.answer}")
    return Finding(text=text, shown=shown, edits=(edit,))


def _needed_operand(lab: Lab, number: int, key: str, shown: tuple[Shown, ...]) -> Finding | None:
    """Return which operand an option needs, that the synopsis lets one leave out; None where it is
    accepted beside none."""
    builder = Builder(lab.signature, lab.signature.forms[number])
    if waits(lab, shown[0].words):  # it reads standard input instead, of which nothing came
        return None
    for name in operands_left_out(builder):
        called = name_in_conditions(lab, number, name)
        if not called:
            continue
        request = builder.wished(Wish({key}, full=False, counts={name: 1}))
        if request is not None and key in _keys(request) and lab.works(request):
            condition = f"not has('{key}') or {called} is not None"
            return Finding(
                text=f"{key} needs {name}",
                shown=(*shown, *lab.shown(request.words())),
                edits=(AppendEdit(("signature", "only-if"), condition, OBSERVED),),
            )
    return None


def _works_elsewhere(lab: Lab, number: int, key: str) -> bool:
    """Tell whether another form has an option accepted."""
    for other, form in enumerate(lab.signature.forms):
        options = [each for each in form.options if each.key == key]
        works = other != number and bool(options)
        if works and lab.works(Builder(lab.signature, form).smallest(options)):
            return True
    return False


def _is_unknown(lab: Lab, builder: Builder, clash: Clash, answer: Answer) -> bool:
    """Tell whether an option is refused in the words with which one is that no program has."""
    key, smallest = clash.options[0], builder.smallest()
    if smallest is None:
        return False
    spelling = next((each for each in clash.words if each.split("=")[0] == key), key)
    for unknown in UNKNOWN:
        if unknown.startswith("--") == key.startswith("--"):
            other = lab.answer((unknown, *smallest.words()))
            said = other.said.replace(unknown, spelling)
            if not other.works and said == answer.said:
                return True
    return False


def _turned(request: Request) -> Request:
    """Return a request with its options in the other order."""
    return replace(request, options=request.options[::-1])


def _with_value_told(lab: Lab, request: Request, option: Option, clash: Clash) -> Request | None:
    """Return a request if it is accepted, or with a value of an option that the refusal of the
    option on its own asks for; None where neither is."""
    # in the other order too: an option that takes the next word for its value needs no other
    if not lab.works(_turned(request)):
        if not option.takes_value:
            return None
    elif lab.works(request):
        return request
    for word in words_told(lab.answer(clash.words))[:2]:
        for place, number, name, _ in request.slots():
            if name in option.value_names:
                tried = request.with_value(place, number, word)
                if lab.works(tried):
                    return tried
    return None


def _conflict(lab: Lab, number: int, found: UsageGrounds, clash: Clash) -> Iterator[Finding]:
    """Yield that some options exclude each other: by a group where two do and all that are in it,
    else by conditions."""
    shown = (Shown(clash.words, clash.answer),)
    # it may be the input that is refused: a condition would claim more than was seen
    if not _speaks_of(lab, clash) or len(clash.options) > MOST_NAMED:
        yield Finding(text=_together(lab, clash), shown=shown)
        return
    if len(clash.options) > 2:
        text = f"{' and '.join(clash.options)} are refused together"
        yield Finding(text=text, shown=shown, edits=(_never_together(clash.options, clash.answer),))
        return
    form = lab.signature.lines[number]
    changed = grouped(form, [spellings_of_keys(lab, number, {key}) for key in clash.options])
    trials = lab.forms.trials(number)
    trials.rebuild(found)
    options = trials.options(clash.options) if changed is None else _within(trials, changed, clash)
    pairs = [pair for pair in combinations(options, 2) if _may_be_together(trials, pair)]
    refused = [pair for pair in pairs if trials.refuses(pair) and _is_refused_reversed(trials, pair)]
    if changed is not None and refused == pairs:
        text = f"{' and '.join(clash.options)} exclude each other"
        lines = [*lab.signature.lines]
        lines[number] = changed
        for other in range(len(lines)):
            if other != number:
                lines[other] = _grouped_as_well(lab, other, clash.options) or lines[other]
        edit = SynopsisEdit(tuple(map(str, lines)))
        yield Finding(text=text, shown=shown, edits=(edit,))
        return
    for pair in refused:
        keys = [each.key for each in pair]
        request = trials.builder.smallest(pair)
        words = clash.words if request is None else request.words()
        answer = trials.experiments.answer(words).text
        yield Finding(
            text=f"{' and '.join(keys)} exclude each other",
            shown=(Shown(words, answer),),
            edits=(_never_together(keys, answer),),
        )
    if not refused:  # of some the last one counts
        yield Finding(text=f"{' and '.join(clash.options)} exclude each other", shown=shown)


def _grouped_as_well(lab: Lab, number: int, keys: Sequence[str]) -> Usage | None:
    """Return another line of the synopsis with options in a group that exclude each other in one;
    None where they stand otherwise there, or are not seen to be refused."""
    form = lab.signature.lines[number]
    spellings = [spellings_of_keys(lab, number, {key}) for key in keys]
    changed = grouped(form, spellings) if all(spellings) else None
    if changed is None:
        return None
    builder = Builder(lab.signature, lab.signature.forms[number])
    members = next(
        inside
        for item in changed.items
        if isinstance(item, Choice) and spellings[0] <= (inside := set(spellings_in(item)))
    )
    options = [each for each in builder.form.options if set(each.spellings) <= members]
    if not all(lab.works(builder.smallest([each])) for each in options):
        return None
    requests = (builder.smallest(pair) for pair in combinations(options, 2))
    vectors = [each.words() for each in requests if each is not None]
    judged = [words for words in vectors if lab.signature.judge(words).status == "accepted"]
    return changed if judged and not any(each.works for each in lab.answers(judged)) else None


#: Words with which a message tells that options do not go together, or that one needs another.
_ABOUT_OPTIONS = re.compile(
    r"conflict|incompatib|cannot|can't|exclu|together|both|combin|meaningless|mutual|only one|more than one|"
    r"not allowed|needs?\b|requires?\b|\bonly\b|must|sense|without|unless",
    re.IGNORECASE,
)


def _speaks_of(lab: Lab, clash: Clash) -> bool:
    """Tell whether a refusal is about its options: it names one, or says that they do not go
    together."""
    said = lab.answer(clash.words).said.partition("\n")[2] if clash.words else ""
    return bool(_ABOUT_OPTIONS.search(said)) or any(is_named(each, said) for each in clash.options)


def _together(lab: Lab, clash: Clash) -> str:
    """Return what comes of options beside each other."""
    listed = _listed(clash.options)
    verdict = lab.answer(clash.words).record.verdict if clash.words else ""
    ends = {"timed-out": "does not end", "crashed": "crashes"}
    return f"with {listed} it {ends[verdict]}" if verdict in ends else f"{listed} are refused together"


def _listed(keys: Sequence[str]) -> str:
    if len(keys) <= MOST_NAMED:
        return " and ".join(keys)
    return f"{', '.join(keys[:MOST_NAMED])} and {len(keys) - MOST_NAMED} more"


def _never_together(keys: Sequence[str], answer: str) -> Edit:
    """Return the condition that some options are not given together."""
    given = " and ".join(f"has('{each}')" for each in keys)
    return AppendEdit(("signature", "only-if"), f"not ({given})", f"{OBSERVED}: {answer}")


def _within(trials: UsageTrials, changed: Usage, clash: Clash) -> list[Option]:
    """Return the options of the group that a clash would stand in."""
    wanted = {spelling for each in trials.options(clash.options) for spelling in each.spellings}
    group = next(
        item for item in changed.items if isinstance(item, Choice) and wanted <= set(spellings_in(item))
    )
    inside = set(spellings_in(group))
    return [each for each in trials.builder.form.options if set(each.spellings) <= inside]


def _may_be_together(trials: UsageTrials, pair: Sequence[Option]) -> bool:
    """Tell whether the synopsis lets two options stand together. Those that it keeps apart were
    tried when their group was made."""
    request = trials.builder.smallest(pair)
    return request is not None and {each.key for each in pair} <= _keys(request)


def _is_refused_reversed(trials: UsageTrials, pair: Sequence[Option]) -> bool:
    """Tell whether two options are refused as well in the other order: of some the last one
    counts."""
    request = trials.builder.smallest(pair)
    if request is None:
        return False
    return not trials.took_words(_turned(request).words())
