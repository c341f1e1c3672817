"""Changes of a line of a synopsis: options in a group of their own, without their brackets, or
gone."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence, Set

from keen_matrix.core.experiments.edits import SynopsisEdit
from keen_matrix.core.insight.settling.lab import Lab
from keen_matrix.core.notation.synopsis import Choice, Item, Operand, OptionUse, Usage, parse_synopsis
from keen_matrix.core.signature.judging.binding import identifier
from keen_matrix.core.signature.model import names_of
from keen_matrix.core.signature.requests import Builder
from keen_matrix.core.structs import replace


def grouped(form: Usage, spellings: Sequence[Set[str]]) -> Usage | None:
    """Return a line in which options that stand in brackets of their own, or in a group that one of
    them begins, are one group; None where they stand otherwise."""
    places = [_place_of(form, each) for each in spellings]
    # Two of them in one group exclude each other already.
    if any(place is None for place in places) or len(set(places)) < len(places):
        return None
    first, *rest = sorted(place for place in places if place is not None)
    members = [item for at in (first, *rest) if isinstance(item := form.items[at], Choice)]
    alternatives = tuple(each for member in members for each in member.alternatives)
    items: list[Item] = [item for at, item in enumerate(form.items) if at not in rest]
    items[first] = Choice(alternatives, all(each.optional for each in members))
    return Usage(tuple(items))


def asked_for(form: Usage, spellings: Sequence[Set[str]], *, several: bool) -> Usage | None:
    """Return a line in which one of some options that stand in brackets of their own has to be
    given, or `several`; None where they stand otherwise."""
    group = grouped(form, spellings)
    if group is None:
        return None
    if len(spellings) == 1:
        return without_brackets(form, spellings[0], set())
    items = [
        replace(item, optional=False, several=several)
        if isinstance(item, Choice) and set(spellings_in(item)) & spellings[0]
        else item
        for item in group.items
    ]
    return Usage(tuple(items))


def _place_of(form: Usage, spellings: Set[str]) -> int | None:
    """Return where a group stands that is nothing but alternatives of one option each, one of them
    a given one."""
    for at, item in enumerate(form.items):
        if isinstance(item, Choice) and not item.several and set(spellings_in(item)) & spellings:
            single = all(
                len(each.items) == 1 and isinstance(each.items[0], OptionUse) for each in item.alternatives
            )
            return at if single else None
    return None


def spellings_in(choice: Choice) -> Iterator[str]:
    """Yield the spellings of the options in a group."""
    for form in choice.alternatives:
        for item in form.walk():
            if isinstance(item, OptionUse):
                yield from item.spellings


def without_brackets(form: Usage, spellings: Set[str], names: Set[str]) -> Usage:
    """Return a line in which some options and operands stand without the brackets round them."""
    items: list[Item] = []
    for item in form.items:
        inner = item.alternatives[0].items if isinstance(item, Choice) else ()
        alone = inner[0] if len(inner) == 1 and isinstance(item, Choice) else None
        single = isinstance(item, Choice) and item.optional and len(item.alternatives) == 1
        if single and isinstance(alone, OptionUse) and set(alone.spellings) & spellings:
            # outside brackets an option takes one NAME, so others keep a group round them
            plain = len(alone.values) < 2
            items.append(alone if plain else replace_optional(item))
        elif single and isinstance(alone, Operand) and alone.name.name in names:
            items.append(alone)
        else:
            items.append(item)
    return Usage(tuple(items))


def several_times(form: Usage, spellings: Iterable[str]) -> Usage:
    """Return a line in which an option in brackets of its own may be given several times."""
    wanted = set(spellings)
    items = [
        replace(item, several=True)
        if isinstance(item, Choice)
        and len(item.alternatives) == 1
        and len(item.alternatives[0].items) == 1
        and set(spellings_in(item)) & wanted
        else item
        for item in form.items
    ]
    return Usage(tuple(items))


def with_value_of(form: Usage, spellings: Iterable[str]) -> Usage:
    """Return a line in which an option without a value takes one, under a NAME of its own."""
    wanted = set(spellings)
    items: list[Item] = []
    for item in form.items:
        if isinstance(item, OptionUse) and set(item.spellings) & wanted and not item.values:
            long = max(item.spellings, key=len)
            name = long.strip("-").replace("-", "_").upper()
            made = parse_synopsis(f"{','.join(item.spellings)} {name if len(name) > 1 else 'VALUE_' + name}")
            items.append(made.items[0])
        elif isinstance(item, Choice) and set(spellings_in(item)) & wanted:
            parts = tuple(with_value_of(each, wanted) for each in item.alternatives)
            items.append(replace(item, alternatives=parts))
        else:
            items.append(item)
    return Usage(tuple(items))


def without_option(form: Usage, spellings: Set[str]) -> Usage | None:
    """Return a line without an option that stands in brackets of its own; None where it stands
    otherwise."""
    items = [
        item for item in form.items if not (isinstance(item, Choice) and set(spellings_in(item)) & spellings)
    ]
    gone = [item for item in form.items if item not in items]
    is_alone = len(gone) == 1 and isinstance(gone[0], Choice) and len(gone[0].alternatives) == 1
    return Usage(tuple(items)) if is_alone else None


def replace_optional(item: Item) -> Item:
    """Return a group of which one alternative is required."""
    return replace(item, optional=False) if isinstance(item, Choice) else item


def with_operand(form: Usage, name: str, other: Item | None) -> Usage | None:
    """Return a line with another item in the place of an operand that stands on its own, or with
    none; None where there is no such operand."""
    items: list[Item] = []
    for item in form.items:
        if isinstance(item, Operand) and item.name.name == name:
            items += [] if other is None else [other]
        else:
            items.append(item)
    return Usage(tuple(items)) if tuple(items) != form.items else None


def spellings_of_keys(lab: Lab, number: int, keys: Set[str]) -> set[str]:
    """Return the spellings of some options of a form."""
    options = lab.signature.forms[number].options
    return {spelling for each in options if each.key in keys for spelling in each.spellings}


def synopsis_edit(lab: Lab, number: int, form: Usage) -> SynopsisEdit:
    """Return the change of the synopsis to another line at a place."""
    lines = [*lab.signature.lines]
    lines[number] = form
    return SynopsisEdit(tuple(map(str, lines)))


def short(form: Usage) -> str:
    """Return a line as far as it is shown."""
    text = str(form)
    return text if len(text) < 60 else text[:59] + "…"


def operands_left_out(builder: Builder) -> list[str]:
    """Return the NAMEs of operands that the smallest request goes without."""
    smallest = builder.smallest()
    there = {part.name for part in smallest.operands} if smallest is not None else set()
    names = (item.name.name for item in builder.form.form.walk() if isinstance(item, Operand))
    return [name for name in dict.fromkeys(names) if name not in there]


def name_in_conditions(lab: Lab, number: int, name: str) -> str:
    """Return what a condition calls the value of a NAME; nothing where the NAME has several."""
    form = lab.signature.forms[number].form
    is_list = any(
        isinstance(item, Operand) and item.name.name == name and item.name.several for item in form.walk()
    )
    is_single = list(names_of(form)).count(name) == 1 and not is_list
    return identifier(name) if is_single else ""
