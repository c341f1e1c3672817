"""Pass 2: the options that are there settle which alternatives of the synopsis are taken.

What they exclude is a conflict; what a taken part requires and lacks is a missing option. What is
left is a pattern of operands, keywords and groups of them.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence, Set
from functools import lru_cache
from typing import NamedTuple, TypeAlias

from keen_matrix.core.notation.nodes import Span
from keen_matrix.core.notation.synopsis import Choice, Delimiter, Item, Keyword, Operand, OptionUse, Usage
from keen_matrix.core.signature.judging.findings import Findings, Given
from keen_matrix.core.signature.judging.taking import Reading
from keen_matrix.core.signature.model import Option, UsageModel
from keen_matrix.core.signature.values import ValueType
from keen_matrix.core.structs import Struct, field

#: Bounded counts of operands above this are checked only as open ones are, with their lower end.
UNROLLED = 64


class PatternGroup(NamedTuple):
    """Parts of a pattern of which one alternative is taken, none when it is optional, or several in
    any order when it may come again."""

    alternatives: tuple[tuple[Part, ...], ...]
    optional: bool = False
    several: bool = False


Part: TypeAlias = Operand | Keyword | PatternGroup


class Resolved(Struct):
    """What is left of a form once its options are settled."""

    pattern: list[Part] = field(default_factory=list)
    #: Options that are given and stand instead of operands.
    stand_ins: list[Option] = field(default_factory=list)
    findings: Findings = field(default_factory=Findings)


class GroupShape(NamedTuple):
    """What is asked of a group at every judgement, found out once."""

    #: The keys of the options in each alternative.
    keys: tuple[frozenset[str], ...]
    #: Whether operands or keywords are in it.
    has_words: bool


@lru_cache(1_000)
def shapes_of(form: UsageModel) -> Mapping[Span, GroupShape]:
    """Return the shape of each group of a form, by its place in the synopsis."""
    found = {}
    for choice in (item for item in form.form.walk() if isinstance(item, Choice)):
        inner = [list(each.walk()) for each in choice.alternatives]
        keys = tuple(
            frozenset(form.option_of(item).key for item in items if isinstance(item, OptionUse))
            for items in inner
        )
        words = any(isinstance(item, (Operand, Keyword)) for items in inner for item in items)
        found[choice.span] = GroupShape(keys, words)
    return found


def resolve(form: UsageModel, values: Mapping[str, ValueType], reading: Reading) -> Resolved:
    """Return the pattern of operands that the given options of a form leave."""
    resolver = _Resolver(form, values, reading)
    resolver.found.pattern = resolver.sequence(form.form.items)
    return resolver.found


class _Resolver:
    """Walks the tree of a form once."""

    def __init__(self, form: UsageModel, values: Mapping[str, ValueType], reading: Reading) -> None:
        self.form, self.values, self.reading = form, values, reading
        self.shapes = shapes_of(form)
        #: Keys of the options that are given; no two options of a form share one.
        self.there = {given.option.key for given in reading.given}
        self.found = Resolved()

    def sequence(self, items: Iterable[Item]) -> list[Part]:
        """Return the pattern of parts that stand one after another."""
        found: list[Part] = []
        for item in items:
            if isinstance(item, Operand):
                found += self._counted(item)
            elif isinstance(item, Keyword):
                found.append(item)
            elif isinstance(item, OptionUse):
                option = self.form.option_of(item)
                # Outside brackets it is required. It is missed here and not where it is read, since
                # only the form tells.
                if option.key not in self.there:
                    self._miss(option.key, option.spellings, option.key)
            elif isinstance(item, Delimiter):
                if not self.reading.delimiter:
                    why = "-- is required before the operands"
                    self.found.findings.refuse("missing-option", "--", why=why)
            else:
                found += self._choice(item)
        return found

    def _miss(self, culprit: str, spellings: Iterable[str], shown: str) -> None:
        why = f"{shown} is required"
        self.found.findings.refuse("missing-option", culprit, *spellings, why=why)

    def _counted(self, item: Operand) -> list[Part]:
        """Return an operand as often as its count says."""
        count = self.values[item.name.name].count
        bare = Operand(item.name)
        if count is None:
            return [PatternGroup(((bare,),), several=True)] if item.name.several else [bare]
        least, most = count
        required: list[Part] = [bare] * min(least, UNROLLED)
        if most is None or most > UNROLLED:
            return [*required, PatternGroup(((bare,),), optional=True, several=True)]
        rest: list[Part] = []
        for _ in range(most - least):  # [A [A [A]]]: each further one only after the one before it
            rest = [PatternGroup(((bare, *rest),), optional=True)]
        return [*required, *rest]

    def _choice(self, choice: Choice) -> list[Part]:
        """Return the pattern of a group: of the alternatives that given options stand in, or, when
        there are none, of those that need no option."""
        shape = self.shapes[choice.span]
        pairs = zip(choice.alternatives, shape.keys, strict=True)
        # The options that are given say which alternative is meant; operands cannot, as long as it
        # is not known which are there.
        touched = [(each, common) for each, keys in pairs if (common := keys & self.there)]
        if not touched:
            return self._untouched(choice)
        taken = self._taken(choice, touched)
        # `(-e PATTERN | PATTERN)`: the option is there instead of the operand, so no operand of
        # the group is missing.
        if shape.has_words:
            first = touched[0][1]
            self.found.stand_ins += [
                given.option for given in self.reading.given if given.option.key in first
            ]
        pattern: list[Part] = []
        for each in taken:
            part = self.sequence(each.items)
            pattern += [PatternGroup((tuple(part),), several=True)] if choice.several and part else part
        return pattern

    def _taken(self, choice: Choice, touched: Sequence[tuple[Usage, Set[str]]]) -> list[Usage]:
        """Return the alternatives that are taken, of those that given options stand in."""
        if choice.several:
            return [each for each, _ in touched]
        # an option may stand in several alternatives: one that has all of them is meant
        every = set[str]().union(*(keys for _, keys in touched))
        whole = next((each for each, keys in touched if keys == every), None)
        if whole is None:
            self._conflict(touched)
        return [whole or touched[0][0]]

    def _conflict(self, touched: Sequence[tuple[Usage, Set[str]]]) -> None:
        """Refuse options of different alternatives; the culprit is the one that comes second."""
        order = []
        for given in self.reading.given:
            groups = [at for at, (_, keys) in enumerate(touched) if given.option.key in keys]
            if groups:
                order.append((given, groups[0]))
        # Programs complain when they meet the second one, and name it.
        late = next((given for given, at in order if at != order[0][1]), order[-1][0])
        if any(self._is_unseen(given) for given, _ in order):
            # argparse looks whether the value is another object than the default
            self.found.findings.doubt("whether an option that is given with its default is given")
            return
        spellings = [spelling for given, _ in order for spelling in given.option.spellings]
        names = " and ".join(dict.fromkeys(given.spelling for given, _ in order))
        why = f"{names} exclude each other"
        self.found.findings.refuse("conflict", late.spelling, *spellings, why=why)

    def _is_unseen(self, given: Given) -> bool:
        """Tell whether an option is given with its default, which its reader may not see."""
        if len(given.values) != 1:
            return False
        kind = self.values[given.option.name_of(0)]
        is_default = kind.default is not None and kind.converted(given.values[0]) == kind.default
        return kind.habits.default_unseen and is_default

    def _untouched(self, choice: Choice) -> list[Part]:
        # None of its options is given. What is left of it are alternatives of operands alone.
        free = [each for each in choice.alternatives if not _needs_option(each)]
        if free:
            alternatives = tuple(tuple(self._free(each.items)) for each in free)
            return [PatternGroup(alternatives, choice.optional, choice.several)]
        if not choice.optional:
            # each alternative needs one: of its own, or in a group inside it
            uses = [use for each in choice.alternatives for use in _uses_of(each)]
            options = [self.form.option_of(use) for use in uses]
            spellings = [spelling for option in options for spelling in option.spellings]
            self._miss(options[0].key, spellings, " or ".join(option.key for option in options))
        return []

    def _free(self, items: Iterable[Item]) -> list[Part]:
        """Return the pattern of a part that is not settled: a delimiter in it may be left out."""
        return self.sequence(item for item in items if not isinstance(item, Delimiter))


def _needs_option(form: Usage) -> bool:
    """Tell whether an alternative cannot be taken without an option."""
    return any(
        isinstance(item, OptionUse)
        or (isinstance(item, Choice) and not item.optional and all(map(_needs_option, item.alternatives)))
        for item in form.items
    )


def _uses_of(form: Usage) -> list[OptionUse]:
    """Return the options that are in a part itself; where there are none, the first in a group
    inside it."""
    own = [item for item in form.items if isinstance(item, OptionUse)]
    return own or [next(item for item in form.walk() if isinstance(item, OptionUse))]
