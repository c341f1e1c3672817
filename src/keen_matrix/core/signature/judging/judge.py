"""The judgement on a vector, from what the passes found."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

from keen_matrix.core.notation.synopsis import Choice, Form, Operand
from keen_matrix.core.signature.judging.binding import (
    bindings_of,
    check_conditions,
    check_repeats,
    check_values,
)
from keen_matrix.core.signature.judging.findings import Findings, Judgement
from keen_matrix.core.signature.judging.matching import Matched, match
from keen_matrix.core.signature.judging.reading import Reading, read
from keen_matrix.core.signature.judging.resolving import Resolved, resolve
from keen_matrix.core.signature.model import FormModel, SignatureParts


class _Ranked(NamedTuple):
    """What one form makes of a vector, and how well it fits: the form whose keywords are met is
    meant, then one that leaves the matter open, then the one with the fewest refusals."""

    rank: tuple[int, bool, int]
    judgement: Judgement


def judge(signature: SignatureParts, words: Sequence[str]) -> Judgement:
    """Return the judgement of a signature on a vector (see Signature.judge)."""
    ranked = []
    for form in signature.forms:
        found = _judge_by(signature, form, words)
        if found.judgement.status == "accepted":
            return found.judgement
        ranked.append(found)
    # the first of several that fit alike: forms stand in the order of the synopsis
    return max(ranked, key=lambda each: each.rank).judgement


def _judge_by(signature: SignatureParts, form: FormModel, words: Sequence[str]) -> _Ranked:
    """Return what one form makes of a vector."""
    reading = read(signature, form, words)
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
    if not findings.refusals and not findings.doubts:
        findings.add(check_conditions(signature, form, words, spellings, bindings))
    judgement = Judgement(
        status=_status(findings),
        refusals=tuple(findings.refusals),
        bindings=bindings,
        reasons=(*findings.reasons, *(f"not settled: {each}" for each in findings.doubts)),
        help=reading.asks_help,
        given=spellings,
    )
    return _ranked(judgement, keywords)


def _ranked(judgement: Judgement, keywords: int) -> _Ranked:
    open_still = judgement.status == "unspecified"
    return _Ranked((keywords, open_still, -len(judgement.refusals)), judgement)


def _status(findings: Findings) -> Literal["accepted", "refused", "unspecified"]:
    """Return the status that findings come to: with one doubt nothing is settled, however many
    refusals there are beside it, since the words may mean something else altogether."""
    if findings.doubts:
        return "unspecified"
    return "refused" if findings.refusals else "accepted"


def _judge_help(
    signature: SignatureParts, reading: Reading, words: Sequence[str]
) -> Judgement | None:
    """Return the judgement on a vector that asks for help; None when help does not win over what
    else is wrong."""
    # the words themselves, not those that are spelt so: an abbreviation asks for help as well
    others = [word for at, word in enumerate(words) if at not in reading.help_at]
    reasons = tuple(reading.findings.reasons)
    wins = signature.switches.help_wins
    if not others or wins or judge(signature, others).status == "accepted":
        return Judgement(status="accepted", reasons=(*reasons, "it asks for help"), help=True)
    if wins is None:
        told = (*reasons, "not settled: help beside other faults")
        return Judgement(status="unspecified", reasons=told, help=True)
    return None


def _judge_action(reading: Reading, words: Sequence[str]) -> Judgement:
    """Return the judgement on a vector with an option that ends the call by itself: alone it is
    accepted, and nothing is claimed of what stands beside it."""
    reasons = tuple(reading.findings.reasons)
    spellings = reading.spellings
    if len(words) == 1:
        told = (*reasons, "it ends the call by itself")
        return Judgement(status="accepted", reasons=told, given=spellings)
    told = (*reasons, "not settled: what stands beside an option that ends the call by itself")
    return Judgement(status="unspecified", reasons=told, given=spellings)


def _told(
    signature: SignatureParts,
    form: FormModel,
    reading: Reading,
    resolved: Resolved,
    matched: Matched,
) -> Findings:
    """Return what matching found, in words."""
    findings = Findings()
    if reading.is_split and signature.switches.interleaved is not True:
        findings.doubt("whether options may stand between operands")
    elif reading.is_split and signature.style == "gnu" and _is_elastic(form.form):
        # argparse fills an open operand from the first run of words and takes no more later
        findings.doubt("whether operands of an open number may be split by options")
    for kind, name, word in matched.bound:
        shown = "keyword" if kind == "keyword" else f"operand {name}"
        findings.reasons.append(f"{word}: {shown}")
    if matched.unexpected is not None:
        last = [name for kind, name, _ in matched.bound if kind != "keyword"][-1:]
        ignored = signature.switches.superfluous_operands == "ignore"
        _tell_unexpected(
            matched.unexpected, matched.keywords, last, resolved, findings, ignored=ignored
        )
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
    which was the last that there is."""
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


def _is_elastic(form: Form) -> bool:
    """Tell whether a form takes a varying number of operands."""
    return any(
        (isinstance(item, Operand) and item.name.several)
        or (
            isinstance(item, Choice)
            and any(isinstance(i, Operand) for each in item.alternatives for i in each.walk())
        )
        for item in form.walk()
    )
