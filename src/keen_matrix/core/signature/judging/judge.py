"""The judgement on a vector, from what the passes found."""

from __future__ import annotations

from collections.abc import Iterable, Sequence, Set
from functools import lru_cache
from typing import Literal, NamedTuple

from keen_matrix.core.notation.synopsis import Choice, Keyword, Operand, OptionUse, Usage
from keen_matrix.core.signature.habits import (
    MOST_READINGS,
    OPERANDS,
    QUESTIONS,
    SETTINGS,
    Habits,
    OpenHabit,
    need,
)
from keen_matrix.core.signature.judging.binding import (
    bindings_of,
    check_conditions,
    check_repeats,
    check_values,
)
from keen_matrix.core.signature.judging.findings import Findings, Judgement, Refusal
from keen_matrix.core.signature.judging.matching import Matched, match
from keen_matrix.core.signature.judging.reading import read_words
from keen_matrix.core.signature.judging.resolving import Resolved, resolve
from keen_matrix.core.signature.judging.taking import Reading
from keen_matrix.core.signature.model import SignatureParts, UsageModel
from keen_matrix.core.signature.readers import OF_VALUES
from keen_matrix.core.structs import replace


class _RankedUsage(NamedTuple):
    """What one form makes of a vector, and how well it fits: the form whose keywords are met is
    meant, then one that leaves the matter open, then the one with the fewest refusals."""

    rank: tuple[int, bool, int]
    judgement: Judgement


def judge(signature: SignatureParts, words: Sequence[str]) -> Judgement:
    """Return the judgement of a signature on a vector (see Signature.judge).

    Habits that are open, and that the judgement comes to, are followed in every setting. Where all
    readings agree on whether the vector is accepted, and on what it means, that is settled.
    """
    found: list[Judgement] = []
    asked: dict[str, None] = {}
    # the likeliest settings are on top, so that what is said is said by them
    stack: list[Habits] = [signature.habits]
    while stack:
        habits = stack.pop()
        try:
            # The usual case makes no copy: nothing is open, or nothing open is touched.
            under = signature if habits is signature.habits else replace(signature, habits=habits)
            found.append(judge_under(under, words))
        # Nothing of the unfinished reading is kept: each setting is read from the start, which is
        # cheap beside keeping state that can be resumed.
        except OpenHabit as open_habit:
            name = open_habit.name
            asked[name] = None
            settings = [replace(habits, **{name: each}) for each in SETTINGS[name]]
            stack += settings[::-1]
        if len(found) + len(stack) > MOST_READINGS:
            return _unsettled(found, asked)
        # Two that differ settle that nothing is settled; the other readings need not be followed.
        if len(found) > 1 and not _agree(found[0], found[-1]):
            return _unsettled(found, asked)
    return _joined(found)


def judge_under(signature: SignatureParts, words: Sequence[str]) -> Judgement:
    """Return the judgement on a vector under the habits of a signature. Raises OpenHabit where it
    depends on one that is open."""
    ranked = []
    for number, form in enumerate(signature.forms):
        under, form = _of_usage(signature, number) if signature.usage_habits else (signature, form)
        found = _judge_by(under, form, words)
        if found.judgement.status == "accepted":
            return found.judgement
        ranked.append(found)
    # the first of several that fit alike: forms are in the order of the synopsis
    return max(ranked, key=lambda each: each.rank).judgement


@lru_cache(256)
def _of_usage(signature: SignatureParts, number: int) -> tuple[SignatureParts, UsageModel]:
    """Return the signature and the form by which the vectors of one usage are read: with the
    habits that differ there."""
    form = signature.forms[number]
    first = next((item.word for item in form.form.walk() if isinstance(item, Keyword)), "")
    settings = dict(signature.usage_habits).get(first)
    if settings is None:
        return signature, form
    habits = replace(signature.habits, **dict(settings))
    other = replace(signature, habits=habits, usage_habits=())
    return other, other.forms[number]


def _agree(one: Judgement, other: Judgement) -> bool:
    """Tell whether two readings come to the same: refusals of any kinds, or the same request."""
    if one.status != other.status or one.status == "unspecified":
        return False
    return one.status == "refused" or (one.bindings, one.help) == (other.bindings, other.help)


def _joined(found: Sequence[Judgement]) -> Judgement:
    """Return what readings that agree come to. Of refusals those count that every reading finds;
    where there are none, all that any finds."""
    first = found[0]
    if len(found) == 1 or first.status != "refused":
        return first
    # A kind that only some readings find is no promise of the program's.
    kinds = set(first.kinds).intersection(*(each.kinds for each in found))
    refusals = tuple(each for each in first.refusals if each.kind in kinds)
    if not refusals:
        refusals = tuple(dict.fromkeys(one for each in found for one in each.refusals))
    return replace(first, refusals=refusals)


def _unsettled(found: Sequence[Judgement], asked: Iterable[str]) -> Judgement:
    """Return the judgement on a vector that readings differ in."""
    questions = tuple(f"open: {QUESTIONS[name]}" for name in asked)
    told = next((each.reasons for each in found if each.status == "unspecified"), ())
    reasons = found[0].reasons if found and not told else told
    given = found[0].given if found else frozenset[str]()
    helps = any(each.help for each in found)
    return Judgement(
        status="unspecified",
        reasons=(*reasons, *questions),
        help=helps,
        given=given,
        bindings=found[0].bindings if found else {},
    )


def _judge_by(signature: SignatureParts, form: UsageModel, words: Sequence[str]) -> _RankedUsage:
    """Return what one form makes of a vector."""
    reading = read_words(signature, form, words)
    findings = reading.findings
    if reading.asks_help:
        helped = _judge_help(signature, reading, words)
        if helped is not None:
            return _ranked(helped, 0)
    if reading.actions_at:
        return _ranked(_judge_action(reading, words), 0)
    resolved = resolve(form, signature.values, reading)
    findings.add(resolved.findings)
    matched = match(resolved.pattern, reading.operands)
    findings.add(_told(signature, form, reading, resolved, matched))
    keywords = sum(each.kind == "keyword" for each in matched.bound)
    bound = [each for each in matched.bound if each.kind == "operand"]
    findings.add(check_repeats(signature, reading))
    findings.add(check_values(signature, reading, bound))
    bindings = bindings_of(signature, form, reading, bound)
    spellings = reading.spellings
    # Conditions are about values, which are only known to be what they look like once nothing else
    # is wrong.
    if not findings.refusals and not findings.doubts and not findings.value_doubts:
        findings.add(check_conditions(signature, form, words, spellings, bindings))
    judgement = Judgement(
        status=_status(findings),
        refusals=tuple(findings.refusals),
        bindings=bindings,
        reasons=(*findings.reasons, *(f"open: {each}" for each in findings.all_doubts)),
        help=reading.asks_help,
        given=spellings,
    )
    return _ranked(judgement, keywords)


def _ranked(judgement: Judgement, keywords: int) -> _RankedUsage:
    open_still = judgement.status == "unspecified"
    return _RankedUsage((keywords, open_still, -len(judgement.refusals)), judgement)


def _status(findings: Findings) -> Literal["accepted", "refused", "unspecified"]:
    """Return the status that findings come to: with one doubt nothing is settled, however many
    refusals there are beside it, since the words may mean something else altogether. What may be a
    legal value or not changes nothing where something else is wrong."""
    if findings.doubts:
        return "unspecified"
    if findings.refusals:
        return "refused"
    return "unspecified" if findings.value_doubts else "accepted"


def _judge_help(signature: SignatureParts, reading: Reading, words: Sequence[str]) -> Judgement | None:
    """Return the judgement on a vector that asks for help; None when help does not win over what
    else is wrong."""
    if signature.habits.command_before_help and _is_no_command(signature, reading, words):
        return None
    # the words themselves, not those that are spelt so: an abbreviation asks for help as well
    others = [word for at, word in enumerate(words) if at not in reading.help_at]
    helped = Judgement(status="accepted", reasons=(*reading.findings.reasons, "it asks for help"), help=True)
    if not others:
        return helped
    wins = signature.habits.help_wins
    if wins == "alone":
        return replace(
            helped, status="unspecified", reasons=(*helped.reasons, "open: help beside other words")
        )
    if wins in ("in-order", "reading"):
        if wins == "reading":
            found = _found_in_reading(signature, reading)
        else:
            found = _found_before_help(signature, words[: min(reading.help_at)], others)
        if found is None:  # a value that may be legal or not
            told = (*helped.reasons, "open: help together with other faults")
            return replace(helped, status="unspecified", reasons=told)
        return None if found else helped
    if wins == "always" or judge_under(signature, others).status == "accepted":
        return helped
    return helped if need(wins, "help_wins") == "always" else None


def _is_no_command(signature: SignatureParts, reading: Reading, words: Sequence[str]) -> bool:
    """Tell whether a word stands where a subcommand is due, is none, and has help after it."""
    known = {item.word for form in signature.forms for item in form.form.walk() if isinstance(item, Keyword)}
    if not known or not all(form.keywords for form in signature.forms) or not reading.operands:
        return False
    first = reading.operands[0]
    return first not in known and words.index(first) < min(reading.help_at)


def _found_before_help(
    signature: SignatureParts, before: Sequence[str], others: Sequence[str]
) -> bool | None:
    """Tell whether something is wrong that a reader finds before it gives help; None where that is
    open."""
    yields = signature.habits.help_yields_to
    # of what follows it only a beginning that is ambiguous is found before it
    # argparse sorts all words into options and operands before it acts on the first.
    late = [each for each in judge_under(signature, others).refusals if each.kind == "ambiguous"]
    judged = judge_under(signature, before)
    if judged.status == "unspecified" and yields & OF_VALUES:
        return None
    return any(is_among(each, yields) for each in (*judged.refusals, *late))


def _found_in_reading(signature: SignatureParts, reading: Reading) -> bool | None:
    """Tell whether something is wrong with the options that a reader finds while it reads; None
    where that is open."""
    yields = signature.habits.help_yields_to
    # Operands are not looked at yet: these readers hand them over when all options are done.
    checked = check_values(signature, reading, ())
    if checked.value_doubts and yields & OF_VALUES:
        return None
    return any(is_among(each, yields) for each in (*reading.findings.refusals, *checked.refusals))


def is_among(refusal: Refusal, kinds: Set[str]) -> bool:
    """Tell whether a refusal is of some kinds. Where values of operands are not meant, it must be
    of an option."""
    if refusal.kind not in kinds:
        return False
    of_option = any(each.startswith("-") for each in refusal.mentions[1:])
    return refusal.kind not in OF_VALUES or OPERANDS in kinds or of_option


def _judge_action(reading: Reading, words: Sequence[str]) -> Judgement:
    """Return the judgement on a vector with an option that acts alone: alone it is
    accepted, and nothing is claimed of what is beside it."""
    reasons = tuple(reading.findings.reasons)
    spellings = reading.spellings
    if len(words) == 1:
        told = (*reasons, "it acts alone")
        return Judgement(status="accepted", reasons=told, given=spellings)
    told = (*reasons, "open: other words beside an option that acts alone")
    return Judgement(status="unspecified", reasons=told, given=spellings)


def _told(
    signature: SignatureParts, form: UsageModel, reading: Reading, resolved: Resolved, matched: Matched
) -> Findings:
    """Return what matching found, in words."""
    findings = Findings()
    if reading.is_split and _may_not_split(signature, form.form):
        # argparse fills an open operand from the first run of words and takes no more later
        findings.refuse("too-many", reading.operands[-1], why="operands are split by an option")
    for kind, name, word in matched.bound:
        shown = "keyword" if kind == "keyword" else f"operand {name}"
        findings.reasons.append(f"{word}: {shown}")
    if matched.unexpected is not None:
        last = [name for kind, name, _ in matched.bound if kind != "keyword"][-1:]
        uses = [item for item in form.form.items if isinstance(item, OptionUse)]
        last = last or [each for use in uses for each in use.spellings]
        ignored = signature.habits.superfluous_operands == "ignore"
        _tell_unexpected(matched.unexpected, matched.keywords, last, resolved, findings, ignored=ignored)
    elif matched.missing and reading.is_greedy:
        findings.doubt("whether an option with several values leaves words for the operands")
    elif matched.missing:
        names = matched.missing
        findings.refuse("too-few", names[0], *names, why=f"{' '.join(names)} missing")
    return findings


def _tell_unexpected(
    word: str,
    keywords: Sequence[str],
    last: Sequence[str],
    resolved: Resolved,
    findings: Findings,
    *,
    ignored: bool,
) -> None:
    """Refuse a word that no operand is left for. A message may name it, or the operand before it,
    which was the last that there is; of a line without operands what makes it up: with
    `--stdin-paths` goes none."""
    if keywords:
        why = f"{word!r} is none of {', '.join(keywords)}"
        findings.refuse("not-a-choice", word, *keywords, why=why)
    elif resolved.stand_ins:
        names = [option.key for option in resolved.stand_ins]
        why = f"{word!r} does not go with {', '.join(names)}"
        findings.refuse("conflict", word, *names, why=why)
    elif ignored:
        findings.reasons.append(f"{word}: one operand too many, which is ignored")
    else:
        findings.refuse("too-many", word, *last, why=f"{word!r} is one operand too many")


def _may_not_split(signature: SignatureParts, form: Usage) -> bool:
    """Tell whether options may not stand between the operands of a form."""
    habits = signature.habits
    items = list(form.walk())
    if any(isinstance(item, Operand) and item.name.several for item in items):
        return not need(habits.split_operands, "split_operands")
    optional = any(
        isinstance(item, Choice)
        and any(isinstance(i, Operand) for each in item.alternatives for i in each.walk())
        for item in items
    )
    return optional and not need(habits.split_optional, "split_optional")
