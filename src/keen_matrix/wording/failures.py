"""A case that failed, as lines: what it was, what was expected, what was found."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from keen_matrix.core.model.record import AspectRecord, Record
from keen_matrix.core.results.causes import is_other_exit, statement_of
from keen_matrix.core.structs import Struct
from keen_matrix.core.vectors.ids import SHOWN_ID
from keen_matrix.wording.counts import counted
from keen_matrix.wording.differences import stream_rows
from keen_matrix.wording.mismatches import mismatch_rows
from keen_matrix.wording.safe import escape, pad
from keen_matrix.wording.safe import shell_line as visible_words
from keen_matrix.wording.signs import STYLE_OF, Look, Segment, verdict_text
from keen_matrix.wording.unchecked import why_unchecked

#: Characters of a shell line that are shown; a line cut to less cannot be pasted, and a longer one
#: hides the rest.
LINE_SHOWN = 2_000
#: Characters of a line beyond which what is particular to it is shown on its own.
LONG_LINE = 110
#: Lines shown of it.
SAID_LINES = 3
#: Characters shown of a message.
SAID_SHOWN = 160
#: Width of the column that names the aspect.
LABEL = 12


class Failure(Struct, frozen=True):
    """A case that failed, which stands for all that failed the same way."""

    record: Record
    matrix: str
    #: What repeats it by hand.
    line: str
    #: Ids of others.
    others: Sequence[str] = ()
    #: How many beyond.
    more: int = 0
    #: How many of the others stand on it and were not launched.
    untried: int = 0


def failure_rows(look: Look, failure: Failure, *, everything: bool) -> Iterator[list[Segment]]:
    """Yield one failure."""
    fields, line = failure.record, failure.line
    verdict = fields.verdict
    yield [
        (failure.matrix, "strong"),
        "   ",
        (fields.id[:SHOWN_ID], "place"),
        "   ",
        (verdict_text(verdict), STYLE_OF[verdict]),
        *_about(fields),
    ]
    yield from said_rows(fields)
    apart = apart_from_control(fields) if len(line) > LONG_LINE else []
    if apart:
        yield ["  the accepted call plus   ", (visible_words(apart), "strong")]
    shown = line if len(line) <= LINE_SHOWN else _cut_line(line)
    yield from pasted("  ", shown, "dim" if apart else "")
    if verdict == "unchecked":
        yield ["  ", (escape(why_unchecked(fields)), "warn")]
    yield from aspects_rows(look, fields, everything=everything)
    yield from statement_rows(fields)
    if everything or verdict == "timed-out":
        yield from stream_rows(look, fields, whole=everything)
    if fields.kept:
        yield ["  its directory: ", (fields.kept, "place")]
    if failure.others:
        tail = f" and {failure.more:,} more" if failure.more else ""
        ids = " ".join(each[:SHOWN_ID] for each in failure.others)
        how = "not run, because this call has to work first: " if failure.untried else "same cause: "
        yield [f"  {how}", (ids, "place"), tail]


def said_rows(fields: Record) -> Iterator[list[Segment]]:
    """Yield what the spec says of a case beside what it must do: where its row stands, its note,
    that a known difference counts by now."""
    if fields.row:
        yield ["  row         ", (fields.row, "place")]
    if fields.note:
        yield ["  note        ", escape(fields.note)]
    if fields.refused and fields.unmet:
        yield ["  signature   ", (escape(f"refuses this call: {fields.refused}"), "warn")]
    if fields.known_until:
        text = f"{fields.known}, until {fields.known_until}; that day is past, so it counts"
        yield ["  known       ", (escape(text), "warn")]


def pasted(indent: str, line: str, style: str = "") -> Iterator[list[Segment]]:
    """Yield a line that is to be pasted. One with newlines, which stand in quotes, is written on
    several, nothing added."""
    first, *rest = line.split("\n")
    yield [indent, (first, style)]
    for each in rest:
        yield [(each, style)]


def aspects_rows(look: Look, fields: Record, *, everything: bool) -> Iterator[list[Segment]]:
    """Yield every aspect of a case that is not as expected."""
    for aspect in fields.aspects:
        if not aspect.met:
            yield from _labelled_rows(look, aspect, fields, everything=everything)


def _about(fields: Record) -> list[Segment]:
    """Return what a derived vector is about: its kind and its culprit."""
    if not fields.family:
        return []
    if fields.verdict == "blocked":
        return [("   not launched", "dim")]
    told = fields.culprit if fields.family == "accepted" else fields.detail or fields.culprit
    about = " ".join(each for each in (fields.kind, told) if each)
    return [("   ", ""), (about, "dim")] if about else []


def message_rows(fields: Record) -> Iterator[list[Segment]]:
    """Yield the first lines of standard error where the exit status is not as expected and nothing
    else of the failure shows them; where the program crashed, the last line too."""
    if fields.family:
        return
    ended = [each for each in fields.unmet if each.aspect in ("exit", "signal", "crash")]
    number = ended[0].step or 0 if ended else 0
    if not ended or any(each.aspect == "stderr" and (each.step or 0) == number for each in fields.unmet):
        return
    launch = fields.steps[number - 1] if 0 < number <= len(fields.steps) else fields
    stderr = launch.stderr or ""
    if number - 1 in fields.others:  # what compares two files says on standard output how they differ
        stderr = stderr or launch.stdout or ""
    lines = [each.strip() for each in stderr.splitlines() if each.strip()]
    if "Traceback" in stderr:
        at = [each for each in lines if each.startswith('File "')]
        lines = [*at[-1:], *lines[-1:]]
    for number, line in enumerate(lines[:SAID_LINES]):
        label = "it says" if number == 0 else ""
        yield ["  ", (f"{label:12}", "dim"), escape(line[:SAID_SHOWN])]
    if len(lines) > SAID_LINES:
        left = counted(len(lines) - SAID_LINES, "more line")
        yield ["  ", (f"{'':12}", "dim"), (f"({left}; --all shows them)", "dim")]


def statement_rows(fields: Record) -> Iterator[list[Segment]]:
    """Yield what a program says to a vector that the signature accepts, and what would state in
    the spec that it does not."""
    yield from message_rows(fields)
    is_accepted = fields.family == "accepted" and fields.verdict == "failed"
    if not is_accepted and not is_other_exit(fields):
        return
    if said := message_line(fields):
        yield ["  ", ("it says     ", "dim"), escape(said)]
    if stated := statement_of(fields):
        yield ["  ", ("suggested edit   ", "dim"), (escape(stated), "strong")]


def apart_from_control(fields: Record) -> list[str]:
    """Return the words of a derived vector that its control does not have in that place; none
    where words only went."""
    import difflib

    if not fields.control or fields.verdict == "blocked":
        return []
    same = difflib.SequenceMatcher(None, fields.control, fields.argv, autojunk=False)
    return [
        word
        for kind, _, _, start, end in same.get_opcodes()
        if kind != "equal"
        for word in fields.argv[start:end]
    ]


def message_line(fields: Record) -> str:
    """Return the first line of what a program said on standard error, its usage apart."""
    from keen_matrix.core.expect.naming import without_usage

    said = without_usage(fields.stderr or "")
    return next((each.strip() for each in said.splitlines() if each.strip()), "")[:SAID_SHOWN]


def _cut_line(line: str) -> str:
    kept = line[: LINE_SHOWN // 2]
    return f"{kept} … (a line of {len(line):,} characters; keen-matrix unfold --format shell shows it whole)"


def _labelled_rows(
    look: Look, aspect: AspectRecord, fields: Record, *, everything: bool
) -> Iterator[list[Segment]]:
    name = aspect.aspect.removeprefix("files.")
    if aspect.step:
        name = f"{aspect.step} {name}"
    rule = aspect.rule
    for number, row in enumerate(mismatch_rows(look, aspect, fields, everything=everything)):
        label = name if number == 0 else ""
        segments: list[Segment] = ["  ", (pad(label, max(LABEL, len(label) + 1)), "strong"), *row]
        if number == 0 and rule:
            used = sum(len(each if isinstance(each, str) else each[0]) for each in segments)
            gap = look.width - used - len(rule)
            segments += [" " * max(3, min(gap, 64 - used if used < 60 else 3)), (rule, "dim")]
        yield segments
