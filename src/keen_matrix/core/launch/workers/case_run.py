"""A case on its way through a worker: what its launches share, and one launch with what it stands
in."""

from __future__ import annotations

import dataclasses
import errno
from collections.abc import Callable, Mapping

from keen_matrix.core.expect.cascade import Cascade, Judged
from keen_matrix.core.expect.checking import CaseChecker
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.recording import CaseRecorder
from keen_matrix.core.launch.process.checks import CheckTimer
from keen_matrix.core.launch.process.launch import Launch
from keen_matrix.core.launch.process.starters import Cold, Starter
from keen_matrix.core.launch.process.system import Poller, System
from keen_matrix.core.launch.start import Start
from keen_matrix.core.launch.workers.wire import Plan
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.spec import Step
from keen_matrix.core.structs import Struct


class Shared(Struct, frozen=True, kw_only=True):
    """What all runners of a worker share."""

    plan: Plan
    system: System
    poller: Poller
    cold: Cold
    checker: CaseChecker
    timer: CheckTimer
    steps: Mapping[int, tuple[Step, ...]]
    #: What a launch is made of that a case is compared with, where it is not the case's own.
    others: Mapping[int, Step]
    names: Mapping[int, str]
    #: The steps and the name of each matrix, and whether its cases have directories of their own,
    #: by its index.
    fresh: Mapping[int, bool]
    #: Whether one program runs at a time: what is left behind is surely its own then.
    alone: bool
    #: Whether there are more runners than programs that may run: launches wait in them to be
    #: checked while others run.
    spare: bool
    #: What gets the output of a case as it comes: its id, the stream, a piece, seconds.
    live: Callable[[str, str, bytes, float], None] | None

    def judge(self, case: Case, step: StepLaunch) -> Judged:
        """Return the verdict on a launch that has ended."""
        checker, outcome = self.checker, step.launch.outcome
        if step.start is not None:
            step.context.directory, step.context.env = step.start.directory, step.start.env
        if checker.functions:  # only the user's own functions can hang
            with self.timer.limit():
                return checker.judge_by(step.cascade, case, step.context, outcome, step.number)
        return checker.judge_by(step.cascade, case, step.context, outcome, step.number)


class StepLaunch(Struct):
    """One launch of a case: what it stands in, and the launch itself."""

    number: int
    argv: tuple[str, ...]
    context: CheckContext
    cascade: Cascade
    launch: Launch
    starter: Starter
    #: Whether it is a launch that was made before, once more, after all that are compared.
    is_again: bool = False
    start: Start | None = None
    #: Which of the launches it is that come before the case's own; -1 for one of its own.
    before: int = -1


@dataclasses.dataclass(slots=True)
class CaseRun:
    """A case on its way."""

    case: Case
    recorder: CaseRecorder
    #: The time of day at which it began, as the times of files are (time.time_ns).
    began_ns: int
    #: How often its launches were begun.
    round: int = 1
    step: StepLaunch = dataclasses.field(init=False)


def launch_reason(error: Exception, launch: tuple[str, ...], argv: tuple[str, ...]) -> str:
    """Return why the system did not start a program, in a user's words."""
    if isinstance(error, ValueError):
        return "a word of a call cannot contain a NUL"
    if not isinstance(error, OSError):
        return str(error)
    if error.errno == errno.E2BIG:
        longest = max((len(word.encode()) for word in (*launch, *argv)), default=0)
        return (
            f"the system does not accept so many or such long words (the longest has {longest:,} "
            f"bytes): {error.strerror}"
        )
    if error.strerror and "feeds standard input" in error.strerror:
        return error.strerror
    if isinstance(error.filename, str) and error.filename not in launch and error.filename.endswith("dir"):
        return f"the case's directory cannot be entered: {error.strerror}"
    if error.errno == errno.ENOENT:
        return f"{launch[0]} or the interpreter that its first line names does not exist"
    if error.errno == errno.ENOEXEC:
        return (
            f"{launch[0]} cannot be started: it is neither a binary for this machine nor a script "
            f"with a #! line"
        )
    return f"{launch[0]} could not be started: {error.strerror}"
