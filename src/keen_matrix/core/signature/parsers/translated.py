"""From the description of a parser to a draft: every option, operand and subcommand in our
notation."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence, Set
from itertools import chain, count

from keen_matrix.core.signature.drafting import (
    Draft,
    TypeGuess,
    count_text,
    draft_signature,
    guess_type,
    opposites,
    optional,
)
from keen_matrix.core.signature.helptext import read_help, written_name
from keen_matrix.core.signature.parsers.described import (
    DescribedOperand,
    DescribedOption,
    DescribedParser,
    DescribedValue,
)
from keen_matrix.core.structs import Struct, field

#: Lines that a synopsis of a program with many subcommands gets.
MOST_FORMS = 40
_KEYWORD = re.compile(r"[a-z0-9@%+:._/][\w@%+:./-]*")


class _Names(Struct):
    """The NAMEs that were given so far: one stands for values of one type only."""

    draft: Draft
    types: dict[str, TypeGuess] = field(default_factory=dict)

    def name(
        self,
        wanted: str,
        value: DescribedValue,
        text: str,
        else_: Sequence[str],
        words: int | str | None = None,
    ) -> str:
        """Return the NAME for a value of so many words, as a synopsis writes it. Where what the
        help calls it stands for another type already, the others are tried: what belongs to its
        option, or its subcommand."""
        wanted = _without_notation(wanted)
        told, sure = _table(value, wanted, text)
        table = told if words is None else {**told, "count": words}
        tried = chain((wanted, *else_), (f"{wanted}-{number}" for number in count(2)))
        name = next(each for each in map(written_name, tried) if self._is_free(each, table))
        bare = name.strip("<>")
        if table and bare not in self.draft.values:
            self.draft.values[bare] = table
            # how many words it has is known, and says nothing of a type that is guessed
            if sure or not told:
                self.draft.sure.add(bare)
        read_by = f"read by {value.converter}(); " if value.converter else ""
        self.draft.notes.setdefault(bare, read_by + text)
        return name

    def _is_free(self, name: str, table: TypeGuess) -> bool:
        """Tell whether a NAME stands for nothing yet, or for values of this type."""
        return self.types.setdefault(name.strip("<>"), table) == table


def _without_notation(name: str) -> str:
    """Return what a value is called without what its name says of how many there may be: `SRC ...`,
    `FILE [FILE ...]`."""
    words = re.sub(r"[][()]|\.{2,}|…", " ", name).split()
    return " ".join(dict.fromkeys(words)) or name


def translated(parser: DescribedParser, program: Sequence[str]) -> Draft:
    """Return the draft that a description comes to; `program` are the words that its usage line
    begins with."""
    draft = Draft([], "gnu", list(parser.help), reader=parser.reader or "")
    names = _Names(draft)
    lines = list(_lines(parser, names, program))
    if len(lines) > MOST_FORMS:
        draft.doubts.append(
            f"the program has {len(lines)} forms with its subcommands; the first {MOST_FORMS} are drafted"
        )
    draft.synopsis = list(dict.fromkeys(lines[:MOST_FORMS]))
    for each in _all_of(parser):
        draft.doubts += each.doubts
        draft.help += [spelling for spelling in each.help if spelling not in draft.help]
        draft.actions += [
            ",".join(option.spellings)
            for option in each.options
            if option.action and ",".join(option.spellings) not in draft.actions
        ]
        for key in ("abbreviations", "interleaved", "unknown-options", "superfluous-operands"):
            value = getattr(each, key.replace("-", "_"))
            if value is not None:
                draft.switches[key] = value
    _open_unknown(draft, parser)
    return draft


def _open_unknown(draft: Draft, parser: DescribedParser) -> None:
    """Leave open what an unknown option gets where one subcommand takes it and another refuses it:
    a signature says it for all of them."""
    leaves = [each for each in _all_of(parser) if not each.commands]
    if len({each.unknown_options for each in leaves}) > 1:
        draft.switches["unknown-options"] = "open"
        named = [each.name for each in parser.commands if each.parser.unknown_options is not None]
        draft.doubts.append(
            f" {' and '.join(named) or 'every subcommand'} does not refuse unknown options and others "
            f"do, so nothing is claimed about them"
        )


def _all_of(parser: DescribedParser) -> Iterator[DescribedParser]:
    yield parser
    for command in parser.commands:
        yield from _all_of(command.parser)


def _lines(
    parser: DescribedParser, names: _Names, program: Sequence[str], before: str = "", command: str = ""
) -> Iterator[str]:
    """Yield the lines of the synopsis: one for the parser itself where it goes without a
    subcommand, and those of its subcommands."""
    if not parser.commands or not parser.command_required:
        yield " ".join([*filter(None, [before]), *_items(parser, names, program, command)])
    for each in parser.commands:
        words = [word for word in (each.name, *each.aliases) if _KEYWORD.fullmatch(word)]
        if not words:
            names.draft.doubts.append(f"the subcommand {each.name!r} cannot be written in a synopsis")
            continue
        # an option that the subcommand has too is its own after it: a form has a spelling once
        inner = {spelling for below in _all_of(each.parser) for spelling in _spellings(below)}
        own = _items(parser, names, program, command, inner)
        keyword = words[0] if len(words) == 1 else f"({' | '.join(words)})"
        path = " ".join(filter(None, (command, each.name)))
        line = " ".join([*filter(None, [before]), *own, keyword])
        yield from _lines(each.parser, names, program, line, path)


def _spellings(parser: DescribedParser) -> list[str]:
    return [word for option in parser.options for word in (*option.spellings, *option.negated)]


def _items(
    parser: DescribedParser,
    names: _Names,
    program: Sequence[str],
    command: str,
    without: Set[str] = frozenset(),
) -> Iterator[str]:
    """Yield the options, those aside that are spelt otherwise below, then the operands; what
    excludes each other in one group."""
    texts: dict[str, list[str]] = {}
    required: dict[str, bool] = {}
    for option in parser.options:
        if option.action or without & {*option.spellings, *option.negated}:
            continue  # actions are stated apart
        key = option.spellings[0]
        texts[key] = [_option(option, names, command)]
        if option.negated:
            texts[key].append(",".join(option.negated))
            if option.most == 0 or not option.values:
                texts[key] = [opposites(*texts[key])]
        required[key] = option.required
    for operand in parser.operands:
        texts[operand.name] = [_operand(operand, names, command)]
        required[operand.name] = operand.least > 0
    grouped = _groups(parser, texts)
    done: set[str] = set()
    for key, alternatives in texts.items():
        members, is_required = grouped.get(key, ((key,), required[key]))
        if key in done:
            continue
        done |= set(members)
        if len(members) > 1:
            inner = " | ".join(text for each in members for text in texts[each])
            yield f"({inner})" if is_required else f"[{inner}]"
        else:
            yield from _alone(alternatives, is_required)
    if parser.usage and not parser.operands:
        yield from _of_usage(parser.usage, names.draft, program)


def _groups(parser: DescribedParser, texts: Mapping[str, object]) -> dict[str, tuple[tuple[str, ...], bool]]:
    """Return the group that each member of one stands in, and whether one of it must be given."""
    found: dict[str, tuple[tuple[str, ...], bool]] = {}
    for group in parser.exclusive:
        members = tuple(each for each in group.of if each in texts and each not in found)
        if len(members) > 1:
            found |= dict.fromkeys(members, (members, group.required))
    return found


def _alone(alternatives: list[str], is_required: bool) -> Iterator[str]:
    """Yield an option or operand that is in no group, and what switches an option with a value
    off, which is another one."""
    for text in alternatives:
        if not is_required:
            yield optional(text)
        # outside brackets an option takes one NAME only
        elif text.startswith("-") and len(text.split()) > 2:
            yield f"({text})"
        else:
            yield text


def _option(option: DescribedOption, names: _Names, command: str) -> str:
    """Return an option in our notation, without the brackets round it."""
    spellings = ",".join(option.spellings)
    dots = "..." if option.again else ""
    if not option.values or option.most == 0:
        return spellings + dots
    longest = max(option.spellings, key=len).lstrip("-")
    below = [f"{command} {longest}".strip().replace(" ", "-").upper()]
    words: int | str | None = None
    if (option.most is None and option.least > 1) or (len(option.values) == 1 < (option.most or 1)):
        words = count_text(option.least, option.most)
    last = len(option.values) - 1
    written = [
        names.name(
            each or longest.upper(),
            option.value,
            option.text,
            [longest.upper(), *below],
            words if number == last else None,
        )
        for number, each in enumerate(option.values)
    ]
    if option.least == 0 and option.most == 1:
        long = any(each.startswith("--") for each in option.spellings)
        return f"{spellings}[={written[0]}]{dots}" if long else f"{spellings}[{written[0]}]{dots}"
    if option.most is None:
        written[-1] += "..."
        if option.least == 0:
            written[-1] = f"[{written[-1]}]"
    return " ".join([spellings + dots, *written])


def _operand(operand: DescribedOperand, names: _Names, command: str) -> str:
    """Return an operand in our notation, without the brackets round it."""
    below = f"{command} {operand.name}".strip().replace(" ", "-").upper()
    words: int | str | None = None
    if operand.least > 1 or (operand.most is not None and operand.most > 1):
        words = count_text(max(operand.least, 1), operand.most)
    name = names.name(operand.name, operand.value, operand.text, [below], words)
    if operand.most is None or operand.most > 1:
        name += "..."
    if operand.rest:
        names.draft.doubts.append(f"{name} takes whatever follows, options too")
    return name


def _of_usage(usage: str, draft: Draft, program: Sequence[str]) -> Iterator[str]:
    """Yield the operands of a usage line. What it says of options is known better."""
    from keen_matrix.core.notation.synopsis import Keyword, OptionUse, parse_synopsis

    text = usage if re.match(r"\s*usage\b", usage, re.IGNORECASE) else f"Usage: {usage}"
    page = read_help(text + "\n\nOptions:\n  --any\n  --other\n")
    told = draft_signature(page, program)
    for item in parse_synopsis(told.synopsis[0]).items:
        inner = item.walk() if hasattr(item, "walk") else ()
        parts = [item, *inner, *(each for form in getattr(item, "alternatives", ()) for each in form.walk())]
        if not any(isinstance(each, (OptionUse, Keyword)) for each in parts):
            yield str(item)
    for name, table in told.values.items():
        draft.values.setdefault(name, table)


def _table(value: DescribedValue, name: str, text: str) -> tuple[TypeGuess, bool]:
    """Return the table of a type as a spec has it, and whether the parser itself said so. What is
    a text to the parser may be known by its name or text: the program reads it once more."""
    found: TypeGuess = {}
    sure = True
    if value.of:
        found = {"type": "choice", "of": [_choice(each) for each in value.of]}
        if value.case == "ignore":
            found["case"] = "ignore"
    elif value.type and value.type != "text":
        found["type"] = value.type
        found |= {key: bound for key in ("min", "max") if (bound := getattr(value, key)) is not None}
        if value.directories and value.type == "file":
            found["directories"] = True
    else:
        found = guess_type(re.sub(r"\W+", "_", name).upper(), text)
        sure = False
    if found and value.default is not None and _fits(value.default, found):
        found["default"] = value.default
    return found, sure


def _choice(value: object) -> object:
    """Return a choice as it is typed."""
    return str(value) if isinstance(value, (bool, float)) else value


def _fits(default: object, table: TypeGuess) -> bool:
    """Tell whether a default is a value of its own type: some parsers have others, as a
    sentinel."""
    if table.get("type") == "choice":
        return default in table["of"]
    kinds: dict[str, type | tuple[type, ...]] = {"int": int, "float": (int, float), "bool": bool}
    kind = kinds.get(str(table.get("type")), ())
    return isinstance(default, kind) and isinstance(default, bool) == (table.get("type") == "bool")
