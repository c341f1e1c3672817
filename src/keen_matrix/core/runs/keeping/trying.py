"""One vector that is tried: as a case of a spec, and written into it with what came.

A vector that a spec has already is that case. Any other is made a case by a matrix of its own,
which is put after the text of the spec and read with it: so it has the surroundings, the rules and
the judgement that it would have if somebody wrote it there."""

from __future__ import annotations

import hashlib
import itertools
import os
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from keen_matrix.core.errors import Misuse
from keen_matrix.core.files import cache_directory, leaves_directory
from keen_matrix.core.launch.runners import FoundProgram, started_by
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.record import BROKEN, Record
from keen_matrix.core.model.spec import Matrix, Spec, Surroundings
from keen_matrix.core.notation.nodes import Characters, Field, Word
from keen_matrix.core.runs.keeping.call_rows import CallResult, matrices_of
from keen_matrix.core.runs.keeping.calls import Call
from keen_matrix.core.runs.keeping.kept_texts import written_value
from keen_matrix.core.spec.editing import literal, toml_text, toml_words, with_items
from keen_matrix.core.spec.load import load_spec
from keen_matrix.core.spec.program_text import absolute_lines
from keen_matrix.core.vectors.unfold import unfold_matrix

#: Cases among which a vector is looked for.
MOST_LOOKED_AT = 20_000
#: Columns of a row that are filled with what came.
OUTCOME_COLUMNS = ("exit", "stdout", "stderr")


class TriedCase(NamedTuple):
    """A vector as a case of a spec."""

    spec: Spec
    matrix: Matrix
    case: Case
    #: Whether the spec has it already.
    is_there: bool


def tried_case(path: str, text: str, words: Sequence[str], given: Sequence[str] = ()) -> TriedCase:
    """Return a vector as a case of a spec; `given` is what is put around it, as lines of a matrix.
    Raises SpecFault when the spec is wrong."""
    spec = load_spec(path, text)
    argv = tuple(words)
    for matrix, case in () if given else single_calls(spec):
        if case.argv == argv:
            return TriedCase(spec, matrix, case, True)
    name = unused_name(spec, "tried")
    line = f"line = {toml_words(words)}" if words else 'line = ""'
    more = "\n".join([f"{_ending(text)}[[matrix]]", f"name = {toml_text(name)}", line, *given, ""])
    spec = load_spec(path, text + more)
    matrix = next(each for each in spec.matrices if each.name == name)
    return TriedCase(spec, matrix, next(iter(unfold_matrix(spec, matrix))), False)


def single_calls(spec: Spec) -> Iterator[tuple[Matrix, Case]]:
    """Yield the cases of a spec that are a call each, those of its own matrices first: of each
    matrix the first ones."""
    for matrix in (*(each for each in spec.matrices if not each.family), *spec.matrices):
        for case in itertools.islice(unfold_matrix(spec, matrix), MOST_LOOKED_AT):
            if not case.more and not case.fault:
                yield matrix, case


class Bare(NamedTuple):
    """A call of a program without any spec."""

    #: A spec of it without the call, and with it.
    head: str
    text: str
    #: Words that name regular files, which are copied into the directory of the call.
    copied: tuple[str, ...]
    #: Words that name files elsewhere: the program works on these themselves.
    outside: tuple[str, ...]


def typed_program(words: Sequence[str]) -> FoundProgram:
    """Return how words start a program for which there is no spec; what a runner builds is kept
    with what is kept between calls."""
    # One place for each directory: two projects may have programs of one name.
    where = hashlib.sha256(os.getcwd().encode("utf-8", "surrogateescape")).hexdigest()[:16]
    return started_by(words, os.getcwd(), os.path.join(cache_directory("build"), where))


def bare_call(
    started: FoundProgram, given: Sequence[str], *, in_place: bool, named: Sequence[str] = ()
) -> Bare:
    """Return the call of a program that has no spec: in a directory of its own, with copies of the
    files that its words name (and those of `named`), or where it was typed."""
    lines = ["[program]", *absolute_lines(started)]
    files = [each for each in dict.fromkeys((*given, *named)) if os.path.isfile(each)]
    outside = tuple(each for each in files if os.path.isabs(each) or leaves_directory(each))
    copied = () if in_place else tuple(each for each in files if each not in outside)
    if in_place:
        lines.append('directory = "spec"')
    if copied:
        lines.append("[files]")
        lines += [
            f"{toml_text(literal(each))} = {{ copy = {toml_text(literal(os.path.abspath(each)))} }}"
            for each in copied
        ]
    head = "\n".join(lines) + "\n"
    line = toml_words(given) if given else '""'
    text = f'{head}[[matrix]]\nname = "tried"\nline = {line}\n'
    return Bare(head, text, copied, () if in_place else outside)


def unused_name(spec: Spec, name: str) -> str:
    """Return a name that no matrix of a spec has."""
    taken = {matrix.name for matrix in spec.matrices}
    return next(
        each
        for each in itertools.chain([name], (f"{name} {n}" for n in itertools.count(2)))
        if each not in taken
    )


class KeptText(NamedTuple):
    """The text of a spec with a vector in it, where that stands, and the files that it needs."""

    text: str
    where: str
    #: Names, from the directory of the spec, and contents.
    files: dict[str, str]


def with_vector(
    text: str, tried: TriedCase, record: Record, name: str = "", call: Call | None = None
) -> KeptText:
    """Return the text of a spec with a vector and the result of it: as a row, where a matrix (of a
    name, if one is given) has rows of that shape, else as a matrix of its own. `call` is the vector
    with what was put around it.

    Raises Misuse when nothing is to be kept of it: it crashed, timed out or was not launched, or is
    there."""
    if record.verdict in BROKEN:
        raise Misuse(f"it {BROKEN[record.verdict]}, so its result is not saved; nothing is written")
    if tried.is_there:
        raise Misuse(f"the spec has this call already: {tried.case.id[:6]} of {tried.matrix.name}")
    named = any(each.name == name for each in tried.spec.matrices)
    if named or not name:
        found = row_for(tried.spec, record, tried.matrix.steps[0].surroundings, name)
        if found is not None:
            whole = with_rows(text, found.matrix, [found.cells])
            return KeptText(whole, f'a row of "{found.matrix.name}"', {})
    if named:
        raise Misuse(
            f'the matrix "{name}" has no rows of this shape: its line must be one column a word, its other '
            f"columns {', '.join(OUTCOME_COLUMNS)} or note, and around its calls there must be the same"
        )
    made = CallResult(call or Call(words=record.argv), record)
    taken = [each.name for each in tried.spec.matrices]
    more, files, names = matrices_of([made], tried.spec.here, taken, name)
    return KeptText(f"{text}{_ending(text)}{more}", f'the matrix "{names[0]}"', files)


class FoundRow(NamedTuple):
    """A row that a matrix could have."""

    matrix: Matrix
    cells: list[object]


def row_for(spec: Spec, record: Record, around: Surroundings, name: str = "") -> FoundRow | None:
    """Return a call with its result as a row of a matrix (of a name, if one is given) that has rows
    of its shape, and puts the same around its calls; None where none has."""
    for matrix in spec.matrices:
        if (name and matrix.name != name) or matrix.steps[0].surroundings != around:
            continue
        cells = _row(matrix, record)
        if cells is not None:
            return FoundRow(matrix, cells)
    return None


def with_rows(text: str, matrix: Matrix, rows: Sequence[Sequence[object]]) -> str:
    """Return the text of a spec with more rows in a matrix; comments and layout stay."""
    values = [written_value(list(row)) for row in rows]
    return with_items(text, ("matrix", matrix.index, "rows"), values)


def _row(matrix: Matrix, record: Record) -> list[object] | None:
    """Return a vector with the result of it as a row of a matrix; None where its rows have another
    shape."""
    if not matrix.columns or matrix.axes or len(matrix.steps) != 1:
        return None
    items = matrix.steps[0].line.items
    if len(items) != len(record.argv):
        return None
    came: dict[str, object] = {}
    for item, word in zip(items, record.argv, strict=True):
        parts = item.parts if isinstance(item, Word) else ()
        if parts and all(isinstance(part, Characters) for part in parts):
            if "".join(part.text for part in parts if isinstance(part, Characters)) != word:
                return None
            continue
        field = parts[0] if len(parts) == 1 else None
        name = field.source.strip() if isinstance(field, Field) else ""
        if name not in matrix.columns or name in came:
            return None
        came[name] = word
    came |= {"exit": record.exit, "stdout": record.stdout or "", "stderr": record.stderr or "", "note": ""}
    if any(each not in came for each in matrix.columns):
        return None
    of_csv = any(".csv:" in place for place in matrix.marks.rows[:1])
    return None if of_csv else [_like(matrix, at, came[each]) for at, each in enumerate(matrix.columns)]


def _like(matrix: Matrix, at: int, value: object) -> object:
    """Return a value of the kind that its column has: a number where the other rows have
    numbers."""
    kinds = {type(row[at]) for row in matrix.rows}
    if isinstance(value, str) and kinds <= {int, float} and kinds:
        try:
            return int(value) if kinds == {int} else float(value)
        except ValueError:
            return value
    return value


def _ending(text: str) -> str:
    """Return what parts a text from what is put after it."""
    return "\n" if text.endswith("\n") or not text else "\n\n"
