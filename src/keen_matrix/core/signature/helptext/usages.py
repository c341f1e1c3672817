"""The usage lines of a help text."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

_USAGE = re.compile(
    r"^\s*(?:command[- ]line )?(?:usage|synopsis)(?P<of> of [^:]+)?\s*(?P<colon>:?)[ \t]*(?P<rest>.*)$",
    re.IGNORECASE,
)
_OR = re.compile(r"^\s+or:?\s+(.*)$", re.IGNORECASE)
_LISTED = re.compile(r"\s*-{1,2}[\w?][\w-]*(?:\[\S*?\])?(?:(?:[ =]\S+?)?(?:,\s|\s{2,}|:\s)|$)")
#: An option and a sentence: three words in a row are no values, nor are two after a gap.
_DESCRIBED = re.compile(r"\s*-(?:\S+(?: [a-z]+){3}\b|\S.*?\s{2,}[A-Z]?[a-z]+ [a-z]+\b)")
_ITEM = re.compile(r"[\[<({\-|.]|[A-Z][A-Z0-9_]+\b")


#: Lines below a heading that may be usage.
MOST_USAGE_LINES = 80


def is_usage(line: str) -> bool:
    """Tell whether a line begins the usage."""
    match = _USAGE.match(line)
    return match is not None and bool(match["colon"] or match["of"] or not match["rest"])


#: A usage line without a heading: a name, and `[OPTIONS]`, which no sentence has.
_BARE = re.compile(r"\s{0,4}[a-z][\w.-]* \[options?\](?:\.{3})?(?: .*)?", re.IGNORECASE)


def usages_in(lines: Sequence[str]) -> Iterator[str]:
    """Yield the usage lines, continuation lines joined, the program's name still in front: those
    below a heading, else a line that can be nothing else."""
    found = list(_headed(lines)) or [line.strip() for line in lines if _BARE.fullmatch(line)]
    for usage in found:
        yield from _parted(usage)


_INTERPRETERS = ("python", "python3", "node", "perl", "ruby", "php", "sh", "bash", "java", "awk")
_COMMAND_WORD = re.compile(r"[a-z][a-z0-9_-]+")


def _parted(usage: str) -> Iterator[str]:
    """Yield the usages that are in one line, each with the program in front: `p add NAME | p list`
    and `p add NAME | list`. What is a choice of the last words, `p NAME start | stop`, is one
    usage."""
    words = usage.split()
    length = 2 if words[0] in _INTERPRETERS and len(words) > 2 else 1
    program, parts = words[:length], _at_bars(words[length:])
    if len(parts) < 2 or not all(parts):
        yield usage
        return
    own = [part[length:] if part[:length] == program else part for part in parts]
    named = all(part[:length] == program for part in parts[1:])
    begins = {part[0] for part in own if part}
    are_options = len(begins) == len(own) and all(each.startswith("-") for each in begins)
    are_commands = len(begins) == len(own) and all(map(_COMMAND_WORD.fullmatch, begins))
    # the last word of a part that more words precede may be what is chosen
    is_choice = len(own[0]) > 1 and _COMMAND_WORD.fullmatch(own[0][-1]) and all(len(e) == 1 for e in own[1:])
    if named or are_options or (are_commands and not is_choice):
        yield from (" ".join([*program, *part]) for part in own)
    else:
        yield usage


def _at_bars(words: Sequence[str]) -> list[list[str]]:
    """Return words parted at the bars that stand by themselves, outside brackets."""
    parts: list[list[str]] = [[]]
    depth = 0
    for word in words:
        if word == "|" and depth == 0:
            parts.append([])
            continue
        depth += sum(word.count(each) for each in "[({<") - sum(word.count(each) for each in "])}>")
        parts[-1].append(word)
    return parts


def _headed(lines: Sequence[str]) -> Iterator[str]:
    """Yield the usage lines below a heading.

    A line goes on where it is deeper and has items of a usage; what describes the program below its
    usage does not belong to it.
    """
    at = 0
    while at < len(lines):
        line = lines[at]
        at += 1
        match = _USAGE.match(line) if is_usage(line) else None
        if match is None:
            continue
        indent = len(line) - len(line.lstrip())
        current = [match["rest"]] if match["rest"].strip() else []
        last = at + MOST_USAGE_LINES
        while at < min(len(lines), last):
            line = lines[at]
            deeper = len(line) - len(line.lstrip()) > indent
            if not line.strip():
                if current or match["rest"]:
                    break
                at += 1
                continue
            other = _OR.match(line)
            if other and current:
                yield _one_line(current)
                current = [other[1]]
            elif not deeper or _LISTED.match(line) or _DESCRIBED.match(line):
                break
            elif current and _starts_anew(current[0], line):
                yield _one_line(current)
                current = [line]
            elif not current or _goes_on(current, line):
                current.append(line)
            else:
                break
            at += 1
        if current:
            yield _one_line(current)


def _one_line(parts: Sequence[str]) -> str:
    return " ".join(" ".join(parts).split())


def _starts_anew(first: str, line: str) -> bool:
    """Tell whether a line of a usage block is another usage: it begins with the same program
    name."""
    words = first.split()
    return bool(words) and line.split()[:1] == words[:1]


def _goes_on(current: Sequence[str], line: str) -> bool:
    """Tell whether a line has items of a usage, and is no sentence."""
    text = " ".join(current)
    if any(text.count(left) > text.count(right) for left, right in ("[]", "()", "{}")):
        return True
    words = line.split()
    # a full stop ends a sentence; three dots after a NAME are an operand's
    if _ITEM.match(words[0]) and re.search(r"\.{3}\s*$|[^.\s]\s*$", line):
        return True
    return len(words) < 4 and not line.rstrip().endswith((".", ":")) and not words[0][0].isupper()
