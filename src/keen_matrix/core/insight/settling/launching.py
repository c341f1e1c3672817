"""How the program is started: past a launcher that takes long, where that comes to the same."""

from __future__ import annotations

import os

from keen_matrix.core.experiments.ask import Experiments
from keen_matrix.core.experiments.edits import OBSERVED, KeyEdit
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.experiments.forms import UNKNOWN
from keen_matrix.core.insight.settling.lab import Lab
from keen_matrix.core.launch.through import started_directly
from keen_matrix.core.launch.warm.warmcheck import warm_difference
from keen_matrix.core.signature.grounds import Words

#: What a launcher takes at each launch from which on it is worth passing by.
WORTH_SECONDS = 0.05


def pass_launcher_by(lab: Lab) -> None:
    """Start what the launcher starts, with what it sets, from here on and in the spec, where
    vectors that are accepted and refused come to the same both ways. Raises OutOfLaunches."""
    saves = lab.saves
    if saves is None or saves.seconds < WORTH_SECONDS or lab.spec.program.launch_through:
        return
    vectors: list[Words] = [(), ("--help",), (UNKNOWN[0],)]
    smallest = [each.smallest() for each in lab.forms.builders(grounded=False)]
    vectors += [each.words() for each in smallest if each is not None]
    vectors = list(dict.fromkeys(vectors))
    answers = lab.answers(vectors)
    edit = KeyEdit(("program", "launch-through"), "resolved", OBSERVED)
    direct = started_directly(lab.launch, saves)
    other = Experiments(lab.spec, direct, lab.pool, lab.watch.grounding, lab.limit)
    others = other.launched(vectors)
    lab.experiments.launches += other.launches
    lab.experiments.spent += other.spent
    pairs = zip(vectors, answers, strict=True)
    if any(warm_difference(answer.record, others[words].record) for words, answer in pairs):
        return
    name, lab.launch = os.path.basename(lab.launch.words[0]), direct
    text = f"{name} only starts {saves.file}, which takes it {saves.seconds:.1f} s, so it is skipped"
    lab.add(Finding(text=text, shown=lab.shown(*vectors), edits=(edit,)))
