"""Small realistic ways in which an outcome could be wrong. Each gives an altered outcome, or none
where it does not apply."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple

from keen_matrix.core.model.outcome import Looked, Outcome
from keen_matrix.core.model.record import FileChange
from keen_matrix.core.structs import Struct, replace


class Altered(NamedTuple):
    """An altered outcome: what was done, to which aspect, and what the outcome became."""

    what: str
    aspect: str
    outcome: Outcome


class Context(Struct, frozen=True):
    """What alterations draw from beside the outcome itself."""

    #: Messages of other refusals of the same run.
    messages: Sequence[bytes] = ()
    #: The program's name, as its messages may have it.
    program: str = ""
    #: Whether an expectation limits how long the launch may take.
    timed: bool = False


def alterations(outcome: Outcome, context: Context) -> Iterator[Altered]:
    """Yield every alteration that applies to an outcome, always the same ones in the same order."""
    yield from _exits(outcome)
    for what, text in text_alterations(outcome.stdout):
        yield Altered(f"stdout: {what}", "stdout", replace(outcome, stdout=text))
    yield from _messages(outcome, context)
    yield from _files(outcome)
    if context.timed:
        yield Altered("twice the time", "duration", replace(outcome, seconds=outcome.seconds * 2))


def _exits(outcome: Outcome) -> Iterator[Altered]:
    code = outcome.exit
    if code is None:
        return
    others = {
        "exit: one more": code + 1,
        "exit: 0 and 1 exchanged": {0: 1, 1: 0}.get(code),
        "exit: 2 becomes 1": 1 if code == 2 else None,
    }
    done = set()
    for what, other in others.items():
        # Two ways to alter it may come to one code; it is asked once.
        if other is not None and other <= 255 and other not in done:
            done.add(other)
            yield Altered(what, "exit", replace(outcome, exit=other))


def text_alterations(raw: bytes) -> Iterator[tuple[str, bytes]]:
    """Yield what could be wrong with a printed text."""
    yield (
        "an extra line at the end",
        raw + (b"" if raw.endswith(b"\n") or not raw else b"\n") + b"one line more\n",
    )
    if not raw:
        return
    yield "emptied", b""
    # What is no UTF-8 has to come out as it went in.
    text = raw.decode("utf-8", "surrogateescape")
    for what, alter in _TEXT.items():
        altered = alter(text)
        if altered is not None and altered != text:
            yield what, altered.encode("utf-8", "surrogateescape")


def _split(text: str) -> tuple[list[str], str]:
    end = "\n" if text.endswith("\n") else ""
    return text.removesuffix("\n").split("\n"), end


def _drop_last(text: str) -> str | None:
    lines, end = _split(text)
    return "\n".join(lines[:-1]) + end if len(lines) > 1 else None


def _double(text: str) -> str:
    lines, end = _split(text)
    at = len(lines) // 2
    return "\n".join([*lines[: at + 1], *lines[at:]]) + end


def _swap(text: str) -> str | None:
    lines, end = _split(text)
    at = next((n for n in range(len(lines) - 1) if lines[n] != lines[n + 1]), None)
    if at is None:
        return None
    lines[at], lines[at + 1] = lines[at + 1], lines[at]
    return "\n".join(lines) + end


#: Characters around the middle of a long text in which something to change is looked for first.
LOOKED_THROUGH = 1 << 16


def _middle(pattern: str, text: str) -> re.Match[str] | None:
    compiled, start, end = re.compile(pattern), 0, len(text)
    if len(text) > LOOKED_THROUGH:
        # By whole lines, or a word might begin in its middle.
        start = text.rfind("\n", 0, (len(text) - LOOKED_THROUGH) // 2) + 1
        end = text.find("\n", (len(text) + LOOKED_THROUGH) // 2)
        end = end if end >= 0 else len(text)
    found = list(compiled.finditer(text, start, end))
    # The middle one: expectations look at beginnings and ends more often.
    return found[len(found) // 2] if found else compiled.search(text)


def _change(pattern: str, change: Callable[[str], str]) -> Callable[[str], str | None]:
    """Return an alteration that changes the middle one of what a pattern finds."""

    def alter(text: str) -> str | None:
        match = _middle(pattern, text)
        return text[: match.start()] + change(match[0]) + text[match.end() :] if match else None

    return alter


def _other_word(word: str) -> str:
    return "other" if word != "other" else "another"


def _off_by_one(number: str) -> str:
    # As wide as before, or a column would move, which is another mistake.
    return str(int(number) + 1).zfill(len(number))


_TEXT: Mapping[str, Callable[[str], str | None]] = {
    "the last line dropped": _drop_last,
    "a line doubled": _double,
    "two lines swapped": _swap,
    "a word changed": _change(r"[^\W\d_]{2,}", _other_word),
    "a number off by one": _change(r"\d+", _off_by_one),
    "a digit dropped": _change(r"\d", lambda digit: ""),
    "the case of a letter": _change(r"[^\W\d_]", str.swapcase),
    "the final newline dropped": lambda text: text[:-1] if text.endswith("\n") else None,
    "a trailing space": lambda text: text.removesuffix("\n") + " " + ("\n" if text.endswith("\n") else ""),
}


def _messages(outcome: Outcome, context: Context) -> Iterator[Altered]:
    if not outcome.stderr:
        return
    yield Altered("stderr: emptied", "stderr", replace(outcome, stderr=b""))
    other = next((each for each in context.messages if each != outcome.stderr), None)
    if other is not None:
        yield Altered("stderr: another refusal's message", "stderr", replace(outcome, stderr=other))
    if context.program and context.program.encode() in outcome.stderr:
        renamed = outcome.stderr.replace(context.program.encode(), b"other")
        yield Altered("stderr: another program's name", "stderr", replace(outcome, stderr=renamed))
    yield Altered(
        "stderr: moved to stdout",
        "stdout",
        replace(outcome, stdout=outcome.stdout + outcome.stderr, stderr=b""),
    )


def _files(outcome: Outcome) -> Iterator[Altered]:
    for name, found in outcome.looked_at.items():
        if found.instead:
            continue
        aspect = f"files.{name}"

        def put(other: Looked, name: str = name) -> Outcome:
            return replace(outcome, looked_at={**outcome.looked_at, name: other})

        yield Altered(f"{name}: missing", aspect, put(Looked(instead="absent")))
        if found.content:
            yield Altered(f"{name}: emptied", aspect, put(found._replace(content=b"")))
        if name in outcome.files:
            yield Altered(
                f"{name}: another mode",
                aspect,
                put(found._replace(mode="600" if found.mode != "600" else "644")),
            )
    if outcome.files or outcome.looked_at:
        more = {**outcome.files, "one-more.txt": FileChange("created", "file", 5, "644")}
        yield Altered("one more file", "other-files", replace(outcome, files=more))
