"""A case that did not hold, as lines: what it was, what was expected, what was found."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Sequence

from keen_matrix.core.expect import aspects, forms
from keen_matrix.core.expect.differences import (
    Difference,
    DiffLine,
    difference,
    first_difference,
    split_lines,
)
from keen_matrix.core.expect.mismatch import Told
from keen_matrix.core.launch.process.state import TERMINATE_GRACE
from keen_matrix.core.model.record import AspectRecord, CaseFields, Record, StepRecord, kept_bytes
from keen_matrix.core.results.causes import statement_of
from keen_matrix.core.structs import Struct, field
from keen_matrix.core.vectors.ids import SHOWN_ID
from keen_matrix.core.width import cells
from keen_matrix.wording.counts import counted
from keen_matrix.wording.safe import escape, exact_line, is_written_whole, pad, quoted, visible_line
from keen_matrix.wording.safe import shell_line as visible_words
from keen_matrix.wording.safe import shell_word as visible_word
from keen_matrix.wording.signs import STYLE_OF, Look, Segment
from keen_matrix.wording.unchecked import why_unchecked

#: Characters of a shell line that are shown; a line cut to less cannot be pasted, and a longer one
#: hides the rest.
LINE_SHOWN = 2_000
#: Characters of standard input that stand in a line which repeats a case.
MOST_STDIN = 200
INEXACT = "not exact, it has invisible characters: keen-matrix replay {id} --script FILE"
#: Characters of a line beyond which what is particular to it is shown by itself.
LONG_LINE = 110
#: Lines shown of it.
SAID_LINES = 3
#: Characters shown of a message.
SAID_SHOWN = 160
#: Width of the column that names the aspect.
LABEL = 12
#: Kind of mismatch → how it is told, where no rows of its own are made for it.
TOLD = {**forms.TOLD, **aspects.TOLD}


class Failure(Struct, frozen=True):
    """A case that did not hold, which stands for all that failed the same way."""

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
        (verdict, STYLE_OF[verdict]),
        *_about(fields),
    ]
    yield from said_rows(fields)
    apart = apart_from_control(fields) if len(line) > LONG_LINE else []
    if apart:
        yield ["  its control, but for   ", (visible_words(apart), "strong")]
    shown = line if len(line) <= LINE_SHOWN else _cut_line(line)
    yield from pasted("  ", shown, "dim" if apart else "")
    if verdict == "unchecked":
        yield ["  ", (escape(why_unchecked(fields)), "warn")]
    yield from aspects_rows(look, fields, everything=everything)
    yield from statement_rows(fields)
    if everything or verdict == "hung":
        yield from stream_rows(look, fields, whole=everything)
    if fields.kept:
        yield ["  its directory: ", (fields.kept, "place")]
    if failure.others:
        tail = f" and {failure.more:,} more" if failure.more else ""
        ids = " ".join(each[:SHOWN_ID] for each in failure.others)
        how = "not launched, since they stand on it: " if failure.untried else "the same way: "
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
    if fields.verdict == "groundless":
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
        left = counted(len(lines) - SAID_LINES, "further line")
        yield ["  ", (f"{'':12}", "dim"), (f"({left}; --all shows them)", "dim")]


def statement_rows(fields: Record) -> Iterator[list[Segment]]:
    """Yield what a program says to a vector that the signature accepts, and what would state in
    the spec that it does not."""
    yield from message_rows(fields)
    if fields.family != "accepted" or fields.verdict != "differed":
        return
    if said := message_line(fields):
        yield ["  ", ("it says     ", "dim"), escape(said)]
    if stated := statement_of(fields):
        yield ["  ", ("state it    ", "dim"), (escape(stated), "strong")]


def apart_from_control(fields: Record) -> list[str]:
    """Return the words of a derived vector that its control does not have in that place; none
    where words only went."""
    import difflib

    if not fields.control or fields.verdict == "groundless":
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
    for number, row in enumerate(_aspect_rows(look, aspect, fields, everything=everything)):
        label = name if number == 0 else ""
        segments: list[Segment] = ["  ", (pad(label, max(LABEL, len(label) + 1)), "strong"), *row]
        if number == 0 and rule:
            used = sum(len(each if isinstance(each, str) else each[0]) for each in segments)
            gap = look.width - used - len(rule)
            segments += [" " * max(3, min(gap, 64 - used if used < 60 else 3)), (rule, "dim")]
        yield segments


def _aspect_rows(
    look: Look, aspect: AspectRecord, fields: Record, *, everything: bool
) -> Iterator[list[Segment]]:
    """Yield the rows of one aspect: expected before found."""
    form, expected, actual = aspect.form, aspect.expected or "", aspect.actual or ""
    if aspect.problem:
        yield _expected("an expectation that can be checked")
        yield _found(escape(expected or actual))
    elif aspect.aspect == "launch":
        yield _expected("to be started")
        yield _found(f"it was not: {escape(actual)}")
    elif form == "timeout":
        yield _expected(f"to end within {expected} s")
        yield _found(f"still running; ended after {actual} s (TERM, and KILL {TERMINATE_GRACE:g} s later)")
    elif form == "stop":
        yield _expected("to end on the signal that stops it")
        yield _found("still running 2 s after it; killed")
    elif form == "prompt":
        yield _expected(f"the prompt {quoted(expected, look.width - 30)}")
        yield _found(quoted(actual, max(40, look.width - 24), look.sign("space")) if actual else "nothing")
        for prompt, reply in fields.dialogue:
            yield [("before    ", "dim"), f"{quoted(prompt)} was answered {quoted(reply)}"]
    elif form == "leftovers":
        yield _expected("no process left behind")
        yield _found(f"{actual} (ended)")
    elif form == "feeder":
        yield _expected(f"{escape(expected)}, which feeds standard input, to exit 0")
        yield _found(actual)
    elif form == "steady":
        yield _expected("the same outcome every time")
        yield _found(
            f"{actual} different ones in {counted(fields.repeats.times if fields.repeats else 0, 'launch')}"
        )
    elif aspect.aspect in ("alike", "effect", "reference"):
        yield from _compared_rows(look, aspect, fields, everything=everything)
    elif form == "waits":
        yield _expected("to be refused")
        said = f", after {quoted(actual, 60, look.sign('space'))}" if actual else ""
        yield _found(f"accepted: it waits for input{said}")
    elif form == "control":
        yield _expected("to be accepted, since every vector here is made of it by one change")
        yield _found(escape(actual))
    elif form == "blame":
        yield _expected(f"the message to blame {quoted(expected)}")
        yield _found(f"it names {escape(actual)} instead")
    elif form == "names":
        yield _expected(f"the message to name {quoted(expected)}")
        yield _found(quoted(actual, max(40, look.width - 24), look.sign("space")) if actual else "nothing")
    elif form == "help":
        yield _expected(escape(expected))
        yield _found(
            "not in the help text" if aspect.actual == "" and expected.startswith("to name") else "nothing"
        )
    elif form == "undeclared":
        yield _expected("no option that the synopsis does not have")
        yield _found(f"the help lists {escape(actual)}")
    elif form == "other-files":
        yield _expected("other files left alone")
        yield _found(escape(actual))
    elif form == "renamed":
        yield _expected(f"to show the name {expected}")
        yield _found(quoted(actual, max(40, look.width - 24), look.sign("space")))
    elif form == "cap":
        yield _expected(f"at most {int(expected):,} bytes a stream")
        yield _found(f"more on {actual}; the program was ended, the beginning is kept")
    elif form == "crash":
        yield _expected("no crash")
        yield _found(actual)
    elif aspect.aspect in ("exit", "signal"):
        yield _expected(expected)
        yield _found(actual)
    elif form == "unrecorded":
        yield _expected("a baseline; keen-matrix baseline shows and accepts what was found")
        yield _found(quoted(actual, max(40, look.width - 24), look.sign("space")) if actual else "nothing")
    elif form == "lines-any-order":
        yield _expected("these lines, in any order")
        missing, extra = (len(text.split("\n")) if text else 0 for text in (expected, actual))
        yield _found(f"{missing or 'none'} missing, {extra or 'none'} not expected")
        yield from _listed_rows("missing", expected, "expected")
        yield from _listed_rows("not expected", actual, "found")
    elif form == "json":
        yield from _pointer_rows(expected, actual)
    elif form == "json-text":
        yield _expected("JSON")
        yield [("but       ", "dim"), escape(expected)]
        yield _found(quoted(actual, max(40, look.width - 24), look.sign("space")) if actual else "nothing")
    elif aspect.difference:
        kept = aspect.difference
        lines = tuple(DiffLine(*each) for each in kept.lines)
        yield from shown_difference(look, Difference(lines, kept.differing, kept.of), 14)
    elif form in ("is", "lines"):
        yield from _text_rows(look, expected, _whole(aspect, fields), everything=everything)
    else:
        told = TOLD.get(form) or Told(
            form + ": {quoted}"
        )  # a journal of a later edition may have kinds that are not known
        yield _expected(_sentence(look, told, expected))
        yield _found(_found_text(look, told, actual))


def _compared_rows(
    look: Look, aspect: AspectRecord, fields: Record, *, everything: bool
) -> Iterator[list[Segment]]:
    """Yield how a launch differs from the first one of its case, or that an option made no
    difference."""
    form, expected, actual = aspect.form, aspect.expected or "", aspect.actual or ""
    if form == "effect":
        yield _expected(f"{fields.culprit} to make a difference")
        yield _found(
            f"the same in {counted(int(actual), 'pair')} of vectors, such as with {escape(expected)}"
        )
        return
    step = fields.steps[aspect.step - 1]
    other = step.argv
    same = tuple(other) == tuple(fields.argv)
    if aspect.aspect == "reference":
        yield [("expected is what the reference did, and what was found is ours", "dim")]
    else:
        how = f"started by {escape(step.launcher)}" if step.launcher else ""
        words = "" if same and how else "once more" if same else visible_words(other)
        yield [("compared  ", "dim"), ", ".join(each for each in (words, how) if each)]
    if form == "files":
        yield _expected("the same files")
        yield _found(escape(actual))
    elif form == "exit":
        yield _expected(f"exit {expected}")
        yield _found(f"exit {actual}")
    else:
        yield [(f"{form}", "dim")]
        if aspect.difference:
            kept = aspect.difference
            lines = tuple(DiffLine(*each) for each in kept.lines)
            yield from shown_difference(look, Difference(lines, kept.differing, kept.of), 14)
        else:
            yield from _text_rows(look, expected, actual, everything=everything)


def _listed_rows(label: str, text: str, style: str) -> Iterator[list[Segment]]:
    for number, line in enumerate(text.split("\n") if text else ()):
        yield [(f"{label if number == 0 else '':13} ", "dim"), (visible_line(line[:300]), style)]


def _pointer_rows(expected: str, actual: str) -> Iterator[list[Segment]]:
    """Yield what differs in a JSON value, a pointer after another, expected before found."""
    for left, right in zip(expected.split("\n"), actual.split("\n"), strict=False):
        pointer, colon, value = left.partition(": ")
        if not colon:
            yield [(escape(left), "dim")]
            continue
        yield [("at        ", "dim"), (escape(pointer), "place")]
        yield _expected(escape(value))
        yield _found(escape(right.partition(": ")[2]))


def _expected(text: str) -> list[Segment]:
    return [("expected  ", "dim"), (text, "expected")]


def _found(text: str) -> list[Segment]:
    return [("found     ", "dim"), (text, "found")]


def _sentence(look: Look, told: Told, expected: str) -> str:
    """Return what was expected, in the sentence of its kind of mismatch."""
    text = told.expected
    if "{quoted}" in text:
        return text.replace("{quoted}", quoted(expected, look.width - 30, look.sign("space")))
    if "{lines}" in text or "{bytes}" in text:
        return _counted(expected, "line" if "{lines}" in text else "byte")
    return text.replace("{text}", escape(expected))


def _counted(count: str, noun: str) -> str:
    """Return a count, or a range of counts, with its noun."""
    return counted(int(count), noun) if count.isdecimal() else f"{count} {noun}s"


def _found_text(look: Look, told: Told, actual: str) -> str:
    if told.found in ("lines", "bytes"):
        return _counted(actual, told.found.removesuffix("s"))
    if told.found == "mode":
        return f"mode {escape(actual)}"
    if told.found == "text":
        return escape(actual)
    return quoted(actual, max(40, look.width - 24), look.sign("space")) if actual else "nothing"


def _whole(aspect: AspectRecord, fields: Record) -> str:
    """Return all of what was found, from the record's stream when the aspect keeps only its
    beginning."""
    if aspect.aspect in ("stdout", "stderr") and not aspect.step:
        masked: str | None = getattr(fields, f"{aspect.aspect}_masked")
        if masked is not None:
            return masked
        return kept_bytes(fields, aspect.aspect).decode("utf-8", "surrogateescape")
    return aspect.actual or ""


def _text_rows(look: Look, expected: str, found: str, *, everything: bool) -> Iterator[list[Segment]]:
    """Yield a whole text against another: short ones side by side with a caret, longer ones line
    by line."""
    space = look.sign("space")
    if expected != found and expected.removesuffix("\n") == found.removesuffix("\n"):
        yield _expected("a newline at the end" if expected.endswith("\n") else "no newline at the end")
        yield _found("the same text without one" if expected.endswith("\n") else "the same text with one")
        return
    if len(split_lines(expected)) <= 1 and len(split_lines(found)) <= 1:
        left, right = expected.removesuffix("\n"), found.removesuffix("\n")
        yield _expected(quoted(left, look.width - 24, space) if left else "nothing")
        yield _found(quoted(right, look.width - 24, space) if right else "nothing")
        shown = quoted(right[: first_difference(left, right)], 10_000)
        if left and right and cells(shown) < look.width - 26:
            yield [" " * (10 + cells(shown) - 1), ("^", "bad")]
        return
    yield from difference_rows(look, expected, found, everything=everything)


def difference_rows(
    look: Look, expected: str, found: str, *, everything: bool = False
) -> Iterator[list[Segment]]:
    """Yield how two texts differ, line by line: the first places and their surroundings, with
    counts of the rest."""
    most = 1_000 if everything else 14
    yield from shown_difference(look, difference(expected, found, most), most)


def shown_difference(look: Look, found: Difference, most: int) -> Iterator[list[Segment]]:
    """Yield a difference as rows."""
    space = look.sign("space")
    yield [("differs", "bad"), f" in {found.differing:,} of {found.of:,} lines"]
    names = {"same": "", "expected": "expected", "found": "found"}
    for line in found.lines:
        text = visible_line(line.text[:500], space if line.kind != "same" else " ")
        yield [(f"{names[line.kind]:9}{line.number:>4}  ", "dim"), (text, line.kind)]
    if len(found.lines) == most:
        yield [("         ", ""), ("further lines are left out here; --all shows them", "dim")]


def stream_rows(look: Look, fields: Record | StepRecord, *, whole: bool) -> Iterator[list[Segment]]:
    """Yield what the program printed, escaped; only the last lines unless `whole`."""
    for name in ("stdout", "stderr"):
        lines = split_lines(kept_bytes(fields, name).decode("utf-8", "surrogateescape"))
        label = f"complete {name}" if whole else f"{name} so far"
        if not lines:
            yield ["  ", (label, "dim"), "  nothing"]
            continue
        shown = lines if whole else lines[-4:]
        skipped = len(lines) - len(shown)
        yield ["  ", (label, "dim"), f"  ({counted(skipped, 'line')} before)" if skipped else ""]
        for line in shown:
            yield ["    ", (f"{look.sign('bar')} ", "dim"), visible_line(line[:2_000], look.sign("space"))]


class AroundShown(Struct):
    """What stood around the words of a case, as far as it could be worked out again."""

    #: Variables that the spec sets, and (None) those that it takes away.
    env: dict[str, str | None] = field(default_factory=dict)
    #: The names of files that were put in place.
    files: list[str] = field(default_factory=list)
    #: What a line of a shell cannot say.
    notes: list[str] = field(default_factory=list)
    #: The text of standard input; a file, a command or nothing may stand in its place.
    stdin: str = ""
    file: str = ""
    #: A line of the shell whose output is read.
    command: str = ""
    closed: bool = False
    #: Whether the command cannot be written out as it is.
    inexact: bool = False


def repeat_line(launch: Sequence[str], fields: CaseFields, around: AroundShown) -> str:
    """Return the line that repeats a case by hand in POSIX sh: environment and standard input
    before the words.

    Newlines stand in it as they are, inside quotes. What contains other invisible characters is
    not repeated exactly, which a comment at the end says, with the way to do it.
    """
    compared = bool(fields.relation)  # what it is compared with stands beside the difference
    steps = [fields.argv, *(() if compared else fields.more_argv)]
    stdin = around.stdin
    texts = [
        *launch,
        *(word for words in steps for word in words),
        *filter(None, around.env.values()),
        stdin if len(stdin) <= MOST_STDIN else "",
        around.file,
    ]
    exact = not around.inexact and all(map(is_written_whole, texts))
    shell_line, shell_word = (exact_line, shlex.quote) if exact else (visible_words, visible_word)
    line = " ; ".join(
        shell_line(words if number in fields.others else [*launch, *words])
        for number, words in enumerate(steps)
    )
    env = "".join(f"{name}={shell_word(value)} " for name, value in around.env.items() if value is not None)
    unset = [name for name, value in around.env.items() if value is None]
    if unset:
        env = f"env {' '.join(f'-u {shell_word(name)}' for name in unset)} {env}"
    line = env + line
    if stdin:
        line = f"printf %s {shell_word(stdin)} | {line}" if len(stdin) <= MOST_STDIN else f"{line} < STDIN"
    elif around.file:
        line += f" < {shell_word(around.file)}"
    elif around.command:
        line = f"{around.command} | {line}"
    elif around.closed:
        line += " <&-"
    notes = [
        *([f"with {', '.join(around.files)} in place"] if around.files else []),
        *around.notes,
        *([] if exact else [INEXACT.format(id=fields.id[:SHOWN_ID])]),
    ]
    return f"{line}   # {', '.join(notes)}" if notes else line
