"""Where the time of a run went, and what would help, in a sentence."""

from __future__ import annotations

import os
from collections.abc import Sequence

from keen_matrix.core.runs.spent import Share
from keen_matrix.wording.counts import counted, duration

MOST_SHOWN = 2


def spent_text(shares: Sequence[Share], jobs: int) -> str:
    """Return one line on the largest parts; empty where nothing stands out."""
    told = [_told(each, jobs) for each in shares[:MOST_SHOWN]]
    return f"time: {'; '.join(told)}" if told else ""


def _told(share: Share, jobs: int) -> str:
    """Return what a part is, how long it took, and what makes it shorter."""
    what, took = "", duration(share.seconds)
    match share.kind:
        case "timed-out":
            what = f"{counted(share.count, 'case')} that timed out: {took} (a shorter timeout helps)"
        case "slowest":
            what = f"the slowest, {', '.join(share.ids)}: {took} (--slow-last runs them at the end)"
        case "launcher":
            file = share.through.file if share.through is not None else ""
            what = f'a launcher that starts {file}: {took} (launch-through = "resolved" starts it directly)'
        case "launches":
            what = f"{counted(share.count, 'launch')}, {duration(share.each)} each: {took}"
            what += _help_for_launches(share, jobs)
        case "build":
            what = f"the build: {took}"
        case "controls":
            what = f"trying the base calls: {took} (cached for the next run)"
        case "combining":
            what = f"combining: {took} (cached for the next run)"
        case "warm-check":
            what = f"launching a sample warm and cold: {took} (a lower --warm-check helps)"
    return what


def _help_for_launches(share: Share, jobs: int) -> str:
    processors = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count()
    if share.is_cold_python:
        return " (warm = true forks it instead)"
    return f" (--jobs {processors} helps)" if processors and jobs < processors else ""
