"""What reports say of a case, in plain text: its shell line, and what was expected and found."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from keen_matrix.cli.console.safe import escape, shell_line, visible_line
from keen_matrix.cli.console.screen import Screen
from keen_matrix.core.results.records import stream_bytes

OUTPUT_SHOWN = 20_000
"""Characters of a stream that a report shows."""


def title_of(fields: Mapping[str, Any]) -> str:
    """Return the words of a case as a shell line, without the launch words."""
    words = [fields["argv"], *(() if fields.get("relation") else fields.get("more_argv", ()))]
    return " ; ".join(shell_line(each) for each in words) or "(no words)"


def lines_of(fields: Mapping[str, Any]) -> list[str]:
    """Return what did not hold, as plain lines: the aspect, expected, found."""
    from io import StringIO

    from keen_matrix.cli.console.failures import write_aspects

    stream = StringIO()
    screen = Screen(stream, color="never", width=110)
    screen.unicode = True
    write_aspects(screen, fields, details=False)
    return stream.getvalue().splitlines()


def first_rule(fields: Mapping[str, Any]) -> str:
    """Return the place of the first rule that a case broke, or nothing."""
    return next((each["rule"] for each in fields["aspects"] if not each["held"] and each.get("rule")), "")


def output_of(fields: Mapping[str, Any], name: str, most: int = OUTPUT_SHOWN) -> str:
    """Return a stream with everything that has no shape of its own written as an escape, cut to a length that is told."""
    text = stream_bytes(fields, name).decode("utf-8", "surrogateescape")
    cut = text[:most]
    shown = "\n".join(visible_line(line, " ") for line in cut.split("\n"))
    return shown + (f"\n… ({len(text) - most:,} more characters)" if len(text) > most else "")


def message_of(fields: Mapping[str, Any]) -> str:
    """Return one line on what went wrong."""
    failed = [each for each in fields["aspects"] if not each["held"]]
    if fields["verdict"] == "unchecked":
        return "unchecked: no expectation looks at this vector"
    if not failed:
        return str(fields["verdict"])
    names = list(dict.fromkeys(str(each["aspect"]) for each in failed))
    return escape(f"{fields['verdict']}: {', '.join(names)}")
