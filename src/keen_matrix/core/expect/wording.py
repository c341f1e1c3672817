"""Expectations in words: what an aspect asks for, without a case."""

from __future__ import annotations

from collections.abc import Iterator

from keen_matrix.core.expect.aspects import (
    Aspect,
    CrashAspect,
    ExitAspect,
    FileAspect,
    LeftoversAspect,
    OtherFilesAspect,
    SignalAspect,
    StreamAspect,
)
from keen_matrix.core.expect.exits import wording
from keen_matrix.core.expect.help import HelpAspect
from keen_matrix.core.expect.limits import DurationAspect, MemoryAspect
from keen_matrix.core.expect.refusals import BlameAspect
from keen_matrix.core.expect.tidy import TidyAspect
from keen_matrix.core.model.signals import signal_name


def describe_aspect(aspect: Aspect) -> str:
    """Return what an aspect asks for: `1..125`, `contains "usage:"`."""
    if isinstance(aspect, ExitAspect):
        allowed = aspect.expectation.allowed
        return wording(allowed) if isinstance(allowed, tuple) else allowed.source
    if isinstance(aspect, SignalAspect):
        return signal_name(aspect.number)
    if isinstance(aspect, StreamAspect):
        return " and ".join(form.describe() for form in aspect.forms)
    if isinstance(aspect, FileAspect):
        return "absent" if aspect.absent else " and ".join(_file(aspect)) or "is there"
    if isinstance(aspect, OtherFilesAspect):
        return "may be touched" if aspect.allowed else "none created, changed or deleted"
    if isinstance(aspect, (CrashAspect, LeftoversAspect)):
        return "allowed" if aspect.allowed else "none"
    if isinstance(aspect, BlameAspect):
        return (
            "anything"
            if aspect.anything
            else "names the culprit"
            if aspect.must_name
            else "no other argument is blamed"
        )
    if isinstance(aspect, TidyAspect):
        return "no file that no word names, no control characters" + (
            "" if aspect.is_expected else ": remarked on"
        )
    if isinstance(aspect, HelpAspect):
        return "names every option and operand" + (", and no other" if aspect.complete else "")
    if isinstance(aspect, (DurationAspect, MemoryAspect)):
        return aspect.limit.text
    return repr(aspect)


def _file(aspect: FileAspect) -> Iterator[str]:
    yield from (form.describe() for form in aspect.forms)
    if aspect.mode:
        yield f"has mode {aspect.mode}"
    if aspect.unchanged:
        yield "is unchanged"
    if aspect.link:
        yield f"is a link to {aspect.link.source}"
