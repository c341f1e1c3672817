"""Expectations that are filled in with what came: those that are left open, and of chosen cases the
literals that were not met.

What is filled in is found where it is written: a literal of a rule, or the cells of a row, which
are worked out by matching the texts that use them with what came. What cannot be found out so is
told, and left as it is."""

from __future__ import annotations

import csv
import io
import os
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
from typing import NamedTuple, TypeAlias

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expect.aspects import Aspect, ExitAspect, FileAspect, StreamAspect, named_file
from keen_matrix.core.expect.cascade import Chosen
from keen_matrix.core.expect.checking import CaseChecker
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.differences import split_lines
from keen_matrix.core.expect.forms.base import Form
from keen_matrix.core.expect.forms.lines import CountForm, LinesForm
from keen_matrix.core.expect.forms.reference import SameForm
from keen_matrix.core.expect.forms.text import ContainsForm, EmptyForm, IsForm
from keen_matrix.core.expect.open import is_left_open, names_used
from keen_matrix.core.expressions import Template
from keen_matrix.core.files import read_regular
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.open_mark import OPEN
from keen_matrix.core.model.record import BROKEN, Record, StepRecord
from keen_matrix.core.model.spec import Matrix, Spec
from keen_matrix.core.notation.nodes import Field
from keen_matrix.core.oracle import oracle_functions
from keen_matrix.core.runs.keeping.kept_texts import Number, kept_stream, portable, written_value
from keen_matrix.core.spec.editing import EditFault, value_at, with_item, with_value
from keen_matrix.core.spec.including import whole_source
from keen_matrix.core.spec.keys import KeyPath
from keen_matrix.core.structs import Struct, field
from keen_matrix.core.vectors.axes import MAX_SOURCE_BYTES, read_text, separator_in
from keen_matrix.core.vectors.unfold import unfold_matrix

NO_RESULT = {
    "not-started": f"it {BROKEN['not-started']}",
    "blocked": "its control did not work",
    "skipped": "it is skipped",
    "flaky": "two launches of it gave different results",
}
_NUMBER = re.compile(r"[+-]?(0|[1-9]\d*)(\.\d+)?")


class FillPlace(NamedTuple):
    """Where something is filled in: a key of the spec's text, or a cell of a row."""

    #: Of the value in the spec; of the rows of a matrix for a cell of a table.
    path: KeyPath
    #: The file of the table that the cell stands in.
    table: str = ""
    row: int = -1
    column: str = ""


NOT_ALL = "interrupted before every case that shares this value had finished"


class Filling(Struct):
    """What is filled in, and what cannot be."""

    #: Place → what came there, by the id of the case.
    values: dict[FillPlace, Cells] = field(default_factory=dict)
    #: Files that are written beside the spec: names from its directory, and contents.
    files: dict[str, str] = field(default_factory=dict)
    #: Why something is not filled in → ids of the cases.
    told: dict[str, list[str]] = field(default_factory=dict)
    #: Ids of the cases of which something is.
    filled: set[str] = field(default_factory=set)

    def tell(self, why: str, id: str) -> None:
        """Note why something of a case is left as it is."""
        ids = self.told.setdefault(why, [])
        if id not in ids:
            ids.append(id)


Target: TypeAlias = tuple[Matrix, Case]
#: Column → value, or id of a case → what came there.
Cells: TypeAlias = dict[str, object]


class _FillPlaces:
    """Where things are in a spec's own text."""

    def __init__(self, spec: Spec, text: str) -> None:
        self._source = whole_source(spec.path, text)
        self._own = self._source.layers[-1].source if self._source.layers else self._source

    def of_aspect(self, came: _CaseLaunch, name: str, key: str, origin: str) -> KeyPath | None:
        """Return the key path of an aspect's value in the spec's own text."""
        head, dot, rest = name.partition(".")
        # `files.NAME` is one key below another; all other aspects are a key of their own.
        wanted: KeyPath = (head, rest) if dot else (head,)
        found = [
            path
            for path in self._own.paths()
            if path[-len(wanted) :] == wanted and self._line(path) == origin and _is_about(path, came)
        ]
        if not found:
            return None
        # The deepest one: of `stdout` and `stdout.contains` on one line it is the value that is
        # wanted, and not its table.
        path = max(found, key=len)
        deeper = (*path, key)
        return deeper if key and deeper in self._own.paths() else path

    def _line(self, path: KeyPath) -> str:
        return f"{os.path.basename(self._own.path)}:{self._own.line(path)}"

    def of_cell(self, matrix: Matrix, case: Case, column: str) -> FillPlace | None:
        """Return where the cell of a case's row stands; None where that is in another file."""
        values = [case.values.get(each) for each in matrix.columns]
        # By its values and, where rows were read from a table, by its line: two rows may be equal.
        row = next(
            (
                at
                for at, cells in enumerate(matrix.rows)
                if list(cells) == values and case.said.row in ("", matrix.marks.rows[at])
            ),
            None,
        )
        if row is None:
            return None
        file, _, line = case.said.row.rpartition(":")
        if file.endswith(self._own.path.rpartition("/")[2]):
            at = self._own_index(matrix)
            return None if at is None else FillPlace(("matrix", at, "rows"), "", row, column)
        return FillPlace((), file, int(line), column)

    def _own_index(self, matrix: Matrix) -> int | None:
        path = ("matrix", matrix.index)
        if not self._source.layers:
            return matrix.index
        own = self._source.layers[-1].own_path(path)
        return int(own[1]) if own is not None else None


class Filler:
    """Fills in the expectations of one spec. Raises RunFault when its oracle cannot be read."""

    def __init__(self, spec: Spec, text: str) -> None:
        self.spec, self.text = spec, text
        self._places = _FillPlaces(spec, text)
        self._checker = CaseChecker(spec, oracle_functions(spec.program.oracle))
        self.filling = Filling()

    def open_cases(self) -> Iterator[Target]:
        """Yield the cases of which something is left open, or that have an empty cell which only
        expectations use."""
        for matrix in self.spec.matrices:
            # Of derived vectors nothing is written out, so nothing can be left open there.
            for case in () if matrix.family else unfold_matrix(self.spec, matrix):
                if self._may_be_filled(matrix, case):
                    yield matrix, case

    def _may_be_filled(self, matrix: Matrix, case: Case) -> bool:
        if case.fault:
            return False
        empty = any(case.values.get(each) in (None, "") for each in matrix.marks.expected_columns)
        return empty or any(
            is_left_open(chosen.aspect) or _open_names(case, chosen.aspect)
            for number in range(len(matrix.steps))
            for _, chosen in self._chosen(case, number)[1]
        )

    def _chosen(self, case: Case, number: int) -> tuple[CheckContext, list[tuple[str, Chosen]]]:
        context = self._checker.begin(case, number)
        try:
            return context, list(self._checker.chosen(case, context, number).items())
        except ExpressionFault:
            return context, []

    def take(self, matrix: Matrix, case: Case, record: Record, *, replacing: bool, broken: bool) -> None:
        """Take the result of a case. With `replacing` what is not met is filled in too, and of a
        case that crashed or timed out when `broken` says so."""
        why = NO_RESULT.get(record.verdict, "")
        if record.verdict in BROKEN and not broken:
            why = f"it {BROKEN[record.verdict]}"
        if why:
            self.filling.tell(
                f"{why}, which is no result to expect (--broken records it all the same)", case.id
            )
            return
        # Of launches that are compared only the first is the case's own; the others are to be like
        # it.
        launches: Sequence[Record | StepRecord] = record.steps or [record]
        for number, launch in enumerate(launches[: 1 if case.relation is not None else None]):
            context, chosen = self._chosen(case, number)
            unmet = {each.aspect for each in record.aspects if not each.met and each.step in (0, number + 1)}
            for name, each in chosen:
                self._take_aspect(
                    _CaseLaunch(matrix, case, number, launch, context), name, each, unmet, replacing
                )

    def _take_aspect(
        self, came: _CaseLaunch, name: str, chosen: Chosen, unmet: set[str], replacing: bool
    ) -> None:
        case, aspect = came.case, chosen.aspect
        if is_left_open(aspect):
            self._fill_literal(came, name, chosen)
            return
        names = _open_names(case, aspect)
        is_unmet = name in unmet or _file_name(name, came.context) in unmet
        if not names and is_unmet:
            # A cell that is empty on purpose and one that is not filled in yet look the same. What
            # is not met tells them apart.
            late = names_used(aspect) & {*came.matrix.marks.expected_columns}
            names = frozenset(each for each in late if case.values.get(each) in (None, ""))
            if replacing and not names:
                names = late
        if names:
            self._fill_cells(came, name, aspect, names)
        elif is_unmet and replacing:
            self._fill_literal(came, name, chosen)

    # --- a literal of a rule ---

    def _fill_literal(self, came: _CaseLaunch, name: str, chosen: Chosen) -> None:
        tell, id = self.filling.tell, came.case.id
        aspect = chosen.aspect
        for form in _forms_of(aspect):
            # The literal is the name of a file; it is the file that takes what came.
            if isinstance(form, SameForm) and form.file is not None:
                self._fill_file(came, name, form.file.render(came.context.scope))
                return
        key, why = _key_of(aspect)
        if why:
            tell(f"{name}: {why}", id)
            return
        path = self._places.of_aspect(came, name, key, chosen.origin)
        if path is None:
            tell(f"{name}: it is not in {os.path.basename(self.spec.path)}, but at {chosen.origin}", id)
            return
        try:
            value = self._value(came, name, key, path)
        except _NotToBeTold as reason:
            tell(f"{name}: {reason}", id)
            return
        self._fill(FillPlace(path), id, value)

    def _value(self, came: _CaseLaunch, name: str, key: str, path: KeyPath) -> object:
        """Return what is written for what came."""
        if name == "exit":
            if came.launch.exit is None:
                raise _NotToBeTold(f"it ended by signal {came.launch.signal}, not by an exit code")
            return came.launch.exit
        text = came.text(name)
        if key == "lines":
            return [portable(each, self.spec.here) for each in split_lines(text)]
        if key == "number-of-lines":
            return len(split_lines(text))
        if key == "size":
            return len(text.encode())
        if key == "empty":
            return not text
        stem = f"{came.matrix.name}.{path[3]}" if len(path) > 5 else came.matrix.name
        return kept_stream(
            text,
            f"{stem}.{name.removeprefix('files.')}",
            self.filling.files,
            self.spec.here,
            whole=path[-1] == "is",
        )

    def _fill_file(self, came: _CaseLaunch, name: str, file: str) -> None:
        """Take what came as the content of the file that is compared with."""
        place = os.path.normpath(os.path.join(self.spec.here, file))
        try:
            text = came.text(name)
        except _NotToBeTold as reason:
            self.filling.tell(f"{name}: {reason}", came.case.id)
            return
        # A spec may name any file, and a command that fills in must not write one that is
        # elsewhere.
        if not place.startswith(self.spec.here + os.sep):
            self.filling.tell(f"{name}: {file} is outside the spec's directory", came.case.id)
            return
        file = os.path.relpath(place, self.spec.here)
        # The first output would be a promise that the other cases break.
        if self.filling.files.setdefault(file, text) != text:
            self.filling.tell(f"{name}: {file} is compared with several outputs, which differ", came.case.id)
            return
        self.filling.filled.add(came.case.id)

    # --- cells ---

    def _fill_cells(self, came: _CaseLaunch, name: str, aspect: Aspect, names: frozenset[str]) -> None:
        tell, case = self.filling.tell, came.case
        try:
            found = _solved(aspect, came, name, names)
        except (_NotToBeTold, ExpressionFault) as reason:
            tell(f"{name}: {reason}", case.id)
            return
        for column, value in found.items():
            place = self._places.of_cell(came.matrix, case, column)
            if place is None:
                tell(f"{column}: its row is not in this spec", case.id)
                continue
            # A cell is no template, so it cannot say {here}.
            if isinstance(value, str) and len(self.spec.here) > 1 and self.spec.here in value:
                tell(
                    f"{column}: the output has the path of this directory in it; put {{here}} "
                    f"around the field, "
                    "in the expectation",
                    case.id,
                )
                continue
            self._fill(place, case.id, _like(came.matrix, column, value))

    def _fill(self, place: FillPlace, id: str, value: object) -> None:
        self.filling.values.setdefault(place, {})[id] = value

    # --- the texts ---

    def _by_table(self) -> dict[str, dict[FillPlace, object]]:
        """Return what is filled in where, by the table that it is in; places whose cases came to
        different values are reported."""
        by_table: dict[str, dict[FillPlace, object]] = {}
        for place, came in self.filling.values.items():
            values = list(came.values())
            # One literal stands for all cases of its rule. Which of their outcomes is right, nobody
            # but the author knows.
            if all(each == values[0] for each in values):
                self.filling.filled.update(came)
                by_table.setdefault(place.table, {})[place] = values[0]
                continue
            name = ".".join(map(str, place.path[2:])) or place.column
            why = (
                f"{name} covers {len(came)} cases with different results; move the value into a column, "
                f"so that each row has its own"
            )
            for id in came:
                self.filling.tell(why, id)
        return by_table

    def texts(self, missing: Sequence[Target] = ()) -> dict[str, tuple[str, str]]:
        """Return the files that change, by their path: the text before, and the one after. Places
        whose cases came to different values are left as they are, and told; so are those that stand
        for cases which are missing, since they were not launched in the end."""
        if missing:
            _leave_what_is_shared(self.filling, self._places, missing)
        by_table = self._by_table()
        found: dict[str, tuple[str, str]] = {}
        if by_table.get(""):
            text = self.text
            for place, value in by_table.pop("").items():
                text = self._with(place, partial(_with_place, text, place, value), text)
            if text != self.text:
                found[self.spec.path] = (self.text, text)
        for table, cells in by_table.items():
            if table:
                path = os.path.join(self.spec.here, table)
                # Byte for byte: line ends and quotes of a table stay as its author has them.
                before = after = read_raw(path, table)
                for place, value in sorted(cells.items(), key=lambda each: -each[0].row):
                    # from below, since a value of several lines moves the rows after it
                    after = self._with(place, partial(_edited_table, after, {place: value}), after)
                if after != before:
                    found[path] = (before, after)
        for name, content in self.filling.files.items():
            path = os.path.join(self.spec.here, name)
            before = read_raw(path, name) if os.path.exists(path) else ""
            if before != content:
                found[path] = (before, content)
        return found

    def _with(self, place: FillPlace, edit: Callable[[], str], before: str) -> str:
        """Return a text with one edit in it; what cannot be written is reported, and the rest
        is."""
        try:
            return edit()
        except (EditFault, ValueError, csv.Error) as fault:
            for id in self.filling.values[place]:
                self.filling.tell(f"{place.column or '.'.join(map(str, place.path[2:]))}: {fault}", id)
                self.filling.filled.discard(id)
            return before


def _leave_what_is_shared(filling: Filling, places: _FillPlaces, missing: Sequence[Target]) -> None:
    """Keep only the cells of rows of which no case is missing: a literal stands for all, and
    another case may contradict it."""
    rows = {
        (place.table, place.path, place.row)
        for matrix, case in missing
        for column in matrix.columns[:1]
        if (place := places.of_cell(matrix, case, column)) is not None
    }
    for place in list(filling.values):
        if not place.column or (place.table, place.path, place.row) in rows:
            for id in filling.values.pop(place):
                filling.tell(NOT_ALL, id)
    filling.files.clear()


def _open_names(case: Case, aspect: Aspect) -> frozenset[str]:
    return names_used(aspect) & {*case.said.open_columns}


class _CaseLaunch(Struct, frozen=True):
    """A launch of a case, and what its expectations may look at."""

    matrix: Matrix
    case: Case
    #: The number of the launch, from 0.
    step: int
    launch: Record | StepRecord
    context: CheckContext

    def text(self, aspect: str) -> str:
        """Return a stream, or a file, as it is compared. Raises _NotToBeTold where it is no
        text."""
        if aspect.startswith("files."):
            name = named_file(aspect.removeprefix("files."), self.context.scope)
            looked = self.launch.looked_at.get(name)
            if looked is None or looked.instead or looked.content is None:
                raise _NotToBeTold(f"{name} is {looked.instead or 'no text' if looked else 'not there'}")
            return looked.content
        if getattr(self.launch, f"{aspect}_base64") is not None:
            raise _NotToBeTold("the output is not text")
        masked = getattr(self.launch, f"{aspect}_masked", None)
        return str(masked if masked is not None else getattr(self.launch, aspect) or "")


class _NotToBeTold(Exception):
    """Why what is to be filled in cannot be read off the output."""


def read_raw(path: str, name: str) -> str:
    """Return the text of a file with its own line ends. Raises SourceFault."""
    read_text(path, name)  # tells what is wrong with it
    return read_regular(path, MAX_SOURCE_BYTES).decode()


def _forms_of(aspect: Aspect) -> tuple[Form, ...]:
    return aspect.forms if isinstance(aspect, (StreamAspect, FileAspect)) else ()


def _key_of(aspect: Aspect) -> tuple[str, str]:
    """Return the key of the one literal that an aspect asks for, below its own; or why there is
    none."""
    if isinstance(aspect, ExitAspect):
        if isinstance(aspect.expectation.allowed, Template):
            return "", "its code is an expression"
        return "", ""
    forms = _forms_of(aspect)
    if len(forms) != 1:
        return "", "it asks for several things" if forms else "it does not ask for a literal"
    form = forms[0]
    if isinstance(form, IsForm):
        open_or_plain = form.text.constant is not None
        return ("is", "" if open_or_plain else "its text has fields, and it is unclear which part differs")
    if isinstance(form, LinesForm) and all(each.constant is not None for each in form.texts):
        return "lines", ""
    if isinstance(form, CountForm) and not isinstance(form.count, Template):
        return "number-of-lines" if form.lines else "size", ""
    if isinstance(form, EmptyForm):
        return "empty", ""
    return "", f"it {form.describe()}; it is unclear which part of the output is meant"


def _is_about(path: KeyPath, came: _CaseLaunch) -> bool:
    """Tell whether a key of a spec can be of the matrix, and of the step, that came to
    something."""
    if path[0] != "matrix":
        return True
    return path[1] == came.matrix.index and (path[2] != "steps" or path[3] == came.step)


def _file_name(aspect: str, context: CheckContext) -> str:
    if not aspect.startswith("files."):
        return aspect
    try:
        return f"files.{named_file(aspect.removeprefix('files.'), context.scope)}"
    except ExpressionFault:
        return aspect


def _solved(aspect: Aspect, came: _CaseLaunch, name: str, names: frozenset[str]) -> Cells:
    """Return the values of columns with which an aspect is met by what came. Raises
    _NotToBeTold."""
    if isinstance(aspect, ExitAspect):
        allowed = aspect.expectation.allowed
        if not isinstance(allowed, Template) or _bare_name(allowed) not in names:
            raise _NotToBeTold("its code is an expression")
        if came.launch.exit is None:
            raise _NotToBeTold(f"it ended by signal {came.launch.signal}, not by an exit code")
        return {str(_bare_name(allowed)): came.launch.exit}
    found: Cells = {}
    text = came.text(name)
    for form in _forms_of(aspect):
        for template, actual, how in _pairs(form, text):
            if template.names & names:
                for each, value in _matched(template, actual, how, came, names).items():
                    if found.setdefault(each, value) != value:
                        raise _NotToBeTold(f"{each} would have to be two things at once")
    missing = sorted(names - found.keys())
    if missing:
        raise _NotToBeTold(f"what {missing[0]} is cannot be read off the output")
    return found


def _pairs(form: Form, text: str) -> Iterator[tuple[Template, str, str]]:
    """Yield the texts of a form, each with what it is compared with, and how: as a whole, or as a
    part."""
    if isinstance(form, IsForm):
        yield form.text, text, "whole"
    elif isinstance(form, ContainsForm) and form.wanted:
        yield from ((each, text, "part") for each in form.texts)
    elif isinstance(form, LinesForm):
        lines = split_lines(text)
        if len(lines) != len(form.texts):
            raise _NotToBeTold(f"{len(lines)} lines came, and {len(form.texts)} are expected")
        yield from ((each, line, "whole") for each, line in zip(form.texts, lines, strict=True))


def _matched(template: Template, actual: str, how: str, came: _CaseLaunch, names: frozenset[str]) -> Cells:
    """Match a text with what came, and return the values of its open fields. Raises
    _NotToBeTold."""
    pattern, groups = "", list[str]()
    expressions = template.expressions
    for part in template.parts:
        if not isinstance(part, Field):
            pattern += re.escape(part.text)
            continue
        expression = next(expressions)
        if not expression.names & names:
            pattern += re.escape(Template("", parts=(part,)).render(came.context.scope))
            continue
        name = part.source.strip()
        if name not in names or part.conversion or (part.format and not _is_of_number(part.format)):
            raise _NotToBeTold(
                f"{{{part.source}}} cannot be reversed: its parts cannot be read off the output"
            )
        if name in groups:
            pattern += f"(?P=g{groups.index(name)})"
            continue
        groups.append(name)
        inner = r"\s*[+-]?[\d.]+" if part.format else (r".*?" if how == "whole" else r"\S+")
        pattern += f"(?P<g{len(groups) - 1}>{inner})"
    found = (
        re.fullmatch(f"{pattern}\n?" if not template.source.endswith("\n") else pattern, actual, re.DOTALL)
        if how == "whole"
        else re.search(pattern, actual)
    )
    if found is None:
        raise _NotToBeTold(f"the output does not fit the rest of {template.source!r}")
    return {
        name: found[f"g{at}"].strip() if _has_format(template, name) else found[f"g{at}"]
        for at, name in enumerate(groups)
    }


def _has_format(template: Template, name: str) -> bool:
    return any(
        isinstance(each, Field) and each.source.strip() == name and bool(each.format)
        for each in template.parts
    )


def _is_of_number(format: str) -> bool:
    return bool(re.fullmatch(r"[<>=^]?[+ -]?0?\d*,?(\.\d+)?[dfg]?", format)) and "," not in format


def _bare_name(template: Template) -> str | None:
    part = template.parts[0] if len(template.parts) == 1 else None
    bare = isinstance(part, Field) and not part.format and not part.conversion
    return part.source.strip() if bare and isinstance(part, Field) else None


def _like(matrix: Matrix, column: str, value: object) -> object:
    """Return a value of the kind that its column has: a number where the other cells are
    numbers."""
    at = matrix.columns.index(column)
    kinds = {type(row[at]) for row in matrix.rows if row[at] not in (OPEN, "", None)}
    if isinstance(value, str) and kinds and kinds <= {int, float} and _NUMBER.fullmatch(value):
        return Number(value)
    return value


def _with_place(text: str, place: FillPlace, value: object) -> str:
    """Return the text of a spec with a value in its place. Raises EditFault."""
    if not place.column:
        return with_value(text, place.path, written_value(value))
    rows: KeyPath = place.path
    at = list(value_at(text, *rows[:-1], "columns")).index(place.column)
    # The last cells of a row may be left out, and then they are open.
    while len(value_at(text, *rows, place.row)) < at:
        text = with_item(text, (*rows, place.row), written_value(OPEN))
    if len(value_at(text, *rows, place.row)) == at:
        return with_item(text, (*rows, place.row), written_value(value))
    return with_value(text, (*rows, place.row, at), written_value(value))


class _TableCell(NamedTuple):
    """A cell of a table as it is written."""

    start: int
    stop: int
    text: str
    is_quoted: bool


def _cells_of(text: str, separator: str) -> Iterator[tuple[int, list[_TableCell]]]:
    """Yield the rows of a table (RFC 4180), each with the number of the line in which it begins."""
    at, line = 0, 1
    while at < len(text):
        begun, row = line, list[_TableCell]()
        while True:
            cell = _cell_at(text, at, separator)
            line += text.count("\n", at, cell.stop)
            row.append(cell)
            at = cell.stop
            if text[at : at + len(separator)] != separator:
                break
            at += len(separator)
        yield begun, row
        if text[at : at + 2] == "\r\n":
            at += 1
        at, line = at + 1, line + 1


def _cell_at(text: str, at: int, separator: str) -> _TableCell:
    if text[at : at + 1] == '"':
        found = re.compile(r'"((?:[^"]|"")*)"').match(text, at)
        if found is not None:
            return _TableCell(at, found.end(), found[1].replace('""', '"'), True)
    plain = re.compile(rf"[^{re.escape(separator)}\r\n]*").match(text, at)
    assert plain is not None  # it matches an empty text, too
    return _TableCell(at, plain.end(), plain[0], False)


def _edited_table(text: str, cells: Mapping[FillPlace, object]) -> str:
    """Return the text of a table with cells in their places; all else stays as it is to the letter.
    Raises EditFault where that cannot be done."""
    mark = "\ufeff" if text.startswith("\ufeff") else ""
    text = text.removeprefix(mark)
    separator = separator_in(text)
    wanted: dict[int, Cells] = {}
    for place, value in cells.items():
        wanted.setdefault(place.row, {})[place.column] = value
    rows = _cells_of(text, separator)
    header = [each.text for each in next(rows)[1]]
    changes: list[tuple[_TableCell, str]] = []
    for line, row in rows:
        for column, value in wanted.get(line, {}).items():
            at = header.index(column)
            if at >= len(row):
                raise EditFault(f"line {line} has no cell for {column}")
            changes.append((row[at], str(value)))
    made = text
    for cell, new in sorted(changes, reverse=True):
        needs_quotes = cell.is_quoted or any(each in new for each in (separator, '"', "\n", "\r"))
        written = '"' + new.replace('"', '""') + '"' if needs_quotes else new
        made = made[: cell.start] + written + made[cell.stop :]
    _refuse_other_table(text, made, separator, len(changes))
    return mark + made


def _refuse_other_table(before: str, after: str, separator: str, count: int) -> None:
    """Raise EditFault unless two tables differ in so many cells at the most, as a reader has
    them."""
    csv.field_size_limit(MAX_SOURCE_BYTES)
    old, new = (
        list(csv.reader(io.StringIO(each, newline=""), strict=True, delimiter=separator))
        for each in (before, after)
    )
    same_shape = [len(row) for row in old] == [len(row) for row in new]
    differing = sum(
        one != other
        for left, right in zip(old, new, strict=False)
        for one, other in zip(left, right, strict=False)
    )
    if not same_shape or differing > count:
        raise EditFault("a cell cannot be changed without changing others")
