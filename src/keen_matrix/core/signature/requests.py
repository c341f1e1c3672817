"""Requests: what a vector says, before it is spelled out in words. The families are made of them.

A request is options with their values and operands, of one form of the synopsis. The smallest
request of a form is what it requires and nothing else; the fullest takes every option once, and of
alternatives the longest.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence, Set
from functools import lru_cache
from itertools import islice, product
from typing import Literal, TypeAlias

from keen_matrix.core.notation.synopsis import Choice, Delimiter, Keyword, Operand, OptionUse, Usage
from keen_matrix.core.signature.grounds import NO_GROUNDS, UNTRIED, Grounds, UsageGrounds
from keen_matrix.core.signature.judging.binding import identifier
from keen_matrix.core.signature.judging.taking import USUAL_HELP
from keen_matrix.core.signature.model import Option, UsageModel
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.structs import Struct, field, replace

#: Combinations of values that are tried to find some that all conditions of a signature allow.
MOST_TRIED = 4_000
#: The same where it is no condition that is not met.
FEW_TRIED = 8
#: Operands that stand for "any number" in the fullest request.
MANY = 2

Writing: TypeAlias = Literal["apart", "joined"]


class OptionPart(Struct, frozen=True):
    """An option with its values, in one spelling."""

    option: Option
    spelling: str
    values: tuple[str, ...] = ()
    writing: Writing = "apart"

    def words(self) -> list[str]:
        """Return the words that it gives."""
        glued = self.option.optional_value and not self.option.is_apart
        if self.values and (self.writing == "joined" or glued):
            glue = "=" if self.spelling.startswith("--") or len(self.spelling) > 2 else ""
            return [f"{self.spelling}{glue}{self.values[0]}", *self.values[1:]]
        return [self.spelling, *self.values]

    @property
    def takes_more(self) -> bool:
        """Whether it would take further words for its values."""
        most = self.option.most
        is_open = most is None or len(self.values) < most
        return self.option.takes_value and not self.option.optional_value and is_open


class OperandPart(Struct, frozen=True):
    """An operand, or a keyword when `name` is empty."""

    name: str
    word: str


class Request(Struct, frozen=True):
    """What a vector says."""

    form: UsageModel
    options: tuple[OptionPart, ...] = ()
    operands: tuple[OperandPart, ...] = ()
    delimiter: bool = False

    def words(self, place: Literal["first", "last"] = "first") -> tuple[str, ...]:
        """Return the vector: keywords with their options, options before operands (or after them).
        Behind an option that would take them for more of its values the operands follow
        `--`."""
        found: list[str] = []
        late: list[str] = []
        last: OptionPart | None = None
        operands = list(self.operands)
        for number in range(self.form.keywords + 1):
            for part in self.options:
                if min(part.option.after_keywords, self.form.keywords) != number:
                    continue
                if place == "last" and number == self.form.keywords:
                    late += part.words()
                else:
                    found += part.words()
                    last = part
            if number < self.form.keywords and operands and not operands[0].name:
                found.append(operands.pop(0).word)
                last = None
        if self.delimiter or (operands and last is not None and last.takes_more):
            found += late
            late = []
            found.append("--")
        return (*found, *(part.word for part in operands), *late)

    def behind_keywords(self) -> int:
        """Return where the words after the last keyword begin."""
        options = sum(
            len(part.words()) for part in self.options if part.option.after_keywords < self.form.keywords
        )
        return options + self.form.keywords

    def with_option(self, part: OptionPart) -> Request:
        """Return the request with one more option part."""
        return replace(self, options=(*self.options, part))

    def without_option(self, option: Option) -> Request:
        """Return the request without an option."""
        return replace(self, options=tuple(part for part in self.options if part.option is not option))

    def with_value(self, place: int | str, number: int, word: str) -> Request:
        """Return the request with another value: of option part `place` and value `number`, or of
        operand `number`."""
        if isinstance(place, str):
            parts = list(self.operands)
            parts[number] = replace(parts[number], word=word)
            return replace(self, operands=tuple(parts))
        options = list(self.options)
        values = list(options[place].values)
        values[number] = word
        options[place] = replace(options[place], values=tuple(values))
        return replace(self, options=tuple(options))

    def slots(self) -> Iterator[tuple[int | str, int, str, str]]:
        """Yield every value in it: place and number for with_value, NAME, word."""
        for place, part in enumerate(self.options):
            for number, value in enumerate(part.values):
                yield place, number, part.option.name_of(number), value
        for number, operand in enumerate(self.operands):
            if operand.name:
                yield "operand", number, operand.name, operand.word


def is_aside(signature: Signature, option: Option) -> bool:
    """Tell whether no derived vector is to have an option."""
    return any(each in signature.aside for each in option.spellings)


def is_apart(signature: Signature, option: Option) -> bool:
    """Tell whether an option asks for help or the version, or ends the call otherwise, so that it
    makes a program do nothing else; or whether it is set aside."""
    spelt_actions = {each for action in signature.actions for each in action}
    if is_aside(signature, option) or spelt_actions & set(option.spellings):
        return True
    return any(each in signature.help or each in USUAL_HELP - {"-h", "-V"} for each in option.spellings)


class Builder:
    """Builds requests of one form, clear of what its grounds say is not accepted."""

    def __init__(self, signature: Signature, form: UsageModel, grounds: UsageGrounds = UNTRIED) -> None:
        self.signature, self.form, self.grounds = signature, form, grounds
        self._smallest: dict[frozenset[str], Request | None] = {}
        #: What was made before: families ask for the same requests again and again.
        self._fullest: dict[frozenset[str], Request | None] = {}

    def smallest(self, wanted: Iterable[Option] = ()) -> Request | None:
        """Return the smallest accepted request that has the wanted options, or None when
        conditions allow none."""
        keys = frozenset(option.key for option in wanted)
        if keys not in self._smallest:
            found = self.wished(Wish(set(keys), full=False))
            self._smallest[keys] = found or self._smallest_with_more(keys)
        return self._smallest[keys]

    def _smallest_with_more(self, keys: frozenset[str]) -> Request | None:
        """Return the smallest accepted request where a condition asks for something optional beside
        the wanted options: with one more of them, or one more operand."""
        if not self.signature.conditions:
            return None
        for option in plain_options(self.signature, self.form):
            found = self.wished(Wish({*keys, option.key}, full=False))
            if found is not None:
                return found
        # With options that are wanted and still refused, no operand makes up for it.
        if keys:
            return None
        for item in self.form.form.walk():
            if isinstance(item, Operand):
                found = self.with_counts(item.name.name, 1)
                if found is not None:
                    return found
        return None

    def fullest(self, wanted: Iterable[Option] = ()) -> Request | None:
        """Return the fullest accepted request that has the wanted options, or None when conditions
        allow none."""
        options = list(wanted)
        keys = frozenset(option.key for option in options)
        if keys not in self._fullest:
            self._fullest[keys] = self._made_fullest(options, keys)
        return self._fullest[keys]

    def _made_fullest(self, wanted: Sequence[Option], keys: frozenset[str]) -> Request | None:
        # What is refused beside others, or ends the call, has nothing beside it; its fullest use is
        # its smallest.
        if keys & self.grounds.alone:
            return self.smallest(wanted)
        left_out = self._left_out(keys)
        made = self.wished(Wish(keys, full=True, without=left_out))
        if made is None and self.signature.conditions:
            # of a group that must be given the first may be the one that others do not go with
            tries = (
                self.wished(Wish({*keys, option.key}, full=True, without=left_out))
                for option in plain_options(self.signature, self.form)
            )
            found = [each for each in tries if each is not None]
            made = max(found, key=lambda each: len(each.words()), default=None)
        return made or self.smallest(wanted)

    def _left_out(self, keys: Set[str]) -> frozenset[str]:
        """Return the options that full use goes without, so that no clash is in it; those that are
        wanted stay."""
        gone = set(self.grounds.alone)
        for clash in self.grounds.clashes:
            rest = [each for each in clash.options if each not in gone]
            if len(rest) == len(clash.options) > 1:
                # The last of those that clash goes: the first ones of a synopsis are those that
                # people use.
                gone.add(next((each for each in reversed(rest) if each not in keys), rest[-1]))
        return frozenset(gone)

    def control(self, words: tuple[str, ...]) -> tuple[str, ...]:
        """Return what a vector made from these words stands on: them, or, where no call of the
        form is accepted, the smallest one, of which that is known."""
        if self.grounds.works:
            return words
        smallest = self.smallest()
        return words if smallest is None else smallest.words()

    def wished(self, wish: Wish) -> Request | None:
        """Return the accepted request that is as wished, or None when conditions allow none."""
        return fitting(self.signature, _made(self, wish))

    def with_counts(self, name: str, count: int) -> Request | None:
        """Return the smallest accepted request with so many operands of a NAME, and one of each
        that precedes it and would else take its words: `[NAME] [KG]` has no KG without a NAME."""
        found = self.wished(Wish(set(), full=False, counts={name: count}))
        if found is None or count == 0 or name in self.signature.judge(found.words()).bindings:
            return found
        operands = [item.name.name for item in self.form.form.walk() if isinstance(item, Operand)]
        before = operands[: operands.index(name)] if name in operands else []
        counts = {**dict.fromkeys(before, 1), name: count}
        return self.wished(Wish(set(), full=False, counts=counts)) or found

    def plain(self, wanted: Iterable[Option], *, full: bool) -> Request:
        """Return a request with usual values, whether or not it is accepted."""
        return _made(self, Wish({option.key for option in wanted}, full=full))

    def usual(self, name: str, number: int = 0) -> str:
        """Return a legal value of a NAME; several of them differ where the type has several."""
        legal = self.legal(name)
        return legal[number % len(legal)] if legal else "word"

    def legal(self, name: str) -> list[str]:
        """Return legal values of a NAME; the one that was seen to be accepted, where words were
        not."""
        learnt = dict(self.grounds.values).get(name)
        return self.signature.values[name].legal() if learnt is None else [learnt]


class Wish(Struct, frozen=True):
    """What a request should have: options by identity, counts of operands, everything."""

    options: Set[str]
    full: bool
    counts: Mapping[str, int] = field(default_factory=dict)
    #: Options that full use goes without.
    without: Set[str] = frozenset()
    #: Whether full use has the least number of operands.
    few: bool = False


def _made(builder: Builder, wish: Wish) -> Request:
    """Return the request that is as wished, whether or not it is accepted."""
    wish = replace(wish, options={*wish.options, *builder.grounds.required})
    # An operand that the synopsis calls optional and the program does not: it is in every
    # request.
    if builder.grounds.operands and not wish.counts:
        wish = replace(wish, counts=dict.fromkeys(builder.grounds.operands, 1))
    if builder.grounds.few_operands:
        wish = replace(wish, few=True)
    made = Assembly(builder, wish)
    made.add(builder.form.form)
    return Request(builder.form, tuple(made.options), tuple(made.operands), made.delimiter)


class Assembly:
    """The parts of a request that is being made, by walking the items of a form. `choose` says
    which alternative of a choice is taken, or None for none; without it, the one that fits the
    wish."""

    def __init__(
        self, builder: Builder, wish: Wish, choose: Callable[[Choice], Usage | None] | None = None
    ) -> None:
        self._builder, self._wish = builder, wish
        self._choose = choose or self._chosen
        self._signature, self._form = builder.signature, builder.form
        self._shape = shape_of(builder.signature, builder.form)
        # In full use all operands are there anyway, in the longest alternative.
        self._counted = frozenset(wish.counts) if not wish.full else frozenset()
        self.options: list[OptionPart] = []
        #: The identities of the options in them.
        self._there: set[int] = set()
        self.operands: list[OperandPart] = []
        self.delimiter = False

    def add(self, form: Usage) -> None:
        """Take what is wished for of a form, or of a part of it."""
        for item in form.items:
            if isinstance(item, Choice):  # first, since most are
                chosen = self._choose(item)
                if chosen is not None:
                    self.add(chosen)
            elif isinstance(item, OptionUse):
                self._add_option(item)
            elif isinstance(item, Keyword):
                self.operands.append(OperandPart("", item.word))
            elif isinstance(item, Delimiter):
                self.delimiter = True
            else:
                self._add_operand(item)

    def _chosen(self, choice: Choice) -> Usage | None:
        """Return the alternative that is taken: one with something that is wished for, else the
        longest in full use and the shortest, or none at all, in smallest use."""
        wish, among = self._wish, self._shape.choices[id(choice)]
        counted = self._counted
        if not (among.keys.isdisjoint(wish.options) and among.operands.isdisjoint(counted)):
            for part in among.parts:
                if part.keys & wish.options or part.operands & counted:
                    return part.form
        if choice.optional and not wish.full:
            return None
        allowed = [each for each in among.fit if each.keys.isdisjoint(wish.without)]
        if not allowed and choice.optional:
            return None
        if wish.few and choice.optional and not among.keys:
            return None  # a group of nothing but operands
        fit = allowed or among.fit
        if wish.full:
            if fit[0].is_apart and choice.optional:
                return None
            return max(fit, key=lambda each: each.size).form
        return min(fit, key=lambda each: each.size).form

    def _add_option(self, use: OptionUse) -> None:
        option = self._form.option_of(use)
        if id(option) in self._there:
            return
        self._there.add(id(option))
        count = max(option.least, 1) if option.takes_value else 0
        values = tuple(self._builder.usual(option.name_of(number), number) for number in range(count))
        self.options.append(OptionPart(option, option.key, values))

    def _add_operand(self, item: Operand) -> None:
        name, wish = item.name.name, self._wish
        least, most = operand_count(self._signature, item)
        count = wish.counts.get(name, least)
        if wish.full and not wish.few:
            # Two of them: one word for a NAME that takes several shows nothing of the second.
            count = max(least, MANY) if most is None else min(most, max(least, MANY))
        self.operands += [OperandPart(name, self._builder.usual(name, number)) for number in range(count)]


class Part(Struct, frozen=True, eq=False):
    """An alternative of a choice, and what is asked of it whenever a request is made."""

    form: Usage
    #: Of the options in it.
    keys: frozenset[str]
    #: The NAMEs of the operands in it.
    operands: frozenset[str]
    #: Whether an option of it is apart.
    is_apart: bool
    #: How many items it has.
    size: int


class Among(Struct, frozen=True, eq=False):
    """The alternatives of a choice, and what is in any of them."""

    parts: tuple[Part, ...]
    #: Those without an option that is apart; all where each has one.
    fit: tuple[Part, ...]
    keys: frozenset[str]
    operands: frozenset[str]


class Shape(Struct, frozen=True, eq=False):
    """What is in a form."""

    #: By the identity of the choice, which the form keeps.
    choices: Mapping[int, Among]
    #: Its options that are not apart.
    plain: tuple[Option, ...]


@lru_cache(maxsize=64)
def shape_of(signature: Signature, form: UsageModel) -> Shape:
    """Return what is in a form: with sixty options, each request that is made asks for it some
    hundred times."""
    plain = tuple(each for each in form.options if not is_apart(signature, each))
    apart = {each.key for each in form.options} - {each.key for each in plain}
    choices = (item for item in form.form.walk() if isinstance(item, Choice))
    return Shape({id(each): _among(form, each, apart) for each in choices}, plain)


def _among(model: UsageModel, choice: Choice, apart: Set[str]) -> Among:
    parts = tuple(_part(model, each, apart) for each in choice.alternatives)
    return Among(
        parts=parts,
        fit=tuple(each for each in parts if not each.is_apart) or parts,
        keys=frozenset().union(*(each.keys for each in parts)),
        operands=frozenset().union(*(each.operands for each in parts)),
    )


def _part(model: UsageModel, form: Usage, apart: Set[str]) -> Part:
    items = list(form.walk())
    keys = frozenset(model.option_of(each).key for each in items if isinstance(each, OptionUse))
    names = frozenset(each.name.name for each in items if isinstance(each, Operand))
    return Part(form, keys, names, bool(keys & apart), len(items))


def operand_count(signature: Signature, item: Operand) -> tuple[int, int | None]:
    """Return how many operands of a NAME there may be: least and most (None for any number)."""
    count = signature.values[item.name.name].count
    if count is not None:
        return count
    return 1, None if item.name.several else 1


@lru_cache(maxsize=4096)
def fitting(signature: Signature, request: Request) -> Request | None:
    """Return the request with values that make it accepted, changing as few as need be; None when
    none are found.

    Where it is only a condition that is not met, no other values than those that conditions read
    are changed: the product of all would take long.
    """
    judgement = signature.judge(request.words())
    if judgement.status == "accepted":
        return request
    slots = list(request.slots())
    read = {name for condition in signature.conditions for name in condition.names}
    own = {"condition", *(each.kind for each in signature.refuse)}
    only = judgement.status == "refused" and {each.kind for each in judgement.refusals} <= own
    if only and not {"words", "argc"} & read:
        slots = [each for each in slots if identifier(each[2]) in read]
    choices = [list(dict.fromkeys([word, *signature.values[name].legal()]))[:8] for _, _, name, word in slots]
    # values that are legal one by one seldom help with anything but a condition
    most = MOST_TRIED if only else FEW_TRIED
    orders = sorted(
        islice(product(*(range(len(each)) for each in choices)), most), key=lambda t: (sum(map(bool, t)), t)
    )
    for picks in orders:
        tried = request
        for (place, number, _, _), options, pick in zip(slots, choices, picks, strict=True):
            if pick:
                tried = tried.with_value(place, number, options[pick])
        if signature.judge(tried.words()).status == "accepted":
            return tried
    return None


@lru_cache(maxsize=16)
def builders(signature: Signature, grounds: Grounds = NO_GROUNDS) -> tuple[Builder, ...]:
    """Return a builder for each form."""
    forms = enumerate(signature.forms)
    return tuple(Builder(signature, form, grounds.form(number)) for number, form in forms)


def derived_builders(signature: Signature, grounds: Grounds = NO_GROUNDS) -> tuple[Builder, ...]:
    """Return a builder for each form that vectors are derived from: not of one that requires an
    option which is set aside."""
    return tuple(each for each in builders(signature, grounds) if not needs_aside(each))


def needs_aside(builder: Builder) -> bool:
    """Tell whether every request of a form has an option that no derived vector is to have."""
    if not builder.signature.aside:
        return False
    plain = builder.plain((), full=False)
    return any(is_aside(builder.signature, part.option) for part in plain.options)


def plain_options(signature: Signature, form: UsageModel) -> list[Option]:
    """Return the options of a form that do something else than give help or a version."""
    return list(shape_of(signature, form).plain)
