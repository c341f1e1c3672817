"""What came, as it is written into a spec: a text of a template, or a file beside it where it is long."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import NamedTuple

from keen_matrix.core.expect.forms.base import lines_of
from keen_matrix.core.spec.keys import TomlValue

LONG_TEXT, MANY_LINES = 2_000, 20
"""Characters, or lines, of an output from which it is kept in a file of its own."""
FOLDER = "expected"
"""Where such files stand, from the folder of the spec."""


class Number(NamedTuple):
    """A number as it was printed: its digits say how exact it is."""

    text: str

    def __str__(self) -> str:
        return self.text


def literal(text: str) -> str:
    """Return a text as a template has it."""
    return text.replace("{", "{{").replace("}", "}}")


def toml_words(words: Sequence[str]) -> str:
    """Return words as a list of TOML, templates each."""
    return f"[{', '.join(toml_text(literal(each)) for each in words)}]"


def toml_text(text: str) -> str:
    """Return a text as TOML writes it: on several lines where it has several."""
    import tomlkit

    if text.count("\n") > 1 and not any(ord(each) < 32 and each != "\n" for each in text):
        escaped = text.replace("\\", "\\\\").replace('"""', '""\\"')
        return f'"""\n{escaped}"""'
    try:
        return tomlkit.string(text).as_string()
    except ValueError:
        return json.dumps(text)


def toml_value(value: object) -> TomlValue:
    """Return a value as tomlkit puts it into a document: a text on several lines where it has several."""
    import tomlkit

    if isinstance(value, str):
        return tomlkit.parse(f"value = {toml_text(value)}")["value"]
    if isinstance(value, Number):
        return tomlkit.parse(f"value = {value.text}")["value"]
    if isinstance(value, dict):
        table = tomlkit.inline_table()
        table.update({key: toml_value(each) for key, each in value.items()})
        return table
    return tomlkit.item(value)


def kept_stream(
    text: str, name: str, files: dict[str, str], *, whole: bool = False
) -> str | dict[str, str]:
    """Return what is expected for a stream: the text itself, or a table that names the file in which it is
    kept, which is added to the files. With `whole` it is always the text."""
    if whole or (len(text) <= LONG_TEXT and len(lines_of(text)) <= MANY_LINES):
        return literal(text)
    plain = "".join(each if each.isalnum() or each in "-_." else "-" for each in name).strip("-")
    file = f"{FOLDER}/{plain or 'tried'}.txt"
    files[file] = text
    return {"file": literal(file)}
