"""Exit statuses of accepted calls beside 0: a program that looks for something says by its status
that it found nothing, and prints no message, since nothing is wrong."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from keen_matrix.core.experiments.ask import Answer
from keen_matrix.core.experiments.edits import OBSERVED, KeyEdit, is_stated
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.experiments.forms import UNKNOWN
from keen_matrix.core.insight.settling.lab import Lab, refused_or_accepted
from keen_matrix.core.insight.settling.lines import operands_left_out
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.signature.requests import Request

#: The highest status that a program has of its own (POSIX XCU 2.8.2).
OWN_STATUSES = 125


def settle_outcomes(lab: Lab) -> Iterator[Finding]:
    """Find a status with which the program ends without a message where it was asked nothing
    wrong, while it refuses with another one and says why."""
    if is_stated(lab.text, "expect", "exit"):
        return
    # what only an option brings about may be a defect of that option
    plain = _plain_calls(lab)
    silent = {
        words: answer
        for words, answer in zip(plain, lab.answers(plain), strict=True)
        if _is_silent(answer) and lab.signature.judge(words).status == "accepted"
    }
    if not silent:
        return
    refusals = list(_refusals(lab))
    ends = {each.record.exit for each in refusals}
    counts = Counter(each.record.exit for each in silent.values() if each.record.exit not in ends)
    if not refusals or not counts:
        return
    ((status, _),) = counts.most_common(1)
    shown = [words for words, each in silent.items() if each.record.exit == status]
    edit = KeyEdit(("expect", "exit"), [0, status], f"{OBSERVED}: {status} without a message")
    refused = refusals[0].record.argv
    yield Finding(
        text=f"it ends with {status} and says nothing where nothing is wrong with the call",
        shown=lab.shown(*shown[:2], refused),
        edits=(edit,),
    )


def _plain_calls(lab: Lab) -> list[Words]:
    """Return the smallest call of each usage, and those with one operand more that may be left
    out."""
    requests: list[Request | None] = []
    for builder in lab.forms.builders(grounded=False):
        requests.append(builder.smallest())
        requests += [builder.with_counts(name, 1) for name in operands_left_out(builder)]
    return list(dict.fromkeys(each.words() for each in requests if each is not None))


def _is_silent(answer: Answer) -> bool:
    """Tell whether a launch ended with a status of its own and no message."""
    record = answer.record
    is_own = record.exit is not None and 0 < record.exit <= OWN_STATUSES
    return is_own and refused_or_accepted(answer) == "refused" and not record.stderr


def _refusals(lab: Lab) -> Iterator[Answer]:
    """Yield how the program refuses what no program knows, where it says so."""
    tried: list[Words] = [(each,) for each in UNKNOWN]
    for words in tried:
        if lab.signature.judge(words).status != "refused":
            continue
        answer = lab.answer(words)
        if refused_or_accepted(answer) == "refused" and answer.record.stderr:
            yield answer
