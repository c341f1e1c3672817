"""Expectations in words: what an aspect asks for, without a case."""

from __future__ import annotations

from keen_matrix.core.expect.aspects import (
    Aspect,
    CrashAspect,
    ExitAspect,
    FileAspect,
    LeftoversAspect,
    OtherFilesAspect,
    SignalAspect,
    StreamAspect,
    TextForm,
)
from keen_matrix.core.expect.exits import signal_name, wording
from keen_matrix.core.expect.refusals import BlameAspect, HelpAspect

_VERBS = {"is": "is", "contains": "contains", "lacks": "lacks", "starts": "starts with", "ends": "ends with"}


def describe_aspect(aspect: Aspect) -> str:
    """Return what an aspect asks for: `1..125`, `contains "usage:"`."""
    if isinstance(aspect, ExitAspect):
        allowed = aspect.expectation.allowed
        return wording(allowed) if isinstance(allowed, tuple) else allowed.source
    if isinstance(aspect, SignalAspect):
        return signal_name(aspect.number)
    if isinstance(aspect, StreamAspect):
        return " and ".join(map(_form, aspect.forms))
    if isinstance(aspect, FileAspect):
        return "absent" if aspect.absent else " and ".join(map(_form, aspect.forms)) or "is there"
    if isinstance(aspect, OtherFilesAspect):
        return "may be touched" if aspect.allowed else "none created, changed or deleted"
    if isinstance(aspect, (CrashAspect, LeftoversAspect)):
        return "allowed" if aspect.allowed else "none"
    if isinstance(aspect, BlameAspect):
        return "anything" if aspect.anything else "names the culprit" if aspect.must_name else "no other argument is blamed"
    if isinstance(aspect, HelpAspect):
        return "names every option and operand" + (", and no other" if aspect.complete else "")
    return repr(aspect)


def _form(form: TextForm) -> str:
    if form.name == "empty":
        return "is empty" if form.flag else "is not empty"
    if form.pattern:
        return f"matches {form.pattern}"
    texts = " and ".join(f'"{text.source}"' for text in form.texts)
    return f"{_VERBS.get(form.name, form.name)} {texts}"
