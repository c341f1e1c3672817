"""Calls as people type them: a line each, with the quoting of a shell and nothing of its expansion.

A line may begin with variables (`NAME=VALUE words`), end with an input (`words < file`) or have one
piped in (`echo text | words`, `printf text | words`): what a shell makes of these is stated in the
POSIX Shell Command Language, 2.2, 2.7 and 2.9.1. Anything else that a shell would act on is an
error, since the words never pass through one.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from keen_matrix.core.errors import Misuse
from keen_matrix.core.structs import Struct, replace

OPERATORS = "|&;<>()"
_ASSIGNMENT = re.compile(r"([A-Za-z_]\w*)=", re.ASCII)
#: What `printf` makes of a backslash and a letter (POSIX, printf, EXTENDED DESCRIPTION).
_ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "\\": "\\", "a": "\a", "b": "\b", "f": "\f", "v": "\v"}
#: How to say in a spec what a line of calls cannot say.
INSTEAD = "write a script and call that, or a matrix with steps"


class Call(Struct, frozen=True, kw_only=True):
    """A call: its words, and what is put around it."""

    words: tuple[str, ...]
    env: tuple[tuple[str, str], ...] = ()
    #: Text of standard input; None for the default.
    stdin: str | None = None
    #: A file that is standard input, as it was typed.
    stdin_file: str | None = None
    #: Names of files in the case's directory, and the files they are copies of.
    files: tuple[tuple[str, str], ...] = ()
    #: Whether it is made on a terminal.
    terminal: bool = False
    #: Prompts and the replies that they get; or, with `asks_on`, replies to one form of prompt.
    replies: tuple[tuple[str, str], ...] = ()
    #: Whether the program may ask once more, and then finds the end of its input.
    asks_on: bool = False

    @property
    def is_bare(self) -> bool:
        """Whether it is its words alone."""
        return (
            not (self.env or self.files or self.terminal or self.replies)
            and self.stdin is None
            and self.stdin_file is None
        )

    def with_common(self, common: Call) -> Call:
        """Return this call with what all calls get; its own input and variables win."""
        own = {name for name, _ in self.env}
        has_input = self.stdin is not None or self.stdin_file is not None
        return replace(
            self,
            env=(*(each for each in common.env if each[0] not in own), *self.env),
            stdin=self.stdin if has_input else common.stdin,
            stdin_file=self.stdin_file if has_input else common.stdin_file,
            files=(*common.files, *self.files),
            terminal=common.terminal or self.terminal,
        )


#: A call without any words, and how a line says so in a word.
WITHOUT_WORDS, NO_WORDS = Call(words=()), ":none"


class Token(NamedTuple):
    """A word of a line, or an operator that a shell would act on."""

    text: str
    is_operator: bool
    #: From 1.
    column: int
    #: Whether any part of it was quoted.
    quoted: bool


def read_calls(text: str, name: str) -> list[Call]:
    """Return the calls of a file, a line each; comments are none. Raises Misuse with the place of
    what cannot be read.

    An empty line is the call without words, the first of several; one beside a comment or another
    empty line only parts lines from each other. A line of `""` is a call with one empty word.
    """
    calls: list[Call] = []
    lines = text.rstrip("\n").split("\n") if text.strip() else []
    for number, line in enumerate(lines, 1):
        try:
            tokens = list(tokens_of(line))
            call = call_of(tokens)
        except LineFault as fault:
            raise Misuse(f"{name}:{number}:{fault.column}: {fault.text}") from None
        if tokens and call.words == (NO_WORDS,) and not tokens[-1].quoted:
            call = replace(call, words=())
        elif not tokens and (line.strip() or _parts(lines, number - 1) or WITHOUT_WORDS in calls):
            continue
        calls.append(call)
    return calls


def _parts(lines: Sequence[str], at: int) -> bool:
    """Tell whether an empty line only parts others: it is beside a comment or another such line."""
    beside = [*lines[max(0, at - 1) : at], *lines[at + 1 : at + 2]]
    return any(not each.strip() or each.lstrip().startswith("#") for each in beside)


class LineFault(ValueError):
    """What is wrong in a line, and at which column."""

    def __init__(self, text: str, column: int) -> None:
        super().__init__(text)
        self.text, self.column = text, column


def tokens_of(line: str) -> Iterator[Token]:
    """Yield the words and operators of a line (POSIX Shell Command Language, 2.3). Raises
    LineFault."""
    at = 0
    while at < len(line):
        if line[at].isspace():
            at += 1
        elif line[at] == "#":
            return
        elif line[at] in OPERATORS:
            end = at + 1
            while end < len(line) and line[end] in OPERATORS:
                end += 1
            yield Token(line[at:end], True, at + 1, False)
            at = end
        else:
            word, end, quoted = _word(line, at)
            yield Token(word, False, at + 1, quoted)
            at = end


def _word(line: str, start: int) -> tuple[str, int, bool]:
    """Return the word that begins somewhere, where it ends, and whether it has quotes."""
    parts: list[str] = []
    at, quoted = start, False
    while at < len(line) and not line[at].isspace() and line[at] not in OPERATORS:
        sign = line[at]
        if sign in "'\"":
            quoted = True
            end = _closing(line, at)
            inner = line[at + 1 : end]
            # inside double quotes a backslash only escapes these (2.2.3)
            parts.append(inner if sign == "'" else re.sub(r'\\([$`"\\])', r"\1", inner))
            at = end + 1
        elif sign == "\\" and at + 1 < len(line):
            quoted = True
            parts.append(line[at + 1])
            at += 2
        else:
            parts.append(sign)
            at += 1
    return "".join(parts), at, quoted


def _closing(line: str, start: int) -> int:
    """Return where the quote ends that begins at a place."""
    at = start + 1
    while at < len(line):
        if line[at] == "\\" and line[start] == '"':
            at += 1
        elif line[at] == line[start]:
            return at
        at += 1
    raise LineFault(f"this quote is never closed; expected {line[start]}", start + 1)


def call_of(tokens: list[Token]) -> Call:
    """Return the call that the tokens of a line are. Raises LineFault."""
    stdin, tokens = _piped_in(tokens)
    env: list[tuple[str, str]] = []
    while tokens and not tokens[0].is_operator and (found := _ASSIGNMENT.match(tokens[0].text)):
        env.append((found[1], tokens[0].text[found.end() :]))
        tokens = tokens[1:]
    file = None
    if len(tokens) >= 2 and tokens[-2].is_operator and tokens[-2].text == "<":
        if tokens[-1].is_operator:
            raise LineFault("expected the name of a file after <", tokens[-1].column)
        if stdin is not None:
            raise LineFault("the input is piped in already; give one of them", tokens[-2].column)
        file, tokens = tokens[-1].text, tokens[:-2]
    for token in tokens:
        if token.is_operator:
            raise LineFault(
                f"{token.text} needs a shell, and no shell runs a call; quote it, or {INSTEAD}", token.column
            )
    words = tuple(token.text for token in tokens)
    return Call(words=words, env=tuple(env), stdin=stdin, stdin_file=file)


def _piped_in(tokens: list[Token]) -> tuple[str | None, list[Token]]:
    """Return the text that `echo` or `printf` pipes into a call, and the tokens of the call."""
    pipes = [at for at, token in enumerate(tokens) if token.is_operator and token.text == "|"]
    if len(pipes) != 1:
        return None, tokens
    before, after = tokens[: pipes[0]], tokens[pipes[0] + 1 :]
    if not before or any(token.is_operator for token in before):
        return None, tokens
    words = [token.text for token in before[1:]]
    if before[0].text == "echo":
        plain = words[1:] if words[:1] == ["-n"] else words
        return " ".join(plain) + ("" if words[:1] == ["-n"] else "\n"), after
    if before[0].text == "printf" and len(words) == 1 and "%" not in words[0]:
        return re.sub(r"\\(.)", lambda found: _ESCAPES.get(found[1], found[0]), words[0]), after
    return None, tokens


def count_words(count: int) -> str:
    """Return how many words a call has, as the name of a matrix."""
    names = ("no words", "one word", "two words", "three words", "four words")
    return names[count] if count < len(names) else f"{count} words"
