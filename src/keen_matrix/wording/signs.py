"""Signs of verdicts and of drawn lines: different in shape as well as in colour, each with an
ASCII form."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Protocol, TypeAlias

#: A text, or a text with the name of a style.
Segment: TypeAlias = "str | tuple[str, str]"

#: Verdict, or state of a grid's cell, → its sign and the ASCII form. An equals sign: what was
#: found is what was expected.
VERDICT_SIGNS = {
    "passed": ("=", "="),
    "failed": ("≠", "#"),
    "crashed": ("!", "!"),
    "timed-out": ("…", ":"),
    "not-started": ("∅", "0"),
    "unchecked": ("?", "?"),
    "flaky": ("≈", "%"),
    "blocked": ("~", "~"),
    "known": ("*", "*"),
    "skipped": ("-", "-"),
    "mixed": ("±", "+"),
    "blank": ("·", "."),
}
#: Marks in lines of text.
MARKS = {
    "space": ("·", "\\s"),
    "bar": ("│", "|"),
    "to": ("→", "->"),
    "dash": ("—", "-"),
    "ellipsis": ("…", "..."),
    "other": ("▸", ">"),
}
#: What the signs in a cell of a grid stand for.
GRID_WORDS = {"passed": "all passed", "mixed": "some passed", "failed": "none passed", "blank": "not run"}
#: Sign → the name of its style.
STYLE_OF = {
    "passed": "good",
    "failed": "bad",
    "crashed": "crashed",
    "timed-out": "bad",
    "not-started": "bad",
    "unchecked": "warn",
    "flaky": "warn",
    "blocked": "warn",
    "known": "dim",
    "skipped": "dim",
    "mixed": "warn",
    "blank": "dim",
}


#: State of a cell of a grid → the name of its sign.
STATE_SIGNS = {"passed": "passed", "mixed": "mixed", "failed": "failed", "none": "blank"}


def sign_of(name: str) -> str:
    """Return a sign as reports show it, which are in UTF-8."""
    return VERDICT_SIGNS[name][0]


def verdict_text(verdict: str) -> str:
    """Return a verdict as people read it: `timed out`."""
    return verdict.replace("-", " ")


def grid_legend() -> str:
    """Return what the signs in a grid mean, for a report: `= all passed   ≠ none passed   …`."""
    return "\u2003".join(f"{sign_of(name)} {words}" for name, words in GRID_WORDS.items())


class Look(Protocol):
    """What lines are made for: how wide they may be, and which signs can be shown."""

    width: int

    def sign(self, name: str) -> str:
        """Return a sign, or a mark, in the form that can be shown."""


def plain(text: str) -> str:
    """Return a text with our marks in their ASCII forms."""
    for fancy, ascii_form in MARKS.values():
        text = text.replace(fancy, ascii_form)
    return text


def text_of(segments: Sequence[Segment]) -> str:
    """Return the text of segments, without their styles."""
    return "".join(each if isinstance(each, str) else each[0] for each in segments).rstrip(" ")


def legend(look: Look, names: Iterable[str], words: dict[str, str] | None = None) -> list[Segment]:
    """Return what signs stand for: `signs: = passed   ≠ failed`, in the order of the table."""
    shown = set(names)
    segments: list[Segment] = [("signs: ", "dim")]
    for name in VERDICT_SIGNS:
        if name in shown:
            text = f" {(words or {}).get(name, verdict_text(name))}"
            segments += ["   " if len(segments) > 1 else "", (look.sign(name), STYLE_OF[name]), (text, "dim")]
    return segments
