"""The general form of a help text, and the choice among layouts.

What is read in every layout: usage lines, options with the text beside or below them, operands and
subcommands below a heading of theirs.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from keen_matrix.core.signature.helptext.heads import option_of, written_name
from keen_matrix.core.signature.helptext.layouts import LAYOUTS, HelpLayout
from keen_matrix.core.signature.helptext.page import HelpCommand, HelpOperand, HelpOption, HelpText
from keen_matrix.core.signature.helptext.usages import is_usage, usages_in
from keen_matrix.core.structs import replace

#: Characters of a help text that are read, of a line of it, and of what it says of one option: it
#: may be any program's output.
MOST_TEXT, LONGEST_LINE, LONGEST_TEXT = 300_000, 500, 2_000
MOST_LINES = 20_000
#: What a mark of a layout counts beside one option understood, and what a line not understood takes
#: away.
MARK, MISREAD = 3, 2

_OPTION_LINE = re.compile(
    r"^(?P<indent>[ \t]{0,14})(?P<head>-{1,2}[\w?#@\[(].*?)(?:[ ]{2,}|\t+|\s+[:–—]\s+|\s-\s(?=[A-Za-z\"'(])|$)(?P<text>.*)$"
)
#: Another form of such a line: `-n/--number N: how many times`.
_BEFORE_COLON = re.compile(
    r"^(?P<indent>[ \t]{0,14})(?P<head>-{1,2}[\w?][^\s:]*(?:,\s-[^\s:]+)*(?: "
    r"(?:[A-Z][A-Z0-9_]*|<[^<>]+>))?):\s+(?P<text>.*)$"
)
_HEADING = re.compile(r"^(?P<indent>\s{0,3})(?P<title>[A-Za-z][\w /,-]*?)(?: \([^)]*\))?:?\s*$")
_OPERANDS = re.compile(
    r"^(?:positional arguments|positionals|arguments|args|operands|parameters)$", re.IGNORECASE
)
_COMMANDS = re.compile(
    r"^(?:(?:available|sub|main|basic|core|other|additional|management) ?)*(?:sub)?commands?(?: are)?$",
    re.IGNORECASE,
)
_COMMAND = re.compile(
    r"^(?P<names>[a-z][\w:.-]*(?:(?:, ?| ?\| ?)[a-z][\w:.-]*)*)(?: (?:[<\[][^ ]+[>\]](?:\.\.\.)?|[A-Z]+))*"
    r"(?:\s{2,}(?P<text>\S.*))?$"
)


def read_help(text: str) -> HelpText:
    """Return what a help text tells, read in the layout that fits it best."""
    lines = list(_lines(text))
    whole = "\n".join(lines)
    best: HelpText | None = None
    most = -1
    for layout in LAYOUTS:
        fits = layout.fits(whole)
        if not fits:
            continue
        page = _read(layout, lines, whole)
        score = MARK * fits + _understood(page) - MISREAD * len(page.unread)
        if best is None or score > most:
            best, most = page, score
    assert best is not None  # the general layout fits any text
    return best


def _lines(text: str) -> Iterator[str]:
    """Yield the lines that are read: with spaces for tabs, and of blank ones no more than two in a
    row, which say as much as a thousand."""
    blank = 0
    for line in _plain(text[:MOST_TEXT]).splitlines()[:MOST_LINES]:
        blank = 0 if line.strip() else blank + 1
        if blank <= 2:
            yield line.expandtabs(8)[:LONGEST_LINE]


def _understood(page: HelpText) -> int:
    """Return how much of a text was understood: spellings, values, choices, operands,
    subcommands."""
    options = sum(
        len(each.spellings) + len(each.values) + bool(each.choices) + bool(each.kind) for each in page.options
    )
    return options + len(page.operands) + len(page.commands) + bool(page.usages)


def _read(layout: HelpLayout, lines: Sequence[str], whole: str) -> HelpText:
    """Return what a text tells when it is read in one layout."""
    prepared = layout.prepare(lines)
    options, unread = _options(layout, prepared)
    page = HelpText(
        () if layout.is_silent_on_usage else tuple(usages_in(prepared)),
        tuple(options),
        tuple(_operands(layout, prepared)),
        tuple(_commands(prepared)),
        tuple(unread),
        layout.name,
        layout.reader_of(whole),
        layout.has_keywords,
    )
    return layout.finish(page)


def _plain(text: str) -> str:
    """Return a text without escape sequences and overstriking (as manual pages have it)."""
    text = re.sub(r"\x1b\[[0-9;]*[A-Za-z]|.\x08", "", text)
    # a formatter of manual pages breaks words at hyphens of its own
    text = re.sub(r"(?<=\w)[\u2010\u00ad]\n[ \t]*(?=\w)", "", text)
    return re.sub(r"[\u2010\u2011\u2212]", "-", text)


def _depth(line: str) -> int:
    return len(line) - len(line.lstrip())


# --- options ---


def _options(layout: HelpLayout, lines: Sequence[str]) -> tuple[list[HelpOption], list[str]]:
    """Return the listed options, and the lines that look like one and gave none. A text that goes
    on in deeper lines is taken along. An option listed twice comes once."""
    listing = _Listing(layout, lines)
    for line in _without_formats(_joined(_without_brackets(lines))):
        listing.read(line)
    return listing.options, listing.unread


class _Listing:
    """The list of options of a help text, read line by line."""

    def __init__(self, layout: HelpLayout, lines: Sequence[str]) -> None:
        self._layout, self._is_tight = layout, _is_tight(lines)
        self.options: list[HelpOption] = []
        #: Lines that look like an option and gave none.
        self.unread: list[str] = []
        #: Spelling → the number of the option that has it.
        self._places: dict[str, int] = {}
        #: How deep the last option is indented; None after something else.
        self._depth: int | None = None
        self._after_blank = True
        #: How deep the next line of a text is whose sentence has not ended: what begins with an
        #: option there tells of it, as "--left or --right overrides --both".
        self._goes_on: int | None = None

    def read(self, line: str) -> None:
        """Take in the next line."""
        # A usage line may begin with an option where the program's name is in the line above.
        match = None if is_usage(line) else _BEFORE_COLON.match(line) or _OPTION_LINE.match(line)
        option, head, text = None, "", ""
        is_text = _depth(line) == self._goes_on
        self._goes_on = None
        if match is not None and not is_text:
            kinds = self._layout.kinds
            head, text = _head_and_text(match["head"], match["text"], self._is_tight, kinds)
            option = option_of(head, text, kinds)
        if match is not None and option is not None:
            self._add(option, head, text, len(match["indent"]))
        # Deeper than the option by more than a space: some indent the second line of a head by one.
        elif self._depth is not None and line.strip() and _depth(line) > self._depth + 1:
            self._go_on(line)
        elif line.strip():
            # In running text a dash at the beginning of a line is a dash.
            if match is not None and self._after_blank | (self._depth is not None):
                self.unread.append(line.strip())
            self._depth = None
        self._after_blank = not line.strip() or line.rstrip().endswith(":")

    def _add(self, option: HelpOption, head: str, text: str, indent: int) -> None:
        option = _of_layout(self._layout, option)
        # Some help texts list an option once for each of its values; a second option of the name
        # would make the synopsis refuse itself.
        spelt = (*option.spellings, *option.negated)
        again = next((self._places[each] for each in spelt if each in self._places), None)
        if again is not None:
            self.options[again], letters = _with_choices(self.options[again], option)
            if letters:
                self._list(letters, letters.spellings)
            option = _without(option, self.options[again], head, self._layout, text)
        self._depth = indent if option.spellings else None
        for each in _apart(option, head) if option.spellings else ():
            self._list(each, (*each.spellings, *each.negated))

    def _list(self, option: HelpOption, spellings: Iterable[str]) -> None:
        self._places |= dict.fromkeys(spellings, len(self.options))
        self.options.append(option)

    def _go_on(self, line: str) -> None:
        """Add a line to the text of the last option."""
        text = f"{self.options[-1].text} {line.strip()}".strip()
        self.options[-1] = replace(self.options[-1], text=text[:LONGEST_TEXT])
        self._goes_on = _depth(line) if re.search(r"[a-z,]$", line.rstrip()) else None


def _apart(option: HelpOption, head: str) -> Iterator[HelpOption]:
    """Yield an option, in two where only its long spelling takes a value, which may be left out:
    `-F, --classify[=WHEN]` (getopt_long(3): the short one would have it glued). A letter with a
    NAME of its own takes one: `-c, -C NUM, --context[=NUM]` are three."""
    short = tuple(each for each in option.spellings if len(each) == 2)
    long = tuple(each for each in option.spellings if len(each) > 2)
    bare = replace(option, values=(), optional_value=False, choices=(), kind=None)
    if len(short) > 1 and len(short) == len(option.choices) and head.startswith("|".join(short)):
        # -A|-B|-G --format={sysv|berkeley|gnu}: each letter stands for a choice
        yield from (replace(bare, spellings=(each,)) for each in short)
        yield replace(option, spellings=long, optional_value=False)
    elif option.optional_value and short and long and "[=" in head and not re.match(r"-\w\s*[^,\s|/]", head):
        valued = tuple(each for each in short if _has_own_value(each, head))
        flags = tuple(each for each in short if each not in valued)
        if flags:
            yield replace(bare, spellings=flags)
        if valued:
            yield replace(option, spellings=valued, optional_value=False)
        yield replace(option, spellings=long)
    else:
        yield option


def _has_own_value(letter: str, head: str) -> bool:
    """Tell whether a NAME follows a letter, before the next spelling."""
    return re.search(rf"(?<!\S){re.escape(letter)} (?:[A-Z][\w-]*|<[^<>]+>)(?=,|$)", head) is not None


def _without(option: HelpOption, known: HelpOption, head: str, layout: HelpLayout, text: str) -> HelpOption:
    """Return what is new of an option that is listed a second time: `-C, --check=quiet` beside
    `--check` is `-C`, which has no value."""
    taken = {*known.spellings, *known.negated}
    parts = [part for part in re.split(r",\s*(?=-)", head) if re.split(r"[ =\[]", part)[0] not in taken]
    fresh = option_of(", ".join(parts), text, layout.kinds) if parts else None
    if fresh is None:
        spellings = tuple(each for each in option.spellings if each not in taken)
        return replace(option, spellings=spellings, negated=())
    spellings = tuple(each for each in fresh.spellings if each not in taken)
    return replace(_of_layout(layout, fresh), spellings=spellings)


def _with_choices(known: HelpOption, again: HelpOption) -> tuple[HelpOption, HelpOption | None]:
    """Return an option with the choices that its second line tells of; and the letter of its first
    line apart, where each line has a letter of its own that stands for its choice: of `-O,
    --format=roff` and `-T, --format=tex` neither letter takes a value."""
    if not (known.choices and again.choices):
        return known, None
    both = replace(known, choices=tuple(dict.fromkeys([*known.choices, *again.choices])))
    letters, others = (
        tuple(spelling for spelling in each.spellings if len(spelling) == 2) for each in (known, again)
    )
    if not (letters and set(others) - set(letters) and len(known.choices) == 1):
        return both, None
    long = tuple(each for each in known.spellings if each not in letters)
    flag = replace(known, spellings=letters, values=(), choices=(), optional_value=False, kind=None)
    return replace(both, spellings=long), flag


def _of_layout(layout: HelpLayout, option: HelpOption) -> HelpOption:
    """Return an option with its dots read as its layout means them."""
    if option.several and not layout.several:
        return replace(option, several=False, again=True)
    return option


#: A spelling, with its value perhaps: `-p NUM`.
_SPELT_AND_VALUED = re.compile(r"(?:-[\w?]\|)*-{1,2}[\w?][\w-]*(?:[ =](?:[A-Z][A-Z0-9_-]*|<[^<>]+>))?,?")


def _head_and_text(head: str, text: str, is_tight: bool, kinds: Mapping[str, object]) -> tuple[str, str]:
    """Return the head of an option and its text, where they stand apart otherwise than by two
    spaces: `-n  --number N  text` has spellings in two columns, `-v be verbose` no column at
    all."""
    # What is in the text's column and is an option is another spelling of this one.
    while _SPELT_AND_VALUED.fullmatch(head.split(", ")[-1]) and re.match(r"--?\w", text):
        more = re.match(r"(--?\w.*?)(?:\s{2,}|$)(.*)$", text)
        if more is None or option_of(more[1]) is None:
            break
        head, text = f"{head.rstrip(',')}, {more[1]}", more[2]
    unnamed = re.fullmatch(r"(-{1,2}\w[\w-]*=(?:\.\.\.)?) (\S.*)", head)
    if unnamed:
        return unnamed[1], f"{unnamed[2]} {text}".strip()
    words = head.split(" ")
    if text or len(words) < 3 - is_tight:
        return head, text
    at = 0
    while at < len(words) and (words[at].startswith("-") or words[at] in ("|", "/", "or")):
        at += 1
    behind = words[at:]
    if behind and re.match(r"[A-Z][A-Z0-9_]+\b|<|\[|\{|[A-Z]$", behind[0]):
        at, behind = at + 1, behind[1:]
    # One word after an option may be its value; two are a sentence.
    is_prose = len(behind) > 1 or (is_tight and len(behind) == 1 and behind[0] not in kinds)
    if behind and is_prose and all(re.match(r"[\w('\"]", each) for each in behind[:2]):
        return " ".join(words[:at]), " ".join(behind)
    return head, text


def _is_tight(lines: Sequence[str]) -> bool:
    """Tell whether options and their texts are one space apart everywhere."""
    heads = [line for line in lines if re.match(r"\s*--?\w", line)]
    return len(heads) > 1 and not any(re.search(r"\S(?: {2,})\S", line.strip()) for line in heads)


def _joined(lines: Sequence[str]) -> Iterator[str]:
    """Yield lines, those of a head that is spread over two in one: its first ends in a comma, or
    has the letter of the next."""
    at = 0
    while at < len(lines):
        line = lines[at]
        while (
            re.match(r"\s*-{1,2}\w", line)
            and at + 1 < len(lines)
            and (line.rstrip().endswith(",") or _is_letter_of(line, lines[at + 1]))
            and re.match(r"\s*-{1,2}\w", lines[at + 1])
        ):
            at += 1
            line = f"{line.rstrip().rstrip(',')}, {lines[at].strip()}"
        yield line
        at += 1


def _is_letter_of(line: str, following: str) -> bool:
    """Tell whether a line has only the letter of the option that the next line spells out."""
    letter = re.fullmatch(r"(\s*)-(\w)(?: (\S+))?", line.rstrip())
    long = re.match(r"(\s*)--(\w)[\w-]*(?:[ =](\S+))?", following)
    return bool(
        letter
        and long
        and letter[1] == long[1]
        and letter[2].lower() == long[2].lower()
        and (letter[3] is None or letter[3] == long[3])
    )


_BRACKETED = re.compile(
    r"^(?P<indent>\s{1,14})\[(?P<head>-(?:(?! \| ).)*?)\](?P<text>\s{2,}[A-Za-z(].*|\s*)$"
)


def _without_brackets(lines: Sequence[str]) -> Sequence[str]:
    """Return lines with the heads of options out of brackets, where these stand round each head in
    front of its text: `[-p|--no-params]   leave out …`."""
    found = [_BRACKETED.match(line) for line in lines]
    if not any(match and match["text"].strip() for match in found):
        return lines
    return [
        f"{match['indent']}{match['head']}{match['text']}" if match else line
        for line, match in zip(lines, found, strict=True)
    ]


_FORMATS = re.compile(r"\b(?:is|are) (?:one|any) of(?: these| the following)?:\s*$", re.IGNORECASE)


def _without_formats(lines: Iterator[str]) -> Iterator[str]:
    """Yield lines except for those of lists of ways to write a value (`Each range is one of:`), in
    which a dash begins no option."""
    inside = seen = False
    for line in lines:
        if _FORMATS.search(line):
            # Until the first blank line behind what is listed.
            inside, seen = True, False
        elif inside and line.strip():
            seen = True
        elif inside and seen:
            inside = False
        if not inside:
            yield line


# --- operands and subcommands ---


def _sections(lines: Sequence[str], titles: re.Pattern[str]) -> Iterator[list[str]]:
    """Yield the lines below each heading of some titles, up to the next heading or a line that is
    no deeper."""
    inside: list[str] | None = None
    depth = 0
    for line in lines:
        heading = _HEADING.match(line)
        if heading and titles.match(heading["title"].strip()):
            if inside:
                yield inside
            inside, depth = [], len(heading["indent"])
        elif inside is not None and line.strip() and _depth(line) <= depth:
            yield inside
            inside = None
        elif inside is not None:
            inside.append(line)
    if inside:
        yield inside


def _operands(layout: HelpLayout, lines: Sequence[str]) -> Iterator[HelpOperand]:
    """Yield the operands listed below a heading such as `positional arguments:`, and `NAME  text`
    lines elsewhere."""
    listed = [line for section in _sections(lines, _OPERANDS) for line in section]
    found: list[HelpOperand] = []
    # The least indented lines name something; deeper ones go on with its text.
    depth = min((_depth(line) for line in listed if line.strip()), default=0)
    for line in listed:
        match = re.match(r"^\s+(\{[^{}]+\}|\[?<?[\w.:-]+>?\]?(?:\.\.\.)?)(?:\s{2,}(.*))?$", line)
        at_depth = _depth(line) == depth
        if match and at_depth and not match[1].startswith("-"):
            found.append(_operand(layout, match[1], match[2] or ""))
        elif found and line.strip() and not at_depth:
            found[-1] = _operand(layout, found[-1].name, f"{found[-1].text} {line.strip()}", found[-1])
    # Only where no heading tells of operands, since in other texts such lines are headings
    # themselves.
    if not listed:
        for line in lines:
            match = re.match(r"^\s{0,6}([A-Z][A-Z0-9_-]*|<[^<>]+>)\s{2,}(\S.*)$", line)
            if match:
                found.append(_operand(layout, match[1], match[2]))
    yield from found


def _operand(layout: HelpLayout, name: str, text: str, known: HelpOperand | None = None) -> HelpOperand:
    if known is not None:
        return replace(known, text=text.strip())
    if name.startswith("{"):
        of = tuple(each.strip() for each in name.strip("{}").split(","))
        return HelpOperand("COMMAND", text, of)
    written = written_name(name.replace("...", "").strip("[]"))
    tag = re.search(r"\[([A-Za-z]+(?: range)?)\]$", text)
    kind = layout.kinds.get(tag[1]) if tag else None
    return HelpOperand(written, text, (), kind)


def _commands(lines: Sequence[str]) -> Iterator[HelpCommand]:
    """Yield the subcommands listed below a heading of theirs, or below `{a,b}` among the operands
    (argparse). Where every line begins with the program's name (yargs), they follow it."""
    seen: set[str] = set()
    program = next((line.split()[0] for line in usages_in(lines)), "")
    for section in [*_sections(lines, _COMMANDS), *_below_braces(lines)]:
        depth = min((_depth(line) for line in section if line.strip()), default=0)
        listed = [line.strip() for line in section if line.strip() and _depth(line) == depth]
        if program and all(line.startswith(f"{program} ") for line in listed):
            listed = [line.removeprefix(program).strip() for line in listed]
        for line in listed:
            match = _COMMAND.match(line)
            name = re.split(r", ?| ?\| ?", match["names"])[0] if match else ""
            if match and name not in {*seen, "help"}:
                seen.add(name)
                yield HelpCommand(name, match["text"] or "")


def _below_braces(lines: Sequence[str]) -> Iterator[list[str]]:
    for section in _sections(lines, _OPERANDS):
        for at, line in enumerate(section):
            braced = re.match(r"^(\s+)\{([^{}]+)\}(?:\s|$)", line)
            if braced:
                names = {each.strip() for each in braced[2].split(",")}
                below = [
                    each
                    for each in section[at + 1 :]
                    if each.split()[:1] and each.split()[0].rstrip(",") in names
                ]
                yield [each for each in below if _depth(each) > len(braced[1])]


__all__ = ["MOST_TEXT", "read_help"]
