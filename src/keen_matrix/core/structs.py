"""Values with named fields: msgspec's Struct, whose classes are made fifty times as fast as
dataclasses are, which was a third of the time that a small run takes to start.

msgspec is imported so that no interruption meets it half made: while it is imported, one ends the
process (a segfault).
"""

from __future__ import annotations

import dataclasses
from typing import Any, TypeVar, cast

from keen_matrix.core.interruption import put_off

with put_off():
    from msgspec import DecodeError, Struct, ValidationError, convert, field, json, structs, to_builtins

Value = TypeVar("Value")


def replace(value: Value, **changes: Any) -> Value:
    """Return a value with some of its fields changed: a Struct, or a dataclass where fields need
    what a Struct's cannot have."""
    if isinstance(value, Struct):
        return structs.replace(value, **changes)
    changed: Any = dataclasses.replace(value, **changes)  # type: ignore[type-var]
    return cast(Value, changed)


def field_names(value: object) -> tuple[str, ...]:
    """Return the names of the fields of a value or of a type of such; none for what has no
    fields."""
    kind = value if isinstance(value, type) else type(value)
    names: Any = getattr(kind, "__struct_fields__", None) or getattr(kind, "__dataclass_fields__", ())
    return tuple(names)


def document_text(document: Struct) -> bytes:
    """Return a document as JSON for other programs: its `kind` and `version` stand first."""
    from json import dumps

    fields: dict[str, Any] = to_builtins(document)
    ordered = {name: fields.pop(name) for name in ("kind", "version")} | fields
    return (dumps(ordered, indent=2, ensure_ascii=False) + "\n").encode("utf-8", "backslashreplace")


__all__ = [
    "DecodeError",
    "Struct",
    "ValidationError",
    "convert",
    "document_text",
    "field",
    "field_names",
    "json",
    "replace",
    "to_builtins",
]
