"""Calls and their results as tables of a spec: calls of one shape are rows of one matrix, with the
words that differ, the exit and both streams as columns.

What varied between two launches is left to be filled in, long output gets a file and a matrix of
its own, and a crash is not taken for a promise.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from keen_matrix.core.errors import Misuse
from keen_matrix.core.model.open_mark import OPEN
from keen_matrix.core.model.record import BROKEN, Record
from keen_matrix.core.model.spec import Matrix, Surroundings
from keen_matrix.core.runs.keeping.calls import Call, count_words
from keen_matrix.core.runs.keeping.kept_texts import LONG_TEXT, MANY_LINES, kept_stream, written_value
from keen_matrix.core.spec.editing import literal, toml_key, toml_text, toml_words, value_at

STREAMS = ("stdout", "stderr")
#: Words of a line that need no quotes.
PLAIN = re.compile(r"[\w./:=,@%+-]+|\{\w+\}", re.ASCII)


class CallResult(NamedTuple):
    """A call with its result, and that of a second launch where there was one."""

    call: Call
    record: Record
    again: Record | None = None
    #: What it had around it, as the spec says.
    around: Surroundings | None = None

    @property
    def is_steady(self) -> bool:
        """Whether a second launch printed the same."""
        return not any(_varies(self, stream) for stream in STREAMS)


class _CallShape(NamedTuple):
    """What calls have in common that can be rows of one matrix."""

    words: int
    env: tuple[tuple[str, str], ...]
    has_stdin: bool
    stdin_file: str | None
    files: tuple[tuple[str, str], ...]
    terminal: bool
    replies: tuple[tuple[str, str], ...]
    asks_on: bool


def matrices_of(
    results: Iterable[CallResult],
    here: str,
    taken: Iterable[str],
    name: str = "",
    around: Sequence[str] = (),
    *,
    whole: bool = False,
) -> tuple[str, dict[str, str], list[str]]:
    """Return matrices of calls as TOML, the files that they need (from the directory of the spec),
    and their names. `taken` are the names that a spec has already; several that are to have a
    `name` are numbered. `around` are lines that each of them has. With `whole` long output is in
    the cells too, and no file is needed for it."""
    shapes: dict[_CallShape, list[CallResult]] = {}
    alone: list[CallResult] = []
    for each in results:
        call = each.call
        if each.record.files or each.record.verdict in BROKEN or not is_short(each.record, here, whole=whole):
            alone.append(each)
        else:
            shapes.setdefault(_shape_of(call), []).append(each)
    used, parts, names = set(taken), list[str](), list[str]()
    files: dict[str, str] = {}

    def unused(wanted: str) -> str:
        number, found = 2, wanted
        while found in used:
            found, number = f"{wanted} {number}", number + 1
        used.add(found)
        names.append(found)
        return found

    for shape, several in shapes.items():
        parts.append(_table(shape, several, unused(name or _name_of(shape)), here, around))
    for each in alone:
        wanted = name or " ".join(each.call.words)[:40] or count_words(0)
        parts.append(_single(each, unused(wanted), files, here, around, whole=whole))
    return "\n".join(parts), files, names


def _shape_of(call: Call) -> _CallShape:
    return _CallShape(
        len(call.words),
        call.env,
        call.stdin is not None,
        call.stdin_file,
        call.files,
        call.terminal,
        call.replies,
        call.asks_on,
    )


def _name_of(shape: _CallShape) -> str:
    more = [f"{key}={value}" for key, value in shape.env]
    more += ["input"] if shape.has_stdin or shape.stdin_file else []
    more += ["replies"] if shape.replies else ["a terminal"] if shape.terminal else []
    return count_words(shape.words) + (f", with {', '.join(more)}" if more else "")


def is_short(record: Record, here: str, *, whole: bool = False) -> bool:
    """Tell whether a result fits into cells: an exit, and output that is text, not long (unless
    `whole`), and without the directory of the spec, which a cell cannot name."""
    if record.signal is not None:
        return False
    for stream in STREAMS:
        text = record.compared_stream(stream) or ""
        is_long = not whole and (len(text) > LONG_TEXT or text.count("\n") > MANY_LINES)
        if is_long or (len(here) > 1 and here in text):
            return False
        if getattr(record, f"{stream}_base64") is not None:
            return False
    return True


def lines_around(text: str, matrix: Matrix) -> list[str]:
    """Return what a matrix of a spec puts around its calls, as lines of another one.

    Raises Misuse where that is not the same for all of its cases, or where a case of it is no
    single call.
    """
    if len(matrix.steps) > 1 or matrix.other is not None:
        raise Misuse(f'a case of the matrix "{matrix.name}" has several launches, which no row can have')
    own = {*matrix.axes, *matrix.columns}
    for place, template in matrix.steps[0].surroundings.templates:
        if varying := sorted(template.names & own):
            raise Misuse(
                f'{place} of the matrix "{matrix.name}" depends on {varying[0]}; a row cannot have it: make '
                f'{varying[0]} a column, expect "{OPEN}", and let keen-matrix fill record the results'
            )
    from keen_matrix.core.spec.document.surroundings import Around

    table = value_at(text, "matrix", matrix.index)
    keys = [field.alias or name for name, field in Around.model_fields.items()]
    keys += ["files", "directory", "jobs", "requires-programs"]
    return [f"{key} = {written_value(table[key])}" for key in keys if key in table]


def around_lines(call: Call | _CallShape, here: str) -> list[str]:
    """Return what is put around a call, except for a text of standard input, as lines of a matrix;
    files are named from the directory of the spec."""
    lines = [f"env.{toml_key(key)} = {toml_text(literal(value))}" for key, value in call.env]
    for name, source in call.files:
        copied = "{here}/" + literal(os.path.relpath(os.path.abspath(source), here))
        lines.append(f"files.{toml_text(literal(name))} = {{ copy = {toml_text(copied)} }}")
    if call.stdin_file is not None:
        file = os.path.relpath(os.path.abspath(call.stdin_file), here)
        lines.append(f"stdin.file = {toml_text(literal(file))}")
    if call.terminal:
        lines.append("terminal = { columns = 80, rows = 24 }")
    if call.replies:
        lines.append(dialogue_line(call.replies, asks_on=call.asks_on))
    return lines


def dialogue_line(replies: Sequence[tuple[str, str]], *, asks_on: bool = False) -> str:
    """Return prompts and their replies as a line of a matrix. `asks_on` has the program ask once
    more than there are replies, each time by the same prompt."""
    if asks_on:
        pattern = toml_text(literal(re.escape(replies[0][0]).replace("\\ ", " ")))
        typed = ", ".join(toml_text(literal(reply)) for _, reply in replies)
        return f"dialogue = {{ prompt = {pattern}, replies = [{typed}], until-end = true }}"
    pairs = (
        f"{{ prompt = {toml_text(literal(prompt))}, reply = {toml_text(literal(reply))} }}"
        for prompt, reply in replies
    )
    return f"dialogue = [{', '.join(pairs)}]"


def _table(
    shape: _CallShape, several: Sequence[CallResult], name: str, here: str, around: Sequence[str]
) -> str:
    """Return a matrix with a row for each call."""
    places = [
        at for at in range(shape.words) if len(several) == 1 or len({e.call.words[at] for e in several}) > 1
    ]
    names = {at: f"word{number}" for number, at in enumerate(places, 1)}
    first = several[0].call.words
    line = [f"{{{names[at]}}}" if at in names else literal(first[at]) for at in range(shape.words)]
    columns = [*names.values(), *(["stdin"] if shape.has_stdin else []), "exit", *STREAMS]
    lines = ["[[matrix]]", f"name = {toml_text(name)}"]
    plain = all(PLAIN.fullmatch(each) for each in line)
    lines.append(
        f"line = {toml_text(' '.join(line))}" if plain else f"line = [{', '.join(map(toml_text, line))}]"
    )
    lines += [*around, *around_lines(shape, here)]
    if shape.has_stdin:
        lines.append('stdin = "{stdin}"')
    lines.append(f"columns = {written_value(columns)}")
    lines.append("rows = [")
    for each in several:
        cells: list[object] = [each.call.words[at] for at in places]
        cells += [each.call.stdin or ""] if shape.has_stdin else []
        cells += [each.record.exit, *(_cell(each, stream) for stream in STREAMS)]
        lines.append(f"  {written_value(cells)},")
    lines += ["]", 'expect = { exit = "{exit}", stdout = "{stdout}", stderr = "{stderr}" }']
    return "\n".join(lines) + "\n"


def _varies(each: CallResult, stream: str) -> bool:
    again = each.again
    return again is not None and again.compared_stream(stream) != each.record.compared_stream(stream)


def _cell(each: CallResult, stream: str) -> str:
    return OPEN if _varies(each, stream) else each.record.compared_stream(stream) or ""


def _single(
    each: CallResult,
    name: str,
    files: dict[str, str],
    here: str,
    around: Sequence[str],
    *,
    whole: bool = False,
) -> str:
    """Return a matrix of one call."""
    call, record = each.call, each.record
    lines = ["[[matrix]]", f"name = {toml_text(name)}"]
    lines.append(f"line = {toml_words(call.words)}" if call.words else 'line = ""')
    lines += [*around, *around_lines(call, here)]
    if call.stdin is not None:
        lines.append(f"stdin = {toml_text(literal(call.stdin))}")
    if record.signal is not None:
        lines.append(f"expect.signal = {toml_text(record.signal)}")
    else:
        lines.append(f"expect.exit = {record.exit}")
    if record.verdict == "crashed" and record.signal is None:
        lines.append('expect.crash = "allowed"')
    for stream in STREAMS:
        if getattr(record, f"{stream}_base64") is not None:
            lines.append(f"# {stream} is not text, so nothing is expected of it")
        elif _varies(each, stream):
            lines.append(f"expect.{stream} = {toml_text(OPEN)}")
        else:
            text = record.compared_stream(stream) or ""
            value = kept_stream(text, f"{name}.{stream}", files, here, whole=whole)
            is_file = isinstance(value, dict)
            key, said = (f"{stream}.file", value["file"]) if is_file else (stream, value)  # type: ignore[index]
            lines.append(f"expect.{key} = {toml_text(str(said))}")
    for file, change in record.files.items():
        if change.state in ("created", "changed") and change.kind == "file" and change.size is not None:
            lines.append(f"expect.files.{toml_text(literal(file))}.size = {change.size}")
        elif change.state == "deleted":
            lines.append(f'expect.files.{toml_text(literal(file))} = "absent"')
    return "\n".join(lines) + "\n"
