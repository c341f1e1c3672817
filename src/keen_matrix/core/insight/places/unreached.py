"""Lines of a program that no case runs, and the vector that would, where the signature knows
one."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence

from keen_matrix.core.insight.places.trace import Place
from keen_matrix.core.insight.places.tracing import TracedCase
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.structs import Struct

#: Lines above a part in which it is looked for what decides whether it runs.
MOST_ABOVE = 12


class Unreached(Struct, frozen=True, kw_only=True):
    """Lines one below the other that no case runs."""

    file: str
    first: int
    last: int
    #: The first of them.
    text: str
    #: The line that decides whether they run.
    condition: str = ""
    condition_line: int = 0
    #: A vector that may reach them.
    words: tuple[str, ...] | None = None


def reached_and_all(runs: Sequence[TracedCase]) -> tuple[set[Place], set[Place]]:
    """Return the lines that some run runs, and all that could be run in the same files."""
    ran = {place for run in runs for place in run.trace.places}
    can_run = {place for run in runs for place in run.trace.can_run}
    return ran & can_run if can_run else ran, can_run or ran


def unreached(spec: Spec, runs: Sequence[TracedCase]) -> list[Unreached]:
    """Return the parts of the program's files that no run comes to, in the order of the files."""
    ran, every = reached_and_all(runs)
    words = {word for run in runs for word in run.case.argv}
    found = []
    for file in sorted({place.file for place in every}):
        lines = _text_of(file)
        can_run = sorted(place.line for place in every if place.file == file)
        missing = [line for line in can_run if Place(file, line) not in ran]
        for first, last in _parts(missing, can_run):
            found.append(_told(spec, file, lines, (first, last), words))
    return found


def _text_of(file: str) -> list[str]:
    try:
        with open(file, encoding="utf-8", errors="replace") as text:
            return text.read().split("\n")
    except OSError:
        return []


def _parts(missing: Sequence[int], can_run: Sequence[int]) -> list[tuple[int, int]]:
    """Return runs of lines between which none is reached."""
    at = {line: number for number, line in enumerate(can_run)}
    parts: list[tuple[int, int]] = []
    for line in missing:
        if parts and at[line] == at[parts[-1][1]] + 1:
            parts[-1] = (parts[-1][0], line)
        else:
            parts.append((line, line))
    return parts


def _indent(text: str) -> int:
    return len(text) - len(text.lstrip())


def _told(
    spec: Spec, file: str, lines: Sequence[str], part: tuple[int, int], words: Collection[str]
) -> Unreached:
    first, last = part
    text = lines[first - 1] if first <= len(lines) else ""
    condition, number = "", 0
    for line in range(first - 1, max(0, first - 1 - MOST_ABOVE), -1):
        above = lines[line - 1] if line <= len(lines) else ""
        if above.strip() and _indent(above) < _indent(text):
            condition, number = above.strip(), line
            break
    shown = " ".join([condition, *lines[first - 1 : last]])
    return Unreached(
        file=file,
        first=first,
        last=last,
        text=text.strip(),
        condition=condition,
        condition_line=number,
        words=_vector_for(spec, shown, words),
    )


def _vector_for(spec: Spec, text: str, words: Collection[str]) -> tuple[str, ...] | None:
    """Return a request with an option that the text names and no case has."""
    if spec.signature is None:
        return None
    from keen_matrix.core.signature.requests import builders

    used = {word.partition("=")[0] for word in words}
    for builder in builders(spec.signature):
        for option in builder.form.options:
            if used & set(option.spellings):
                continue
            names = {each.lstrip("-") for each in option.spellings if len(each.lstrip("-")) > 1}
            names |= {each.replace("-", "_") for each in names} | set(option.spellings)
            if any(re.search(rf"(?<![\w-]){re.escape(each)}(?![\w-])", text) for each in names):
                request = builder.smallest((option,))
                if request is not None:
                    return request.words()
    return None
