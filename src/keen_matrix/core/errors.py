"""Every error that a user can cause or meet.

KeenMatrixError
├── SpecFault        a spec is wrong; has every problem found, each with its place
├── Misuse           the caller asked for something that cannot be done
├── RunFault         nothing could be run, or results could not be kept
├── NotationFault    a line or template does not parse; knows the place in the text
└── ExpressionFault  an expression does not parse or failed while it was evaluated
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Literal

from keen_matrix.core.structs import Struct, replace
from keen_matrix.core.width import cells


def nearest(word: str, known: Iterable[str]) -> str | None:
    """Return the known word most like `word`, or None when nothing comes close."""
    choices = list(known)
    import difflib

    found = difflib.get_close_matches(word, choices, n=1, cutoff=0.6)
    if not found:  # short words and other letter cases score low, yet are the commonest slips
        found = [each for each in choices if each.lower().replace("_", "-") == word.lower().replace("_", "-")]
    return found[0] if found else None


#: How an expectation begins that shows one right way to write what is missing.
EXAMPLE = "example: "


class Problem(Struct, frozen=True, kw_only=True):
    """One thing that is wrong, or looks wrong, in a spec.

    `line` and `column` count from 1; 0 means that the problem concerns the file as a whole.
    """

    path: str
    line: int = 0
    column: int = 0
    message: str
    expected: str | None = None
    suggestion: str | None = None
    severity: Literal["error", "warning"] = "error"
    #: The source line and a caret line below it.
    excerpt: tuple[str, ...] = ()
    #: Where it stands, as keys and numbers, until `spec.source.placed` finds the line and
    #: column.
    key: tuple[str | int, ...] = ()

    def moved(self, path: str, line: int, column: int, excerpt: tuple[str, ...] = ()) -> Problem:
        """Return the same problem at another place."""
        return replace(self, path=path, line=line, column=column, excerpt=excerpt)

    @property
    def place(self) -> str:
        """`file:line:column`, as far as known."""
        return f"{self.path}:{self.line}:{self.column}" if self.line else self.path

    @property
    def wanted(self) -> str:
        """What was expected, with the word before it: `expected a number`, or `example: exit =
        0`."""
        expected = self.expected or ""
        return expected if expected.startswith(EXAMPLE) else f"expected {expected}"

    def __str__(self) -> str:
        text = f"{self.place}: {self.message}"
        if self.expected:
            text += f"; {self.wanted}"
        if self.suggestion:
            text += f'; did you mean "{self.suggestion}"?'
        return text


class KeenMatrixError(Exception):
    """The root of all errors that are reported without a traceback."""


class SpecFault(KeenMatrixError):
    """A spec cannot be used; `problems` has everything that was found, in file order."""

    def __init__(self, problems: Sequence[Problem]) -> None:
        self.problems = tuple(problems)
        super().__init__("\n".join(map(str, self.problems)))


class Misuse(KeenMatrixError):
    """The command or call was used wrongly."""


class RunFault(KeenMatrixError):
    """Nothing could be run, or its results could not be kept."""


class OnceFault(RunFault):
    """What a whole spec uses could not be started, or did not get ready."""


class NotationFault(KeenMatrixError):
    """A line, launch text or template does not parse; `offset` is the place in the text, counted
    from 0."""

    def __init__(self, message: str, text: str, offset: int) -> None:
        self.message, self.text, self.offset = message, text, offset
        super().__init__(message)

    def __str__(self) -> str:
        return "\n".join((self.message, *caret_lines(self.text, self.offset)))


class ExpressionFault(KeenMatrixError):
    """An expression failed: what it was, with which values, and why."""

    def __init__(self, source: str, reason: str, values: str = "", offset: int = 0) -> None:
        self.source, self.reason, self.values, self.offset = source, reason, values, offset
        super().__init__(source, reason, values, offset)

    def __str__(self) -> str:
        where = f" (with {self.values})" if self.values else ""
        return f"the expression {self.source} failed: {self.reason}{where}"


#: Characters of a source line shown around a caret.
EXCERPT_WIDTH = 100


def caret_lines(text: str, offset: int) -> tuple[str, str]:
    """Return the line of `text` that contains `offset`, cut to fit, and a line with a caret under
    that place."""
    start = text.rfind("\n", 0, offset) + 1
    stop = text.find("\n", offset)
    line = text[start : stop if stop >= 0 else len(text)].replace("\t", " ")
    at = min(offset - start, len(line))
    if len(line) > EXCERPT_WIDTH:
        cut = max(0, min(at - EXCERPT_WIDTH // 2, len(line) - EXCERPT_WIDTH))
        line, at = line[cut : cut + EXCERPT_WIDTH], at - cut
        if cut:
            line = "…" + line[1:]
    return line, " " * cells(line[:at]) + "^"
