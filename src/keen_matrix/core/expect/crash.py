"""The tell-tales of an unhandled error in common runtimes.

A crash is an end by a signal that nobody asked for, or a message that a runtime prints only when an
error went through unhandled. It may come on standard error, on a terminal, where both streams are
one, on standard output (PHP), in colour, or in a box that a library draws. Messages that a program
may well print itself (a bare "error:") are never taken for one."""

from __future__ import annotations

import re
from typing import NamedTuple

from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.signals import signal_name

#: Bytes at the end of a stream that are searched: a runtime's last words come last.
TAIL_BYTES = 256 * 1024


class Sign(NamedTuple):
    """How an unhandled error shows."""

    runtime: str
    pattern: bytes
    #: Whether it counts though the program ended with 0: a shell goes on after one, and ends as its
    #: last command does.
    any_exit: bool = False
    #: Whether no program would print it on its own; only such signs count on a standard output of
    #: its own.
    is_sure: bool = True


#: What runtimes say of an error that went through. From their documentation, or by provoking
#: one.
SIGNS = (
    Sign("Python", rb"^ *(?:[+|] *)*(?:Exception Group )?Traceback \(most recent call last\):?$"),
    Sign("Python", rb"^Fatal Python error: "),
    Sign("Python", rb'^  File ".*", line \d+\n(?:.*\n)*?(?:SyntaxError|IndentationError|TabError): '),
    Sign(
        "Node",
        rb"^(?:node:internal/|.*:\d+\n(?:.*\n)*?\s*\^+\n(?:.*\n)*?(?:\w*Error|Uncaught|\[?Error)\b.*(?:\n.*)*?\n    at )",
    ),
    Sign("Node", rb"^Node\.js v\d+"),
    Sign("Node", rb"^error: Uncaught (?:\(in promise\) )?\S+"),
    Sign("Java", rb'^Exception in thread "[^"]*" \S+'),
    Sign("Go", rb"^panic: .*(?:\n.*)*?^goroutine \d+ \["),
    Sign("Go", rb"^fatal error: .*(?:\n.*)*?^goroutine "),
    Sign("Rust", rb"^thread '[^']*'(?: \(\d+\))? panicked at "),
    Sign(
        "Ruby", rb"^\S+:\d+:in [`'].*\((?:\w|::)*(?:Error|Exception|Errno::\w+|Interrupt|UncaughtThrow\w*)\)$"
    ),
    Sign("PHP", rb"^(?:PHP )?(?:Fatal|Parse) error: +\S.* in \S.*(?::\d+| on line \d+)$"),
    Sign("Perl", rb"^.+ at \S+ line \d+(?:, <\w+> (?:line|chunk) \d+)?\.$", is_sure=False),
    Sign(".NET", rb"^Unhandled [Ee]xception[:.]"),
    Sign("C++", rb"^(?:terminate called |libc\+\+abi: terminating )"),
    Sign("C", rb"^\S+: \S+:\d+: .*: Assertion `.*' failed\.$"),
    Sign("Lua", rb"^lua[\d.]*: .+\nstack traceback:$"),
    Sign("OCaml", rb"^Fatal error: exception \w"),
    Sign("Elixir", rb"^\*\* \(\w*Error\) "),
    Sign("Erlang", rb"^escript: exception error: "),
    Sign("sanitizer", rb"^(?:==\d+==)?ERROR: (?:Address|Leak|Memory|Thread)Sanitizer: "),
    Sign("sanitizer", rb": runtime error: ", is_sure=False),
    Sign(
        "shell",
        rb"^\S+: (?:line )?\d+: (?:.*: )?(?:not found|command not found|bad substitution)$",
        any_exit=True,
        is_sure=False,
    ),
    Sign(
        "shell",
        rb"^\S+: (?:line )?\d+: .*(?:[Ss]yntax error|integer expression expected|unexpected operator)",
        any_exit=True,
        is_sure=False,
    ),
    Sign(
        "shell",
        rb"^\S+: (?:line )?\d+: .*(?:[Ii]llegal number|unbound variable|parameter not "
        rb"set|arithmetic expression)",
        any_exit=True,
        is_sure=False,
    ),
    Sign(
        "shell",
        rb"^\S+: (?:line )?\d+: +\d+ (?:Segmentation fault|Aborted|Killed)",
        any_exit=True,
        is_sure=False,
    ),
)

#: Control sequences of ECMA-48, 5.4 and 5.6, and the carriage returns that a terminal puts before
#: newlines.
_ESCAPES = re.compile(rb"\x1b(?:\[[0-?]*[ -/]*[@-~]|\][^\x07\x1b]*(?:\x07|\x1b\\)|[@-Z\\-_])|\r+(?=\n)")
#: Box Drawing (Unicode 2500 to 257F), in UTF-8.
_BOXES = re.compile(rb"(?:\xe2[\x94\x95][\x80-\xbf])+")


def plain_text(raw: bytes) -> bytes:
    """Return a text without colours and other control sequences, and without the boxes that
    libraries draw around it."""
    if b"\x1b" in raw or b"\r" in raw:
        raw = _ESCAPES.sub(b"", raw)
    if b"\xe2\x94" not in raw and b"\xe2\x95" not in raw:
        return raw
    lines = (_BOXES.sub(b" ", line) for line in raw.split(b"\n"))
    # What stood between two sides of a box is one line of text; a frame is none.
    return b"\n".join(line.strip() if b" " in line else line for line in lines)


def crash_sign(outcome: Outcome) -> str | None:
    """Return how the launch crashed, or None: `signal SEGV`, `Python: ValueError: invalid literal
    …`."""
    if outcome.signal is not None:
        return f"ended by signal {signal_name(outcome.signal)}"
    if outcome.stderr:
        found = _sign_in(outcome.stderr, outcome, sure=False)
        if found is not None:
            return found
    # A program that ends well has dealt with its error, whatever it prints of it.
    if outcome.stdout and (outcome.exit or outcome.together):
        return _sign_in(outcome.stdout, outcome, sure=not outcome.together)
    return None


def _sign_in(raw: bytes, outcome: Outcome, *, sure: bool) -> str | None:
    text = plain_text(raw[-TAIL_BYTES:])
    for sign in SIGNS:
        if (not outcome.exit and not sign.any_exit) or (sure and not sign.is_sure):
            continue
        # compiled when first asked, and remembered by the module: most commands check nothing
        match = re.search(sign.pattern, text, re.MULTILINE)
        if match:
            return f"{sign.runtime}: {_last_words(sign.runtime, text, match)}"
    return None


_ERROR_NAME = re.compile(rb"[A-Za-z_][\w.]*(?:Error|Exception|Exit|Interrupt|Warning|Group)\b")


def _last_words(runtime: str, tail: bytes, match: re.Match[bytes]) -> str:
    """Return the line that names the error: the last one for Python, else the first of the
    match."""
    if runtime == "Python":
        rest = tail[match.end() :].splitlines()
        # In a group each line has bars before it, and its own error stands above those of its
        # parts.
        bare = [line.lstrip(b" |") if line.startswith(b"  |") else line for line in rest]
        group = next(
            (line for line in bare if line.startswith((b"ExceptionGroup", b"BaseExceptionGroup"))), None
        )
        if group is not None:
            return group.decode("utf-8", "replace").strip()[:200]
        lines = [line for line in rest if line and not line.startswith((b" ", b"\t"))]
        named = [line for line in lines if _ERROR_NAME.match(line)]
        line = (named or lines or [match[0]])[-1]
    elif runtime == "Node":
        found = re.search(rb"^(?:Uncaught )?\[?(?:[\w.]*Error|TypeError)\b.*$", tail, re.MULTILINE)
        line = found[0] if found else match[0].splitlines()[0]
    else:
        # the whole line, of which the sign may be only the beginning
        line = tail[match.start() :].partition(b"\n")[0]
    return line.decode("utf-8", "replace").strip()[:200]
