"""Calls of a program that stand in a text: the examples of a help text or a manual page, the code
blocks of a README."""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterable, Iterator, Sequence

#: A prompt before a typed line: `$ fare Skerry Holm`, `% fare`, `> fare`.
_PROMPT = re.compile(r"^(?:\$|%|>|#|\w+@\w+[^$]{0,20}\$)\s+")
#: Signs that a shell acts on: such a line is more than a call.
_OF_A_SHELL = re.compile(r"[|<>&;`]|\$[({\w]|(?<!\\)[*]|\.\.\.|…")
#: Words that stand for others: `[OPTIONS]`, `<file>`, `{json,text}`, `FILE`.
_PLACEHOLDER = re.compile(r"[\[\]{}<>]|^[A-Z][A-Z0-9_-]*$|^--?[\w-]+=[A-Z][A-Z_-]+$")
_FENCE = re.compile(r"^\s*(?:```|~~~)")
MOST_CALLS, MOST_WORDS, LONGEST_CALL = 40, 12, 300
#: What may precede the program in an example.
_LAUNCHERS = ("python", "python3", "node", "perl", "ruby", "sh", "bash", "php", "npx", "sudo", "./")


def calls_in(text: str, names: Iterable[str], placeholders: Iterable[str] = ()) -> list[tuple[str, ...]]:
    """Return the words after the program of each call of it in a text, each once; `names` are what
    the program may be called by. Lines with signs of a shell, and those with words that stand for
    others, are no examples; `placeholders` are such words beside capitals and brackets."""
    known, others = frozenset(names), frozenset(placeholders)
    found: dict[tuple[str, ...], None] = {}
    for line in text.splitlines():
        words = _call(line.strip(), known)
        if words is None or any(_PLACEHOLDER.search(each) or each in others for each in words):
            continue
        if words and len(words) <= MOST_WORDS:
            found.setdefault(tuple(words))
        if len(found) >= MOST_CALLS:
            break
    return list(found)


def code_blocks(text: str) -> str:
    """Return the lines of a Markdown text that are in fenced or indented blocks of code."""
    kept: list[str] = []
    is_inside = False
    for line in text.splitlines():
        if _FENCE.match(line):
            is_inside = not is_inside
        elif is_inside or re.match(r"^(?: {4}|\t)\S", line):
            kept.append(line)
    return "\n".join(kept)


def _call(line: str, names: frozenset[str]) -> Sequence[str] | None:
    """Return the words after the program in a line that is a call of it; else None."""
    text = _PROMPT.sub("", line)
    if not text or len(text) > LONGEST_CALL:
        return None
    first = text.split(maxsplit=3)
    if not any(_is_name(each, names) for each in first[:3]):
        return None
    text = _without_remark(text)
    try:
        words = shlex.split(text)
    except ValueError:
        return None
    at = next((n for n, each in enumerate(words[:3]) if _is_name(each, names)), None)
    if at is None or any(each not in _LAUNCHERS and not each.startswith("-") for each in words[:at]):
        return None
    if words[at + 1 : at + 2] == ["-"] and len(words) > at + 2:
        return None  # NAME - what it is for
    if _OF_A_SHELL.search(_unquoted(text)) or _is_sentence(text):
        return None
    return words[at + 1 :]


def _is_name(word: str, names: frozenset[str]) -> bool:
    return word.rsplit("/", 1)[-1] in names


def _without_remark(text: str) -> str:
    """Return a line without what describes it: a comment, or a text after a gap."""
    text = re.split(r"\s+#\s|\s{3,}(?=[A-Za-z(])", text, maxsplit=1)[0]
    return text.strip()


def _unquoted(text: str) -> str:
    """Return a line without what is in quotes."""
    return re.sub(r"'[^']*'|\"[^\"$`]*\"", "", text)


def _is_sentence(text: str) -> bool:
    """Tell whether a line that begins with the program's name speaks of it."""
    words = text.split()
    plain = [each for each in words[1:] if re.fullmatch(r"[a-z]{2,}[,.:]?", each)]
    return text.endswith((".", ":", ",")) or (len(plain) > 4 and len(plain) == len(words) - 1)


def section(text: str, *titles: str) -> Iterator[str]:
    """Yield the lines below headings that are one of some titles, in any case, until the next line
    that is as little indented."""
    wanted = {title.lower() for title in titles}
    depth: int | None = None
    for line in text.splitlines():
        indent = len(line) - len(line.lstrip())
        if line.strip().rstrip(":").lower() in wanted:
            depth = indent
        elif depth is not None and line.strip() and indent <= depth:
            depth = None
        elif depth is not None:
            yield line
