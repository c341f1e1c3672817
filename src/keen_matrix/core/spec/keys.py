"""Keys of a spec, and where they are in its file."""

from __future__ import annotations

from typing import Any, TypeAlias

from keen_matrix.core.structs import Struct

KeyPath: TypeAlias = tuple[str | int, ...]
#: Anything that a TOML document holds, also as tomlkit keeps it with its comments.
TomlValue: TypeAlias = Any
#: Tables as a file has them, before they are validated.
TomlTables: TypeAlias = dict[str, Any]


class KeySpan(Struct, frozen=True):
    """Where a key and its value begin and end, as byte offsets into the file."""

    key: int
    value: int
    stop: int
