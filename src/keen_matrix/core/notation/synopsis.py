"""The synopsis: the usage line in POSIX notation (XBD 12.1), read by the same grammar as the line
of a matrix.

    synopsis = { option | NAME [ "..." ] | keyword | "--" | group [ "..." ] }
    option   = spelling { "," spelling } [ "..." ] [ "=" NAME ] { NAME [ "..." ] } | option "[" [ "=" ] NAME "]"
    NAME     = upper-case word | "<" name ">"
    keyword  = lower-case word, typed as it is
    range    = spelling ( "…" | "..." ) spelling: flags of one character each, of which one is given

Outside brackets an option takes one NAME; inside `[ ]` or `( )` it takes all that follow it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TypeAlias

from keen_matrix.core.errors import NotationFault
from keen_matrix.core.notation.nodes import Field, Group, Sequence, Span, Word
from keen_matrix.core.notation.parse import parse_line
from keen_matrix.core.structs import replace

_SPELLING = re.compile(r"-[^\s\-=,\[\]|()][^\s=,\[\]|()]*|--[^\s\-=,\[\]|()][^\s=,\[\]|()]*")
_NAME = re.compile(r"[^\sa-z\-\[\]|(),][^\sa-z\[\]|(),]*")
_ANGLED = re.compile(r"<[^<>\s][^<>]*>")
_KEYWORD = re.compile(r"[a-z0-9@%+:._/][\w@%+:./-]*|-")
_SINGLE = re.compile(r"-[0-9A-Za-z]")
DOTS = "..."


@dataclass(frozen=True, slots=True)
class Name:
    """A NAME for a value. `several` tells that three dots follow it, `optional` that it stands in
    brackets of its own."""

    name: str
    several: bool = False
    optional: bool = False
    angled: bool = False
    span: Span = field(default=(0, 0), compare=False)

    def __str__(self) -> str:
        text = f"<{self.name}>" if self.angled else self.name
        text += DOTS if self.several else ""
        return f"[{text}]" if self.optional else text


@dataclass(frozen=True, slots=True)
class OptionUse:
    """An option where it is in a synopsis: its spellings and the values it takes."""

    spellings: tuple[str, ...]
    values: tuple[Name, ...] = ()
    #: How the synopsis writes the value: " " apart, "=" joined, "[=]" optional and joined, "[]"
    #: optional and glued.
    value_form: str = " "
    #: Whether it may be given more than once.
    again: bool = False
    span: Span = field(default=(0, 0), compare=False)

    def __str__(self) -> str:
        plain, dots = ",".join(self.spellings), DOTS if self.again else ""
        text = plain + dots
        if self.value_form == "[=]":
            return f"{plain}[={self.values[0]}]{dots}"
        if self.value_form == "[]":
            return f"{plain}[{self.values[0]}]{dots}"
        if self.value_form == "=":
            return f"{text}={self.values[0]}"
        return " ".join([text, *map(str, self.values)])


@dataclass(frozen=True, slots=True)
class Operand:
    """An operand."""

    name: Name

    def __str__(self) -> str:
        return str(self.name)


@dataclass(frozen=True, slots=True)
class Keyword:
    """A word that is typed as it is."""

    word: str
    span: Span = field(default=(0, 0), compare=False)

    def __str__(self) -> str:
        return self.word


@dataclass(frozen=True, slots=True)
class Delimiter:
    """`--`, after which every word is an operand."""

    span: Span = field(default=(0, 0), compare=False)

    def __str__(self) -> str:
        return "--"


@dataclass(frozen=True, slots=True)
class Choice:
    """`[ a | b ]`, `( a | b )`, with `several` when three dots follow."""

    alternatives: tuple[Usage, ...]
    optional: bool
    several: bool = False
    span: Span = field(default=(0, 0), compare=False)

    def __str__(self) -> str:
        inner = " | ".join(map(str, self.alternatives))
        return (f"[{inner}]" if self.optional else f"({inner})") + (DOTS if self.several else "")


Item: TypeAlias = OptionUse | Operand | Keyword | Delimiter | Choice


@dataclass(frozen=True, slots=True)
class Usage:
    """Items one after another: a whole synopsis line, or one alternative of a choice."""

    items: tuple[Item, ...]

    def __str__(self) -> str:
        return " ".join(map(str, self.items))

    def walk(self) -> Iterator[Item]:
        """Yield every item, those of choices included, in the order of the text."""
        for item in self.items:
            yield item
            if isinstance(item, Choice):
                for alternative in item.alternatives:
                    yield from alternative.walk()


def with_flags_apart(form: Usage) -> Usage:
    """Return a form in which flags that are grouped after one dash, `[-abc]`, are flags of their
    own, each of which may be left out (POSIX XBD 12.1, 2.)."""
    items: list[Item] = []
    for item in form.items:
        if not isinstance(item, Choice):
            items.append(item)
            continue
        letters = _grouped(item)
        if letters is None:
            alternatives = tuple(with_flags_apart(each) for each in item.alternatives)
            items.append(Choice(alternatives, item.optional, item.several, item.span))
            continue
        # Each flag gets the place of its letter, since options are told apart by where they stand.
        at = item.span[0] + 2  # behind the bracket and the dash
        for number, letter in enumerate(letters):
            span = (at + number, at + number + 1)
            flag = OptionUse((f"-{letter}",), span=span)
            items.append(Choice((Usage((flag,)),), True, item.several, span))
    return Usage(tuple(items))


def _grouped(choice: Choice) -> str | None:
    """Return the letters of a group of flags; None when a choice is something else."""
    if not choice.optional or len(choice.alternatives) != 1:
        return None
    (form,) = choice.alternatives
    if len(form.items) != 1 or not isinstance(form.items[0], OptionUse):
        return None
    use = form.items[0]
    word = use.spellings[0]
    # A letter twice, or a value after it, and it is a name of several letters after one dash.
    is_group = len(use.spellings) == 1 and not use.values and re.fullmatch(r"-[0-9A-Za-z]{2,}", word)
    return word[1:] if is_group and len(set(word)) == len(word) else None


def parse_synopsis(text: str) -> Usage:
    """Parse one synopsis line. `str()` of the result gives the line back. Raises NotationFault
    with the place."""
    return _SynopsisReader(text).form(parse_line(text), bracketed=False)


class _SynopsisReader:
    """Turns the words and groups of the common grammar into options, operands and keywords."""

    def __init__(self, text: str) -> None:
        self.text = text

    def fault(self, message: str, at: int) -> NotationFault:
        return NotationFault(message, self.text, at)

    def form(self, sequence: Sequence, *, bracketed: bool) -> Usage:
        """Read the items of one sequence."""
        rest = list(sequence.items)
        items: list[Item] = []
        while rest:
            item = rest.pop(0)
            if isinstance(item, Group):
                items.append(self.choice(item, rest))
                continue
            word = self.literal(item)
            if item.glued:
                raise self.fault("there is no space before this; expected white space", item.span[0])
            if word == "--":
                items.append(Delimiter(item.span))
            # Before options, since a range begins with one.
            elif self.is_range(word, rest):
                items.append(self.option_range(item, word, rest))
            elif word.startswith("-") and word != "-":
                items.append(self.option(item, word, rest, bracketed=bracketed))
            else:
                items.append(self.operand(item, word, rest))
        return Usage(tuple(items))

    def is_range(self, word: str, rest: list[Word | Group]) -> bool:
        """Tell whether a word is the first of a range such as `-1 … -9`."""
        if not _SINGLE.fullmatch(word) or len(rest) < 2:
            return False
        between, last = rest[0], rest[1]
        return (
            isinstance(between, Word)
            and between.literal in (DOTS, "…")
            and isinstance(last, Word)
            and _SINGLE.fullmatch(last.literal or "") is not None
        )

    def option_range(self, item: Word, word: str, rest: list[Word | Group]) -> Choice:
        """range = spelling "…" spelling: flags of one character each, of which one is given"""
        rest.pop(0)
        last = rest.pop(0)
        first, end = word[1], (last.literal or "")[1] if isinstance(last, Word) else ""
        # From 0 to z would pass every sign between them.
        kinds = (str.isdigit, str.islower, str.isupper)
        if not (first < end and any(kind(first) and kind(end) for kind in kinds)):
            raise self.fault(f'"{word} … {last}" is not a range; expected one such as -1 … -9', item.span[0])
        start = item.span[0]
        flags = [
            # each has a span of its own, since options are known by them
            OptionUse((f"-{chr(code)}",), span=(start, start + 1 + number))
            for number, code in enumerate(range(ord(first), ord(end) + 1))
        ]
        return Choice(tuple(Usage((each,)) for each in flags), False, span=(start, last.span[1]))

    def literal(self, word: Word) -> str:
        """Return the text of a word. Raises NotationFault when it contains a field."""
        text = word.literal
        if text is None:
            # The line of a matrix has fields; whoever copies one here is told what stands in their
            # place.
            place = next(part for part in word.parts if isinstance(part, Field))
            raise self.fault("a synopsis has no { } fields; a value is a NAME in capitals", place.span[0])
        return text

    def choice(self, group: Group, rest: list[Word | Group]) -> Choice:
        """choice = "[" form { "|" form } "]" [ "..." ]"""
        if group.glued:
            raise self.fault("there is no space before this group; expected white space", group.span[0])
        several = False
        if rest and isinstance(rest[0], Word) and rest[0].glued and rest[0].literal == DOTS:
            rest.pop(0)
            several = True
        alternatives = tuple(self.form(each, bracketed=True) for each in group.alternatives)
        inner = alternatives[0].items[0] if len(alternatives[0].items) == 1 else None
        if len(alternatives) == 1 and isinstance(inner, Choice) and not inner.optional:
            # brackets round nothing but a range, or a group, are that group's own: so are the dots
            dots = several or inner.several
            return replace(inner, optional=group.optional, several=dots, span=group.span)
        return Choice(alternatives, group.optional, several, group.span)

    def operand(self, item: Word, word: str, rest: list[Word | Group]) -> Item:
        """Read an operand's NAME or a keyword."""
        name = self.name(item, word)
        if name is not None:
            if not name.several and rest and isinstance(rest[0], Word) and self.literal(rest[0]) == DOTS:
                rest.pop(0)
                name = Name(name.name, True, False, name.angled, name.span)
            return Operand(name)
        if _KEYWORD.fullmatch(word):
            return Keyword(word, item.span)
        raise self.fault(
            f'"{word}" is neither an option, nor a NAME in capitals, nor a keyword in small '
            f"letters; <{word}> makes it a NAME",
            item.span[0],
        )

    def name(self, item: Word, word: str) -> Name | None:
        """Return the NAME that a word is, or None."""
        bare = word.removesuffix(DOTS)
        several = bare != word and bool(bare)
        if _ANGLED.fullmatch(bare):
            return Name(bare[1:-1], several, angled=True, span=item.span)
        if _NAME.fullmatch(bare) and any(character.isupper() for character in bare):
            return Name(bare, several, span=item.span)
        return None

    def option(self, item: Word, word: str, rest: list[Word | Group], *, bracketed: bool) -> OptionUse:
        """Read an option and the NAMEs that belong to it."""
        head, equals, value = word.partition("=")
        bare = head.removesuffix(DOTS)
        again = bare != head
        spellings = tuple(bare.split(","))
        at = item.span[0]
        for spelling in spellings:
            if not _SPELLING.fullmatch(spelling):
                raise self.fault(f'"{spelling}" is not a spelling of an option; expected -x or --name', at)
            at += len(spelling) + 1
        if len(set(spellings)) < len(spellings):
            raise self.fault("this spelling occurs twice here", item.span[0])
        if equals:
            name = self.name(Word(item.parts, span=(item.span[1] - len(value), item.span[1])), value)
            if name is None:
                raise self.fault('expected a NAME in capitals after "="', item.span[1] - len(value))
            return OptionUse(spellings, (name,), "=", again, item.span)
        if rest and isinstance(rest[0], Group) and rest[0].glued:
            found = self.optional_value(spellings, again, rest.pop(0), item.span)  # type: ignore[arg-type]
            if rest and isinstance(rest[0], Word) and rest[0].glued and rest[0].literal == DOTS:
                rest.pop(0)
                found = replace(found, again=True)
            return found
        values = tuple(self.values(rest, bracketed=bracketed))
        return OptionUse(spellings, values, " ", again, item.span)

    def optional_value(self, spellings: tuple[str, ...], again: bool, group: Group, span: Span) -> OptionUse:
        """option = spelling "[" [ "=" ] NAME "]" """
        words = [item for each in group.alternatives for item in each.items]
        word = words[0] if len(words) == 1 and isinstance(words[0], Word) else None
        text = self.literal(word) if word else ""
        name = self.name(word, text.removeprefix("=")) if word else None
        if name is None or not group.optional:
            raise self.fault("expected [=NAME] after an option, its optional value", group.span[0])
        return OptionUse(spellings, (name,), "[=]" if text.startswith("=") else "[]", again, span)

    def values(self, rest: list[Word | Group], *, bracketed: bool) -> Iterator[Name]:
        """Yield the NAMEs that belong to an option: one outside brackets, all that follow
        inside."""
        while rest:
            item = rest[0]
            if isinstance(item, Group):
                inner = item.alternatives[0].items if bracketed and item.optional and not item.glued else ()
                word = inner[0] if len(inner) == 1 and len(item.alternatives) == 1 else None
                name = self.name(word, self.literal(word)) if isinstance(word, Word) else None
                if name is None:
                    return
                rest.pop(0)
                yield Name(name.name, name.several, True, name.angled, name.span)
                continue
            name = self.name(item, self.literal(item))
            if name is None:
                return
            rest.pop(0)
            if not name.several and rest and isinstance(rest[0], Word) and self.literal(rest[0]) == DOTS:
                rest.pop(0)
                name = Name(name.name, True, False, name.angled, name.span)
            yield name
            if not bracketed:
                return
