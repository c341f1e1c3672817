"""The place of every key and value in a TOML text, from the tree-sitter grammar."""

from __future__ import annotations

import tomllib

import tree_sitter
import tree_sitter_toml

from keen_matrix.core.spec.keys import KeyPath, KeySpan


def find_places(raw: bytes) -> dict[KeyPath, KeySpan]:
    """Return the place of each key path of a valid TOML text; arrays contribute their items by
    number."""
    parser = tree_sitter.Parser(tree_sitter.Language(tree_sitter_toml.language()))
    finder = _PositionFinder(raw)
    for node in parser.parse(raw).root_node.named_children:
        finder.top_level(node)
    return finder.places


class _PositionFinder:
    """Walks the syntax tree and remembers how often each table array has been opened."""

    def __init__(self, raw: bytes) -> None:
        self.raw = raw
        self.places: dict[KeyPath, KeySpan] = {}
        self.counts: dict[KeyPath, int] = {}

    def top_level(self, node: tree_sitter.Node) -> None:
        if node.type == "pair":
            self.pair((), node)
        elif node.type in ("table", "table_array_element"):
            header, *pairs = (child for child in node.named_children if child.type != "comment")
            base = self.resolve(self.keys(header), opens_item=node.type == "table_array_element")
            for length in range(1, len(base) + 1):
                self.places.setdefault(
                    base[:length], KeySpan(header.start_byte, header.start_byte, header.end_byte)
                )
            for pair in pairs:
                self.pair(base, pair)

    def resolve(self, keys: KeyPath, *, opens_item: bool) -> KeyPath:
        """Return the key path of a header, with the number of the current item after each table
        array in it."""
        path: KeyPath = ()
        for index, key in enumerate(keys):
            path = (*path, key)
            if opens_item and index == len(keys) - 1:
                self.counts[path] = self.counts.get(path, -1) + 1
            if path in self.counts:
                path = (*path, self.counts[path])
        return path

    def pair(self, base: KeyPath, node: tree_sitter.Node) -> None:
        if node.type != "pair":
            return
        key, value = (child for child in node.named_children if child.type != "comment")
        path = base
        for name, start in self.key_starts(key):
            path = (*path, name)
            self.places.setdefault(path, KeySpan(start, value.start_byte, value.end_byte))
        self.value(path, value)

    def value(self, path: KeyPath, node: tree_sitter.Node) -> None:
        if node.type == "array":
            items = [child for child in node.named_children if child.type != "comment"]
            for index, item in enumerate(items):
                self.places[(*path, index)] = KeySpan(item.start_byte, item.start_byte, item.end_byte)
                self.value((*path, index), item)
        elif node.type == "inline_table":
            for pair in node.named_children:
                self.pair(path, pair)

    def keys(self, node: tree_sitter.Node) -> KeyPath:
        return tuple(name for name, _ in self.key_starts(node))

    def key_starts(self, node: tree_sitter.Node) -> list[tuple[str, int]]:
        """Return each name of a key with the place where it begins."""
        if node.type == "dotted_key":
            return [each for child in node.named_children for each in self.key_starts(child)]
        text = self.raw[node.start_byte : node.end_byte].decode()
        if node.type == "quoted_key":
            return [(str(tomllib.loads(f"x = {text}")["x"]), node.start_byte)]
        return [(text, node.start_byte)]
