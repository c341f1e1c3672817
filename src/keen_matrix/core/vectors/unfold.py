"""Unfolding: from a matrix to its cases, lazily, in an order that is the same everywhere."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping
from functools import partial
from operator import itemgetter
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expressions import FUNCTIONS, Scope, Template, words_of
from keen_matrix.core.model.case import Case, Named, Standing
from keen_matrix.core.model.relation import Relation, RelationName
from keen_matrix.core.model.spec import REPLIES, Matrix, Reference, Spec
from keen_matrix.core.notation.nodes import Group, Sequence, Word
from keen_matrix.core.structs import replace
from keen_matrix.core.vectors.combine import rows_of
from keen_matrix.core.vectors.constraints import constraints_of
from keen_matrix.core.vectors.distinct import provably_distinct
from keen_matrix.core.vectors.factors import Layout, layout_of
from keen_matrix.core.vectors.ids import case_id, case_id_of
from keen_matrix.core.vectors.marking import Marking, has_marks

Row: TypeAlias = tuple[int, ...]
#: Words, and the same as items of a JSON array.
Entry: TypeAlias = tuple[list[str], str]

_json = json.JSONEncoder(ensure_ascii=False, separators=(",", ":"), check_circular=False).encode

if TYPE_CHECKING:
    from keen_matrix.core.signature.signature import Signature


def unfold(spec: Spec, functions: Mapping[str, Callable[..., object]] | None = None) -> Iterator[Case]:
    """Yield every case of a spec in the order of the spec; identical vectors of a matrix come
    once.

    `functions` are those of the spec's oracle file (default: loaded from it when the spec names
    one). Raises WhereFault when a `where` fails for some values.
    """
    sequence = 0
    for matrix in spec.matrices:
        for case in unfold_matrix(spec, matrix, functions, sequence):
            sequence += 1
            yield case


def unfold_matrix(
    spec: Spec, matrix: Matrix, functions: Mapping[str, Callable[..., object]] | None = None, start: int = 0
) -> Iterator[Case]:
    """Yield the cases of one matrix, numbered from `start`."""
    if functions is None:
        from keen_matrix.core.oracle import named_functions

        functions = named_functions(spec.program.oracle)
    # Marks (skip, known, notes) are looked up for each case; most matrices have none, and pay
    # nothing for those that do.
    has_own = has_marks(spec, matrix)
    marking = Marking(spec, matrix, functions) if has_own else None
    if matrix.family:
        from keen_matrix.core.vectors.derived import family_cases  # costly, and of use with a signature alone

        cases = family_cases(spec, matrix, start)
        if marking is not None:
            cases = map(marking.marked, cases)
    else:
        # What is written out never loads the signature's modules: a spec without one starts sooner.
        cases = CaseMaker(spec, matrix, functions, marking).cases(start)
    yield from (cases if spec.reference is None else (with_reference(case, spec.reference) for case in cases))


def _standing(
    signature: Signature | None, origin: str, files: Files | None, words: tuple[str, ...]
) -> Standing:
    """Return what a signature, which is at `origin`, says of a vector, in a directory with
    these files."""
    from keen_matrix.core.vectors.derived import standing_of

    assert signature is not None
    there = signature
    if files is not None:
        there = signature.with_files(files.names, are_all=files.are_all)
    return standing_of(there, words, there.judge(words))._replace(origin=origin)


class Files(NamedTuple):
    """What is in the directory in which a vector is launched."""

    names: frozenset[str]
    #: Whether nothing else does: an earlier step may have made more, and a name may be filled
    #: in.
    are_all: bool


def _files_of(spec: Spec, matrix: Matrix, *, is_first: bool) -> Files | None:
    """Return the names that are in the directory of every case of a matrix, before its first step
    or a later one; None where the directory is the user's own."""
    # In the user's own directory files come and go, so nothing is said of those that a vector
    # names.
    if not matrix.bounds.fresh_directory:
        return None
    put = matrix.steps[0].surroundings.files
    constant = [(template.constant, each) for template, each in put]
    names = frozenset(f"{name}/" if each.directory else name for name, each in constant if name)
    return Files(names, is_first and len(names) == len(put))


def with_reference(case: Case, reference: Reference) -> Case:
    """Return a case that is also given to the reference program, unless it is compared with
    something already."""
    # A case has one relation. What is compared already, or has steps of its own, would mean two
    # things at once.
    if case.relation is None and not case.more and not case.fault:
        name: RelationName = "reference-accepted" if reference.only_accepted else "reference"
        relation = Relation(
            name=name,
            fresh=(True, True),
            launchers=("", "reference"),
            aspects=reference.aspects,
            any_order=reference.any_order,
            tolerance=reference.tolerance,
        )
        return replace(case, more=(case.argv,), relation=relation)
    return case


#: What a signature says of the words of another program.
_OF_ANOTHER = Standing("unspecified")


class CaseMaker:
    """Makes the cases of one matrix from rows of levels."""

    def __init__(
        self,
        spec: Spec,
        matrix: Matrix,
        functions: Mapping[str, Callable[..., object]],
        marking: Marking | None = None,
    ) -> None:
        self.spec, self.matrix, self._marking = spec, matrix, marking
        self.layout: Layout = layout_of(matrix)
        self.constraints = constraints_of(matrix, self.layout, spec.here, functions)
        self._functions = every = {**FUNCTIONS, **functions}
        lines = [step.line for step in matrix.steps]
        # The first line makes the case's own words; the others are its further steps, which have
        # words only.
        self._words, *self._more = [_Words(line, self.layout, spec.here, every) for line in lines]
        self._lookups = [
            (name, number, self.layout.values[name]) for name, number in self.layout.names.items()
        ]
        self._around = _varying_surroundings(matrix)
        self._others = tuple(number for number, step in enumerate(matrix.steps) if step.is_other)
        self._standing, self._later = (
            _AnswerCache(
                partial(
                    _standing, spec.signature, spec.signature_origin, _files_of(spec, matrix, is_first=each)
                )
            )
            for each in (True, False)
        )
        #: Whether no two rows can give the same vector.
        self.distinct = provably_distinct(matrix, self.layout)
        #: Rows so far whose vector an earlier row had given already.
        self.merged = 0

    def rows(self) -> Iterator[Row]:
        """Yield the rows of levels that the matrix combines to. Raises SpecFault when it cannot be
        combined as it asks."""
        from keen_matrix.core.vectors.faults import told_of_spec

        with told_of_spec(self.spec, self.matrix):
            yield from rows_of(self.matrix, self.layout, self.constraints)

    def cases(self, start: int = 0) -> Iterator[Case]:
        """Yield the cases, each vector once, numbered from `start`."""
        # The ids of a million cases take much memory: they are remembered only where two rows may
        # give the same vector.
        seen: set[str] | None = None if self.distinct else set()
        sequence = start
        for row in self.rows():
            case = self.case(row, sequence)
            if seen is not None:
                # The first row that gives a vector has it: ids, and what a journal says of them,
                # follow the order of the spec.
                if case.id in seen:
                    self.merged += 1
                    continue
                seen.add(case.id)
            sequence += 1
            yield case

    def case(self, row: Row, sequence: int = 0) -> Case:
        """Return the case of one row. A failing expression makes a case with a fault, not an
        error."""
        values = self._values(row)
        fault = None
        try:
            argv, more = self._words.of(row), tuple(words.of(row) for words in self._more)
            relation, others = self._compared(argv, values)
        except ExpressionFault as error:
            # One value that an expression cannot deal with is the verdict of its own case; all
            # others still run.
            argv, more, fault, relation, others = (), (), str(error), None, ()
        if self._around or fault or more:
            # NUL cannot be in a word, so no two lists of steps run into each other.
            later = [word for words in more for word in ("\0", *words)]
            key = (self.matrix.name, *argv, *later, *self._surroundings_key(values, argv, fault))
        else:
            # The usual case: words alone tell it apart, and its id survives every change of what
            # surrounds it.
            key = (self.matrix.name, *argv)
        judges = self.spec.signature is not None and not fault
        standings = self._standings(argv, more, is_compared=relation is not None) if judges else ()
        case = Case(
            sequence=sequence,
            id=case_id(key),
            matrix=self.matrix.index,
            argv=argv,
            values=values,
            fault=fault,
            more=more or others,
            others=self._others,
            relation=relation,
            standings=standings,
            kind=" ".join(standings[0].kinds) if standings else "",
            culprit=standings[0].culprit if standings else "",
        )
        if self._marking is None:
            return case
        places = self.matrix.marks.rows
        return self._marking.marked(case, places[row[0]] if places else "")

    def _values(self, row: Row) -> Named:
        values = {name: column[row[number]] for name, number, column in self._lookups}
        # An axis inside a part of the line that is left out still has a level, or the search could
        # not combine it. Its value is no part of the case.
        for name, parents in self.layout.hidden.items():
            if not any(row[group] == level for group, level in parents):
                values[name] = None
        return values

    def _standings(
        self, argv: tuple[str, ...], more: tuple[tuple[str, ...], ...], *, is_compared: bool
    ) -> tuple[Standing, ...]:
        """Return what the signature says of each launch; of one of another program nothing."""
        # From a list, which takes less time than a generator; this is done for every case.
        return tuple(
            [
                _OF_ANOTHER
                if number in self._others
                else (self._later if number and not is_compared else self._standing)[words]
                for number, words in enumerate((argv, *more))
            ]
        )

    def _compared(
        self, argv: tuple[str, ...], values: Named
    ) -> tuple[Relation | None, tuple[tuple[str, ...], ...]]:
        """Return how a case is compared with further launches, and their vectors. Raises
        ExpressionFault."""
        other = self.matrix.other
        if other is None:
            return None, ()
        name: RelationName = "differs" if other.differs else "alike"
        # First, then in the directory that the first left, then in a fresh one: what a program
        # leaves behind must not change what it does.
        if other.again:
            return Relation(name=name, fresh=(True, False, True), aspects=other.aspects), (argv, argv)
        if other.words is not None or other.surroundings is not None:
            scope = Scope({"here": self.spec.here, **values}, self._functions)
            own = other.words is None
            words = argv if own else tuple(w for each in other.words or () for w in words_of(each, scope))
            return Relation(name=name, fresh=(True, True), aspects=other.aspects), (words,)
        count = len(other.launchers)
        launchers = ("", *other.launchers)
        relation = Relation(
            name=name, fresh=(True,) * (count + 1), launchers=launchers, aspects=other.aspects
        )
        return relation, (argv,) * count

    def json_lines(self) -> Iterator[str]:
        """Yield every case as a line of JSON: the journal's fields that need no outcome, put
        together from kept parts."""
        from keen_matrix.core.model.case import case_fields
        from keen_matrix.core.model.lines import encode

        # Whatever asks for more than words and values goes the long way, through whole cases.
        particular = (
            self.spec.signature
            or self.spec.reference
            or self.matrix.other
            or self.layout.hidden
            or self._marking
        )
        if particular or self._around or self._more or not self._words.has_entries or not self.distinct:
            yield from (encode(case_fields(case, self.matrix.name)).decode() for case in self.cases())
            return
        columns = [
            (number, _AnswerCache(partial(_json_value, name, column)))
            for name, number, column in self._lookups
        ]
        # What is the same in every line is put together once: of a million lines, encoding each
        # from its fields takes far longer.
        head = f'","matrix":{_json(self.matrix.name)},"family":null,"kind":null,"argv":['
        name = self.matrix.name + "\0"
        for row in self.rows():
            try:
                entries = self._words.entries(row)
            except ExpressionFault:
                yield encode(case_fields(self.case(row), self.matrix.name)).decode()
                continue
            words = [word for entry in entries for word in entry[0]]
            id = case_id_of(name + "\0".join(words) if words else self.matrix.name)
            argv = ",".join([entry[1] for entry in entries if entry[0]])
            values = ",".join([kept[row[number]] for number, kept in columns])
            yield f'{{"id":"{id}{head}{argv}],"values":{{{values}}},"judgement":null}}\n'

    def _surroundings_key(self, values: Named, argv: tuple[str, ...], fault: str | None) -> Iterator[str]:
        """Yield what tells two cases of equal words apart: varying stdin, files and environment."""
        scope = Scope(
            {"here": self.spec.here, "words": list(argv), "argc": len(argv), "case_id": "", **values}
        )
        for name, template in self._around:
            yield name
            try:
                # Of replies a list gives as many.
                yield repr(words_of(template, scope)) if name == REPLIES else template.render(scope)
            except ExpressionFault as error:
                # Two cases that fail for different values are two cases.
                yield str(error)
        if fault:
            yield repr(sorted((name, str(value)) for name, value in values.items()))


def _json_value(name: str, column: Any, level: int) -> str:
    return f"{_json(name)}:{_json(column[level])}"


def _varying_surroundings(matrix: Matrix) -> list[tuple[str, Template]]:
    return [
        (name, template)
        for around in matrix.surroundings
        for name, template in around.templates
        if template.constant is None
    ]


class _Words:
    """The line of a matrix, made into words row by row. What a word gives is kept for the levels
    that it reads."""

    def __init__(
        self, line: Sequence, layout: Layout, here: str, functions: Mapping[str, Callable[..., object]]
    ) -> None:
        self._layout, self._here, self._functions = layout, here, functions
        self._plan = self._sequence(line)
        # Without optional parts each row has the same slots, and no walk decides which.
        self._flat = all(isinstance(each, _WordSlot) for each in self._plan)
        self._glued = any(item.glued for item in _items(line))

    def of(self, row: Row) -> tuple[str, ...]:
        """Return the vector of one row. Raises ExpressionFault."""
        # Glued parts join words that other parts gave, so they cannot be kept slot by slot.
        if self._glued:
            words: list[str] = []
            self._glue(self._plan, row, words)
            return tuple(words)
        return tuple([word for entry in self.entries(row) for word in entry[0]])

    def entries(self, row: Row) -> list[Entry]:
        """Return what each word of the line gives in a row, as words and as JSON; not for lines
        with glued parts."""
        if self._flat:
            return [slot.table[slot.key(row)] for slot in self._plan]  # type: ignore[union-attr]
        found: list[Entry] = []
        self._emit(self._plan, row, found)
        return found

    @property
    def has_entries(self) -> bool:
        """Whether entries() can be used."""
        return not self._glued

    def _emit(self, plan: list[_WordSlot | _LineGroup], row: Row, found: list[Entry]) -> None:
        for each in plan:
            if isinstance(each, _WordSlot):
                found.append(each.table[each.key(row)])
            else:
                alternative = each.chosen(row)
                if alternative is not None:
                    self._emit(alternative, row, found)

    def _glue(self, plan: list[_WordSlot | _LineGroup], row: Row, words: list[str]) -> None:
        for each in plan:
            before = len(words)
            if isinstance(each, _WordSlot):
                words += each.table[each.key(row)][0]
            else:
                alternative = each.chosen(row)
                if alternative is not None:
                    self._glue(alternative, row, words)
            if each.glued and 0 < before < len(words):
                words[before - 1 : before + 1] = [words[before - 1] + words[before]]

    def _sequence(self, sequence: Sequence) -> list[_WordSlot | _LineGroup]:
        return [
            _WordSlot(item, self._layout, self._here, self._functions)
            if isinstance(item, Word)
            else _LineGroup(item, self._layout, [self._sequence(each) for each in item.alternatives])
            for item in sequence.items
        ]


def _items(sequence: Sequence) -> Iterator[Word | Group]:
    for item in sequence.items:
        yield item
        if isinstance(item, Group):
            for alternative in item.alternatives:
                yield from _items(alternative)


class _AnswerCache(dict[object, Any]):
    """Answers by key, worked out when first asked for; so many are kept that no matrix fills the
    memory."""

    def __init__(self, work_out: Callable[[Any], object]) -> None:
        super().__init__()
        self._work_out = work_out

    def __missing__(self, key: object) -> object:
        if len(self) >= MAX_KEPT:
            self.clear()
        found = self[key] = self._work_out(key)
        return found


#: Answers kept for one place of the line; an axis of a billion values must not fill the memory.
MAX_KEPT = 8_192


class _WordSlot:
    """One word of the line."""

    def __init__(
        self, word: Word, layout: Layout, here: str, functions: Mapping[str, Callable[..., object]]
    ) -> None:
        self.word, self.glued = word, word.glued
        self._template = Template("", parts=word.parts)
        names = sorted(name for name in self._template.names if name in layout.names)
        self.factors = tuple(sorted({layout.names[name] for name in names}))
        self._lookups = [
            (name, self.factors.index(layout.names[name]), layout.values[name]) for name in names
        ]
        self._here, self._functions = here, functions
        self.key: Callable[[Row], object] = itemgetter(*self.factors) if self.factors else lambda row: None
        self.table = _AnswerCache(self._entry)

    def _entry(self, key: Any) -> Entry:
        """Return the words that this word of the line gives, and their JSON. Raises
        ExpressionFault."""
        levels = key if len(self.factors) > 1 else (key,)
        values = {name: column[levels[at]] for name, at, column in self._lookups}
        words = words_of(self._template, Scope({"here": self._here, **values}, self._functions))
        return words, ",".join(map(_json, words))


class _LineGroup:
    """One group of the line."""

    def __init__(
        self, group: Group, layout: Layout, alternatives: list[list[_WordSlot | _LineGroup]]
    ) -> None:
        self.group, self.glued = group, group.glued
        self._number = layout.groups[id(group)]
        self._first = 1 if group.optional else 0
        self._alternatives = alternatives

    def chosen(self, row: Row) -> list[_WordSlot | _LineGroup] | None:
        """Return the alternative that a row takes, or None when the group is left out or absent."""
        index = row[self._number] - self._first
        return self._alternatives[index] if 0 <= index < len(self._alternatives) else None
