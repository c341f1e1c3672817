"""Words that are in a program's own text, for values that nothing else tells of.

A script that knows its ports by name has them in it. They are only tried where the program refuses
all other words, and what it accepts of them is a finding like any other.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

MOST_WORDS = 40
#: Words in quotes, and the patterns of a shell's `case`.
_LITERALS = re.compile(
    r"""'([\w.+:/-]{1,40})'|"([\w.+:/-]{1,40})"|^\s*\(?([\w.+-]+(?:\s*\|\s*[\w.+-]+)*)\)""", re.MULTILINE
)
#: Words that scripts are full of and that are no values.
_COMMON = frozenset(
    {
        "utf-8",
        "utf8",
        "__main__",
        "main",
        "store",
        "store_true",
        "store_false",
        "append",
        "count",
        "help",
        "version",
        "error",
        "usage",
        "int",
        "str",
        "float",
        "bool",
        "text",
        "true",
        "false",
        "yes",
        "none",
        "self",
        "stdin",
        "stdout",
        "stderr",
    }
)


def words_of_script(text: str) -> list[str]:
    """Return the words in quotes of the text of a script, in its order."""
    return list(dict.fromkeys(_words(text)))[:MOST_WORDS]


def _words(text: str) -> Iterator[str]:
    for quoted, other, labels in _LITERALS.findall(text):
        for each in (quoted, other, *re.split(r"\s*\|\s*", labels)):
            if len(each) > 1 and not each.startswith("-") and each.lower() not in _COMMON:
                yield each


#: Lines after the one that names a value in which its values may be listed, and words of them.
LINES_AFTER, MOST_LISTED = 10, 40
_LISTED = re.compile(r"(?<![\w<\[{./-])[a-z0-9][a-z0-9_+-]{1,19}(?![\w>\]}./-])")
#: Words of sentences.
_ENGLISH = re.compile(
    r"the|of|and|to|in|is|are|be|for|on|an|or|as|by|with|from|this|that|it|at|if|not|no|any|all|"
    r"one|two|can|may|will|when|which|use|used|using|set|print|show|option|options|value|values|"
    r"name|names|file|files|default|given|each|into|out|only|output|input|number|text|line|lines|"
    r"list|choices|choice|available|following|usage|help|version|exit|see|more|than|must|should|"
    r"also|other|such|but|do|does|has|have|was|been|its|their|there|then"
)


def words_near(text: str, name: str) -> list[str]:
    """Return the words that stand where a text names a value, and in the lines after it: a help may
    list the formats that there are in columns below the word."""
    lines = text.splitlines()
    found: dict[str, None] = {}
    wanted = name.lower()
    names = re.compile(rf"\b{re.escape(wanted)}s?\b")
    for at, line in enumerate(lines):
        if names.search(line.lower()):
            for each in lines[at : at + LINES_AFTER]:
                found |= dict.fromkeys(
                    w for w in _LISTED.findall(each) if not _ENGLISH.fullmatch(w) and w != wanted
                )
    return list(found)[:MOST_LISTED]


_PATTERN = re.compile(r"\b[A-Z][A-Z0-9_]*(?:[,;:|\t=][A-Z][A-Z0-9_]*)+\b")
MOST_FIELDS = 3


def lines_told(said: str) -> Iterator[str]:
    """Yield contents of a file made after a pattern in a message: `NAME,SEATS line` asks for lines
    such as `word,2`, each field a word or a number."""
    match = _PATTERN.search(said)
    if match is None:
        return
    signs = re.findall(r"[,;:|\t=]", match[0])
    if len(signs) >= MOST_FIELDS:
        return
    for number in range(2 ** (len(signs) + 1)):
        fields = ["2" if number >> at & 1 else "word" for at in range(len(signs) + 1)]
        yield "".join(map("".join, zip(fields, [*signs, "\n"], strict=True)))
