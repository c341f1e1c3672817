"""The family `accepted`: counts of operands, each option alone, values at their edges, and pairs
of all of these."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expressions import Expression, Scope
from keen_matrix.core.model.relation import Relation
from keen_matrix.core.notation.synopsis import Choice, Operand, OptionUse, Usage
from keen_matrix.core.signature.families import CLASH, Making, Vector
from keen_matrix.core.signature.grounds import UsageGrounds
from keen_matrix.core.signature.judging.binding import concerns, condition_functions, identifier
from keen_matrix.core.signature.kinds import END_OF_INPUT
from keen_matrix.core.signature.model import names_of
from keen_matrix.core.signature.requests import (
    Assembly,
    Builder,
    OptionPart,
    Request,
    Wish,
    derived_builders,
    is_apart,
    operand_count,
    plain_options,
)
from keen_matrix.core.signature.signature import Signature

#: Legal values tried of one NAME.
MOST_EDGES = 6
#: Pairs of choices and values up to which they are combined: some hundred options.
MOST_PAIRS = 100_000
#: Counts of operands tried of one NAME.
MOST_COUNTS = 5


def vectors(making: Making) -> Iterator[Vector]:
    """Yield vectors that every conforming program accepts, and those in which this program was
    seen not to, each clash once."""
    signature, notes = making.signature, making.notes
    yield from _stated(signature)
    # first what others stand on: it may be a vector of another form as well
    for builder in making.builders:
        # It fails, and is the one failure that tells why all of its form are blocked.
        plain = None if builder.grounds.works else builder.smallest()
        if plain is not None and signature.judge(plain.words()).status == "accepted":
            yield Vector(words=plain.words(), kind="smallest", culprit="", detail=builder.grounds.edit)
    for number, builder in enumerate(making.builders):
        grounds = builder.grounds
        yield from _clashes(making, number, grounds)
        # What would state a refusal stands with the first vector that shows it, so that it is
        # reported once.
        edits = {clash.options: clash.edit for clash in grounds.clashes if not clash.about}
        for kind, culprit, request in accepted_requests(signature, builder):
            if request is None:
                continue
            words = request.words()
            if signature.judge(words).status != "accepted":
                notes.unsettled += 1
                continue
            detail = edits.get((culprit,), "") if kind == "option" else ""
            if kind == "smallest" and not grounds.works:
                continue
            # Where the form works, an accepted vector is its own experiment; else all stand on the
            # smallest one, which does not.
            control = None if grounds.works or kind == "smallest" else builder.control(words)
            yield Vector(words=words, kind=kind, culprit=culprit, detail=detail, control=control)
    for words in making.grounds.asking:
        yield Vector(
            words=words,
            kind=END_OF_INPUT,
            variant=END_OF_INPUT,
            relation=Relation(name="unmoved", fresh=(True,)),
        )


def _stated(signature: Signature) -> Iterator[Vector]:
    """Yield what a spec states as calls: options that act alone, and in no other vector, since
    whatever is beside them is not looked at, and examples."""
    for spellings in signature.actions:
        for spelling in spellings:
            if signature.judge((spelling,)).status == "accepted":
                yield Vector(words=(spelling,), kind="action", culprit=spelling)
    for words in signature.examples:
        if signature.judge(words).status == "accepted":
            yield Vector(words=words, kind="example", culprit="")


def _clashes(making: Making, number: int, grounds: UsageGrounds) -> Iterator[Vector]:
    """Yield the vectors that show what the program refuses and the signature does not."""
    if grounds.required or grounds.operands:
        plain = Builder(making.signature, making.signature.forms[number]).smallest()
        if plain is not None:
            culprit = " ".join((*grounds.required, *grounds.operands))
            yield Vector(words=plain.words(), kind=CLASH, culprit=culprit, detail=grounds.edit)
    for clash in grounds.clashes:
        # One option that is refused on its own is reported by its own vector of the kind "option".
        if len(clash.options) != 1 or clash.about:
            culprit = " ".join(clash.options) or clash.about or " ".join(clash.words)
            yield Vector(words=clash.words, kind=CLASH, culprit=culprit, detail=clash.edit)


def accepted_requests(signature: Signature, builder: Builder) -> Iterator[tuple[str, str, Request | None]]:
    """Yield the requests of one form that the family is made of: kind, what it is about, and the
    request; none where conditions allow none."""
    smallest = builder.smallest()
    yield "smallest", "", smallest
    for item in builder.form.form.walk():
        if isinstance(item, Operand):
            for count in _counts(signature, item):
                yield ("count", f"{count} {item.name.name}", builder.with_counts(item.name.name, count))
    for option in plain_options(signature, builder.form):
        # Each on its own: beside others an option that does nothing, or breaks, is hidden.
        yield "option", option.key, builder.smallest([option])
        if option.optional_value:
            request = builder.smallest([option])
            if request is not None:
                yield "option", option.key, _bare(request, option.key)
    yield from _edges(signature, builder)
    yield "fullest", "", builder.fullest()
    for request in pairs_of(signature, builder):
        yield "pairs", "", request


def pairs_of(signature: Signature, builder: Builder) -> Iterator[Request]:
    """Yield requests in which every pair of choices and values of a form is, those that have what
    it requires."""
    required, operands = set(builder.grounds.required), set(builder.grounds.operands)
    for request in _PairRequests(signature, builder).requests():
        has = {part.option.key for part in request.options}
        if required <= has and operands <= {part.name for part in request.operands}:
            yield request


def _bare(request: Request, key: str) -> Request:
    """Return a request in which the optional value of an option is left out."""
    parts = [
        part if part.option.key != key else OptionPart(part.option, part.spelling) for part in request.options
    ]
    return Request(request.form, tuple(parts), request.operands, request.delimiter)


def _counts(signature: Signature, item: Operand) -> list[int]:
    least, most = operand_count(signature, item)
    top = least + 2 if most is None else most
    # The bounds, and one after the lower: programs that read argv by index go wrong at the second
    # word.
    return sorted({least, min(least + 1, top), top})[:MOST_COUNTS]


def _edges(signature: Signature, builder: Builder) -> Iterator[tuple[str, str, Request | None]]:
    """Yield the smallest request with each legal value of each NAME in turn."""
    wanted = [None, *plain_options(signature, builder.form)]
    done: set[tuple[str, str, str]] = set()
    for option in wanted:
        request = builder.smallest([option] if option else [])
        for place, number, name, _ in request.slots() if request else ():
            owner = request.options[place].option.key if request and isinstance(place, int) else ""
            for value in builder.legal(name)[:MOST_EDGES]:
                if request is not None and (name, owner, value) not in done:
                    done.add((name, owner, value))
                    yield (
                        "edge",
                        name,
                        _settled(signature, request.with_value(place, number, value), (place, number)),
                    )


def _settled(signature: Signature, request: Request, kept: tuple[int | str, int]) -> Request:
    """Return the request with another of its values changed, when a condition forbids it as it
    is."""
    if signature.judge(request.words()).status == "accepted":
        return request
    for place, number, name, _ in request.slots():
        if (place, number) == kept:
            continue
        # A condition may tie two values together: the edge is kept, and the other one gives way.
        for value in signature.values[name].legal()[:MOST_EDGES]:
            tried = request.with_value(place, number, value)
            if signature.judge(tried.words()).status == "accepted":
                return tried
    return request


class _ChoiceLevel(NamedTuple):
    """What may be made of a choice: one of its alternatives, or none (-1), and the value of the one
    NAME in it, where it is a matter of this choice alone."""

    alternative: int
    value: str | None = None


class _PairRequests:
    """Every pair of choices and values of one form, in few requests (a covering array).

    A value is a level of the choice that it stands in: as a factor of its own it would have one
    where its option is left out, and pairs with it would count as tried that are in no request."""

    def __init__(self, signature: Signature, builder: Builder) -> None:
        self.signature, self.builder = signature, builder
        self.choices = [
            item
            for item in builder.form.form.walk()
            if isinstance(item, Choice) and not (self._is_help(item) or self._is_refused(item))
        ]
        names = list(names_of(builder.form.form))
        self.legal = {name: builder.legal(name)[:MOST_EDGES] or ["word"] for name in names}
        #: NAME → the choice that it is a matter of.
        self.owner: dict[str, int] = {}
        self.picks = [list(self._levels(number, choice, names)) for number, choice in enumerate(self.choices)]
        #: NAMEs of which each value is a level of their own factor.
        self.names = [name for name in signature.values if name in self.legal and name not in self.owner]
        self.levels = [len(each) for each in self.picks]
        self.levels += [len(self.legal[name]) for name in self.names]

    def _levels(self, number: int, choice: Choice, names: Sequence[str]) -> Iterator[_ChoiceLevel]:
        if choice.optional:
            yield _ChoiceLevel(-1)
        for at, alternative in enumerate(choice.alternatives):
            own = list(names_of(alternative))
            is_plain = not any(isinstance(each, Choice) for each in alternative.items)
            if len(own) == 1 and is_plain and names.count(own[0]) == 1:
                self.owner[own[0]] = number
                yield from (_ChoiceLevel(at, value) for value in self.legal[own[0]])
            else:
                yield _ChoiceLevel(at)

    def _level(self, number: int, row: Any) -> _ChoiceLevel:
        level: int = row[number]
        return self.picks[number][level]

    def _is_help(self, choice: Choice) -> bool:
        form = self.builder.form
        return any(
            isinstance(item, OptionUse) and is_apart(self.signature, form.option_of(item))
            for each in choice.alternatives
            for item in each.walk()
        )

    def _is_refused(self, choice: Choice) -> bool:
        """Tell whether a choice is one of operands, and more of them than the least are refused."""
        items = (item for each in choice.alternatives for item in each.walk())
        only_operands = choice.optional and not any(isinstance(each, OptionUse) for each in items)
        return self.builder.grounds.few_operands and only_operands

    def requests(self) -> Iterator[Request]:
        """Yield the requests; conditions are kept to, and no pair is left out that some request
        can have."""
        from keen_matrix.core.covering.search import NoRows, covering_rows, tuple_count

        # Above some hundred options the search would take longer than all launches; what is left
        # out then is reported.
        if len(self.levels) < 2 or tuple_count(self.levels, 2) > MOST_PAIRS:
            return
        signature, form = self.signature, self.builder.form
        # Conditions go into the search and are not filtered out after it: a pair whose only row is
        # thrown away would be lost without a word.
        rules = [self._rule(each, False) for each in signature.only_if if concerns(signature, form, each)]
        rules += [
            self._rule(own.when, True) for own in signature.refuse if concerns(signature, form, own.when)
        ]
        try:
            rows = covering_rows(self.levels, 2, allowed=rules or None, effort="quick").tolist()
        except NoRows:
            return
        for row in rows:
            yield self.request_of(row)

    def _rule(self, condition: Expression, forbidden: bool) -> Any:
        functions = condition_functions(self.signature, frozenset())

        def allowed(row: object) -> bool:
            def given(*spellings: str) -> bool:
                return self._is_there(
                    self.builder.form.form, lambda use: not spellings_of(use).isdisjoint(spellings), row
                )

            try:
                value = condition.evaluate(Scope(_RowNames(self, row), {**functions, "has": given}))
            except (
                ExpressionFault
            ):  # it asks for what only a whole vector has, such as argc: the judgement settles it
                return True
            return bool(value) is not forbidden

        return allowed

    def _is_there(self, form: Usage, wanted: Callable[[object], bool], row: Any) -> bool:
        """Tell whether a row of choices has a part that is wanted; looks only at the choices that
        this depends on."""
        for item in form.items:
            if isinstance(item, Choice):
                if not any(wanted(each) for alternative in item.alternatives for each in alternative.walk()):
                    continue
                # By identity: two groups of a line may be equal, and are two choices.
                number = next((at for at, each in enumerate(self.choices) if each is item), None)
                level = -item.optional if number is None else self._level(number, row).alternative
                if level >= 0 and self._is_there(item.alternatives[level], wanted, row):
                    return True
            elif wanted(item):
                return True
        return False

    def has_name(self, name: str, row: object) -> bool:
        """Tell whether a row of choices has a word for a NAME."""

        def names_it(item: object) -> bool:
            if isinstance(item, OptionUse):
                return any(each.name == name for each in item.values)
            return isinstance(item, Operand) and item.name.name == name

        return self._is_there(self.builder.form.form, names_it, row)

    def request_of(self, row: list[int]) -> Request:
        """Return the request of a row of choices and values."""
        # By place in the text, since the assembly walks the same nodes.
        picked = {
            choice.span: self._level(number, row).alternative for number, choice in enumerate(self.choices)
        }

        def choose(choice: Choice) -> Usage | None:
            level = picked.get(choice.span, -choice.optional)
            return choice.alternatives[level] if level >= 0 else None

        parts = Assembly(self.builder, Wish(set(), full=False), choose)
        parts.add(self.builder.form.form)
        made = Request(self.builder.form, tuple(parts.options), tuple(parts.operands))
        for place, number, name, _ in list(made.slots()):
            made = made.with_value(place, number, self.value(row, name))
        return made

    def value(self, row: Any, name: str) -> str:
        """Return the value of a NAME in a row."""
        if name in self.owner:
            # of a NAME that is not there any: it is asked for by none
            return self._level(self.owner[name], row).value or self.legal[name][0]
        level: int = row[len(self.choices) + self.names.index(name)]
        return self.legal[name][level]


def spellings_of(item: object) -> frozenset[str]:
    """Return the spellings of an option of the synopsis, or the word of a keyword; none of
    anything else."""
    return frozenset(item.spellings) if isinstance(item, OptionUse) else frozenset()


class _RowNames(Mapping[str, object]):
    """What a condition sees of a row: values of NAMEs, read only when asked for; of one not given
    its default, else None."""

    def __init__(self, pairs: _PairRequests, row: object) -> None:
        self.pairs, self.row = pairs, row
        self.by_identifier = {identifier(name): name for name in pairs.signature.values}

    def __getitem__(self, key: str) -> object:
        name = self.by_identifier[key]
        kind = self.pairs.signature.values[name]
        if name in self.pairs.legal and self.pairs.has_name(name, self.row):
            return kind.converted(self.pairs.value(self.row, name))
        return None if kind.default is None else kind.converted(str(kind.default))

    def __iter__(self) -> Iterator[str]:
        return iter(self.by_identifier)

    def __len__(self) -> int:
        return len(self.by_identifier)


def all_requests(signature: Signature) -> Iterator[tuple[str, ...]]:
    """Yield the vectors of every combination of choices and edge values of each form, the simplest
    first."""
    from itertools import product

    for builder in derived_builders(signature):
        pairs = _PairRequests(signature, builder)
        for row in product(*(range(level) for level in pairs.levels)):
            yield pairs.request_of(list(row)).words()
