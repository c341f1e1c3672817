"""A spec with everything that it includes and the project file above it, as one TOML text; with
the place of each value after it."""

from __future__ import annotations

from collections.abc import Iterator

import tomlkit

from keen_matrix.cli.console.screen import Screen
from keen_matrix.core.spec.including import whole_source
from keen_matrix.core.spec.keys import KeyPath, TomlTables
from keen_matrix.core.spec.source import Source
from keen_matrix.wording.safe import escape
from keen_matrix.wording.signs import Segment

#: Where the places begin, if the values are not longer.
COLUMN = 60


def write_effective(screen: Screen, path: str) -> None:
    """Write what a spec comes to. Raises SpecFault."""
    source = whole_source(path)
    screen.line(("# " + escape(path), "strong"))
    top = {key: value for key, value in source.data.items() if not _is_table(value)}
    screen.rows(_rows(source, top, (), ()))
    for key, value in source.data.items():
        if isinstance(value, dict):
            screen.line()
            screen.line((f"[{_key(key)}]", "strong"))
            screen.rows(_rows(source, value, (key,), ()))
        elif _is_table(value):
            for number, item in enumerate(value):
                screen.line()
                screen.line(*_placed(source, f"[[{_key(key)}]]", (key, number)))
                screen.rows(_rows(source, item, (key, number), ()))


def _is_table(value: object) -> bool:
    return isinstance(value, dict) or (
        isinstance(value, list) and bool(value) and all(isinstance(each, dict) for each in value)
    )


def _rows(source: Source, table: TomlTables, base: KeyPath, keys: tuple[str, ...]) -> Iterator[list[Segment]]:
    """Yield a line for each value of a table, those of tables inside it by dotted keys."""
    for key, value in table.items():
        inner = (*keys, key)
        if isinstance(value, dict) and value:
            yield from _rows(source, value, base, inner)
        else:
            name = ".".join(map(_key, inner))
            text = f"{name} = {tomlkit.item(_inline(value)).as_string()}"
            yield _placed(source, text, (*base, *inner))


def _inline(value: object) -> object:
    """Return a value whose tables are written in braces."""
    if isinstance(value, dict):
        table = tomlkit.inline_table()
        table.update({key: _inline(each) for key, each in value.items()})
        return table
    if isinstance(value, list):
        array = tomlkit.array()
        array.extend([_inline(each) for each in value])
        return array
    return value


def _key(name: str) -> str:
    return str(tomlkit.key(name).as_string())


def _placed(source: Source, text: str, path: KeyPath) -> list[Segment]:
    return [escape(text).ljust(COLUMN), "  ", (f"# {source.where(path)}", "dim")]
