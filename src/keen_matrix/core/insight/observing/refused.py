"""Where a drafted program prints its refusals, as two calls show that no program accepts: with no
words, where it takes some, and with an option that there is not."""

from __future__ import annotations

from keen_matrix.core.errors import KeenMatrixError
from keen_matrix.core.experiments.ask import OutOfLaunches
from keen_matrix.core.insight.settling.lab import Lab, refused_or_accepted
from keen_matrix.core.insight.settling.refusing import other_streams, usual_streams
from keen_matrix.core.launch.workers.engine import WorkerPool
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.signature.grounds import Words

#: Calls that are refused by nearly every program that reads its words.
REFUSED: tuple[Words, ...] = ((), ("--no-such-option",))


def with_streams(path: str, text: str, pool: WorkerPool) -> str:
    """Return the text of a draft with the streams of its refusals, where they are not those that
    the reader promises or that are usual; the same text where nothing can be told."""
    try:
        lab = Lab(path, text, pool, RunWatch(), len(REFUSED))
        if lab.signature.row.exit is not None:
            return text  # its library says so
        words = [each for each in REFUSED if lab.signature.judge(each).status == "refused"]
        answers = dict(zip(words, lab.answers(words), strict=True))
        refused = {each: one for each, one in answers.items() if refused_or_accepted(one) == "refused"}
        for finding in usual_streams(lab, refused):
            lab.add(finding)
        for words_of_kind, answer in refused.items():
            for kind in lab.signature.judge(words_of_kind).kinds[:1]:
                for finding in other_streams(lab, kind, [answer]):
                    lab.add(finding)
    except (KeenMatrixError, OutOfLaunches):
        return text
    return lab.text
