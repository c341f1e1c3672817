"""The signature: synopsis, value types and reading style, compiled so that vectors can be
judged."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, Self

from keen_matrix.core.errors import KeenMatrixError, nearest
from keen_matrix.core.expressions import Expression
from keen_matrix.core.model.quantities import parse_bounds
from keen_matrix.core.notation.nodes import Span
from keen_matrix.core.notation.synopsis import (
    Choice,
    Keyword,
    Name,
    OptionUse,
    Usage,
    parse_synopsis,
    with_flags_apart,
)
from keen_matrix.core.signature.habits import SWITCH_NAMES, Habits
from keen_matrix.core.signature.readers import BY_HAND, READERS, STYLES, Reader, Style
from keen_matrix.core.signature.values import LEGAL, TYPES, Existing, Text, ValueType, listed
from keen_matrix.core.structs import Struct, field_names, replace

#: Options, operands and groups of a synopsis: three times what the largest console programs
#: have.
MOST_PARTS = 600


class SignatureFault(KeenMatrixError):
    """A signature does not make sense; `key` is the key of it to blame, `item` the number or name
    below that key."""

    def __init__(
        self, message: str, key: str = "", item: str | int | None = None, suggestion: str | None = None
    ) -> None:
        self.key, self.item, self.suggestion = key, item, suggestion
        super().__init__(message)


@dataclasses.dataclass(frozen=True, slots=True, eq=False)
class Option:
    """An option of one form of the synopsis."""

    use: OptionUse
    #: The fewest words that it takes.
    least: int
    #: Words that it takes at the most; None for any number.
    most: int | None
    again: bool
    #: Keywords of the form that precede it.
    after_keywords: int = 0
    #: Whether a value that may be left out is written as a word of its own: it may follow, and not
    #: be glued to a letter.
    is_apart: bool = False
    #: The spelling that stands for it: the first long one, else the first.
    key: str = dataclasses.field(init=False)

    @property
    def spellings(self) -> tuple[str, ...]:
        """All spellings, in the order of the synopsis."""
        return self.use.spellings

    def __post_init__(self) -> None:
        long = (each for each in self.use.spellings if each.startswith("--"))
        # worked out once: every judgement asks for it many times
        object.__setattr__(self, "key", next(long, self.use.spellings[0]))

    @property
    def takes_value(self) -> bool:
        """Whether a value belongs to it, optional or not."""
        return bool(self.use.values)

    @property
    def optional_value(self) -> bool:
        """Whether its value may be left out."""
        return self.use.value_form in ("[=]", "[]")

    @property
    def value_names(self) -> tuple[str, ...]:
        """The NAMEs of its values."""
        return tuple(each.name for each in self.use.values)

    def name_of(self, number: int) -> str:
        """Return the NAME of its value of a number; an open number of values all have the last
        NAME."""
        return self.use.values[min(number, len(self.use.values) - 1)].name


class UsageModel(Struct, frozen=True, eq=False):
    """One line of the synopsis with its options by spelling."""

    form: Usage
    options: tuple[Option, ...]
    by_spelling: Mapping[str, Option]
    #: Where an option is in the line → the option.
    by_place: Mapping[Span, Option]
    #: Keywords that precede any operand: subcommands.
    keywords: int

    def option_of(self, use: OptionUse) -> Option:
        """Return the option that a node of the line stands for."""
        return self.by_place[use.span]


class OwnRefusal(Struct, frozen=True, kw_only=True):
    """A refusal that a signature adds: a condition on the values, and the kind it is called."""

    when: Expression
    kind: str


@dataclasses.dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SignatureParts:
    """What a program says it accepts, as values; `Signature` judges by it."""

    lines: tuple[Usage, ...]
    values: Mapping[str, ValueType]
    #: How options are written.
    style: Style = "gnu"
    #: The library that reads the words; none for a program that reads them by hand.
    reader: str = ""
    habits: Habits = dataclasses.field(default_factory=Habits)
    help: tuple[str, ...] = ()
    #: Spellings of options that end the call by themselves, as help does.
    actions: tuple[tuple[str, ...], ...] = ()
    #: Calls that somebody says work.
    examples: tuple[tuple[str, ...], ...] = ()
    #: Usages, by the word that they begin with, and the habits that differ there.
    usage_habits: tuple[tuple[str, tuple[tuple[str, Any], ...]], ...] = ()
    #: Usages, by the word that they begin with, and the vectors that are launched before them.
    before: tuple[tuple[str, tuple[tuple[str, ...], ...]], ...] = ()
    #: Spellings of options that no derived vector has.
    aside: tuple[str, ...] = ()
    #: Surroundings in which accepted vectors may do otherwise (see families.elsewhere).
    depends_on: frozenset[str] = frozenset()
    #: Whether an accepted vector must leave no file that nothing names, and no control signs.
    tidy: bool = False
    only_if: tuple[Expression, ...] = ()
    refuse: tuple[OwnRefusal, ...] = ()
    #: Functions that `where` and `refuse` may call, those of the oracle file.
    functions: Mapping[str, Callable[..., object]] = dataclasses.field(default_factory=dict)
    forms: tuple[UsageModel, ...] = ()

    @classmethod
    def from_synopsis(
        cls,
        text: str | Sequence[str],
        values: Mapping[str, object] | None = None,
        style: Style | None = None,
        *,
        reader: str | None = None,
        help: Sequence[str] | None = None,
        only_if: Sequence[str] = (),
        **more: Any,
    ) -> Self:
        """Return the signature of a synopsis: one line in POSIX notation, or a list of lines for
        several forms.

        `values` maps NAMEs, with or without <>, to tables as a spec writes them (`{"type": "int",
        "min": 1}`) or to ValueTypes; a NAME that is not in it is a text. `reader` is a library of
        `readers.READERS`, which sets every habit; without it `style` is gnu, posix or one-dash.
        `help` are the spellings of help, those that the reader or the style has by default (GNU
        Coding Standards 4.8.2). `more` are habits that a spec can set one by one (see
        habits.SWITCH_NAMES); `actions`, a list of such options as `-V,--version` that end the call
        by themselves; `aside`, options that no derived vector has; `depends_on`, surroundings in
        which a program may do otherwise; `tidy`.
        Raises NotationFault for a line that does not parse and SignatureFault for what does not fit
        together.
        """
        row = _row(style, reader)
        style = style or row.style
        lines = tuple(parse_synopsis(each) for each in ([text] if isinstance(text, str) else text))
        if style != "one-dash":
            # Where long names have one dash too, `[-abc]` is one name; everywhere else it is three
            # flags (POSIX XBD 12.1).
            lines = tuple(map(with_flags_apart, lines))
        refuse, actions, aside, depends_on, tidy = (
            more.pop(name, ()) for name in ("refuse", "actions", "aside", "depends_on", "tidy")
        )
        # The row of the reader first, then the single switches: whoever sets one knows the program
        # better than its library.
        habits = replace(row.habits, **habits_of_switches(more))
        bare = {name.removeprefix("<").removesuffix(">"): table for name, table in (values or {}).items()}
        types = {name: value_type(name, table) for name, table in bare.items()}
        return cls(
            lines=lines,
            values=types,
            style=style,
            reader=reader or "",
            habits=habits,
            help=row.help if help is None else tuple(help),
            actions=tuple(tuple(each.split(",")) for each in actions),
            aside=tuple(aside),
            depends_on=frozenset(depends_on),
            tidy=bool(tidy),
            only_if=tuple(Expression(each) for each in only_if),
            refuse=tuple(OwnRefusal(when=Expression(each["when"]), kind=each["kind"]) for each in refuse),
        ).compiled()

    @property
    def row(self) -> Reader:
        """What is known of its reader, or of its style."""
        return _row(self.style, self.reader or None)

    def compiled(self) -> Self:
        """Return the signature with its forms worked out. Raises SignatureFault when it does not
        fit together."""
        # Asked before the forms are made: a synopsis that some tool has written may have thousands
        # of parts, and pairs of them millions.
        parts = sum(1 for line in self.lines for _ in line.walk())
        if parts > MOST_PARTS:
            raise SignatureFault(
                f"the synopsis has {parts:,} options, operands and groups; at most {MOST_PARTS} are taken",
                "synopsis",
            )
        names = {name for line in self.lines for name in names_of(line)}
        # A type for a NAME that there is not would be a slip that nobody ever sees.
        for name in self.values:
            if name not in names:
                known = ", ".join(sorted(names)) or "none"
                raise SignatureFault(
                    f'the synopsis has no value "{name}"; it has {known}',
                    "values",
                    name,
                    nearest(name, names),
                )
        types = {
            # How a number may be written is the reader's matter, so types know the habits.
            name: (self.values.get(name) or Text(name=name)).read_by(self.habits)
            for name in sorted(names)
        }
        whole = replace(self, values=types)
        forms = tuple(whole._form(line, number) for number, line in enumerate(self.lines))
        spellings = {each for form in forms for each in form.by_spelling}
        for number, each in enumerate(self.aside):
            if each not in spellings:
                raise SignatureFault(
                    f"the synopsis has no option {each}", "aside", number, nearest(each, spellings)
                )
        return replace(whole, forms=forms)

    def _form(self, line: Usage, number: int) -> UsageModel:
        options: list[Option] = []
        by_spelling: dict[str, Option] = {}
        by_place: dict[Span, Option] = {}
        places = _option_places(line)
        for use, again, keywords in places:
            option = self._option(use, again, keywords)
            # `[-a -n N | -b -n N]`: written twice, and one option. What has other spellings or
            # values is another one with the same name.
            twin = by_spelling.get(use.spellings[0])
            if twin is not None and twin.spellings == use.spellings and twin.use.values == use.values:
                by_place[use.span] = twin  # the same option in another alternative
                continue
            for spelling in use.spellings:
                if spelling in by_spelling:
                    raise SignatureFault(f"{spelling} names two different options", "synopsis", number)
                by_spelling[spelling] = option
            by_place[use.span] = option
            options.append(option)
        # Help that is in no line is known all the same, or it would be judged as an unknown
        # option.
        undeclared = [(each,) for each in self.help if each.startswith("-")]
        for spellings in (*undeclared, *self.actions):
            if not any(each in by_spelling for each in spellings):
                option = self._option(OptionUse(spellings), True, 0)
                by_spelling.update(dict.fromkeys(spellings, option))
        return UsageModel(line, tuple(options), by_spelling, by_place, _leading_keywords(line))

    def _option(self, use: OptionUse, again: bool, keywords: int) -> Option:
        least = 0 if use.value_form in ("[=]", "[]") else sum(1 for each in use.values if not each.optional)
        most: int | None = len(use.values)
        if any(each.several for each in use.values):
            most = None
        # A count belongs to the NAME, so it counts the values of an option as well as operands.
        if len(use.values) == 1 and (count := self.values[use.values[0].name].count) is not None:
            least, most = count
        is_apart = self.habits.optional_follows is True and self.habits.joined in ("long", "none")
        return Option(use, least, most, again or use.again, keywords, is_apart)

    def value_type(self, name: str) -> ValueType:
        """Return the type of a NAME."""
        return self.values[name]

    @property
    def conditions(self) -> tuple[Expression, ...]:
        """The conditions on values that it adds to the synopsis."""
        return (*self.only_if, *(each.when for each in self.refuse))

    @property
    def options(self) -> tuple[Option, ...]:
        """The options of all forms, each key once."""
        found: dict[str, Option] = {}
        for form in self.forms:
            for option in form.options:
                found.setdefault(option.key, option)
        return tuple(found.values())

    @property
    def operand_names(self) -> tuple[str, ...]:
        """The NAMEs of operands of all forms, in order."""
        from keen_matrix.core.notation.synopsis import Operand

        return tuple(
            dict.fromkeys(
                item.name.name for line in self.lines for item in line.walk() if isinstance(item, Operand)
            )
        )


def _row(style: str | None, reader: str | None) -> Reader:
    """Return the row of a reader or of a style. Raises SignatureFault for one that is not known."""
    if reader is not None:
        found = READERS.get(reader)
        if found is None:
            raise SignatureFault(
                f"{reader!r} is not a reader; expected one of {', '.join(READERS)}",
                "reader",
                None,
                nearest(reader, READERS),
            )
        return found
    by_hand = BY_HAND.get(style or "gnu")
    if by_hand is None:
        raise SignatureFault(f"{style!r} is not a style; expected one of {', '.join(STYLES)}", "style")
    return by_hand


def habits_of_switches(given: Mapping[str, Any]) -> dict[str, Any]:
    """Return the habits that single switches set. Raises SignatureFault for one that is not
    known."""
    unknown = next((name for name in given if name not in SWITCH_NAMES), None)
    if unknown is not None:
        raise SignatureFault(
            f"{unknown!r} is not a switch; expected one of {', '.join(SWITCH_NAMES)}", unknown
        )
    found = dict(given)
    if isinstance(found.get("joined"), bool):
        found["joined"] = "any" if found["joined"] else "none"
    if isinstance(found.get("help_wins"), bool):
        found["help_wins"] = "always" if found["help_wins"] else "never"
    # Flags and options with values may differ: some libraries let a flag be given again and refuse
    # a second value.
    if found.get("repeat") == "open":
        found["repeat"] = found["repeat_flags"] = None
    elif "repeat" in found:
        found["repeat_flags"] = None if found["repeat"] == "collect" else found["repeat"]
    return found


def names_of(form: Usage) -> Iterable[str]:
    """Yield the NAMEs of a synopsis line, of options and operands."""
    from keen_matrix.core.notation.synopsis import Operand

    for item in form.walk():
        if isinstance(item, OptionUse):
            yield from (each.name for each in item.values)
        elif isinstance(item, Operand):
            yield item.name.name


def _option_places(form: Usage) -> list[tuple[OptionUse, bool, int]]:
    """Return every option use with whether dots let it be given again, and the keywords before
    it."""
    found: list[tuple[OptionUse, bool, int]] = []
    seen = 0

    def walk(items: Iterable[object], again: bool) -> None:
        nonlocal seen
        for item in items:
            if isinstance(item, OptionUse):
                found.append((item, again, seen))
            elif isinstance(item, Keyword) or _is_of_keywords(item):
                seen += 1
            elif isinstance(item, Choice):
                for alternative in item.alternatives:
                    walk(alternative.items, again or item.several)

    walk(form.items, False)
    return found


def _leading_keywords(form: Usage) -> int:
    count = 0
    for item in form.items:
        if isinstance(item, Keyword) or _is_of_keywords(item):
            count += 1
        # Options and groups of options may stand between the keywords; an operand ends them.
        elif not isinstance(item, (OptionUse, Choice)) or (isinstance(item, Choice) and _has_operand(item)):
            break
    return count


def _is_of_keywords(item: object) -> bool:
    """Tell whether an item is one subcommand with its other names: `(list | ls)`."""
    return (
        isinstance(item, Choice)
        and not item.optional
        and all(len(each.items) == 1 and isinstance(each.items[0], Keyword) for each in item.alternatives)
    )


def _has_operand(choice: Choice) -> bool:
    from keen_matrix.core.notation.synopsis import Operand

    return any(isinstance(item, (Operand, Keyword)) for each in choice.alternatives for item in each.walk())


#: Words that a count may ask for: vectors with as many are made.
MOST_WORDS = 10_000


def parse_count(value: object) -> tuple[int, int | None]:
    """Return the bounds of a count: 2, "2..4", "1.." (None: no upper end). Raises ValueError."""
    found = parse_bounds(value)
    if found is None:
        raise ValueError('expected a count such as 2, "2..4" or "1.."')
    if max(found[0], found[1] or 0) > MOST_WORDS:
        raise ValueError(f"expected a count of at most {MOST_WORDS:,} words")
    return found


#: Keys of a value's table that are named otherwise in the value type.
_FIELDS = {"of": "of", "case": "ignore_case"}
_KEYS = (
    "type",
    "min",
    "max",
    "of",
    "case",
    "matches",
    "default",
    "example",
    "count",
    "open",
    "directories",
    "units",
    "list",
)


def value_type(name: str, table: Any) -> ValueType:
    """Return the value type of a NAME from a table as a spec writes it. Raises SignatureFault."""
    if isinstance(table, ValueType):
        return replace(table, name=name)
    for key in table:
        if key not in _KEYS:
            raise SignatureFault(f'unknown key "{key}" of a value', "values", name, nearest(key, _KEYS))
    word = str(table.get("type", "choice" if "of" in table else "text"))
    if word not in TYPES:
        known = ", ".join(TYPES)
        message = f'{name}: unknown type "{word}"; expected one of {known}'
        raise SignatureFault(message, "values", name, nearest(word, TYPES))
    if word == "choice" and not table.get("of"):
        raise SignatureFault(f"{name}: a choice needs what it is a choice of", "values", name)
    made = TYPES[word](name=name, **_fields_of(name, TYPES[word], table))
    if table.get("list"):
        made = listed(made, str(table["list"]))
    found = made.read(made.example) if made.example is not None else LEGAL
    if found.status == "illegal" and not isinstance(made, Existing):
        message = f"{name}: its example {made.example!r} is not a legal value: {found.reason}"
        raise SignatureFault(message, "values", name)
    return made


def _fields_of(name: str, kind: type[ValueType], table: Mapping[str, object]) -> dict[str, Any]:
    """Return the fields of a value type that a table states. Raises SignatureFault for one that
    goes with other types, and for bounds that are none."""
    taken = set(field_names(kind))
    found: dict[str, Any] = {}
    for key, value in table.items():
        field = _FIELDS.get(key, key)
        if key in ("type", "list") or value is None:
            continue
        if field not in taken:
            # The default of another type says nothing, and a spec that states it is not wrong.
            if (key, value) in (("case", "exact"), ("open", False), ("directories", False), ("units", [])):
                continue
            article = "an" if kind.type[0] in "aeiou" else "a"
            message = f'{name}: "{key}" does not go with {article} {kind.type}'
            raise SignatureFault(message, "values", name)
        try:
            found[field] = _field(key, value, kind)
        except ValueError as error:
            raise SignatureFault(f"{name}: {error}", "values", name) from None
    low, high = found.get("min"), found.get("max")
    # No value fits between them, so each derived vector would be a refusal.
    if low is not None and high is not None and low > high:
        raise SignatureFault(f"{name}: min {low} is more than max {high}", "values", name)
    return found


def _field(key: str, value: Any, kind: type[ValueType]) -> object:
    """Return what a key of a value's table says, as the value type has it. Raises ValueError."""
    if key == "count":
        return parse_count(value)
    if key in ("of", "units"):
        return tuple(map(str, value))
    if key == "case":
        return value == "ignore"
    if key == "example":
        return str(value)
    if key in ("min", "max"):
        return kind.bound(value)
    return value


__all__ = [
    "STYLES",
    "Name",
    "Option",
    "OwnRefusal",
    "SignatureFault",
    "SignatureParts",
    "Style",
    "UsageModel",
    "names_of",
    "parse_count",
    "value_type",
]
