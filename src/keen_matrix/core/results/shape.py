"""What a journal's lines must look like to be read: one that was changed by hand, or torn, is told of with its place."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeAlias

from keen_matrix.core.expect.cascade import VERDICTS
from keen_matrix.core.expect.exits import signal_number

_Types: TypeAlias = "tuple[type, ...]"
_TEXT: _Types = (str,)
_NUMBER: _Types = (int, float)
_COUNT: _Types = (int,)
_TABLE: _Types = (dict,)
_LIST: _Types = (list,)
_WORDS = {_TEXT: "a text", _NUMBER: "a number", _COUNT: "a whole number", _TABLE: "an object", _LIST: "an array"}
_NEEDED = (("id", _TEXT), ("matrix", _TEXT), ("argv", _LIST), ("values", _TABLE), ("verdict", _TEXT),
           ("seconds", _NUMBER), ("aspects", _LIST))  # fmt: skip
_OTHERS = (
    *((name, (str, type(None))) for name in ("family", "kind", "culprit", "note", "judgement", "signal", "relation")),
    *((name, _TEXT) for name in ("stdout", "stderr", "stdout_base64", "stderr_base64", "fault", "stopped", "kept")),
    *((name, (int, type(None))) for name in ("exit", "peak_bytes")),
    *((name, _NUMBER) for name in ("user_seconds", "system_seconds")),
    *((name, _TABLE) for name in ("files", "looked_at", "repeats")),
    *((name, _LIST) for name in ("more_argv", "steps", "arrivals", "dialogue", "feeders", "leftovers", "remarks", "masked")),
)  # fmt: skip
_RECORD: dict[str, _Types] = dict((*_NEEDED, *_OTHERS))
_ONLY_TEXTS = frozenset({str})
_HEADER = (("spec", _TEXT), ("started", _TEXT))
_HEADER_OTHERS = (("spec_digest", _TEXT), ("platform", _TEXT), ("jobs", _COUNT), ("matrices", _LIST), ("axes", _TABLE),
                  ("launch", _LIST), ("program", _TEXT), ("launcher", _TEXT), ("shard", _TEXT))  # fmt: skip


MOST_SHAPES = 10_000
"""Shapes of lines that are remembered; a journal has few."""
_SHAPES: dict[tuple[Any, ...], str] = {}
"""Names and types of a record → what is wrong with them: records are alike, and looking each name up takes far longer."""
_ASPECT_SHAPES: dict[tuple[Any, ...], tuple[str, str]] = {}
"""Names and types of an aspect → what is wrong with one that held, and with one that did not."""


def line_fault(fields: Any) -> str:
    """Return what is wrong with a line of a journal, in words; empty when nothing is, or when it is neither record nor header."""
    if type(fields) is not dict:
        return "expected an object"
    return record_fault(fields) if "id" in fields else header_fault(fields) if "journal" in fields else ""


def record_fault(fields: Mapping[str, Any]) -> str:
    """Return what is wrong with the record of a case, in words; empty when nothing is."""
    shape = (*fields, *map(type, fields.values()))
    fault = _SHAPES.get(shape)
    if fault is None:
        fault = _shape_fault(fields)
        if len(_SHAPES) < MOST_SHAPES:
            _SHAPES[shape] = fault
    if fault:
        return fault
    if fields["verdict"] not in VERDICTS:
        return f'"verdict" is none of {", ".join(VERDICTS)}'
    if not _ONLY_TEXTS.issuperset(map(type, fields["argv"])):
        return '"argv" holds something else than texts'
    if fields.get("signal") is not None:
        try:
            signal_number(fields["signal"])
        except ValueError as error:
            return str(error)
    files = fields.get("files")
    if files and not all(type(each) is dict for each in files.values()):
        return '"files" holds something else than objects'
    for aspect in fields["aspects"]:
        if fault := _aspect_fault(aspect):
            return fault
    return ""


def _shape_fault(fields: Mapping[str, Any]) -> str:
    for name, value in fields.items():
        types = _RECORD.get(name)
        if types is not None and type(value) not in types:
            return _fault(name, fields, types)
    for name, types in _NEEDED:
        if name not in fields:
            return _fault(name, fields, types)
    return ""


def _aspect_fault(aspect: Any) -> str:
    if type(aspect) is not dict:
        return _NO_ASPECT
    shape = (*aspect, *map(type, aspect.values()))
    faults = _ASPECT_SHAPES.get(shape)
    if faults is None:
        faults = _aspect_shape_faults(aspect)
        if len(_ASPECT_SHAPES) < MOST_SHAPES:
            _ASPECT_SHAPES[shape] = faults
    return faults[0] if aspect.get("held") is True else faults[1]


_NO_ASPECT = '"aspects" holds something without an "aspect" and whether it "held"'


def _aspect_shape_faults(aspect: Mapping[str, Any]) -> tuple[str, str]:
    if type(aspect.get("aspect")) is not str or type(aspect.get("held")) is not bool:
        return _NO_ASPECT, _NO_ASPECT
    if type(aspect.get("rule", "")) is not str:
        rule = _fault("rule", aspect, _TEXT)
        return rule, rule
    wrong = (name for name in ("form", "expected", "actual") if type(aspect.get(name)) is not str)
    return "", next((_fault(name, aspect, _TEXT) for name in wrong), "")


def header_fault(fields: Mapping[str, Any]) -> str:
    """Return what is wrong with the header of a spec's run, in words; empty when nothing is."""
    for name, types in _HEADER:
        if type(fields.get(name)) not in types:
            return _fault(name, fields, types)
    for name, types in _HEADER_OTHERS:
        if name in fields and type(fields[name]) not in types:
            return _fault(name, fields, types)
    if not all(type(word) is str for word in fields.get("launch", ())):
        return '"launch" holds something else than texts'
    for name, axes in fields.get("axes", {}).items():
        if type(axes) is not dict or not all(type(values) is list for values in axes.values()):
            return f'"axes" has no arrays of values for "{name}"'
    return ""


def _fault(name: str, fields: Mapping[str, Any], types: _Types) -> str:
    expected = _WORDS.get(types) or f"{_WORDS[types[:1]]} or null"
    return f'"{name}" is {"of another kind" if name in fields else "missing"}; expected {expected}'
