"""msgspec, imported so that no interruption meets it half made: while it is imported, one ends the
process (a segfault)."""

from __future__ import annotations

from keen_matrix.core.interruption import put_off

with put_off():
    from msgspec import (
        DecodeError,
        Struct,
        ValidationError,
        convert,
        field,
        json,
        structs,
        to_builtins,
    )

replace = structs.replace

__all__ = [
    "DecodeError",
    "Struct",
    "ValidationError",
    "convert",
    "field",
    "json",
    "replace",
    "to_builtins",
]
