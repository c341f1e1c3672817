"""Keys of a spec, and where they stand in its file."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, TypeAlias

KeyPath: TypeAlias = tuple[str | int, ...]
TomlTables: TypeAlias = dict[str, Any]
"""Tables as a file has them, before they are validated."""


@dataclass(frozen=True, slots=True)
class Place:
    """Where a key and its value begin and end, as byte offsets into the file."""

    key: int
    value: int
    stop: int
