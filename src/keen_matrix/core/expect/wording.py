"""Expectations in words: what an aspect asks for, without a case."""

from __future__ import annotations

import json
from collections.abc import Iterator

from keen_matrix.core.expect.aspects import (
    Aspect,
    CrashAspect,
    ExitAspect,
    FileAspect,
    Form,
    LeftoversAspect,
    OtherFilesAspect,
    SignalAspect,
    StreamAspect,
    TextForm,
)
from keen_matrix.core.expect.exits import signal_name, wording
from keen_matrix.core.expect.forms import BaselineForm, BytesForm, CountForm, HoldsForm, LinesForm, SameForm
from keen_matrix.core.expect.json_form import JsonForm
from keen_matrix.core.expect.limits import DurationAspect, MemoryAspect
from keen_matrix.core.expect.numbers import Tolerance
from keen_matrix.core.expect.refusals import BlameAspect, HelpAspect
from keen_matrix.core.expressions import Template

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
    if isinstance(aspect, HelpAspect):
        return "names every option and operand" + (", and no other" if aspect.complete else "")
    if isinstance(aspect, (DurationAspect, MemoryAspect)):
        return aspect.limit.text
    return repr(aspect)


def _file(aspect: FileAspect) -> Iterator[str]:
    yield from map(_form, aspect.forms)
    if aspect.mode:
        yield f"has mode {aspect.mode}"
    if aspect.unchanged:
        yield "is unchanged"
    if aspect.link:
        yield f"is a link to {aspect.link.source}"


def _form(form: Form) -> str:
    """Return one form in words."""
    if isinstance(form, TextForm):
        return _text_form(form) + _within(form.tolerance)
    if isinstance(form, LinesForm):
        texts = ", ".join(repr(text.source) for text in form.texts)
        return f"has the lines {texts}{', in any order' if form.any_order else ''}{_within(form.tolerance)}"
    if isinstance(form, CountForm):
        count = form.count.source if isinstance(form.count, Template) else _bounds(*form.count)
        return f"has {count} {'lines' if form.lines else 'bytes'}"
    if isinstance(form, SameForm):
        words = " ".join("".join(getattr(part, "text", "{…}") for part in word.parts) for word in form.command)
        return (f"is the file {form.file.source}" if form.file else f"is what {words} prints") + _within(form.tolerance)
    if isinstance(form, BytesForm):
        return f"has the {form.algorithm} digest {form.wanted.hex()}" if form.algorithm else "is the given bytes"
    if isinstance(form, HoldsForm):
        return " and ".join(f"{each.source} is true" for each in form.conditions)
    if isinstance(form, JsonForm):
        return f"is the JSON {json.dumps(form.expected, ensure_ascii=False)}{_within(form.tolerance)}"
    if isinstance(form, BaselineForm):
        return f"is as in its baseline{_within(form.tolerance)}"
    return repr(form)


def _within(tolerance: Tolerance | None) -> str:
    return f", numbers within {tolerance.absolute or f'a part of {tolerance.relative}'}" if tolerance else ""


def _bounds(low: int, high: int | None) -> str:
    return str(low) if low == high else f"{low} or more" if high is None else f"{low} to {high}"


def _text_form(form: TextForm) -> str:
    if form.name == "empty":
        return "is empty" if form.flag else "is not empty"
    if form.pattern:
        return f"matches {form.pattern}"
    texts = " and ".join(f'"{text.source}"' for text in form.texts)
    return f"{_VERBS.get(form.name, form.name)} {texts}"
