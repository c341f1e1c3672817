"""What came, as it is written into a spec: a text of a template, or a file beside it where it is
long."""

from __future__ import annotations

import itertools
import os
from typing import NamedTuple

from keen_matrix.core.expect.differences import split_lines
from keen_matrix.core.spec.editing import literal, toml_key, toml_text

#: Characters, or lines, of an output from which it is kept in a file of its own.
LONG_TEXT, MANY_LINES = 2_000, 20
#: Where such files stand, from the directory of the spec.
DIRECTORY = "expected"


class Number(NamedTuple):
    """A number as it was printed: its digits say how exact it is."""

    text: str

    def __str__(self) -> str:
        return self.text


def portable(text: str, here: str) -> str:
    """Return a text as a template has it, with `{here}` for the directory of its spec: in another
    place, or on another machine, the rest of it is the same."""
    return with_here(literal(text), here)


def with_here(template: str, here: str) -> str:
    """Return a template with `{here}` for the directory of its spec."""
    return template.replace(literal(here), "{here}") if len(here) > 1 else template


def written_value(value: object) -> str:
    """Return a value as TOML writes it: a text on several lines where it has several."""
    if isinstance(value, str):
        return toml_text(value)
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, dict):
        return f"{{ {', '.join(f'{toml_key(key)} = {written_value(each)}' for key, each in value.items())} }}"
    if isinstance(value, (list, tuple)) and not isinstance(value, Number):
        return f"[{', '.join(map(written_value, value))}]"
    return str(value)


def kept_stream(
    text: str, name: str, files: dict[str, str], here: str, *, whole: bool = False
) -> str | dict[str, str]:
    """Return what is expected for a stream: the text itself, or a table that names the file in
    which it is kept, which is added to the files. With `whole` it is always the text, and so it is
    where it has the directory of the spec in it, `here`: in a file that could only be the one of
    this machine."""
    is_short = len(text) <= LONG_TEXT and len(split_lines(text)) <= MANY_LINES
    if whole or is_short or (len(here) > 1 and here in text):
        return portable(text, here)
    plain = "".join(each if each.isalnum() or each in "-_." else "-" for each in name).strip("-")
    file = _unused(plain or "tried", text, files, here)
    files[file] = text
    return {"file": literal(file)}


def _unused(plain: str, text: str, files: dict[str, str], here: str) -> str:
    """Return the name of a file that is not there, or has this text: specs of one directory share
    where such files are."""
    for number in itertools.count(1):
        file = f"{DIRECTORY}/{plain}{'' if number == 1 else f'-{number}'}.txt"
        if files.get(file, text) == text and is_free(os.path.join(here, file), text):
            return file
    raise AssertionError  # a count has no end


def is_free(path: str, text: str) -> bool:
    """Tell whether a file can be written without a loss: nothing is there, or the same text."""
    try:
        with open(path, "rb") as file:
            return file.read(len(text) * 4 + 1) == text.encode("utf-8", "surrogateescape")
    except FileNotFoundError:
        return True
    except OSError:
        return False
