"""What one call makes, another needs: `add` before `weigh`, `init` before everything. Each usage of
which no call is accepted is tried after an accepted call of every other one."""

from __future__ import annotations

import shlex
from collections.abc import Iterator

from keen_matrix.core.experiments.edits import OBSERVED, AppendEdit
from keen_matrix.core.experiments.findings import Finding, Shown
from keen_matrix.core.insight.settling.lab import Lab, came
from keen_matrix.core.insight.settling.program import with_edits
from keen_matrix.core.notation.synopsis import Keyword
from keen_matrix.core.signature.requests import Builder, Request

#: Usages that are tried before another one, and usages that get something before them.
MOST_BEFORE, MOST_USAGES = 12, 20


def settle_before(lab: Lab) -> Iterator[Finding]:
    """Find which call has to come before those of a usage."""
    stated = {usage for usage, _ in lab.signature.before}
    requests = [(each, _usage_of(each), each.smallest()) for each in lab.forms.builders(grounded=False)]
    accepted = [(usage, each) for _, usage, each in requests if each is not None and lab.works(each)]
    for _, usage, request in requests[:MOST_USAGES]:
        if request is None or not usage or usage in stated or lab.works(request):
            continue
        for other, first in accepted[:MOST_BEFORE]:
            finding = None if other == usage else _after(lab, usage, request, first)
            if finding is not None:
                yield finding
                break


def _after(lab: Lab, usage: str, request: Request, first: Request) -> Finding | None:
    """Return that a call is accepted after another one, and is refused without it."""
    line = _line(request, first)
    table = {"usage": usage, "steps": [{"line": line}]}
    edit = AppendEdit(("signature", "before"), table, f"{OBSERVED}: refused without")
    other = with_edits(lab, [edit])
    answer = other.answer(request.words())
    lab.experiments.count(other.experiments)
    if not answer.works:
        return None
    shown = (*lab.shown(first.words(), request.words()), Shown(request.words(), f"after that {came(answer)}"))
    return Finding(text=f"{usage} needs {line} before it", shown=shown, edits=(edit,))


def _line(request: Request, first: Request) -> str:
    """Return a call as a step has it: the values of NAMEs that both calls have are those of the
    call after it."""
    shared = {name for _, _, name, _ in request.slots()}
    for place, number, name, _ in list(first.slots()):
        if name in shared:
            first = first.with_value(place, number, f"{{{name}}}")
    return " ".join(word if word.startswith("{") else shlex.quote(word) for word in first.words())


def _usage_of(builder: Builder) -> str:
    """Return the word that a usage begins with; empty where it begins with none."""
    first = next((item for item in builder.form.form.items if isinstance(item, Keyword)), None)
    return "" if first is None else first.word
