"""What a layout is."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence

from keen_matrix.core.signature.helptext.page import HelpText
from keen_matrix.core.signature.values.base import TypeName
from keen_matrix.core.structs import Struct, field


def unchanged(lines: Sequence[str]) -> list[str]:
    """Return the lines as they are."""
    return list(lines)


def as_read(page: HelpText) -> HelpText:
    """Return the page as it is."""
    return page


class HelpLayout(Struct, frozen=True):
    """A way to lay out a help text."""

    name: str
    #: Patterns of what it is known by, each searched in the whole text, `^` and `$` at every
    #: line.
    marks: tuple[str, ...]
    #: Patterns of which it has none; each that is not found counts as a mark. Of a program's output
    #: nothing is known, so no pattern here goes over more than a line or two.
    lacks: tuple[str, ...] = ()
    #: The reader that prints it, by its name in a spec.
    reader: str = ""
    #: Patterns of what only this reader prints; without all of them in a text it is not guessed.
    telling: tuple[str, ...] = ()
    #: Words for the type of a value, and the types they stand for.
    kinds: Mapping[str, TypeName] = field(default_factory=dict)
    #: Brings its lines to the general form: a heading ends in a colon, an option's line is its
    #: head, two spaces or more, and its text.
    prepare: Callable[[Sequence[str]], list[str]] = unchanged
    #: Completes what was read by what the texts say in words of this layout.
    finish: Callable[[HelpText], HelpText] = as_read
    #: Whether dots after a value tell of several values, and not of several uses of the option.
    several: bool = False
    #: Whether a bare word in small letters of the usage is typed as it is.
    has_keywords: bool = False
    #: Whether what follows its heading "Usage of …" are options, and no usage.
    is_silent_on_usage: bool = False

    def fits(self, text: str) -> int:
        """Return how many of its marks a text has."""
        there = sum(1 for each in self.marks if re.search(each, text, re.MULTILINE))
        return there + sum(1 for each in self.lacks if not re.search(each, text, re.MULTILINE))

    def reader_of(self, text: str) -> str:
        """Return the reader that printed a text, where it cannot be another; else an empty text."""
        if not self.reader or not self.telling:
            return ""
        told = all(re.search(each, text, re.MULTILINE) for each in self.telling)
        return self.reader if told else ""


__all__ = ["HelpLayout", "as_read", "unchanged"]
