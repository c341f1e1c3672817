"""From a help text to a synopsis: the usage line brought into our notation, its options completed
from the list."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from typing import Any, TypeAlias

from keen_matrix.core.errors import KeenMatrixError, NotationFault
from keen_matrix.core.notation.synopsis import (
    Choice,
    Item,
    Keyword,
    Name,
    Operand,
    OptionUse,
    Usage,
    parse_synopsis,
)
from keen_matrix.core.signature.helptext import (
    HelpOption,
    HelpText,
    bounds_in,
    choices_in,
    default_in,
    words_in,
    written_name,
)
from keen_matrix.core.signature.model import MOST_PARTS
from keen_matrix.core.signature.readers import READERS
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.signature.values.base import TypeName
from keen_matrix.core.structs import Struct, field, replace

_ALL_OPTIONS = re.compile(
    r"<options?\(s\)>|\[\s*(?:-{0,2}<?(?:OPTIONS?|options?|FLAGS?|flags?|Options?|switches)>?(?:\.\.\.|\(s\)|…)?)(?:\s*(?:\.\.\.|…))?\s*\](?:\s*(?:\.\.\.|…))?"
)
#: The table of a value's type, as a spec writes it.
TypeGuess: TypeAlias = dict[str, Any]
HELPS = ("-h", "--help", "-help", "-?")
_SPELT = re.compile(r"(?<![\w-])--?[\w?][\w-]*")
MOST_USAGES = 12
#: What a reader is guessed by.
BY_LAYOUT, BY_SCRIPT = "its help is laid out so", "its script names it"


class Draft(Struct):
    """A first signature, and what was guessed."""

    synopsis: list[str]
    style: str
    help: list[str]
    values: dict[str, TypeGuess] = field(default_factory=dict)
    #: NAME or option key → what the help says of it.
    notes: dict[str, str] = field(default_factory=dict)
    doubts: list[str] = field(default_factory=list)
    #: The library that reads the words, where it is known.
    reader: str = ""
    #: What the reader is guessed by, in words; empty where it is known.
    reader_told_by: str = ""
    #: Options that end the call by themselves.
    actions: list[str] = field(default_factory=list)
    #: Habits that are not those of the reader, by their keys in a spec.
    switches: dict[str, bool | str] = field(default_factory=dict)
    #: NAMEs whose types the program's parser told; others are guessed.
    sure: set[str] = field(default_factory=set)


def draft_signature(
    page: HelpText, program: Sequence[str], commands: Mapping[str, HelpText] | None = None
) -> Draft:
    """Return a first signature from a help text; `program` are the words that the usage line begins
    with, `commands` the help texts of its subcommands, each of which becomes a form."""
    commands = commands or {}
    usages: Sequence[str] = page.usages[:MOST_USAGES] or ("",)
    draft = Draft([], "gnu", [], reader=page.reader, reader_told_by=BY_LAYOUT if page.reader else "")
    if len(page.usages) > MOST_USAGES:
        draft.doubts.append(
            f"the help has {len(page.usages)} usage lines; the first {MOST_USAGES} are drafted"
        )
    _doubt_unread(draft, page)
    usages = _own_usages(usages, program)
    page, usages = _fitting(_writable(page, draft), usages, draft)
    page = replace(page, keywords=_keywords(usages, program))
    page = _with_values_of_usages(page, usages, program)
    page = _with_names_apart(page, usages, program)
    options = {spelling: each for each in page.options for spelling in each.spellings}
    for each in page.options:
        options |= dict.fromkeys(each.negated, HelpOption(each.negated))
    asked = [_UsageText(usage, program, page, draft.doubts) for usage in usages]
    draft.style = _style(options, usages[0])
    draft.help = [each for each in HELPS if _asks_help(each, options) or each in _SPELT.findall(usages[0])]
    if not draft.help and page.reader:
        draft.help = list(READERS[page.reader].help)
    draft.actions = [",".join(option.spellings) for option in page.options if _ends_the_call(option)]
    mentioned = {spelling for each in asked for spelling in each.spellings}
    required = {spelling for each in asked for spelling in each.required}
    own = [each for each in asked if not (commands and each.needs_command)]
    for usage in own:
        line = usage.line(page, options, mentioned, required, has_commands=bool(commands))
        if line not in draft.synopsis:
            draft.synopsis.append(line)
        _guess_values(draft, line, page, options)
    for name, below in commands.items():
        _add_command(draft, page, program, name, below)
    return draft


def _fitting(page: HelpText, usages: Sequence[str], draft: Draft) -> tuple[HelpText, Sequence[str]]:
    """Return the page and the usage lines as far as a synopsis takes them: lines after the first
    go before options do."""
    room = MOST_PARTS - ROOM_FOR_OPERANDS
    sizes = [2 + 2 * bool(each.negated) for each in page.options]
    fit = max(1, room // max(sum(sizes), 1))
    if fit < len(usages):
        draft.doubts.append(
            f"with {len(page.options)} options no more than {fit} of {len(usages)} usage lines can be drafted"
        )
    most = next((n for n in range(len(sizes)) if sum(sizes[: n + 1]) > room), len(sizes))
    if most < len(sizes):
        draft.doubts.append(
            f"the help lists {len(sizes)} options; the first {most} are drafted, as many as a synopsis "
            f"may have"
        )
    return replace(page, options=page.options[:most]), usages[:fit]


ROOM_FOR_OPERANDS = 40
#: Lines of a help text that were not understood, and that a draft shows.
MOST_UNREAD = 8


def _doubt_unread(draft: Draft, page: HelpText) -> None:
    """Tell of the lines that look like an option and gave none."""
    for line in page.unread[:MOST_UNREAD]:
        draft.doubts.append(f"this line of the help was not understood: {line[:100]}")
    if len(page.unread) > MOST_UNREAD:
        draft.doubts.append(f"{len(page.unread) - MOST_UNREAD} more lines were not understood")


def _ends_the_call(option: HelpOption) -> bool:
    """Tell whether an option prints the version and ends the call, by its spelling and its text."""
    told = re.search(
        r"\b(?:print|show|display|output|give|report)s?\b.*\bversion\b|\bversion\b.*\bexit\b|^version$",
        option.text,
        re.IGNORECASE,
    )
    is_version = "--version" in option.spellings or re.match(
        r"^(?:print|show|display|output|give|report)s? (?:the |its |program |software |this program's )*version\b|"
        r"^version(?: information| number)?\.?$",
        option.text,
        re.IGNORECASE,
    )
    return bool(is_version) and not option.values and told is not None


# --- subcommands ---


def _add_command(draft: Draft, page: HelpText, program: Sequence[str], name: str, below: HelpText) -> None:
    """Add the forms of a subcommand. Options of the program stand in front of it, those aside that
    the subcommand has too."""
    # One level deep: below it, help texts are mostly those of the level above.
    inner = draft_signature(replace(below, commands=()), [*program, name])
    spelt = {word for each in below.options for word in (*each.spellings, *each.negated)}
    before = [
        item
        for option in page.options
        if not spelt & {*option.spellings, *option.negated}
        for item in _option_items(option)
    ]
    for line in inner.synopsis:
        changed = {
            old: _other_name(old, name, draft)
            for old in _names_of(line)
            # A NAME that means the same in two subcommands stays one; types are per NAME.
            if old in {*draft.values, *draft.notes} and draft.values.get(old) != inner.values.get(old)
        }
        written = _renamed(line, changed)
        draft.synopsis.append(" ".join([*before, name, *filter(None, [written])]))
        for old in _names_of(line):
            new = changed.get(old, old)
            draft.notes.setdefault(new, inner.notes.get(old, ""))
            if old in inner.values:
                draft.values.setdefault(new, inner.values[old])
            if old in inner.sure:
                draft.sure.add(new)
    draft.doubts += [f"{name}: {each}" for each in inner.doubts]
    draft.help += [each for each in inner.help if each not in draft.help]
    draft.actions += [each for each in inner.actions if each not in draft.actions]


def _names_of(line: str) -> list[str]:
    """Return the NAMEs of a synopsis, without < and >."""
    found: dict[str, None] = {}
    for item in parse_synopsis(line).walk():
        names = item.values if isinstance(item, OptionUse) else ()
        names = (item.name,) if isinstance(item, Operand) else names
        found |= dict.fromkeys(each.name for each in names)
    return list(found)


def _other_name(old: str, command: str, draft: Draft) -> str:
    """Return a NAME of a subcommand's own, since the old one stands for other values elsewhere."""
    own = f"{command.upper()}-{old}" if old.isupper() else f"{command}-{old}"
    while own in draft.values:
        own += "-2"
    return own


def _renamed(line: str, changed: Mapping[str, str]) -> str:
    """Return a synopsis with other NAMEs."""
    return str(_renamed_form(parse_synopsis(line), changed)) if changed else line


def _renamed_form(form: Usage, changed: Mapping[str, str]) -> Usage:
    items: list[Item] = []
    for item in form.items:
        if isinstance(item, OptionUse):
            items.append(replace(item, values=tuple(_renamed_name(each, changed) for each in item.values)))
        elif isinstance(item, Operand):
            items.append(Operand(_renamed_name(item.name, changed)))
        elif isinstance(item, Choice):
            items.append(
                replace(item, alternatives=tuple(_renamed_form(each, changed) for each in item.alternatives))
            )
        else:
            items.append(item)
    return Usage(tuple(items))


def _renamed_name(name: Name, changed: Mapping[str, str]) -> Name:
    return replace(name, name=changed.get(name.name, name.name))


def _writable(page: HelpText, draft: Draft) -> HelpText:
    """Return the page without the options that no synopsis can have, of which the draft tells: a
    help text may be anything."""
    fit = []
    for option in page.options:
        try:
            for item in _option_items(option):
                parse_synopsis(item)
        except NotationFault:
            draft.doubts.append(f"this option of the help cannot be written: {', '.join(option.spellings)}")
        else:
            fit.append(option)
    return replace(page, options=tuple(fit))


# --- usage lines ---

#: Words in small letters that a usage line may begin with and that are values.
_NAMES_OF_VALUES = re.compile(
    r"(?:in|out)?(?:file|dir|path|name|source|src|target|dest|input|output|url|host|number|num|n|string|str|"
    r"text|word|pattern|expr|expression|command|cmd|args?|options?|arguments?|value|key|date|port)"
    r"(?:name|s|-?\d+)?"
)


def _keywords(usages: Sequence[str], program: Sequence[str]) -> frozenset[str]:
    """Return the words that usage lines begin with where that tells them apart: `add NAME`, `list`
    and `drop NAME COUNT`."""
    texts = (_without_program(usage, program).split() for usage in usages)
    first = [words[0] for words in texts if words]
    plain = [
        each
        for each in dict.fromkeys(first)
        if re.fullmatch(r"[a-z][a-z0-9_-]+", each) and not _NAMES_OF_VALUES.fullmatch(each)
    ]
    return frozenset(plain) if len(plain) > 1 else frozenset()


def _own_usages(usages: Sequence[str], program: Sequence[str]) -> Sequence[str]:
    """Return the usage lines except for those of other programs, which a page may have among its
    examples, where the first one is the program's own."""
    own = [each for each in usages if _begins_with_program(each, program)]
    return own if own[:1] == [*usages[:1]] else usages


def _begins_with_program(usage: str, program: Sequence[str]) -> bool:
    return len(_without_program(usage, program).split()) < len(usage.split()) and any(
        usage.split()[0].rsplit("/", 1)[-1].startswith(word.rsplit("/", 1)[-1].rsplit(".", 1)[0])
        for word in program
    )


def _with_values_of_usages(page: HelpText, usages: Sequence[str], program: Sequence[str]) -> HelpText:
    """Return the page with the values that a usage line gives to options which the list has without
    any: `[--path=<file>]` there, and `--path` alone in front of its text. With a value in one usage
    line and without in another it may be left out."""
    used: dict[str, OptionUse] = {}
    bare: set[str] = set()
    for usage in usages:
        for item in _UsageText(usage, program, page, []).items:
            for use in parse_synopsis(item).walk():
                if isinstance(use, OptionUse) and use.values:
                    used |= dict.fromkeys(use.spellings, use)
                elif isinstance(use, OptionUse):
                    bare.update(use.spellings)
    for spelling in bare & used.keys():
        used[spelling] = replace(used[spelling], value_form="[]")
    return replace(page, options=tuple(_with_value_of_usage(each, used) for each in page.options))


def _with_value_of_usage(option: HelpOption, used: Mapping[str, OptionUse]) -> HelpOption:
    use = next((used[each] for each in option.spellings if each in used), None)
    # What the list itself says of the value is nearer to it than the usage line.
    if option.values or option.is_range or option.kind is not None or use is None:
        return option
    if any(each.optional for each in use.values):
        return option  # the list has no way to say that the second of two values may go
    bare = tuple(str(replace(each, several=False)) for each in use.values)
    several = bool(use.values) and use.values[-1].several
    is_optional = use.value_form in ("[=]", "[]")
    return replace(option, values=bare, optional_value=is_optional, several=option.several or several)


def _with_names_apart(page: HelpText, usages: Sequence[str], program: Sequence[str]) -> HelpText:
    """Return the page with a NAME of its own for every value of an option whose NAME stands for
    values of another type elsewhere, or for an operand: `-o FILE` and FILE are two files."""
    types: dict[str, TypeGuess] = {}
    operands = {name for usage in usages for name in _operand_names(usage, program, page)}
    found = []
    for option in page.options:
        changed = option
        if len(option.values) == 1 and not option.choices:
            (written,) = option.values
            name = written.strip("<>")
            guess = _guess_of(option)
            # what is bounded otherwise, or of a kind that nobody tells, is another value elsewhere
            shared = name in types and guess.get("type") not in _SHARED
            if types.setdefault(name, guess) != guess or shared or (name in operands and guess):
                own = _key_of(option).lstrip("-")
                own = own if written.startswith("<") else _name_of(own)
                own = own if len(own) > 1 and own not in {*types, *operands} else f"{own}-{name}"
                own += "2" * (own in types)  # of -b and -B both
                types[own] = guess
                changed = replace(option, values=(written_name(own),), meant=written)
        found.append(changed)
    return replace(page, options=tuple(found))


#: Types of which one NAME may stand for the values of several options.
_SHARED = ("file", "path", "choice", "date", "bool")


def _operand_names(usage: str, program: Sequence[str], page: HelpText) -> Iterator[str]:
    """Yield the NAMEs of the operands of a usage line."""
    for item in _UsageText(usage, program, page, []).items:
        form = parse_synopsis(item)
        yield from (each.name.name for each in form.walk() if isinstance(each, Operand))


_COMMAND_NAMES = re.compile(
    r"^(?:sub[-_ ]?)?(?:command|cmd)s?(?:[-_ ](?:args?|arguments|options))?$", re.IGNORECASE
)
_ARGUMENT_NAMES = re.compile(r"^(?:args?|arguments|options)$", re.IGNORECASE)


class _UsageText:
    """One usage line, in our notation."""

    def __init__(self, usage: str, program: Sequence[str], page: HelpText, doubts: list[str]) -> None:
        self.has_all = _ALL_OPTIONS.search(usage) is not None
        self.doubts = doubts
        self.mentioned = frozenset(_SPELT.findall(usage))
        self.items = _usage_form(usage, program, page, doubts)

    @property
    def needs_command(self) -> bool:
        """Whether it has a subcommand that may not be left out."""
        return any(_is_command(each) for each in self.items if not each.startswith("["))

    @property
    def spellings(self) -> frozenset[str]:
        """The spellings of all options that it has."""
        walks = (item for each in self.items for item in parse_synopsis(each).walk())
        uses = (item for item in walks if isinstance(item, OptionUse))
        return frozenset(spelling for use in uses for spelling in use.spellings)

    @property
    def required(self) -> frozenset[str]:
        """The spellings of the options that it has outside brackets."""
        forms = [parse_synopsis(each) for each in self.items]
        uses = (item for form in forms for item in form.items if isinstance(item, OptionUse))
        return frozenset(spelling for use in uses for spelling in use.spellings)

    def line(
        self,
        page: HelpText,
        options: Mapping[str, HelpOption],
        mentioned: Set[str],
        required: Set[str],
        *,
        has_commands: bool,
    ) -> str:
        """Return it as a synopsis, with the listed options that it does not name itself: not those
        that make up another usage line, which require them. Of `cp [OPTION]... SOURCE DEST` and `cp
        [OPTION]... -t DIRECTORY SOURCE...` the first goes without `-t`. Where it does not stand for
        all options, those that another usage line names go where they are named."""
        elsewhere = required - self.mentioned
        used: set[str] = set()
        items = self.items
        if has_commands:
            items = [each for each in items if not (_is_command(each) or _is_arguments(each))]
        items = list(_completed(items, options, used))
        listed = [
            option
            for option in page.options
            if not used & {*option.spellings, *option.negated}
            and not elsewhere & {*option.spellings}
            and (self.has_all or not mentioned & set(option.spellings))
        ]
        front = [item for option in listed for item in _option_items(option)]
        at = next((n for n, each in enumerate(items) if not each.lstrip("[(").startswith("-")), len(items))
        if page.has_keywords or page.keywords:
            at = next(
                (n for n, each in enumerate(items) if not re.match(r"[a-z-]|\(?\[?-", each)), len(items)
            )
        items[at:at] = front
        return _without_doubles(items, self.doubts)


def _is_command(item: str) -> bool:
    return _COMMAND_NAMES.match(item.strip("[]().<>")) is not None


def _is_arguments(item: str) -> bool:
    return _ARGUMENT_NAMES.match(item.strip("[]().<>")) is not None


def _option_items(option: HelpOption) -> Iterator[str]:
    """Yield an option as a synopsis has it, and what switches an option with a value off, which is
    another one."""
    text = _option_text(option)
    off = ",".join(option.negated)
    if off and not option.values:
        text = opposites(text, off)
        yield text if option.required else optional(text)
        return
    if option.is_range:  # of several of them the last usually counts
        yield f"[{text}]..."
    elif option.required:
        yield f"({text})" if len(option.values) > 1 else text
    else:
        yield f"[{text}]"
    if off:
        yield f"[{off}]"


def count_text(least: int, most: int | None) -> int | str:
    """Return how many words there may be as a spec writes it."""
    return least if least == most else f"{least}..{'' if most is None else most}"


def opposites(on: str, off: str) -> str:
    """Return a flag and what switches it off as a synopsis has them: any of the two, as often as
    one likes, of which the last counts."""
    return f"({on} | {off})..."


def optional(text: str) -> str:
    """Return a part of a synopsis that may be left out; of opposites no brackets in brackets."""
    if text.startswith("(") and text.endswith(")..."):
        return f"[{text[1:-4]}]..."
    return f"[{text}]"


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
            doubts.append("the usage line has a placeholder for an option, but the help lists none")
        text = re.sub(r"(?<![\[<\w-])(?:options?|OPTIONS?)(?:\s?(?:\.\.\.|…))?(?=\s|$)", " ", text)
    text = text.replace("…", "...").replace("[--]", " ").replace("[...]", "...")
    text = _with_values_between_signs(text) if page.has_keywords else text
    text = re.sub(r"\((?:with|without|see|if|when|only|default)\b[^()|]*\)", " ", text)  # a remark
    text = re.sub(r"(?<=[\w>])\(s\)", "...", text, flags=re.IGNORECASE)  # [file(s)]
    text = re.sub(r"(?<=[\w>.])\s?\|\s?-(?=[\s\])]|$)", "", text)  # FILE|-: the dash is a file too
    text = re.sub(r"\[-\[(\w+)\](\[\w+\])?\]", _letters, text)  # [-[abc]], [-[AB][name]]
    text = re.sub(r"\[([a-z]+(?: [a-z]+){3,})\]", lambda match: _sentence(match[1], doubts), text)
    text = re.sub(rf"\[([a-z]+) ({_MANY_NAMES})\]", r"[<\1-\2>...]", text)  # [mangled names]
    text = re.sub(r"\{([^{}]+)\}", lambda match: _braced(match[1]), text)
    text = re.sub(r"\s*\|\s*/<[^<>]+>/", "", text)  # a pattern in the place of the operand
    text = re.sub(r"\[\s+", "[", re.sub(r"\s+\]", "]", text))
    # what is glued to the end of a word belongs to it: X[,Y,Z], RRGGBB[AA], path[#seed]
    text = re.sub(r"(?<![\w<-])(<[^<>]+>|[A-Za-z][\w.:/#]*)\[[^\[\]\s]+\]", r"\1", text)
    # argparse: "FILE [FILE ...]" and "[FILE ...]"; also "[FILE [FILE ...]]"
    text = re.sub(r"(?<![\w<])(<?[\w./-]+>?) \[\1 ?\.\.\.\]", r"\1...", text)
    text = re.sub(r"\[(<?[\w./-]+>?) \[\1 ?\.\.\.\]\]", r"[\1...]", text)
    text = re.sub(r"(\S) \.\.\.", r"\1...", text)
    # Getopt::Long writes spellings of one option so: -strip|s
    text = re.sub(r"(?<![\w|-])(-\w{2,})\|(\w)(?=[ \]])", r"\1,-\2", text)
    are_words = any(_has_letter_twice(each) for each in re.findall(r"\[-(\w{2,})\]", text))
    items = []
    for number, item in enumerate(_with_values(_split_items(text), page)):
        is_keyword = number == 0 and item in page.keywords
        made = item if is_keyword else _item(item, page, are_words=are_words)
        if made is None:
            doubts.append(f"this part of the usage line was not understood: {item}")
        elif made:
            items.append(made)
    if items and page.reader not in MADE_USAGES and _PLURAL.fullmatch(items[-1]):
        items[-1] = f"[{items[-1].strip('[]')}...]" if items[-1].startswith("[") else f"{items[-1]}..."
    return items


def _with_values_between_signs(text: str) -> str:
    """Return a usage whose words are typed as they are, with < and > around those that are values
    all the same: with dots, or called a file."""
    text = re.sub(r"(?<![\w<.-])([a-z][\w-]*)(?=\s?\.\.\.)", r"<\1>", text)
    return re.sub(
        r"(?<![\w<.-])([a-z][\w-]*)(?![\w>-])",
        lambda match: f"<{match[1]}>" if _NAMES_OF_VALUES.fullmatch(match[1]) else match[1],
        text,
    )


def _letters(match: re.Match[str]) -> str:
    """Return each of some letters as an option, with the value that all of them have."""
    return " ".join(f"[-{each}{match[2] or ''}]" for each in match[1])


def _sentence(text: str, doubts: list[str]) -> str:
    """Return what a sentence in brackets says of operands: that there are files, at most."""
    doubts.append(f"this part of the usage line is a sentence: {text}")
    return "[FILE...]" if re.search(r"\bfiles?\b", text) else " "


def _with_values(items: Iterable[str], page: HelpText) -> Iterator[str]:
    """Yield items, an option outside brackets with the values that the list says it takes:
    `--day <DAY>`."""
    takes = {word: each for each in page.options for word in each.spellings}
    rest = list(items)
    while rest:
        item = rest.pop(0)
        listed = takes.get(item)
        is_named = listed and rest and rest[0] in listed.values
        while listed and (is_named or not listed.optional_value) and len(item.split()) <= len(listed.values):
            if not rest or rest[0].startswith(("-", "[", "(")):
                break
            item = f"{item} {rest.pop(0)}"
        yield item


#: Readers that make the usage line themselves: an operand without dots is one word there.
MADE_USAGES = frozenset({"argparse", "click", "typer", "clap", "commander", "yargs"})
_MANY_NAMES = (
    "files|args|arguments|names|filenames|paths|urls|inputs|words|dirs|directories|hosts|packages|strings|"
    "numbers|values"
)
#: Operands whose name says that there may be several, at the end of a usage line without dots.
_PLURAL = re.compile(rf"\[?<?(?:{_MANY_NAMES})>?\]?", re.IGNORECASE)


def _without_program(usage: str, program: Sequence[str]) -> str:
    words = usage.split()
    names = {word.rsplit("/", 1)[-1] for word in program}
    names |= {name.rsplit(".", 1)[0] for name in names}
    count = 1 if words else 0
    if words[:1] and words[0] in ("python", "python3", "node", "perl", "sh", "bash") and len(words) > 1:
        count = 2 if words[1] != "-m" else 3
    while count < len(words) and names & set(words[count].split("|")):
        count += 1
    return " ".join(words[count:])


def _braced(inner: str) -> str:
    return "COMMAND" if "," in inner or "|" in inner else inner


def _split_items(text: str) -> Iterator[str]:
    """Yield the top-level items of a usage line: a bracketed group, an option with the words
    after it, a word."""
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


def _has_letter_twice(word: str) -> bool:
    """Tell whether what follows a dash cannot be flags of one letter: none of them stands
    twice."""
    return len(set(word)) < len(word)


def _item(item: str, page: HelpText, *, are_words: bool) -> str | None:
    """Return one item in our notation, empty to leave it out, or None when it is not understood.
    `are_words` says that what follows one dash are words, and no flags of one letter."""
    on_and_off = re.fullmatch(r"\[(--?)[\[(](no-?)[\])](\w[\w-]*)\]", item)
    if on_and_off:
        dash, no, rest = on_and_off.groups()
        return f"[{dash}{rest}] [{dash}{no}{rest}]"
    spelt = {spelling for each in page.options for spelling in each.spellings}
    for attempt in (item, _names_in(item)):
        bundle = re.fullmatch(r"\[-(\w{2,})\]", attempt)
        if bundle and not are_words and attempt.strip("[]") not in spelt:
            return " ".join(f"[-{letter}]" for letter in dict.fromkeys(bundle[1]))
        try:
            form = parse_synopsis(attempt)
        except KeenMatrixError:
            continue
        if not page.has_keywords and any(isinstance(each, Keyword) for each in form.walk()):
            continue
        return str(form)
    return None


def _names_in(item: str) -> str:
    """Return an item whose lower-case words are NAMEs, and whose other signs are those of our
    notation."""
    text = re.sub(r"\[no-?\]", "", item)
    text = re.sub(
        r"<([^<>]+)>|(?<![\w<-])([A-Za-z](?:[\w.:/-]*[\w/-])?)",
        lambda match: written_name(match[1] or match[2]),
        text,
    )
    text = re.sub(r"(--[\w-]+)\[([A-Z][\w-]*|<[^<>]+>)\]", r"\1[=\2]", text)
    return text.replace("/-", " | -")


def _name_of(word: str) -> str:
    return re.sub(r"\W+", "_", word).strip("_").upper() or "VALUE"


def _completed(items: Sequence[str], options: Mapping[str, HelpOption], used: set[str]) -> Iterator[str]:
    """Yield the items with every option spelt in full, as the list has it."""
    for item in items:
        form = parse_synopsis(item)
        yield str(_complete_form(form, options, used))


def _complete_form(form: Usage, options: Mapping[str, HelpOption], used: set[str]) -> Usage:
    items: list[Item] = []
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
    return Usage(tuple(items))


def _different(alternatives: tuple[Usage, ...]) -> tuple[Usage, ...]:
    """Return alternatives without doubles: `-n NUM | --lines=NUM` is one option once completed."""
    return tuple(dict.fromkeys(alternatives))


def _merged(use: OptionUse, listed: HelpOption | None) -> OptionUse:
    if listed is None or listed.is_range:
        return use
    names = tuple(map(_as_name, listed.values)) or use.values
    if use.values and len(use.values) != len(names):
        names = use.values
    form = use.value_form if use.values else " "
    if listed.optional_value and len(names) == 1:
        form = "[=]" if any(each.startswith("--") for each in listed.spellings) else "[]"
    elif form == "=":
        form = " "
    if listed.several and names:
        names = (*names[:-1], replace(names[-1], several=True))
    return OptionUse(listed.spellings, names, form, use.again or listed.again)


def _as_name(written: str) -> Name:
    return Name(written.strip("<>"), angled=written.startswith("<"))


def _key_of(option: HelpOption) -> str:
    return next((each for each in option.spellings if each.startswith("--")), option.spellings[0])


def _option_text(option: HelpOption) -> str:
    if option.is_range:
        return " … ".join(option.spellings)
    text = ",".join(option.spellings)
    dots = "..." if option.again else ""
    if not option.values:
        return text + dots
    if option.optional_value and len(option.values) == 1:
        long = any(each.startswith("--") for each in option.spellings)
        value = f"[={option.values[0]}]" if long else f"[{option.values[0]}]"
        return text + value + dots
    return f"{text}{dots} {' '.join(option.values)}" + ("..." if option.several else "")


def _without_doubles(items: Sequence[str], doubts: list[str]) -> str:
    """Return the items except for those that would make the synopsis refuse itself: a spelling that
    stands for two options."""
    kept: list[str] = []
    seen: set[str] = set()
    for item in items:
        form = parse_synopsis(item)
        spellings = {each for use in form.walk() if isinstance(use, OptionUse) for each in use.spellings}
        if spellings & seen:
            doubts.append(f"{item} is another spelling of an option that the synopsis already has")
            continue
        seen |= spellings
        kept.append(item)
    return " ".join(kept)


_NUMBERS = re.compile(
    r"^(?:N|NUM|NUMBER|COUNT|INT|UINT|INTEGER|LINES|BYTES|WIDTH|HEIGHT|COLS|COLUMNS|DEPTH|LEVEL|JOBS)$"
)
_FLOATS = re.compile(r"^(?:FLOAT|FLOAT64|FACTOR|RATIO|SECONDS)$")
_PATHS = re.compile(r"(?:(?:FILE|FILENAME|PATH|PATHSPEC)S?|OUTPUT|INFILE|OUTFILE|DIR|DIRECTORY|FOLDER)\d?$")


def _asks_help(spelling: str, options: Mapping[str, HelpOption]) -> bool:
    """Tell whether an option of a help text asks for help: -h alone may be anything."""
    option = options.get(spelling)
    if option is None:
        return False
    others = set(option.spellings) & set(HELPS) - {"-h"}
    return bool(others) or "help" in option.text.lower()


def _guess_values(draft: Draft, line: str, page: HelpText, options: Mapping[str, HelpOption]) -> None:
    """Guess the types of values from names, choices, defaults and texts."""
    operands = {each.name.strip("<>").lower(): each for each in page.operands}
    for item in parse_synopsis(line).walk():
        if isinstance(item, OptionUse) and item.values:
            listed = options.get(item.spellings[0])
            name = item.values[0].name
            guess = _guess_of(listed) if listed else guess_type(name, "")
            text = listed.text if listed else ""
            if listed and (listed.choices or listed.kind not in (None, "text")):
                draft.sure.add(name)  # it says so in its own way, and not in prose
            _note(draft, name, guess, f"{item.spellings[-1]}: {text}" if text else item.spellings[-1])
        elif isinstance(item, Operand):
            name = item.name.name
            found = operands.get(name.lower())
            choices = found.choices if found else next((o.choices for o in page.operands if o.choices), ())
            choices = choices if name == "COMMAND" or found else ()
            guess = guess_type(name, found.text if found else "", choices, found.kind if found else None)
            _note(draft, name, guess, found.text if found else "")


def _guess_of(option: HelpOption) -> TypeGuess:
    """Return the table of the type of an option's value, its default among it."""
    if not option.values:
        return {}
    name = option.meant or option.values[0]
    guess = guess_type(name, option.text, option.choices, option.kind)
    if option.default is not None and len(option.values) == 1:
        number = re.fullmatch(r"-?\d+(?:\.\d+)?", option.default)
        if number and guess.get("type") in ("int", "float"):
            guess["default"] = float(number[0]) if guess["type"] == "float" else int(float(number[0]))
        elif option.default in guess.get("of", ()):
            guess["default"] = option.default
    return guess


#: Names and texts of files that a program makes, or that may be directories.
_WRITES = re.compile(
    r"\b(?:OUT\w*|DEST\w*|TARGET|DIR\w*|FOLDER|write|writes|written|output|save|create|to file|log)\b"
    r"|OUT|DEST|DIR"
)


def guess_type(name: str, text: str, choices: Sequence[str] = (), kind: TypeName | None = None) -> TypeGuess:
    """Return the table of the type that the NAME and the help of a value suggest; none for a text.
    `kind` is what the help itself says."""
    if not (choices and all(choices)):
        choices = () if kind in ("int", "float", "bool", "date") else words_in(text) or choices_in(text)
    if choices:
        return {"type": "choice", "of": list(choices)}
    low = text.lower()
    name = _name_of(name)
    if kind is not None:
        guess: TypeGuess = {"type": kind} if kind != "text" else {}
    elif _NUMBERS.match(name) or re.search(
        r"\b(?:number of|how many|an integer|a whole number|count of)\b", low
    ):
        guess = {"type": "int"}
    elif _FLOATS.match(name):
        guess = {"type": "float"}
    elif _PATHS.search(name):
        return {"type": "path" if _WRITES.search(f"{name} {low}") else "file"}
    elif name in ("DATE", "DAY") and "yyyy-mm-dd" in low:
        return {"type": "date"}
    else:
        number = re.fullmatch(r"-?\d+(\.\d+)?", default_in(text) or "")
        if number is None:
            return {}
        guess = {"type": "float" if number[1] else "int"}
    return {**guess, **bounds_in(text)} if guess.get("type") in ("int", "float") else guess


def _note(draft: Draft, name: str, guess: TypeGuess, text: str) -> None:
    if name in draft.values or name in draft.notes:
        if guess and guess != draft.values.get(name):
            draft.doubts.append(f"{name} names values of different kinds; rename one of them")
        return
    draft.notes[name] = text
    if guess:
        draft.values[name] = guess


def checked(draft: Draft) -> Signature:
    """Return the signature of a draft. Raises KeenMatrixError when it does not fit together."""
    switches: Any = {key.replace("-", "_"): value for key, value in draft.switches.items()}
    style = None if draft.reader else draft.style
    return Signature.from_synopsis(
        draft.synopsis,
        draft.values,
        style,  # type: ignore[arg-type]
        reader=draft.reader or None,
        help=draft.help,
        actions=draft.actions,
        **switches,
    )


__all__ = ["Draft", "checked", "draft_signature", "guess_type"]
