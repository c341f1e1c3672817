"""How the program is started: past a launcher that takes long, where that comes to the same."""

from __future__ import annotations

import os

from keen_matrix.core.insight.settling.edits import OBSERVED, KeyEdit, edited
from keen_matrix.core.insight.settling.findings import Finding
from keen_matrix.core.insight.settling.lab import Lab
from keen_matrix.core.launch.warmcheck import difference_of
from keen_matrix.core.runs.forms import UNKNOWN
from keen_matrix.core.signature.grounds import Words

WORTH_SECONDS = 0.05
"""What a launcher takes at each launch from which on it is worth passing by."""


def pass_launcher_by(lab: Lab) -> None:
    """Start what the launcher starts, with what it sets, from here on and in the spec, where vectors that are
    accepted and refused come to the same both ways. Raises OutOfLaunches."""
    saves = lab.saves
    if saves is None or saves.seconds < WORTH_SECONDS or lab.spec.program.launch_through:
        return
    vectors: list[Words] = [(), ("--help",), (UNKNOWN[0],)]
    smallest = [each.smallest() for each in lab.forms.builders(grounded=False)]
    vectors += [each.words() for each in smallest if each is not None]
    vectors = list(dict.fromkeys(vectors))
    answers = lab.answers(vectors)
    edit = KeyEdit(("program", "launch-through"), "resolved", OBSERVED)
    other = Lab(lab.path, edited(lab.text, [edit]), lab.pool, lab.watch, lab.limit)
    if other.launch == lab.launch:
        return
    others = other.answers(vectors)
    lab.experiments.launches += other.experiments.launches
    lab.experiments.spent += other.experiments.spent
    if any(difference_of(a.record, b.record) for a, b in zip(answers, others, strict=True)):
        return
    name, lab.launch = os.path.basename(lab.launch.words[0]), other.launch
    # what came of each is told after it is started so: the vectors are known both ways
    text = (
        f"{name} only starts {saves.file}, and takes {saves.seconds:.1f} s for it: it is passed by"
    )
    lab.add(Finding(text=text, shown=lab.shown(*vectors), edits=(edit,)))
