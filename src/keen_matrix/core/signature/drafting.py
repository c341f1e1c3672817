"""From a help text to a synopsis: the usage line brought into our notation, its options completed
from the list."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, TypeAlias

from keen_matrix.core.errors import KeenMatrixError
from keen_matrix.core.notation.synopsis import (
    Choice,
    Form,
    Name,
    Operand,
    OptionUse,
    parse_synopsis,
)
from keen_matrix.core.signature.helptext import (
    HelpOperand,
    HelpOption,
    HelpText,
    default_in,
    option_of,
    range_in,
    words_in,
)
from keen_matrix.core.signature.signature import Signature

_ALL_OPTIONS = re.compile(
    r"\[\s*(?:-{0,2}<?(?:OPTIONS?|options?|FLAGS?|flags?|Options?)>?(?:\.\.\.|\(s\)|…)?)(?:\s*(?:\.\.\.|…))?\s*\](?:\s*(?:\.\.\.|…))?"
)
TypeGuess: TypeAlias = dict[str, Any]
"""The table of a value's type, as a spec writes it."""
HELPS = ("-h", "--help", "-help", "-?")
_SPELT = re.compile(r"(?<![\w-])--?[\w?][\w-]*")
MOST_OPTIONS = 400
MOST_USAGES = 6


@dataclass(slots=True)
class Draft:
    """A first signature, and what was guessed."""

    synopsis: list[str]
    style: str
    help: list[str]
    values: dict[str, TypeGuess] = field(default_factory=dict)
    notes: dict[str, str] = field(default_factory=dict)
    """NAME or option key → what the help says of it."""
    doubts: list[str] = field(default_factory=list)
    reader: str = ""
    """The library that reads the words, where it is known."""
    actions: list[str] = field(default_factory=list)
    """Options that end the call by themselves."""
    switches: dict[str, bool | str] = field(default_factory=dict)
    """Habits that are not those of the reader, by their keys in a spec."""
    sure: set[str] = field(default_factory=set)
    """NAMEs whose types the program's parser told; others are guessed."""


def draft_signature(page: HelpText, program: Sequence[str]) -> Draft:
    """Return a first signature from a help text; `program` are the words that the usage line
    begins with."""
    options = {
        spelling: option for option in page.options[:MOST_OPTIONS] for spelling in option.spellings
    }
    doubts: list[str] = []
    usages = page.usages[:MOST_USAGES] or ("",)
    if len(page.usages) > MOST_USAGES:
        doubts.append(
            f"the help has {len(page.usages)} usage lines; the first {MOST_USAGES} are drafted"
        )
    page = _with_names_apart(page, usages, program)
    options = {
        spelling: option for option in page.options[:MOST_OPTIONS] for spelling in option.spellings
    }
    lines = [_line_of(usage, program, page, options, doubts) for usage in usages]
    helps = [
        each for each in HELPS if _asks_help(each, options) or each in _SPELT.findall(usages[0])
    ]
    draft = Draft(list(dict.fromkeys(lines)), _style(options, usages[0]), helps, doubts=doubts)
    for line in draft.synopsis:
        _guess_values(draft, line, page, options)
    return draft


def _with_names_apart(page: HelpText, usages: Sequence[str], program: Sequence[str]) -> HelpText:
    """Return the page with a NAME of its own for every value of an option whose NAME stands for
    values of another type elsewhere, or for an operand: `-o FILE` and FILE are two files."""
    types: dict[str, TypeGuess] = {}
    operands = {name for usage in usages for name in _operand_names(usage, program, page)}
    found = []
    for option in page.options:
        changed = option
        if len(option.values) == 1 and not option.choices:
            (name,) = option.values
            guess = guess_type(name, option.text)
            if types.setdefault(name, guess) != guess or (name in operands and guess):
                own = _name_of(_key_of(option).lstrip("-"))
                own = own if len(own) > 1 and own not in {*types, *operands} else f"{own}_{name}"
                types[own] = guess
                changed = replace(option, values=(own,))
        found.append(changed)
    return replace(page, options=tuple(found))


def _operand_names(usage: str, program: Sequence[str], page: HelpText) -> Iterator[str]:
    """Yield the NAMEs of the operands of a usage line."""
    for item in _usage_form(usage, program, page, []):
        form = parse_synopsis(item)
        yield from (each.name.name for each in form.walk() if isinstance(each, Operand))


def _line_of(
    usage: str,
    program: Sequence[str],
    page: HelpText,
    options: Mapping[str, HelpOption],
    doubts: list[str],
) -> str:
    """Return one usage line as a synopsis, with the listed options that it does not name itself."""
    used: set[str] = set()
    items = list(_completed(_usage_form(usage, program, page, doubts), options, used))
    listed = [option for option in page.options[:MOST_OPTIONS] if not used & set(option.spellings)]
    front = [f"[{_option_text(option)}]" for option in listed]
    at = next(
        (n for n, each in enumerate(items) if not each.lstrip("[(").startswith("-")), len(items)
    )
    items[at:at] = front
    return _without_doubles(items, doubts)


def _style(options: Iterable[str], usage: str) -> str:
    known = list(options) or re.findall(r"(?<![\w-])--?\w[\w-]*", usage)
    if any(re.match(r"^-\w[\w-]{2,}", each) for each in known) and not any(
        each.startswith("--") for each in known
    ):
        return "one-dash"
    return "gnu" if any(each.startswith("--") for each in known) or not known else "posix"


def _usage_form(usage: str, program: Sequence[str], page: HelpText, doubts: list[str]) -> list[str]:
    """Return the items of a usage line in our notation."""
    text = _without_program(usage, program)
    text = _ALL_OPTIONS.sub(" ", text)
    if page.options:
        if re.search(r"(?<![\[<\w-])OPTIONS?(?:\.\.\.|…)?(?=\s|$)", text):
            doubts.append("the usage line asks for an option; the help does not say for which")
        text = re.sub(r"(?<![\[<\w-])(?:options?|OPTIONS?)(?:\s?(?:\.\.\.|…))?(?=\s|$)", " ", text)
    text = text.replace("…", "...").replace("[--]", " ")
    lower = {each.name for each in page.operands}
    text = re.sub(r"\{([^{}]+)\}", lambda match: _braced(match[1]), text)
    text = re.sub(r"\[\s+", "[", re.sub(r"\s+\]", "]", text))
    # argparse: "FILE [FILE ...]" and "[FILE ...]"; also "[FILE [FILE ...]]"
    text = re.sub(r"(?<![\w<])(<?[\w./-]+>?) \[\1 ?\.\.\.\]", r"\1...", text)
    text = re.sub(r"\[(<?[\w./-]+>?) \[\1 ?\.\.\.\]\]", r"[\1...]", text)
    text = re.sub(r"(\S) \.\.\.", r"\1...", text)
    items = []
    for item in _split_items(text):
        made = _item(item, lower)
        if made is None:
            doubts.append(f"this part of the usage line was not understood: {item}")
        elif made:
            items.append(made)
    return items


def _without_program(usage: str, program: Sequence[str]) -> str:
    words = usage.split()
    names = {word.rsplit("/", 1)[-1] for word in program}
    names |= {name.rsplit(".", 1)[0] for name in names}
    count = 1 if words else 0
    if (
        words[:1]
        and words[0] in ("python", "python3", "node", "perl", "sh", "bash")
        and len(words) > 1
    ):
        count = 2 if words[1] != "-m" else 3
    while count < len(words) and words[count] in names:
        count += 1
    return " ".join(words[count:])


def _braced(inner: str) -> str:
    return "COMMAND" if "," in inner or "|" in inner else inner


def _split_items(text: str) -> Iterator[str]:
    """Yield the top-level items of a usage line: a bracketed group, an option with the words
    behind it, a word."""
    depth, start, at = 0, 0, 0
    while at < len(text):
        character = text[at]
        depth += character in "[(<"
        depth -= character in "])>"
        if character == " " and depth <= 0:
            if text[start:at].strip():
                yield text[start:at].strip()
            start, depth = at + 1, 0
        at += 1
    if text[start:].strip():
        yield text[start:].strip()


def _item(item: str, lower: set[str]) -> str | None:
    """Return one item in our notation, empty to leave it out, or None when it is not understood."""
    for attempt in (item, _names_in(item, lower)):
        bundle = re.fullmatch(r"\[-(\w{2,})\]", attempt)
        if bundle and not attempt.startswith("[--"):
            return " ".join(f"[-{letter}]" for letter in dict.fromkeys(bundle[1]))
        try:
            form = parse_synopsis(attempt)
        except KeenMatrixError:
            continue
        if any(type(each).__name__ == "Keyword" for each in form.walk()):
            continue
        return str(form)
    return None


def _names_in(item: str, lower: set[str]) -> str:
    """Return an item whose lower-case words are NAMEs, and whose other signs are those of our
    notation."""
    text = re.sub(r"\[no-\]", "", item)
    text = re.sub(r"<([^<>]+)>", lambda match: _name_of(match[1]), text)
    text = re.sub(
        r"(?<![\w-])([A-Za-z](?:[\w.:/-]*[\w/-])?)", lambda match: _name_of(match[1]), text
    )
    text = re.sub(r"=([a-z][\w.-]*)", lambda match: "=" + _name_of(match[1]), text)
    text = re.sub(r"(-{1,2}[\w-]+)\[([A-Z][\w-]*)\]", r"\1[=\2]", text)
    return text.replace("/-", " | -")


def _name_of(word: str) -> str:
    return re.sub(r"\W+", "_", word).strip("_").upper() or "VALUE"


def _completed(
    items: Sequence[str], options: Mapping[str, HelpOption], used: set[str]
) -> Iterator[str]:
    """Yield the items with every option spelt in full, as the list has it."""
    for item in items:
        form = parse_synopsis(item)
        yield str(_complete_form(form, options, used))


def _complete_form(form: Form, options: Mapping[str, HelpOption], used: set[str]) -> Form:
    items: list[Any] = []
    for item in form.items:
        if isinstance(item, OptionUse):
            listed = next((options[each] for each in item.spellings if each in options), None)
            used |= set(listed.spellings if listed else item.spellings)
            items.append(_merged(item, listed))
        elif isinstance(item, Choice):
            alternatives = tuple(_complete_form(each, options, used) for each in item.alternatives)
            items.append(Choice(_different(alternatives), item.optional, item.several))
        else:
            items.append(item)
    return Form(tuple(items))


def _different(alternatives: tuple[Form, ...]) -> tuple[Form, ...]:
    """Return alternatives without doubles: `-n NUM | --lines=NUM` are one option, once completed."""
    return tuple(dict.fromkeys(alternatives))


def _merged(use: OptionUse, listed: HelpOption | None) -> OptionUse:
    if listed is None:
        return use
    if listed.choices:
        listed = replace(listed, values=(_name_of(_key_of(listed).lstrip("-")),))
    names = tuple(Name(each) for each in listed.values) or use.values
    if use.values and len(use.values) != len(names):
        names = use.values
    form = use.value_form if use.values else " "
    if listed.optional_value and len(names) == 1:
        form = "[=]" if any(each.startswith("--") for each in listed.spellings) else "[]"
    elif form == "=":
        form = " "
    if listed.several and names:
        names = (*names[:-1], Name(names[-1].name, True))
    return OptionUse(listed.spellings, names, form, use.again)


def _key_of(option: HelpOption) -> str:
    return next((each for each in option.spellings if each.startswith("--")), option.spellings[0])


def _option_text(option: HelpOption) -> str:
    text = ",".join(option.spellings)
    if option.choices:
        return f"{text} {_name_of(_key_of(option).lstrip('-'))}"
    if not option.values:
        return text
    if option.optional_value and len(option.values) == 1:
        long = any(each.startswith("--") for each in option.spellings)
        return f"{text}[={option.values[0]}]" if long else f"{text}[{option.values[0]}]"
    return f"{text} {' '.join(option.values)}" + ("..." if option.several else "")


def _without_doubles(items: Sequence[str], doubts: list[str]) -> str:
    """Return the items but for those that would make the synopsis refuse itself: a spelling that
    stands for two options."""
    kept: list[str] = []
    seen: set[str] = set()
    for item in items:
        form = parse_synopsis(item)
        spellings = {
            each for use in form.walk() if isinstance(use, OptionUse) for each in use.spellings
        }
        if spellings & seen:
            doubts.append(f"{item} is another spelling of an option that is there already")
            continue
        seen |= spellings
        kept.append(item)
    return " ".join(kept)


_NUMBERS = re.compile(
    r"^(?:N|NUM|NUMBER|COUNT|INT|UINT|INTEGER|LINES|BYTES|WIDTH|HEIGHT|COLS|COLUMNS|DEPTH|LEVEL|JOBS)$"
)
_FLOATS = re.compile(r"^(?:FLOAT|FLOAT64|FACTOR|RATIO|SECONDS)$")
_PATHS = re.compile(r"(?:FILE|FILENAME|PATH|PATHSPEC|OUTPUT|INFILE|OUTFILE|DIR|DIRECTORY|FOLDER)$")


def _asks_help(spelling: str, options: Mapping[str, HelpOption]) -> bool:
    """Tell whether an option of a help text asks for help: -h alone may be anything."""
    option = options.get(spelling)
    if option is None:
        return False
    others = set(option.spellings) & set(HELPS) - {"-h"}
    return bool(others) or "help" in option.text.lower()


def _guess_values(
    draft: Draft, line: str, page: HelpText, options: Mapping[str, HelpOption]
) -> None:
    """Guess the types of values from names, choices, defaults and texts."""
    form = parse_synopsis(line)
    operands = {_name_of(each.name): each for each in page.operands}
    for item in form.walk():
        if isinstance(item, OptionUse) and item.values:
            listed = options.get(item.spellings[0])
            text = listed.text if listed else ""
            name = item.values[0].name
            guess = guess_type(name, text, listed.choices if listed else ())
            if listed and listed.default is not None and len(item.values) == 1:
                number = re.fullmatch(r"-?\d+(?:\.\d+)?", listed.default)
                if number and guess.get("type") in ("int", "float"):
                    guess["default"] = (
                        float(number[0]) if guess["type"] == "float" else int(float(number[0]))
                    )
                elif listed.default in guess.get("of", ()):
                    guess["default"] = listed.default
            _note(
                draft, name, guess, f"{item.spellings[-1]}: {text}" if text else item.spellings[-1]
            )
        elif isinstance(item, Operand):
            found: HelpOperand | None = operands.get(_name_of(item.name.name))
            choices = (
                found.choices
                if found
                else next((o.choices for o in page.operands if o.choices), ())
            )
            choices = choices if item.name.name == "COMMAND" or found else ()
            _note(draft, item.name.name, guess_type(item.name.name, found.text if found else "", choices),
                  found.text if found else "")  # fmt: skip


_WRITES = re.compile(
    r"\b(?:OUT\w*|DEST\w*|TARGET|DIR\w*|FOLDER|write|writes|written|output|save|create|to file|log)\b"
    r"|OUT|DEST|DIR"
)
"""Names and texts of files that a program makes, or that may be folders."""


def guess_type(name: str, text: str, choices: Sequence[str] = ()) -> TypeGuess:
    """Return the table of the type that the NAME and the help of a value suggest; none for a text."""
    choices = choices if choices and all(choices) else words_in(text)
    if choices:
        return {"type": "choice", "of": list(choices)}
    low = text.lower()
    if _NUMBERS.match(name) or re.search(
        r"\b(?:number of|how many|an integer|a whole number|count of)\b", low
    ):
        guess: TypeGuess = {"type": "int"}
    elif _FLOATS.match(name):
        guess = {"type": "float"}
    elif _PATHS.search(name):
        return {"type": "path" if _WRITES.search(f"{name} {low}") else "file"}
    elif name in ("DATE", "DAY") and "yyyy-mm-dd" in low:
        return {"type": "date"}
    else:
        bounds = range_in(text)
        if bounds and default_in(text) and re.fullmatch(r"-?\d+", default_in(text) or ""):
            return {"type": "int", "min": bounds[0], "max": bounds[1]}
        return {}
    bounds = range_in(text)
    if bounds:
        guess |= {"min": bounds[0], "max": bounds[1]}
    return guess


def _note(draft: Draft, name: str, guess: TypeGuess, text: str) -> None:
    if name in draft.values or name in draft.notes:
        if guess and guess != draft.values.get(name):
            draft.doubts.append(
                f"{name} stands for values of different kinds; give one of them another NAME"
            )
        return
    draft.notes[name] = text
    if guess:
        draft.values[name] = guess


def checked(draft: Draft) -> Signature:
    """Return the signature of a draft. Raises KeenMatrixError when it does not fit together."""
    switches: Any = {key.replace("-", "_"): value for key, value in draft.switches.items()}
    style = None if draft.reader else draft.style
    return Signature.from_synopsis(
        draft.synopsis, draft.values, style, reader=draft.reader or None,  # type: ignore[arg-type]
        help=draft.help, actions=draft.actions, **switches,
    )  # fmt: skip


__all__ = ["Draft", "checked", "draft_signature", "guess_type", "option_of"]
