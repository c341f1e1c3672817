"""What differs between two outputs of one vector, as patterns that mask it."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator

from keen_matrix.core.signature.grounds import Varying

#: Characters of an output that is looked into; a longer one that varies does so wholly.
MOST_COMPARED = 200_000
#: Different patterns of one output; more of them say that it varies wholly.
MOST_PATTERNS = 12
_TOKENS = re.compile(r"\d+|[^\W\d_]+|\s+|.", re.DOTALL)
_HEX = re.compile(r"[0-9a-fA-F]{4,}")
_WORDS = re.compile(r"\w+")
_TIME = re.compile(r"\d{1,2}:\d{2}|\d{4}-\d{2}-\d{2}|\b1[6-9]\d{8}\b")


def looks_like_time(text: str) -> bool:
    """Tell whether a text has what may be a time: a clock, a date, seconds since 1970."""
    return _TIME.search(text) is not None


def varying_between(stream: str, one: str, other: str) -> Iterator[Varying]:
    """Yield what masks the differences of two outputs; one without a pattern when nothing short of
    everything does."""
    if one == other:
        return
    patterns = [] if max(len(one), len(other)) > MOST_COMPARED else _patterns(one, other)
    if patterns and len(patterns) <= MOST_PATTERNS and _masked(one, patterns) == _masked(other, patterns):
        yield from (Varying(stream=stream, pattern=each) for each in patterns)
    else:
        yield Varying(stream=stream, pattern="")


def _patterns(one: str, other: str) -> list[str]:
    left, right = one.splitlines(), other.splitlines()
    # Lines that come and go have no shape that a pattern could have.
    if len(left) != len(right):
        return []
    found: dict[str, None] = {}
    for a, b in zip(left, right, strict=True):
        if a != b:
            pattern = _pattern(a, b)
            if pattern is None:
                return []
            found[pattern] = None
    return list(found)


def _pattern(one: str, other: str) -> str | None:
    """Return a pattern for what differs in two lines, with the word before it where there is one;
    None when they have too little in common to tell."""
    a, b = _TOKENS.findall(one), _TOKENS.findall(other)
    same = difflib.SequenceMatcher(None, a, b, autojunk=False)
    changes = [each for each in same.get_opcodes() if each[0] != "equal"]
    first, last = changes[0], changes[-1]
    start, end = first[1], last[2]
    # a run of letters, digits and the signs within it is one word: a whole time, a whole number
    while start and (_is_inner(a[start - 1])):
        start -= 1
    while end < len(a) and _is_inner(a[end]):
        end += 1
    stop = first[3] - (first[1] - start), last[4] + (end - last[2])
    texts = ("".join(a[start:end]), "".join(b[stop[0] : stop[1]]))
    # Something there against nothing: a pattern for nothing would match everywhere.
    if not all(texts):
        return None
    before = "".join(a[:start])
    lead = re.search(r"\S+\s*$", before)
    context = f"(?<={re.escape(lead[0])})" if lead else "^" if not before else ""
    if not context and not any(each.isdigit() for each in texts[0]):
        return None
    shape = _shape(*texts)
    if context == "^" and shape in _ANYTHING:  # it would mask the beginning of every line
        return None
    return ("(?m)" if context == "^" else "") + context + shape


#: Shapes of what has no shape.
_ANYTHING = (r"[\w.:+-]+", r".+")


def _is_inner(token: str) -> bool:
    return bool(_WORDS.fullmatch(token)) or token in (":", ".", "-", "+")


def _shape(one: str, other: str) -> str:
    """Return a pattern that two texts of one shape match."""
    if all(re.fullmatch(r"\d+", each) for each in (one, other)):
        return r"\d+"
    if all(_HEX.fullmatch(each) for each in (one, other)):
        return r"[0-9a-fA-F]+"
    shapes = [re.sub(r"\d+", "0", each) for each in (one, other)]
    if shapes[0] == shapes[1]:
        return "".join(r"\d+" if part.isdigit() else re.escape(part) for part in re.findall(r"\d+|\D+", one))
    word, anything = _ANYTHING
    return word if all(re.fullmatch(word, each) for each in (one, other)) else anything


def _masked(text: str, patterns: list[str]) -> str:
    for each in patterns:
        text = re.sub(each, "<varies>", text)
    return text
