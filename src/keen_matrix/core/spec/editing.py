"""Edits of a TOML text that replace the span of what changes and nothing else: comments, quotes,
line ends and the way in which a table is written stay as they are.

Every edit is read again and compared with what it should have come to, before anybody writes it: an
edit that cannot be made raises EditFault, and the text is as it was.
"""

from __future__ import annotations

import copy
import json
import re
import tomllib
import unicodedata
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import lru_cache
from typing import Any, NamedTuple

import tree_sitter
import tree_sitter_toml

from keen_matrix.core.errors import KeenMatrixError
from keen_matrix.core.spec.keys import KeyPath


class EditFault(KeenMatrixError):
    """An edit that cannot be made in a text as it is written."""


class _Pair(NamedTuple):
    """A key with its value, as it is written."""

    path: KeyPath
    #: The table, or the inline table, in which it is written.
    base: KeyPath
    node: tree_sitter.Node
    value: tree_sitter.Node
    is_inline: bool


class _TomlTable(NamedTuple):
    path: KeyPath
    node: tree_sitter.Node


class _Written(NamedTuple):
    """What is in a text, and where."""

    raw: bytes
    pairs: list[_Pair]
    #: Headers, in order; the first stands for what is above them.
    tables: list[_TomlTable]


_PARSER = tree_sitter.Parser(tree_sitter.Language(tree_sitter_toml.language()))


@lru_cache(maxsize=8)
def _written(text: str) -> _Written:
    raw = text.encode("utf-8", "surrogateescape")
    root = _PARSER.parse(raw).root_node
    found = _Written(raw, [], [_TomlTable((), root)])
    counts: dict[KeyPath, int] = {}
    for node in root.named_children:
        if node.type == "pair":
            _add_pair(found, (), node, is_inline=False)
        elif node.type in ("table", "table_array_element"):
            header, *inside = (each for each in node.named_children if each.type != "comment")
            path: KeyPath = ()
            names = _names(found.raw, header)
            for at, name in enumerate(names):
                path = (*path, name)
                if node.type == "table_array_element" and at == len(names) - 1:
                    counts[path] = counts.get(path, -1) + 1
                if path in counts:
                    path = (*path, counts[path])
            found.tables.append(_TomlTable(path, node))
            for each in inside:
                _add_pair(found, path, each, is_inline=False)
    return found


def _add_pair(found: _Written, base: KeyPath, node: tree_sitter.Node, *, is_inline: bool) -> None:
    if node.type != "pair":
        return
    key, value = (each for each in node.named_children if each.type != "comment")
    path = (*base, *_names(found.raw, key))
    found.pairs.append(_Pair(path, base, node, value, is_inline))
    _add_inside(found, path, value)


def _add_inside(found: _Written, path: KeyPath, value: tree_sitter.Node) -> None:
    if value.type == "inline_table":
        for each in value.named_children:
            _add_pair(found, path, each, is_inline=True)
    elif value.type == "array":
        for at, each in enumerate(_items(value)):
            _add_inside(found, (*path, at), each)


def _items(array: tree_sitter.Node) -> list[tree_sitter.Node]:
    return [each for each in array.named_children if each.type != "comment"]


def _names(raw: bytes, node: tree_sitter.Node) -> tuple[str, ...]:
    if node.type == "dotted_key":
        return tuple(name for each in node.named_children for name in _names(raw, each))
    text = raw[node.start_byte : node.end_byte].decode()
    if node.type == "quoted_key":
        return (str(tomllib.loads(f"x = {text}")["x"]),)
    return (text,)


# --- reading ---


@lru_cache(maxsize=8)
def _data(text: str) -> dict[str, Any]:
    return tomllib.loads(text.removeprefix("\ufeff").replace("\r\n", "\n"))


def value_at(text: str, *path: str | int) -> Any:
    """Return the value of a key path; None where there is none. What it returns is not to be
    changed."""
    found: Any = _data(text)
    for key in path:
        is_there = key in found if isinstance(found, Mapping) else isinstance(key, int) and key < len(found)
        if not is_there:
            return None
        found = found[key]
    return found


def comment_at(text: str, *path: str) -> str:
    """Return the comment after the value of a key, without its sign; empty where there is none, or
    the key stands inside an inline table."""
    found = _written(text)
    pair = next((each for each in found.pairs if each.path == path and not each.is_inline), None)
    if pair is None:
        return ""
    rest = found.raw[pair.value.end_byte :].partition(b"\n")[0].decode("utf-8", "replace")
    return rest.strip().lstrip("# ").strip()


# --- writing ---


def literal(text: str) -> str:
    """Return a text as a template has it."""
    return text.replace("{", "{{").replace("}", "}}")


def toml_words(words: Sequence[str]) -> str:
    """Return words as a list of TOML, templates each."""
    return f"[{', '.join(toml_text(literal(each)) for each in words)}]"


def toml_text(text: str) -> str:
    """Return a text as TOML writes it: on several lines where it has several. What has no shape of
    its own, and what would show the rest in another order, is written as an escape (TOML 1.0, basic
    strings)."""
    if text.count("\n") > 1 and not any(_is_hidden(each) for each in text if each != "\n"):
        escaped = text.replace("\\", "\\\\").replace('"""', '""\\"')
        return f'"""\n{escaped}"""' if not escaped.endswith('"') else f'"""\n{escaped[:-1]}\\""""'
    quoted = json.dumps(text, ensure_ascii=False)
    return "".join(_escaped(each) if _is_hidden(each) else each for each in quoted)


def _is_hidden(character: str) -> bool:
    """Tell whether a character is a control, a format or a private one, or half a surrogate."""
    return unicodedata.category(character) in ("Cc", "Cf", "Cs", "Co", "Zl", "Zp")


def _escaped(character: str) -> str:
    code = ord(character)
    return f"\\u{code:04X}" if code < 0x10000 else f"\\U{code:08X}"


def toml_key(name: str) -> str:
    """Return a key as TOML writes it: bare where it can be."""
    return name if re.fullmatch(r"[A-Za-z0-9_-]+", name) else toml_text(name)


def with_value(text: str, path: KeyPath, value: str, comment: str | None = None) -> str:
    """Return a text in which a key, or an item of an array, has a value (as TOML writes it), made
    where it is not there; a `comment` takes the place of the one after it. Raises EditFault."""
    found = _written(text)
    node = _node_at(found, path)
    if node is not None:
        start, stop = node.start_byte, node.end_byte
        made = _spliced(text, found, start, stop, value)
        if comment is not None:
            made = _with_comment(made, path, comment)
    else:
        # `A.type = "int"`: a table that is written key by key is written again, in one.
        bare = text
        while inside := [each for each in _written(bare).pairs if each.path[: len(path)] == path]:
            bare = _without_pair(bare, _written(bare), inside[-1])
        made = _with_new_key(bare, _written(bare), path, value, comment)
    return _checked(text, made, path, lambda _: _read(value))


def with_item(text: str, path: KeyPath, value: str, comment: str | None = None) -> str:
    """Return a text in which an array has one more item at its end; it is made where it is not
    there. Raises EditFault."""
    return with_items(text, path, [value], comment)


def with_items(text: str, path: KeyPath, values: Sequence[str], comment: str | None = None) -> str:
    """Return a text in which an array has more items at its end, as `with_item` adds one."""
    if _node_at(_written(text), path) is None and value_at(text, *path) is None:
        return with_value(text, path, f"[{', '.join(values)}]", comment)
    found = _written(text)
    array = _node_at(found, path)
    if array is None or array.type != "array":
        raise EditFault(f"{_shown(path)} is not written as an array")
    made = _appended(text, found, array, values)
    return _checked(text, made, path, lambda old: [*old, *map(_read, values)])


def without_key(text: str, path: KeyPath) -> str:
    """Return a text without a key; as it is where the key is not there. Raises EditFault."""
    found = _written(text)
    pair = next((each for each in found.pairs if each.path == path), None)
    if pair is None:
        if value_at(text, *path) is not None:
            raise EditFault(f"{_shown(path)} is written as a separate table")
        return text
    return _checked(text, _without_pair(text, found, pair), path, None)


def _without_pair(text: str, found: _Written, pair: _Pair) -> str:
    start, stop = pair.node.start_byte, pair.value.end_byte
    if pair.is_inline:
        after = re.match(rb"\s*,\s*", found.raw[stop:])
        before = re.search(rb"\s*,\s*$", found.raw[:start])
        if after:
            stop += after.end()
        elif before:
            start = before.start()
    else:
        start = found.raw.rfind(b"\n", 0, start) + 1
        end = found.raw.find(b"\n", stop)
        stop = len(found.raw) if end < 0 else end + 1
    return _spliced(text, found, start, stop, "")


def with_table(text: str, name: str, lines: Sequence[str]) -> str:
    """Return a text with one more table of an array of tables, `[[name]]`, at its end: or, where
    the array is written out, one more item of it. Raises EditFault."""
    body = "".join(f"{line}\n" for line in lines)
    item = tomllib.loads(body)
    array = _node_at(_written(text), (name,))
    if array is not None:
        inner = ", ".join(re.sub(r"\s+#.*$", "", line) for line in lines)
        return with_item(text, (name,), f"{{ {inner} }}")
    newline = _newline(text)
    made = f"{_ended(text)}{newline}[[{toml_key(name)}]]{newline}{body.replace(chr(10), newline)}"
    return _checked(text, made, (name,), lambda old: [*(old or []), item])


def _node_at(found: _Written, path: KeyPath) -> tree_sitter.Node | None:
    """Return the value at a path that is written out as a pair, or as an item of an array."""
    for length in range(len(path), 0, -1):
        pair = next((each for each in found.pairs if each.path == path[:length]), None)
        if pair is None:
            continue
        node: tree_sitter.Node | None = pair.value
        for key in path[length:]:
            if node is None or node.type != "array" or not isinstance(key, int):
                return None
            items = _items(node)
            node = items[key] if key < len(items) else None
        return node
    return None


def _with_new_key(text: str, found: _Written, path: KeyPath, value: str, comment: str | None) -> str:
    """Return a text with a key that is not there, in the table that is written nearest to it."""
    for length in range(len(path) - 1, -1, -1):
        above, rest = path[:length], path[length:]
        key = ".".join(toml_key(str(each)) for each in rest)
        node = _node_at(found, above) if above else None
        if node is not None and node.type == "inline_table":
            inside = [each for each in node.named_children if each.type == "pair"]
            if inside:
                return _spliced(text, found, _end(inside[-1]), _end(inside[-1]), f", {key} = {value}")
            return _spliced(text, found, node.start_byte, node.end_byte, f"{{ {key} = {value} }}")
        table = next((each for each in found.tables if each.path == above), None) if above else None
        if table is not None:
            return _line_in(text, found, table.node, f"{key} = {value}", comment)
        dotted = [
            each
            for each in found.pairs
            if above and not each.is_inline and each.path[:length] == above and len(each.base) < length
        ]
        if dotted:
            last = dotted[-1]
            own = ".".join(toml_key(str(each)) for each in path[len(last.base) :])
            return _line_after(text, found, last.node, f"{own} = {value}", comment)
    header = ".".join(toml_key(str(each)) for each in path[:-1])
    newline = _newline(text)
    line = f"{toml_key(str(path[-1]))} = {value}{_tail(comment)}".replace("\n", newline)
    if not header:
        raise EditFault(f"{_shown(path)} has no table to be added to")
    return f"{_ended(text)}{newline}[{header}]{newline}{line}{newline}"


def _line_in(text: str, found: _Written, table: tree_sitter.Node, line: str, comment: str | None) -> str:
    """Return a text with one more line at the end of a table: after its last pair, or its
    header."""
    pairs = [each for each in table.named_children if each.type == "pair"]
    if pairs:
        return _line_after(text, found, pairs[-1], line, comment)
    header = next(each for each in table.named_children if each.type != "comment")
    return _line_after(text, found, header, line, comment)


def _end(node: tree_sitter.Node) -> int:
    """Return where a pair ends, by its value: the grammar counts a comment after it as well."""
    if node.type != "pair":
        return node.end_byte
    return [each for each in node.named_children if each.type != "comment"][-1].end_byte


def _line_after(text: str, found: _Written, node: tree_sitter.Node, line: str, comment: str | None) -> str:
    end = found.raw.find(b"\n", _end(node))
    newline = _newline(text)
    if end < 0:
        return f"{_ended(text)}{line}{_tail(comment)}{newline}"
    return _spliced(text, found, end + 1, end + 1, f"{line}{_tail(comment)}\n")


def _appended(text: str, found: _Written, array: tree_sitter.Node, values: Sequence[str]) -> str:
    items = _items(array)
    if not items:
        return _spliced(text, found, array.start_byte, array.end_byte, f"[{', '.join(values)}]")
    last, raw = items[-1], found.raw
    if (
        b"\n" not in raw[array.start_byte : array.end_byte]
        or b"\n" not in raw[last.end_byte : array.end_byte]
    ):
        return _spliced(text, found, last.end_byte, last.end_byte, "".join(f", {value}" for value in values))
    start = raw.rfind(b"\n", 0, last.start_byte) + 1
    indent = re.match(rb"[ \t]*", raw[start:])
    space = indent[0].decode() if indent is not None else "  "
    # Behind the comma, and the comment that belongs to the last item.
    tail = re.match(rb"[ \t]*(,?)[ \t]*(?:#[^\r\n]*)?", raw[last.end_byte :])
    assert tail is not None  # it matches an empty text, too
    at = last.end_byte + tail.end()
    newline = f"{_newline(text)}{space}"
    lines = f"{newline}{f',{newline}'.join(values)}{',' if tail[1] else ''}"
    made = raw[:at] + lines.encode() + raw[at:]
    if not tail[1]:
        made = made[: last.end_byte] + b"," + made[last.end_byte :]
    return made.decode("utf-8", "surrogateescape")


def _with_comment(text: str, path: KeyPath, comment: str) -> str:
    """Return a text with a comment after the value of a key that has a line of its own."""
    found = _written(text)
    pair = next((each for each in found.pairs if each.path == path and not each.is_inline), None)
    if pair is None:
        return text
    end = found.raw.find(b"\n", pair.value.end_byte)
    stop = len(found.raw) if end < 0 else end - (found.raw[end - 1 : end] == b"\r")
    return _spliced(text, found, pair.value.end_byte, stop, _tail(comment))


def _tail(comment: str | None) -> str:
    return f" # {comment}" if comment else ""


def _spliced(text: str, found: _Written, start: int, stop: int, new: str) -> str:
    made = new.replace("\n", _newline(text)).encode("utf-8", "surrogateescape")
    return (found.raw[:start] + made + found.raw[stop:]).decode("utf-8", "surrogateescape")


def _newline(text: str) -> str:
    return "\r\n" if "\r\n" in text else "\n"


def _ended(text: str) -> str:
    return text if text.endswith("\n") or not text else text + _newline(text)


def _shown(path: KeyPath) -> str:
    return ".".join(map(str, path))


# --- the check ---


def _read(value: str) -> Any:
    return tomllib.loads(f"x = {value}")["x"]


def _checked(before: str, after: str, path: KeyPath, new: Callable[[Any], Any] | None) -> str:
    """Return the text of an edit, once it is read again and has just what it should have. Raises
    EditFault."""
    try:
        made = _data(after)
    except (tomllib.TOMLDecodeError, ValueError):
        raise EditFault(f"{_shown(path)} cannot be edited as it is written") from None
    wanted = copy.deepcopy(_data(before))
    _put(wanted, path, new)
    if made != wanted and repr(made) != repr(wanted):
        raise EditFault(f"{_shown(path)} cannot be changed without changing something else")
    return after


def _put(data: dict[str, Any], path: KeyPath, new: Callable[[Any], Any] | None) -> None:
    holder: Any = data
    for key in path[:-1]:
        if isinstance(holder, dict):
            holder = holder.setdefault(key, {})
        else:
            holder = holder[key]
    last: Any = path[-1]
    if new is None:
        holder.pop(last, None)
    elif isinstance(holder, list):
        holder[last] = new(holder[last])
    else:
        holder[last] = new(holder.get(last))


def each_path(text: str) -> Iterator[KeyPath]:
    """Yield the path of every key that is written as a pair."""
    return (each.path for each in _written(text).pairs)
