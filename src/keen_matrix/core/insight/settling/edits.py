"""Edits of the text of a spec: what a finding states, with comments and layout of the rest kept."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from functools import lru_cache
from typing import TypeAlias

from keen_matrix.core.spec.drafted import synopsis_text, value_text
from keen_matrix.core.spec.keys import TomlValue
from keen_matrix.core.structs import Struct

OBSERVED = "observed"
"""What a comment begins with where a spec says what a program was seen to do, and not what it
promises."""
GUESSED = "guess"
"""What the comment of a drafted value begins with that is only likely."""
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
    """Return the text of a spec with edits made in it."""
    import tomlkit

    document = tomlkit.parse(text)
    for edit in edits:
        _make(document, edit)
    return tomlkit.dumps(document)


@lru_cache(maxsize=4)
def _read_only(text: str) -> TomlValue:
    """Return a spec to look things up in, which a step does many times between two changes."""
    import tomlkit

    return tomlkit.parse(text)


def is_stated(text: str, *key: str) -> bool:
    """Tell whether a spec states a key, `"refusal", "exit"`, in whatever way it is written."""
    return value_at(text, *key) is not None


def value_at(text: str, *key: str) -> TomlValue:
    """Return the value of a key of a spec; None where the spec has none."""
    found: TomlValue = _read_only(text)
    for name in key:
        if not isinstance(found, Mapping) or name not in found:
            return None
        found = found[name]
    return found


def observed_at(text: str, *key: str) -> TomlValue:
    """Return the value of a key that a spec has from what the program was seen to do; None for one that
    somebody wrote, which is a promise."""
    return value_at(text, *key) if note_of(text, *key).startswith(OBSERVED) else None


def note_of(text: str, *key: str) -> str:
    """Return the comment on the line of a key; an empty text where there is none."""
    if not is_stated(text, *key):
        return ""
    table: TomlValue = _read_only(text)
    for name in key[:-1]:
        table = table[name]
    comment: str = table.item(key[-1]).trivia.comment
    return comment.lstrip("# ").strip()


def is_guessed(text: str, name: str) -> bool:
    """Tell whether the type of a NAME is marked as a guess in a spec."""
    values = _read_only(text).get("signature", {}).get("values", {})
    item = values.item(name) if name in values else None
    return item is not None and item.trivia.comment.lstrip("# ").startswith(GUESSED)


def _make(document: TomlValue, edit: Edit) -> None:
    import tomlkit

    if isinstance(edit, ValueEdit):
        _set_value(document, edit)
    elif isinstance(edit, SynopsisEdit):
        written = tomlkit.parse(f"lines = {synopsis_text(edit.lines)}\n")
        document["signature"]["synopsis"] = written["lines"]
    elif isinstance(edit, MaskEdit):
        mask = tomlkit.table()
        mask.update({"matches": _literal(edit.pattern), "as": "<varies>", "in": [edit.stream]})
        mask["matches"].comment(OBSERVED)
        if "mask" not in document:
            document.append("mask", tomlkit.aot())
        document["mask"].append(mask)
    else:
        table = _table(document, edit.key[:-1])
        name = edit.key[-1]
        if isinstance(edit, RemoveEdit):
            table.pop(name, None)
        elif isinstance(edit, KeyEdit):
            table[name] = tomlkit.parse(f"value = {value_text(edit.value)}\n")["value"]
            _comment(table.item(name), edit.note)
        elif name in table:
            if edit.value not in table[name]:
                table[name].append(edit.value)
        else:
            table[name] = [edit.value]
            _comment(table.item(name), edit.note)


def _literal(pattern: str) -> TomlValue:
    """Return a pattern as TOML writes it best: between single quotes where it has none."""
    import tomlkit

    plain = "'" not in pattern and pattern.isprintable()
    return tomlkit.string(pattern, literal=plain)


def _table(document: TomlValue, key: Key) -> TomlValue:
    """Return a table, made at the end where there is none."""
    import tomlkit

    found = document
    for name in key:
        if name not in found:
            found[name] = tomlkit.table()
        found = found[name]
    return found


def _set_value(document: TomlValue, edit: ValueEdit) -> None:
    """Set the type of a NAME; what its comment says of it stays, the word that it is a guess
    goes."""
    import tomlkit

    values = _table(document, ("signature", "values"))
    note = _taken_note(document, edit.name)
    if edit.name in values:
        said = values.item(edit.name).trivia.comment.lstrip("# ")
        note = said.removeprefix(GUESSED).lstrip("; ") or note
    if not edit.table:
        values.pop(edit.name, None)
        if note or edit.note:
            values.add(tomlkit.comment(_shortened(f"{edit.name}: {_joined(edit.note, note)}")))
        return
    values[edit.name] = tomlkit.parse(f"table = {value_text(edit.table)}\n")["table"]
    _comment(values.item(edit.name), _joined(edit.note, note))


def _taken_note(document: TomlValue, name: str) -> str:
    """Return what the draft says of a NAME in a comment line of its own, and take the line away."""
    from tomlkit.items import Comment, Null

    signature = document["signature"]
    lead = f"# {name}: a text?"
    for holder in (signature, signature.get("values")):
        body = holder.value.body if holder is not None else []
        for number, (_, item) in enumerate(body):
            if isinstance(item, Comment) and item.as_string().strip().startswith(lead):
                body[number] = (None, Null())
                return item.as_string().strip().removeprefix(lead).strip()
    return ""


def _joined(new: str, old: str) -> str:
    """Return two notes as one; what the old one says already is not said again."""
    return "; ".join(filter(None, [new if not old.startswith(new) else "", old]))


def _comment(item: TomlValue, note: str) -> None:
    """Set the comment of a line, with what it said before."""
    if note:
        item.comment(_shortened(note))


def _shortened(note: str) -> str:
    line = " ".join(note.split())
    line = line if line.isprintable() else json.dumps(line)[1:-1]
    return line if len(line) <= LONGEST_COMMENT else line[: LONGEST_COMMENT - 1] + "…"


__all__ = [
    "OBSERVED", "AppendEdit", "Edit", "KeyEdit", "MaskEdit", "RemoveEdit",
    "SynopsisEdit", "ValueEdit", "edited", "is_guessed", "is_stated", "note_of",
    "observed_at", "value_at",
]  # fmt: skip
