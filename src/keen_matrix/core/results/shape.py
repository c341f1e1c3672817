"""What a journal's lines must look like to be read: one that was changed by hand, or torn, is told of with its place."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from functools import lru_cache
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
                  ("launch", _LIST), ("program", _TEXT), ("launcher", _TEXT), ("shard", _TEXT), ("fault", _TEXT))  # fmt: skip


MOST_SHAPES = 10_000
"""Shapes (names, then types) of which what is wrong with them is remembered: a journal has few, and looking each name up
takes far longer."""


def line_fault(fields: Any) -> str:
    """Return what is wrong with a line of a journal, in words; empty when nothing is, or when it is neither record nor header."""
    if type(fields) is not dict:
        return "expected an object"
    return record_fault(fields) if "id" in fields else header_fault(fields) if "journal" in fields else ""


def record_fault(fields: Mapping[str, Any]) -> str:
    """Return what is wrong with the record of a case, in words; empty when nothing is."""
    if fault := _shape_fault((*fields, *map(type, fields.values()))):
        return fault
    if fields["verdict"] not in VERDICTS:
        return f'"verdict" is none of {", ".join(VERDICTS)}'
    if not _ONLY_TEXTS.issuperset(map(type, fields["argv"])):
        return '"argv" has something else in it than texts'
    if fields.get("signal") is not None:
        try:
            signal_number(fields["signal"])
        except ValueError as error:
            return str(error)
    files = fields.get("files")
    if files and not all(type(each) is dict for each in files.values()):
        return '"files" has something else in it than objects'
    for aspect in fields["aspects"]:
        if fault := _aspect_fault(aspect):
            return fault
    return ""


@lru_cache(MOST_SHAPES)
def _shape_fault(shape: tuple[Any, ...]) -> str:
    """Return what is wrong with the names and types of a record."""
    names, types = shape[: len(shape) // 2], shape[len(shape) // 2 :]
    wrong = [name for name, kind in zip(names, types, strict=True) if name in _RECORD and kind not in _RECORD[name]]
    wrong += [name for name, _ in _NEEDED if name not in names]
    return _fault(wrong[0], names, _RECORD[wrong[0]]) if wrong else ""


def _aspect_fault(aspect: Any) -> str:
    if type(aspect) is not dict:
        return _NO_ASPECT
    return _aspect_shape_fault((*aspect, *map(type, aspect.values())), aspect.get("met") is True)


_NO_ASPECT = '"aspects" has something without an "aspect" and whether it is "met"'


@lru_cache(MOST_SHAPES)
def _aspect_shape_fault(shape: tuple[Any, ...], met: bool) -> str:
    """Return what is wrong with the names and types of an aspect; one that is not met has more of them."""
    names = shape[: len(shape) // 2]
    kinds = dict(zip(names, shape[len(names) :], strict=True))
    if kinds.get("aspect") is not str or kinds.get("met") is not bool:
        return _NO_ASPECT
    wrong = [] if kinds.get("rule", str) is str else ["rule"]
    wrong += [] if met else [name for name in ("form", "expected", "actual") if kinds.get(name) is not str]
    return _fault(wrong[0], names, _TEXT) if wrong else ""


def header_fault(fields: Mapping[str, Any]) -> str:
    """Return what is wrong with the header of a spec's run, in words; empty when nothing is."""
    for name, types in _HEADER:
        if type(fields.get(name)) not in types:
            return _fault(name, fields, types)
    for name, types in _HEADER_OTHERS:
        if name in fields and type(fields[name]) not in types:
            return _fault(name, fields, types)
    for name in ("launch", "matrices"):
        if not all(type(each) is str for each in fields.get(name, ())):
            return f'"{name}" has something else in it than texts'
    for name, axes in fields.get("axes", {}).items():
        if type(axes) is not dict or not all(type(values) is list for values in axes.values()):
            return f'"axes" has no arrays of values for "{name}"'
        if not all(type(each) is str for values in axes.values() for each in values):
            return f'"axes" has something else in it than texts for "{name}"'
    return ""


def _fault(name: str, fields: Collection[str], types: _Types) -> str:
    expected = _WORDS.get(types) or f"{_WORDS[types[:1]]} or null"
    return f'"{name}" is {"of another kind" if name in fields else "missing"}; expected {expected}'
