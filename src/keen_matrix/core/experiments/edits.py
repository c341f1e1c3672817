"""Edits of the text of a spec: what a finding states, with comments and layout of the rest kept."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from typing import TypeAlias

from keen_matrix.core.spec.drafted import synopsis_text, value_text
from keen_matrix.core.spec.editing import comment_at, value_at, with_item, with_table, with_value, without_key
from keen_matrix.core.spec.keys import TomlValue
from keen_matrix.core.structs import Struct

#: What a comment begins with where a spec says what a program was seen to do, and not what it
#: promises.
OBSERVED = "observed"
#: What the comment of a drafted value begins with that is only likely.
GUESSED = "guess"
LONGEST_COMMENT = 110
Key: TypeAlias = tuple[str, ...]


class ValueEdit(Struct, frozen=True):
    """The type of a NAME; none takes the type away."""

    name: str
    table: Mapping[str, object]
    note: str = ""


class KeyEdit(Struct, frozen=True):
    """The value of a key, `("refusal", "exit")`."""

    key: Key
    value: object
    note: str = ""


class RemoveEdit(Struct, frozen=True):
    """A key that goes."""

    key: Key


class AppendEdit(Struct, frozen=True):
    """One more item of a list, which is made where there is none."""

    key: Key
    value: object
    note: str = ""


class SynopsisEdit(Struct, frozen=True):
    """All lines of the synopsis."""

    lines: tuple[str, ...]


class MaskEdit(Struct, frozen=True):
    """One more mask."""

    stream: str
    pattern: str


Edit: TypeAlias = ValueEdit | KeyEdit | RemoveEdit | AppendEdit | SynopsisEdit | MaskEdit


def edited(text: str, edits: Iterable[Edit]) -> str:
    """Return the text of a spec with edits made in it. Raises EditFault."""
    for edit in edits:
        text = _made(text, edit)
    return text


def is_stated(text: str, *key: str) -> bool:
    """Tell whether a spec states a key, `"refusal", "exit"`, in whatever way it is written."""
    return value_at(text, *key) is not None


def observed_at(text: str, *key: str) -> TomlValue:
    """Return the value of a key that a spec has from what the program was seen to do; None for one
    that somebody wrote, which is a promise."""
    return value_at(text, *key) if comment_at(text, *key).startswith(OBSERVED) else None


def note_of(text: str, *key: str) -> str:
    """Return the comment on the line of a key; an empty text where there is none."""
    return comment_at(text, *key)


def is_guessed(text: str, name: str) -> bool:
    """Tell whether the type of a NAME is marked as a guess in a spec."""
    return comment_at(text, "signature", "values", name).startswith(GUESSED)


def _made(text: str, edit: Edit) -> str:
    if isinstance(edit, ValueEdit):
        return _with_type(text, edit)
    if isinstance(edit, SynopsisEdit):
        return with_value(text, ("signature", "synopsis"), synopsis_text(edit.lines))
    if isinstance(edit, MaskEdit):
        lines = [
            f"matches = {_pattern(edit.pattern)} # {OBSERVED}",
            'as = "<varies>"',
            f"in = {value_text([edit.stream])}",
        ]
        return with_table(text, "mask", lines)
    if isinstance(edit, RemoveEdit):
        return without_key(text, edit.key)
    note = _shortened(edit.note) or None
    if isinstance(edit, KeyEdit):
        return with_value(text, edit.key, value_text(edit.value), note)
    there = value_at(text, *edit.key)
    if there is not None and edit.value in there:
        return text
    return with_item(text, edit.key, value_text(edit.value), note)


def _pattern(pattern: str) -> str:
    """Return a pattern as TOML writes it best: between single quotes where it has none."""
    return f"'{pattern}'" if "'" not in pattern and pattern.isprintable() else value_text(pattern)


def _with_type(text: str, edit: ValueEdit) -> str:
    """Return a text with the type of a NAME; what its comment says of it stays, the word that it is
    a guess goes."""
    path = ("signature", "values", edit.name)
    text, note = _without_question(text, edit.name)
    said = comment_at(text, *path)
    if is_stated(text, *path):
        note = said.removeprefix(GUESSED).lstrip("; ") or note
    table = dict(edit.table)
    default = value_at(text, *path, "default")
    if default is not None and "default" not in table:
        # that it is given where nothing is was promised, of whatever type it is
        is_text = table.get("type", "text") in ("text", "choice")
        table["default"] = str(default) if is_text else default
    if table:
        return with_value(text, path, value_text(table), _shortened(_joined(edit.note, note)) or None)
    text = without_key(text, path)
    if note or edit.note:
        return _with_remark(text, _shortened(f"{edit.name}: {_joined(edit.note, note)}"))
    return text


def _without_question(text: str, name: str) -> tuple[str, str]:
    """Return a text without the line in which a draft asks whether a NAME is any text, and what
    that line says of it."""
    found = re.search(rf"^[ \t]*# {re.escape(name)}: a text\?([^\r\n]*)\r?\n?", text, re.MULTILINE)
    if found is None:
        return text, ""
    return text[: found.start()] + text[found.end() :], found[1].strip()


def _with_remark(text: str, remark: str) -> str:
    """Return a text with a comment in a line of its own, after the header of the values or the
    synopsis."""
    newline = "\r\n" if "\r\n" in text else "\n"
    for pattern in (r"^[ \t]*\[signature\.values\].*$", r"^[ \t]*\[signature\].*$"):
        header = re.search(pattern, text.replace("\r", " "), re.MULTILINE)
        if header is not None:
            end = text.find("\n", header.end() - 1)
            at = len(text) if end < 0 else end + 1
            return f"{text[:at]}# {remark}{newline}{text[at:]}"
    return f"{text}{'' if text.endswith(newline) else newline}# {remark}{newline}"


def _joined(new: str, old: str) -> str:
    """Return two notes as one; what the old one says already is not said again."""
    return "; ".join(filter(None, [new if not old.startswith(new) else "", old]))


def _shortened(note: str) -> str:
    line = " ".join(note.split())
    line = line if line.isprintable() else json.dumps(line)[1:-1]
    return line if len(line) <= LONGEST_COMMENT else line[: LONGEST_COMMENT - 1] + "…"


__all__ = [
    "OBSERVED",
    "AppendEdit",
    "Edit",
    "KeyEdit",
    "MaskEdit",
    "RemoveEdit",
    "SynopsisEdit",
    "ValueEdit",
    "edited",
    "is_guessed",
    "is_stated",
    "note_of",
    "observed_at",
    "value_at",
]
