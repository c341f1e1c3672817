"""The tell-tales of an unhandled error in common runtimes.

A crash is an end by a signal that nobody asked for, or a message on standard error that a runtime
prints only when an error went through unhandled. Messages that a program may well print itself (a
bare "error:") are never taken for one.
"""

from __future__ import annotations

import re

from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.signals import signal_name

TAIL_BYTES = 256 * 1024
"""Bytes at the end of standard error that are searched: a runtime's last words come last."""

_NEEDS_FAILURE = (
    ("Python", rb"^Traceback \(most recent call last\):$"),
    ("Python", rb"^Fatal Python error: "),
    (
        "Python",
        rb'^  File ".*", line \d+\n(?:.*\n)*?(?:SyntaxError|IndentationError|TabError): ',
    ),
    (
        "Node",
        rb"^(?:node:internal/|.*:\d+\n(?:.*\n)*?\s*\^+\n(?:.*\n)*?(?:\w*Error|Uncaught|\[?Error)\b.*(?:\n.*)*?\n    at )",
    ),
    ("Node", rb"^Node\.js v\d+"),
    ("Java", rb'^Exception in thread "[^"]*" \S+'),
    ("Go", rb"^panic: .*(?:\n.*)*?^goroutine \d+ \["),
    ("Go", rb"^fatal error: .*(?:\n.*)*?^goroutine "),
    ("Rust", rb"^thread '[^']*'(?: \(\d+\))? panicked at "),
    ("Ruby", rb"^\S+\.rb:\d+:in .*\((?:\w|::)*(?:Error|Exception)\)$"),
    ("Perl", rb"^.+ at \S+ line \d+(?:, <\w+> (?:line|chunk) \d+)?\.$"),
    (".NET", rb"^Unhandled [Ee]xception[:.]"),
    ("C++", rb"^terminate called after throwing "),
    ("sanitizer", rb"^(?:==\d+==)?ERROR: (?:Address|Leak|Memory|Thread)Sanitizer: "),
    ("sanitizer", rb": runtime error: "),
)
_ANY_EXIT = (
    (
        "shell",
        rb"^\S+: (?:line )?\d+: (?:.*: )?(?:not found|command not found|bad substitution)$",
    ),
    (
        "shell",
        rb"^\S+: (?:line )?\d+: .*(?:[Ss]yntax error|integer expression expected|unexpected operator)",
    ),
    (
        "shell",
        rb"^\S+: (?:line )?\d+: .*(?:[Ii]llegal number|unbound variable|parameter not set|arithmetic expression)",
    ),
    ("shell", rb"^\S+: (?:line )?\d+: +\d+ (?:Segmentation fault|Aborted|Killed)"),
)
"""Runtimes, and what each says of an error that went through: of a failed end, and of any end."""


def crash_sign(outcome: Outcome) -> str | None:
    """Return how the launch crashed, or None: `signal SEGV`, `Python: ValueError: invalid literal
    …`."""
    if outcome.signal is not None:
        return f"ended by signal {signal_name(outcome.signal)}"
    if not outcome.stderr:
        return None
    tail = outcome.stderr[-TAIL_BYTES:]
    # A program that ends well has dealt with its error, whatever it prints of it. A shell goes on
    # behind one, and ends as its last command does.
    tables = (_NEEDS_FAILURE, _ANY_EXIT) if outcome.exit else (_ANY_EXIT,)
    for table in tables:
        for runtime, pattern in table:
            # compiled when first asked, and remembered by the module: most commands check nothing
            match = re.search(pattern, tail, re.MULTILINE)
            if match:
                return f"{runtime}: {_last_words(runtime, tail, match)}"
    return None


def _last_words(runtime: str, tail: bytes, match: re.Match[bytes]) -> str:
    """Return the line that names the error: the last one for Python, else the first of the match."""
    if runtime == "Python":
        lines = [
            line
            for line in tail[match.start() :].splitlines()
            if line and not line.startswith((b" ", b"\t"))
        ]
        line = lines[-1] if lines else match[0]
    elif runtime == "Node":
        found = re.search(rb"^(?:Uncaught )?\[?(?:[\w.]*Error|TypeError)\b.*$", tail, re.MULTILINE)
        line = found[0] if found else match[0].splitlines()[0]
    else:
        line = match[0].splitlines()[0]
    return line.decode("utf-8", "replace").strip()[:200]
