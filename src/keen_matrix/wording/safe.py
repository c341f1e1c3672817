"""Making foreign text safe and visible: nothing that a program printed may move a cursor or colour
our lines."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable

from keen_matrix.core.width import cells

_CONTROLS = re.compile(
    r"[\x00-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ud800-\udfff\U000e0000-\U000e007f]"
)
_SHORT = {"\n": "\\n", "\t": "\\t", "\r": "\\r", "\x1b": "\\e", "\0": "\\0"}


def escape(text: str) -> str:
    """Return a text with everything that has no shape of its own written as an escape: `\\n`,
    `\\e`, `\\xff`, `\\u202e`."""
    return _CONTROLS.sub(_escape_one, text)


def _escape_one(match: re.Match[str]) -> str:
    character = match[0]
    if character in _SHORT:
        return _SHORT[character]
    code = ord(character)
    if 0xDC80 <= code <= 0xDCFF:  # a byte that is no UTF-8, kept by surrogateescape
        return f"\\x{code - 0xDC00:02x}"
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"


def escape_lines(text: str) -> str:
    """Return a text of several lines with each of them escaped."""
    return "\n".join(map(escape, text.split("\n")))


def visible_line(line: str, space: str = "·") -> str:
    """Return one line of output with its invisible characters shown; trailing spaces become
    `space`."""
    bare = line.rstrip(" ")
    return escape(bare) + space * (len(line) - len(bare))


def quoted(text: str, width: int = 200, space: str = "·") -> str:
    """Return a text on one line in quotes, cut in the middle to `width` characters with what was
    left out."""
    shown = '"' + visible_line(text, space).replace('"', '\\"') + '"'
    if len(shown) <= width:
        return shown
    head, tail = width * 2 // 3, width // 4
    return f"{shown[:head]} … {shown[-tail:]} ({len(text):,} characters)"


def pad(text: str, width: int) -> str:
    """Return a text filled with spaces to a width in cells."""
    return text + " " * max(0, width - cells(text))


def cut(text: str, width: int) -> str:
    """Return a text cut to a width in cells; a cut one ends in … and its length in characters."""
    if cells(text) <= width:
        return text
    mark = f"… ({len(text):,})"
    return _beginning(text, max(1, width - cells(mark))) + mark


def shortened(text: str, width: int) -> str:
    """Return a text cut to a width in cells; a cut one ends in …."""
    return text if cells(text) <= width else _beginning(text, width - 1) + "…"


def _beginning(text: str, width: int) -> str:
    """Return as much of the beginning of a text as has a width in cells, at most."""
    # No character has less than no cell: what fits is found by halving, in whatever long line.
    low, high = 0, len(text)
    while low < high:
        middle = (low + high + 1) // 2
        low, high = (middle, high) if cells(text[:middle]) <= width else (low, middle - 1)
    return text[:low]


def exact_line(words: Iterable[str]) -> str:
    """Return words as a line of POSIX sh that gives these very words, in single quotes where they
    need any (XCU 2.2.2).

    Whatever stands in single quotes stands for itself, a newline too, so the line may be several;
    it is for files and pipes, since a terminal acts on control characters.
    """
    return " ".join(map(shlex.quote, words))


def is_written_whole(text: str) -> bool:
    """Tell whether a text can be shown, and pasted, as it is: it contains nothing but visible
    characters and newlines."""
    return not _CONTROLS.search(text.replace("\n", ""))


def shell_word(word: str) -> str:
    """Return a word for people, quoted for POSIX sh: pasted it is one word, with what has no shape
    written as an escape."""
    return shlex.quote(escape(word))


def shell_line(words: Iterable[str]) -> str:
    """Return words as one line for people; pasted it gives as many words, and these very ones when
    all is visible."""
    return " ".join(map(shell_word, words))
