r"""Reading the notation: one cursor, one function per production.

    sequence     = { word | group }
    group        = "[" alternatives "]" | "(" alternatives ")"
    alternatives = sequence { "|" sequence }
    word         = { character | "'" quoted "'" | '"' quoted '"' | "\" any | field | "{{" | "}}" }
    field        = "{" expression [ "!" letter ] [ ":" format ] "}"

White space separates words. Quotes group and may have fields in them; a backslash takes the next
character as it is (in single quotes it is an ordinary character, in double quotes it escapes only
a double quote and itself, as in POSIX sh, section 2.2).
"""

from __future__ import annotations

import re
from functools import lru_cache
from itertools import groupby

from keen_matrix.core.errors import NotationFault
from keen_matrix.core.notation.nodes import Characters, Field, Group, Part, Sequence, Span, Word

#: Groups inside groups; protects the recursive parser and everything that walks its result.
MAX_DEPTH = 256

_CLOSERS = {"[": "]", "(": ")", "{": "}"}


@lru_cache(maxsize=8192)
def parse_line(text: str) -> Sequence:
    """Parse the line of a matrix: words, fields and groups. Raises NotationFault."""
    cursor = _Cursor(text, groups=True)
    parsed = cursor.sequence(0)
    if not cursor.done:
        # The sequence ends at a sign that only a group may have, so this one closes nothing.
        found = cursor.text[cursor.at]
        if found == "|":
            raise cursor.fault('"|" is outside a group; put the alternatives in [ ] or ( ), or quote it')
        raise cursor.fault(f'this "{found}" closes nothing; quote it to get it literally')
    return parsed


def parse_words(text: str) -> tuple[Word, ...]:
    """Parse a launch text: words and fields, where brackets and bars are ordinary characters.
    Raises NotationFault."""
    cursor = _Cursor(text, groups=False)
    return tuple(item for item in cursor.sequence(0).items if isinstance(item, Word))


def parse_list(words: list[str]) -> tuple[Word, ...]:
    """Parse a list of words: each one stays one word, only its fields are read. Raises
    NotationFault."""
    # No quotes are read: whoever writes a list has said where words end.
    return tuple(Word(parse_template(word)) for word in words)


@lru_cache(maxsize=8192)
def parse_template(text: str) -> tuple[Part, ...]:
    """Parse a text with fields; nothing else in it is special. Raises NotationFault."""
    cursor = _Cursor(text, groups=False)
    parts: list[Part] = []
    while not cursor.done:
        # In one step: a text of a mebibyte would otherwise be gone through sign by sign.
        if plain := _PLAIN.match(text, cursor.at):
            parts.append(Characters(plain[0], plain.span()))
            cursor.at = plain.end()
        else:
            cursor.braces_or_character(parts)
    return merge(parts)


_PLAIN = re.compile(r"[^{}]+")


def merge(parts: list[Part]) -> tuple[Part, ...]:
    """Join neighbouring texts and drop empty ones."""
    merged: list[Part] = []
    for is_text, run in groupby(parts, lambda part: isinstance(part, Characters)):
        if not is_text:
            merged += run
            continue
        texts = [part for part in run if isinstance(part, Characters) and part.text]
        if texts:
            merged.append(
                Characters("".join(part.text for part in texts), (texts[0].span[0], texts[-1].span[1]))
            )
    return tuple(merged)


class _Cursor:
    """A place in a text that moves forward as productions are read."""

    def __init__(self, text: str, *, groups: bool) -> None:
        self.text, self.at, self.groups = text, 0, groups

    @property
    def done(self) -> bool:
        return self.at >= len(self.text)

    def fault(self, message: str, at: int | None = None) -> NotationFault:
        return NotationFault(message, self.text, self.at if at is None else at)

    def sequence(self, depth: int) -> Sequence:
        """sequence = { word | group }"""
        # Told here, with a place, or the recursion limit would end it somewhere without one.
        if depth > MAX_DEPTH:
            raise self.fault(f"groups are nested more than {MAX_DEPTH} deep")
        start, items, glued = self.at, list[Word | Group](), False
        while not self.done:
            character = self.text[self.at]
            if character.isspace():
                self.at, glued = self.at + 1, False
            elif self.groups and character in "|])":
                break
            else:
                # What is first is glued to nothing.
                glued = glued and bool(items)
                items.append(
                    self.group(depth, glued) if self.groups and character in "[(" else self.word(glued)
                )
                glued = True
        return Sequence(tuple(items), (start, self.at))

    def group(self, depth: int, glued: bool) -> Group:
        """group = "[" alternatives "]" | "(" alternatives ")" """
        start, opener = self.at, self.text[self.at]
        alternatives: list[Sequence] = []
        while True:
            before = self.at
            self.at += 1
            alternative = self.sequence(depth + 1)
            # `[]` and `[a | ]`: an alternative that says nothing is what the brackets are for.
            if not alternative.items:
                raise self.fault("this alternative is empty", before)
            alternatives.append(alternative)
            if self.done:
                raise self.fault(f'this "{opener}" is never closed; expected "{_CLOSERS[opener]}"', start)
            if self.text[self.at] != "|":
                break
        if self.text[self.at] != _CLOSERS[opener]:
            raise self.fault(f'expected "{_CLOSERS[opener]}" here, found "{self.text[self.at]}"')
        self.at += 1
        return Group(tuple(alternatives), opener == "[", glued, (start, self.at))

    def word(self, glued: bool) -> Word:
        """word = { character | quoted | escape | field }"""
        start, parts = self.at, list[Part]()
        while not self.done:
            character = self.text[self.at]
            if character.isspace() or (self.groups and character in "[](|)"):
                break
            if character in "'\"":
                self.quoted(parts, character)
            elif character == "\\":
                if self.at + 1 >= len(self.text):
                    raise self.fault("a backslash at the end escapes nothing")
                parts.append(Characters(self.text[self.at + 1], (self.at, self.at + 2)))
                self.at += 2
            else:
                self.braces_or_character(parts)
        return Word(merge(parts), glued, (start, self.at))

    def quoted(self, parts: list[Part], quote: str) -> None:
        """Read up to the closing quote; an empty pair still makes a word."""
        start = self.at
        self.at += 1
        while not self.done and (character := self.text[self.at]) != quote:
            # In double quotes a backslash escapes what would end or escape something, and stays
            # where it does not, as POSIX sh has it.
            following = self.text[self.at + 1 : self.at + 2]
            if quote == '"' and character == "\\" and following and following in '"\\':
                parts.append(Characters(following, (self.at, self.at + 2)))
                self.at += 2
            else:
                self.braces_or_character(parts)
        if self.done:
            raise self.fault(f"this quote is never closed; expected {quote}", start)
        self.at += 1

    def braces_or_character(self, parts: list[Part]) -> None:
        """Read a field, a doubled brace or one plain character."""
        start, character = self.at, self.text[self.at]
        if character in "{}" and self.text.startswith(character * 2, start):
            self.at += 2
        elif character == "{":
            parts.append(self.field())
            return
        elif character == "}":
            raise self.fault('this "}" closes nothing; write "}}" to get it literally')
        else:
            self.at += 1
        parts.append(Characters(character, (start, self.at)))

    def field(self) -> Field:
        """field = "{" expression [ "!" letter ] [ ":" format ] "}" """
        start = self.at
        self.at += 1
        expression = self._expression(start)
        conversion = form = ""
        if self.text[self.at] == "!":
            conversion = self.text[self.at + 1 : self.at + 2]
            if conversion not in ("r", "s", "a"):
                raise self.fault('expected "r", "s" or "a" after "!"', self.at + 1)
            self.at += 2
        if self.text[self.at : self.at + 1] == ":":
            stop = self.text.find("}", self.at)
            form = self.text[self.at + 1 : stop] if stop >= 0 else ""
            self.at = stop if stop >= 0 else len(self.text)
        if self.text[self.at : self.at + 1] != "}":
            raise self.fault('this "{" is never closed; expected "}"', start)
        self.at += 1
        if not expression.strip():
            raise self.fault('expected an expression in "{ }"', start)
        return Field(expression.strip(), form, conversion, (start, self.at))

    def _expression(self, start: int) -> str:
        """Read up to the "}", ":" or "!" that ends the expression, knowing brackets and Python's
        string quotes."""
        begin, open_brackets = self.at, list[str]()
        while not self.done:
            character = self.text[self.at]
            if character in "'\"":
                self._skip_string(character)
                continue
            if character in _CLOSERS:
                open_brackets.append(_CLOSERS[character])
            elif open_brackets and character == open_brackets[-1]:
                open_brackets.pop()
            elif not open_brackets and (
                character in "}:" or (character == "!" and self.text[self.at + 1 : self.at + 2] != "=")
            ):
                return self.text[begin : self.at]
            self.at += 1
        raise self.fault('this "{" is never closed; expected "}"', start)

    def _skip_string(self, quote: str) -> None:
        start = self.at
        self.at += 1
        while not self.done and self.text[self.at] != quote:
            self.at += 2 if self.text[self.at] == "\\" else 1
        if self.at >= len(self.text):
            raise self.fault(f"this string is never closed; expected {quote}", start)
        self.at += 1


def span_text(text: str, span: Span) -> str:
    """Return what is at a span, for messages and column names."""
    return text[span[0] : span[1]]
