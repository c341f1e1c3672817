"""Turning validation errors into problems with places, in a user's words."""

from __future__ import annotations

import types
import typing
from collections.abc import Iterator
from typing import Any

from pydantic import BaseModel, ValidationError

from keen_matrix.core.errors import EXAMPLE, Problem, nearest
from keen_matrix.core.spec.document.base import kind_of
from keen_matrix.core.spec.document.tables import elsewhere_in
from keen_matrix.core.spec.document.whole import SpecDocument
from keen_matrix.core.spec.keys import KeyPath
from keen_matrix.core.spec.source import Source

_WORDINGS = {
    "string_type": "a text",
    "int_type": "a whole number",
    "int_from_float": "a whole number",
    "float_type": "a number",
    "bool_type": "true or false",
    "list_type": "an array",
    "dict_type": "a table",
    "model_type": "a table",
    "model_attributes_type": "a table",
    "int_parsing": "a whole number",
    "float_parsing": "a number",
    "bool_parsing": "true or false",
    "tuple_type": "an array",
}


_LIMITS = {
    "greater_than": "a number above {}",
    "greater_than_equal": "a number of at least {}",
    "less_than": "a number below {}",
    "less_than_equal": "a number of at most {}",
    "too_short": "at least {} of them",
    "string_too_short": "a text",
    "string_too_long": "at most {} characters",
    "finite_number": "a finite number",
    "string_pattern_mismatch": "a text that matches {}",
}

#: Keys by names that they had before, or that one tries, too far from the present ones to be found
#: by likeness.
_FORMER = {"line-count": "number-of-lines", "env-inherit": "env-from-caller"}


def problems_of(error: ValidationError, source: Source) -> list[Problem]:
    """Return one problem for each validation error, in file order."""
    errors = error.errors(include_url=False)
    misspelt = {
        (each["loc"][:-1], nearest(str(each["loc"][-1]), known_keys(each["loc"][:-1])))
        for each in errors
        if each["type"] == "extra_forbidden"
    }
    problems = {
        _problem(each, source): None
        for each in errors
        if (
            each["type"] != "missing" or (each["loc"][:-1], each["loc"][-1]) not in misspelt
        )  # told where it stands
        and not _is_below_slip(each["loc"], source.data)
    }
    return sorted(problems, key=lambda problem: (problem.line, problem.column))


#: The names that pydantic has for limits.
LIMIT_NAMES = ("gt", "ge", "lt", "le", "min_length", "max_length", "pattern")


def _unknown_key(error: Any, path: KeyPath, source: Source) -> Problem:
    known = known_keys(error["loc"][:-1])
    former = _FORMER.get(str(path[-1]))
    hint = former if former in known else nearest(str(path[-1]), known)
    expected = None if hint else f"one of {', '.join(sorted(known))}" if known else None
    message = f'unknown key "{path[-1]}" in {_table_name(path[:-1])}'
    return source.problem(path, message, expected=expected, suggestion=hint, at_key=True)


def _problem(error: Any, source: Source) -> Problem:
    path, value = written_path(error["loc"], source.data)
    kind, context = error["type"], error.get("ctx", {})
    name = dotted(path)
    if kind == "extra_forbidden" or _is_misspelt(error, path):
        return _unknown_key(error, path, source)
    if kind == "missing":
        message = f'"{path[-1]}" is missing in {_table_name(path[:-1])}'
        return source.problem(path, message, at_key=True, expected=_example(error["loc"]))
    if kind in ("notation", "value"):
        reason = context.get("reason", error["msg"])
        return source.problem(path, f"{name}: {reason}", offset=context.get("offset"))
    if kind in _WORDINGS:
        return source.problem(path, f"{name} is {kind_of(value)}", expected=_WORDINGS[kind])
    if kind in ("literal_error", "enum"):
        choices = str(context.get("expected", ""))
        hint = nearest(str(value), [choice.strip("' ") for choice in choices.replace(" or ", ",").split(",")])
        return source.problem(
            path, f"{name} is {value!r}", expected=choices.replace("'", '"'), suggestion=hint
        )
    if kind in _LIMITS:
        limit = next((context[name] for name in LIMIT_NAMES if name in context), "")
        shown = f"{limit:g}" if isinstance(limit, float) else limit
        return source.problem(path, f"{name} is {_shown(value)}", expected=_LIMITS[kind].format(shown))
    return source.problem(path, f"{name}: {error['msg'][:1].lower()}{error['msg'][1:]}")


def _is_misspelt(error: Any, path: KeyPath) -> bool:
    """Tell whether a key is no table because it is meant to be another: a slip in a key of
    [refusal], all of whose other keys are tables of kinds."""
    if _WORDINGS.get(error["type"]) != "a table" or not isinstance(path[-1], str):
        return False
    known = known_keys(error["loc"][:-1])
    return path[-1] not in known and nearest(path[-1], known) is not None


def _is_below_slip(loc: tuple[Any, ...], data: Any) -> bool:
    """Tell whether an error is about what stands in [refusal.KEY], KEY being no kind but a slip in
    another key: lint tells of KEY, and nothing in it is read as it was meant."""
    if loc[:1] != ("refusal",) or len(loc) < 3:
        return False
    from keen_matrix.core.signature.kinds import KINDS

    signature = data.get("signature")
    own = signature.get("refuse") if isinstance(signature, dict) else None
    kinds = (
        {str(each.get("kind")) for each in own if isinstance(each, dict)} if isinstance(own, list) else set()
    )
    known = known_keys(loc[:1])
    return loc[1] not in {*KINDS, *kinds, *known} and nearest(loc[1], known) is not None


def _shown(value: object) -> str:
    if value in ("", []):
        return "empty"
    return f"{value:g}" if isinstance(value, (int, float)) else kind_of(value)


def written_path(loc: tuple[Any, ...], data: object) -> tuple[KeyPath, object]:
    """Return the key path as written in the file, without the steps that reading put in, and the
    value there."""
    path: KeyPath = ()
    for step in loc:
        if isinstance(data, dict):
            if not isinstance(step, str):
                continue  # one table standing for a list of one
            path, data = (*path, step), data.get(step)
        elif isinstance(data, list):
            if not isinstance(step, int):
                continue  # a list standing for a table of values
            path, data = (*path, step), data[step] if step < len(data) else None
        elif data is None:
            path = (*path, step)
    return path, data


def dotted(path: KeyPath) -> str:
    """Return a key path for people: `matrix[2].axes.origin` counts from 1."""
    text = ""
    for step in path:
        if isinstance(step, int):
            text += f"[{step + 1}]"
        else:
            text += f"{'.' if text else ''}{step if step.replace('-', '').replace('_', '').isalnum() else repr(step)}"
    return text


def _table_name(path: KeyPath) -> str:
    return f"[{dotted(path)}]" if path else "the spec"


def known_keys(loc: tuple[object, ...]) -> set[str]:
    """Return the keys that the table at a location of the document may have."""
    return {
        field.alias or name
        for model in _models_at(SpecDocument, list(loc))
        for name, field in model.model_fields.items()
    }


def _example(loc: tuple[object, ...]) -> str | None:
    for model in _models_at(SpecDocument, list(loc[:-1])):
        for name, field in model.model_fields.items():
            if loc[-1] == (field.alias or name) and field.examples:
                return f"{EXAMPLE}{loc[-1]} = {_toml(field.examples[0])}"
    return None


def _toml(value: object) -> str:
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{key} = {_toml(each)}" for key, each in value.items()) + " }"
    return (
        '"' + value + '"'
        if isinstance(value, str)
        else str(value).lower()
        if isinstance(value, bool)
        else str(value)
    )


def _models_at(annotation: object, loc: list[object]) -> Iterator[type[BaseModel]]:
    """Yield the models that a location leads to, looking through annotations, unions and
    containers."""
    for model in _models_in(annotation):
        if not loc:
            yield model
            continue
        field = next((f for n, f in model.model_fields.items() if loc[0] == (f.alias or n)), None)
        if field is not None:
            inner = field.annotation
            rest = loc[1:]
            while rest and (isinstance(rest[0], int) or _is_mapping(inner)):
                rest, inner = rest[1:], _item_type(inner)
            yield from _models_at(inner, rest)


def _is_mapping(annotation: object) -> bool:
    origin = typing.get_origin(annotation)
    if origin is typing.Annotated:
        return _is_mapping(typing.get_args(annotation)[0])
    return origin is dict


def _item_type(annotation: object) -> Any:
    origin, arguments = typing.get_origin(annotation), typing.get_args(annotation)
    if origin is typing.Annotated:
        return _item_type(arguments[0])
    return arguments[-1] if origin in (dict, list) else annotation


def _models_in(annotation: object) -> Iterator[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        yield annotation
    elif (table := elsewhere_in(annotation)) is not None:
        yield table.table
    elif typing.get_origin(annotation) in (typing.Annotated, list):
        yield from _models_in(typing.get_args(annotation)[0])
    elif typing.get_origin(annotation) in (typing.Union, types.UnionType):
        for each in typing.get_args(annotation):
            yield from _models_in(each)
