"""Vectors that are launched a second time, so that what varies on its own is seen."""

from __future__ import annotations

import time
from collections.abc import Sequence

from keen_matrix.core.expect.varying import looks_like_time, varying_between
from keen_matrix.core.experiments.ask import Experiments
from keen_matrix.core.signature.grounds import Varying, Words

#: Seconds after which a clock that a program prints shows another time.
NEXT_SECOND = 1.1


def varying_of(experiments: Experiments, bases: Sequence[Words]) -> tuple[Varying, ...]:
    """Launch bases a second time, and return what differs from the first."""
    first = {words: experiments.answer(words).record for words in bases}
    # Two launches within one second would print one time, and hide that it varies.
    if any(looks_like_time(record.stdout or "") for record in first.values()):
        time.sleep(NEXT_SECOND)
    # cold: forks of one keeper share what an interpreter draws at its start
    second = experiments.launched(bases, cold=True)
    found: dict[Varying, None] = {}
    for words, record in first.items():
        for stream in ("stdout", "stderr"):
            one, other = (each.compared_stream(stream) or "" for each in (record, second[words].record))
            found.update(dict.fromkeys(varying_between(stream, one, other)))
    wholly = {each.stream for each in found if not each.pattern}
    return tuple(each for each in found if not each.pattern or each.stream not in wholly)
