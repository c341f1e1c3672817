"""What is said of a case in plain text: its shell line, and what was expected and found."""

from __future__ import annotations

from keen_matrix.core.model.record import Record, kept_bytes
from keen_matrix.wording.safe import escape, shell_line, visible_line
from keen_matrix.wording.signs import MARKS, text_of, verdict_text
from keen_matrix.wording.unchecked import why_unchecked

#: Why a case was passed over, with the words of its control.
PASSED_OVER = "not run: its control was not accepted: {}"
#: Characters of a stream that a report shows.
OUTPUT_SHOWN = 20_000


def title_of(fields: Record) -> str:
    """Return the words of a case as a shell line, without the launch words."""
    words = [fields.argv, *(() if fields.relation else fields.more_argv)]
    return " ; ".join(shell_line(each) for each in words) or "(no words)"


class _Plain:
    """What the lines of a report are made for."""

    width = 110

    def sign(self, name: str) -> str:
        """Return a mark: reports are in UTF-8."""
        return MARKS[name][0]


def reached_lines(fields: Record) -> list[str]:
    """Return what is not as expected, as plain lines: the aspect, expected, found."""
    from keen_matrix.wording.failures import aspects_rows, said_rows, statement_rows

    rows = [*said_rows(fields), *aspects_rows(_Plain(), fields, everything=False), *statement_rows(fields)]
    return [escape(text_of(row)) for row in rows]


def passed_line(fields: Record) -> str:
    """Return why a case is neither passed nor counted: that it is known to differ, or skipped;
    nothing for any other."""
    reason = {"known": fields.known, "skipped": fields.skipped}.get(fields.verdict, "")
    return escape(f"{fields.verdict}: {reason}") if reason else ""


def first_rule(fields: Record) -> str:
    """Return the place of the first rule that a case broke, or nothing."""
    return next((each.rule for each in fields.aspects if not each.met and each.rule), "")


def output_of(fields: Record, name: str, most: int = OUTPUT_SHOWN) -> str:
    """Return a stream with everything that has no shape of its own written as an escape, cut to a
    length that is reported."""
    text = kept_bytes(fields, name).decode("utf-8", "surrogateescape")
    cut = text[:most]
    shown = "\n".join(visible_line(line, " ") for line in cut.split("\n"))
    return shown + (f"\n… ({len(text) - most:,} more characters)" if len(text) > most else "")


def message_of(fields: Record) -> str:
    """Return one line on what went wrong."""
    failed = [each for each in fields.aspects if not each.met]
    if fields.verdict == "unchecked":
        return escape(f"unchecked: {why_unchecked(fields)}")
    if not failed:
        return verdict_text(fields.verdict)
    names = list(dict.fromkeys(str(each.aspect) for each in failed))
    return escape(f"{verdict_text(fields.verdict)}: {', '.join(names)}")
