"""A mismatch as rows: what was expected, then what was found.

`SENTENCES` has a row for each kind of mismatch that a sentence says; `DRAWN` a function for each of
those that take more than two lines. A test compares both with the kinds that the core makes.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import NamedTuple, TypeAlias

from keen_matrix.core.expect.differences import Difference, DiffLine
from keen_matrix.core.launch.process.state import STOP_GRACE, TERMINATE_GRACE
from keen_matrix.core.model.record import AspectRecord, Record, kept_bytes
from keen_matrix.wording.counts import counted
from keen_matrix.wording.differences import expected_row, found_row, shown_difference, text_rows
from keen_matrix.wording.safe import escape, quoted, visible_line
from keen_matrix.wording.safe import shell_line as visible_words
from keen_matrix.wording.signs import Look, Segment

Rows: TypeAlias = Iterator[list[Segment]]


class Sentence(NamedTuple):
    """How a kind of mismatch is said. Both parts may have a field: {text} as it is, {quoted} in
    quotes, {lines}, {bytes} and {pairs} as a count, {launches} as the number of launches."""

    expected: str
    found: str = "{quoted}"


#: Kind of mismatch → how it is said.
SENTENCES: Mapping[str, Sentence] = {
    "expression": Sentence("an expectation that can be checked", "{text}"),
    "launch": Sentence("to be started", "it was not: {text}"),
    "timeout": Sentence(
        "to end within {text} s",
        f"still running; ended after {{text}} s (TERM, and KILL {TERMINATE_GRACE:g} s later)",
    ),
    "stop": Sentence(
        "to end on the signal that stops it", f"still running {STOP_GRACE:g} s after it; killed"
    ),
    "leftovers": Sentence("no process left running", "{text} (ended)"),
    "feeder": Sentence("{text}, which feeds standard input, to exit 0", "{text}"),
    "meanwhile": Sentence("{text}", "{text}"),
    "steady": Sentence("the same result every time", "{text} different results in {launches}"),
    "control": Sentence("to be accepted, because every case here is made from it by one change", "{text}"),
    "effect": Sentence("{culprit} to make a difference", "the same in {pairs} of calls"),
    "blame": Sentence("the message to blame {quoted}", "it names {text} instead"),
    "names": Sentence("the message to name {quoted}"),
    "undeclared": Sentence("no option that the synopsis does not have", "the help lists {text}"),
    "other-files": Sentence("other files left alone", "{text}"),
    "files": Sentence("the same files", "{text}"),
    "renamed": Sentence("to show the name {text}"),
    "cap": Sentence(
        "at most {bytes} a stream", "more on {text}; the program was ended, and the beginning recorded"
    ),
    "crash": Sentence("no crash", "{text}"),
    "exit": Sentence("{text}", "{text}"),
    "signal": Sentence("{text}", "{text}"),
    "unrecorded": Sentence("a baseline; keen-matrix baseline shows and accepts what was found"),
    "absent": Sentence("no such file", "{text}"),
    "file": Sentence("a file", "{text}"),
    "file-named": Sentence("a file named {text}", "{text}"),
    "mode": Sentence("mode {text}", "mode {text}"),
    "unchanged": Sentence("the same as before the launch"),
    "unchanged-mode": Sentence("mode {text} as before", "mode {text}"),
    "unheard": Sentence("an exit other than 0, or a word on standard error", "{text}"),
    "unmoved": Sentence("no file changed: the input ended before it answered the question", "{text}"),
    "stray": Sentence("no file that no word names", "{text}"),
    "controls": Sentence("no control characters in output to a pipe", "{text}"),
    "link": Sentence("a link to {text}", "{text}"),
    "limit": Sentence("{text}", "{text}"),
    "number-of-lines": Sentence("{lines}", "{lines}"),
    "size": Sentence("{bytes}", "{bytes}"),
    "contains": Sentence("to contain {quoted}"),
    "lacks": Sentence("not to contain {quoted}"),
    "starts": Sentence("to start with {quoted}"),
    "ends": Sentence("to end with {quoted}"),
    "empty": Sentence("nothing"),
    "not-empty": Sentence("something"),
    "matches": Sentence("to match  {text}"),
    "digest": Sentence("{text}", "{text}"),
    "holds": Sentence("{text}", "{text}"),
    "number": Sentence("{text}"),
    "columns": Sentence("{text}", "{text}"),
    "sorted": Sentence("{text}", "{text}"),
    "unique": Sentence("no line twice", "{text}"),
    "any": Sentence("{text}"),
    "not": Sentence("anything else than  {text}"),
}


def mismatch_rows(look: Look, aspect: AspectRecord, fields: Record, *, everything: bool) -> Rows:
    """Yield the rows of one aspect that is not as expected: expected before found."""
    made = _RowsMaking(look, aspect, fields, everything)
    # How a launch ended is a number or a name and no text.
    form = aspect.aspect if aspect.form == "is" and aspect.aspect in SENTENCES else aspect.form
    if aspect.problem:
        text = escape(aspect.expected or aspect.actual or "")
        yield expected_row(SENTENCES["expression"].expected)
        yield found_row(text)
    elif aspect.aspect in ("alike", "reference"):
        yield from _compared_rows(made)
    elif form in DRAWN:
        yield from DRAWN[form](made)
    elif aspect.difference:
        yield from _kept_difference(made)
    else:
        # A journal of a later edition may have kinds that are not known here.
        said = SENTENCES.get(form) or Sentence(f"{form}: {{quoted}}")
        yield expected_row(made.filled(said.expected, made.expected, look.width - 30))
        is_nothing = said.found == "{quoted}" and not made.actual
        found = made.filled(said.found, made.actual, max(40, look.width - 24))
        yield found_row("nothing" if is_nothing else found)


class _RowsMaking(NamedTuple):
    """What the rows of one mismatch are made of."""

    look: Look
    aspect: AspectRecord
    fields: Record
    everything: bool

    @property
    def expected(self) -> str:
        return self.aspect.expected or ""

    @property
    def actual(self) -> str:
        return self.aspect.actual or ""

    def quoted(self, text: str, most: int) -> str:
        """Return a text in quotes, cut to a width; what is empty is called nothing."""
        return quoted(text, most, self.look.sign("space")) if text else "nothing"

    def filled(self, sentence: str, value: str, most: int) -> str:
        """Return a sentence with its field filled in."""
        fields: Mapping[str, Callable[[], str]] = {
            "{text}": lambda: escape(value),
            "{quoted}": lambda: quoted(value, most, self.look.sign("space")),
            "{lines}": lambda: _count(value, "line"),
            "{bytes}": lambda: _count(value, "byte"),
            "{pairs}": lambda: _count(value, "pair"),
            "{launches}": lambda: counted(self.fields.repeats.times if self.fields.repeats else 0, "launch"),
            "{culprit}": lambda: self.fields.culprit,
        }
        for field, text in fields.items():
            if field in sentence:
                sentence = sentence.replace(field, text())
        return sentence


def _count(count: str, noun: str) -> str:
    """Return a count, or a range of counts, with its noun."""
    return counted(int(count), noun) if count.isdecimal() else f"{count} {noun}s"


# --- kinds that are drawn ---


def _kept_difference(made: _RowsMaking) -> Rows:
    kept = made.aspect.difference
    if kept is not None:
        lines = tuple(DiffLine(*each) for each in kept.lines)
        yield from shown_difference(made.look, Difference(lines, kept.differing, kept.of), 14)


def _text(made: _RowsMaking) -> Rows:
    if made.aspect.difference:
        return _kept_difference(made)
    found = _whole(made.aspect, made.fields)
    return text_rows(made.look, made.expected, found, everything=made.everything)


def _prompt(made: _RowsMaking) -> Rows:
    yield expected_row(f"the prompt {quoted(made.expected, made.look.width - 30)}")
    yield found_row(made.quoted(made.actual, max(40, made.look.width - 24)))
    yield from _answered(made)


def _answered(made: _RowsMaking) -> Rows:
    for prompt, reply in made.fields.dialogue:
        yield [("before    ", "dim"), f"{quoted(prompt)} was answered {quoted(reply)}"]


def _unused_replies(made: _RowsMaking) -> Rows:
    left = made.expected.split("\n")
    shown = ", ".join(quoted(each, 40) for each in left[:4]) + (", …" if len(left) > 4 else "")
    yield expected_row(f"a prompt for each reply; {counted(len(left), 'reply')} not asked for: {shown}")
    yield found_row(made.quoted(made.actual, max(40, made.look.width - 24)))
    yield from _answered(made)


def _asked_more(made: _RowsMaking) -> Rows:
    yield expected_row("no prompt after the last reply (until-end = true allows one, and ends its input)")
    yield found_row(made.quoted(made.actual, max(40, made.look.width - 24)))
    yield from _answered(made)


def _waits(made: _RowsMaking) -> Rows:
    yield expected_row("to be refused")
    said = f", after {made.quoted(made.actual, 60)}" if made.actual else ""
    yield found_row(f"accepted: it waits for input{said}")


def _help(made: _RowsMaking) -> Rows:
    is_absent = made.aspect.actual == "" and made.expected.startswith("to name")
    yield expected_row(escape(made.expected))
    yield found_row("not in the help text" if is_absent else "nothing")


def _effect(made: _RowsMaking) -> Rows:
    said = SENTENCES["effect"]
    yield expected_row(made.filled(said.expected, "", 0))
    yield found_row(f"{made.filled(said.found, made.actual, 0)}, such as with {escape(made.expected)}")


def _lines_any_order(made: _RowsMaking) -> Rows:
    yield expected_row("these lines, in any order")
    texts = made.expected, made.actual
    missing, extra = (len(text.split("\n")) if text else 0 for text in texts)
    yield found_row(f"{missing or 'none'} missing, {extra or 'none'} not expected")
    yield from _listed_rows("missing", made.expected, "expected")
    yield from _listed_rows("not expected", made.actual, "found")


def _listed_rows(label: str, text: str, style: str) -> Rows:
    for number, line in enumerate(text.split("\n") if text else ()):
        yield [(f"{label if number == 0 else '':13} ", "dim"), (visible_line(line[:300]), style)]


def _json(made: _RowsMaking) -> Rows:
    """Yield what differs in a JSON value, a pointer after another, expected before found."""
    for left, right in zip(made.expected.split("\n"), made.actual.split("\n"), strict=False):
        pointer, colon, value = left.partition(": ")
        if not colon:
            yield [(escape(left), "dim")]
            continue
        yield [("at        ", "dim"), (escape(pointer), "place")]
        yield expected_row(escape(value))
        yield found_row(escape(right.partition(": ")[2]))


def _json_text(made: _RowsMaking) -> Rows:
    yield expected_row("JSON")
    yield [("but       ", "dim"), escape(made.expected)]
    yield found_row(made.quoted(made.actual, max(40, made.look.width - 24)))


#: Kind of mismatch → what draws it.
DRAWN: Mapping[str, Callable[[_RowsMaking], Rows]] = {
    "prompt": _prompt,
    "waits": _waits,
    "unused-replies": _unused_replies,
    "asked-more": _asked_more,
    "help": _help,
    "effect": _effect,
    "lines-any-order": _lines_any_order,
    "json": _json,
    "json-text": _json_text,
    "is": _text,
    "lines": _text,
}


def _compared_rows(made: _RowsMaking) -> Rows:
    """Yield how a launch differs from the first one of its case."""
    aspect, fields = made.aspect, made.fields
    step = fields.steps[aspect.step - 1]
    is_same = tuple(step.argv) == tuple(fields.argv)
    if aspect.aspect == "reference":
        yield [("expected: the reference; found: the program under test", "dim")]
    else:
        how = f"started by {escape(step.launcher)}" if step.launcher else ""
        words = "" if is_same and how else "once more" if is_same else visible_words(step.argv)
        yield [("compared  ", "dim"), ", ".join(each for each in (words, how) if each)]
    if aspect.form == "files":
        yield expected_row(SENTENCES["files"].expected)
        yield found_row(escape(made.actual))
    elif aspect.form == "exit":
        yield expected_row(f"exit {made.expected}")
        yield found_row(f"exit {made.actual}")
    else:
        yield [(f"{aspect.form}", "dim")]
        if aspect.difference:
            yield from _kept_difference(made)
        else:
            yield from text_rows(made.look, made.expected, made.actual, everything=made.everything)


def _whole(aspect: AspectRecord, fields: Record) -> str:
    """Return all of what was found, from the record's stream when the aspect keeps only its
    beginning."""
    if aspect.aspect in ("stdout", "stderr") and not aspect.step:
        masked: str | None = getattr(fields, f"{aspect.aspect}_masked")
        if masked is not None:
            return masked
        return kept_bytes(fields, aspect.aspect).decode("utf-8", "surrogateescape")
    return aspect.actual or ""
