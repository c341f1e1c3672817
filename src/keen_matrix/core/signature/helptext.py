"""Reading help texts: usage lines and option lists in the layouts that programs commonly print.

Understood are argparse's of all versions, GNU's (`-k, --key=KEYDEF  text`), one-line usages of
getopts scripts, Go's flag listing (`-n int` and the text on the next line), `<value>` and
`[value]` lists of Node and Perl scripts, git's `--[no-]name`, and the SYNOPSIS of a manual page.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

MOST_TEXT = 1_000_000
"""Characters of a help text that are read."""


@dataclass(frozen=True, slots=True)
class HelpOption:
    """An option as a help text lists it."""

    spellings: tuple[str, ...]
    values: tuple[str, ...] = ()
    optional_value: bool = False
    several: bool = False
    text: str = ""
    choices: tuple[str, ...] = ()

    @property
    def default(self) -> str | None:
        """The default that its text tells of."""
        return default_in(self.text)


@dataclass(frozen=True, slots=True)
class HelpOperand:
    """An operand as a help text lists it."""

    name: str
    text: str = ""
    choices: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class HelpText:
    """What a help text tells: usage lines (without the program's name), options, operands."""

    usages: tuple[str, ...]
    options: tuple[HelpOption, ...]
    operands: tuple[HelpOperand, ...]


_USAGE = re.compile(r"^\s*(?:usage|synopsis)(?: of [^:]+)?\s*:?[ \t]*(.*)$", re.IGNORECASE)
_OR = re.compile(r"^\s+or:?\s+(.*)$", re.IGNORECASE)
_OPTION_LINE = re.compile(
    r"^(?P<indent>[ \t]{0,14})(?P<head>-{1,2}[\w?#@\[].*?)(?:[ ]{2,}|\t+|\s+[:–—]\s+|$)(?P<text>.*)$"
)
_NAME = r"[A-Z][A-Z0-9_]*(?:[-:.=/][A-Z0-9_]+)*|<[^<>]+>|\{[^{}]+\}|'[^']+'|\"[^\"]+\""
_SPELLING = re.compile(r"(--?\[no-\][\w-]+|--\w[\w-]*(?:\.[\w-]+)*|-[\w?#@][\w-]*)(.*)", re.DOTALL)
_BLANK_SECTION = re.compile(
    r"^\s*(?:positional arguments|arguments|operands)\s*:?\s*$", re.IGNORECASE
)


def read_help(text: str) -> HelpText:
    """Return what a help text tells; what is in no known layout is passed over."""
    lines = [
        line.expandtabs(8) if line.startswith("\t") else line
        for line in _plain(text[:MOST_TEXT]).splitlines()
    ]
    return HelpText(tuple(_usages(lines)), tuple(_options(lines)), tuple(_operands(lines)))


def _plain(text: str) -> str:
    """Return a text without escape sequences and overstriking (as manual pages have it)."""
    text = re.sub(r"\x1b\[[0-9;]*[A-Za-z]|.\x08", "", text)
    return re.sub(r"^(\s*-[\w?]),\s+(?=--)", r"\1, ", text, flags=re.MULTILINE)


# --- usage lines ---


def _usages(lines: Sequence[str]) -> Iterator[str]:
    """Yield the usage lines, continuation lines joined, the program's name still in front."""
    at = 0
    while at < len(lines):
        match = _USAGE.match(lines[at])
        at += 1
        if not match:
            continue
        current = [match[1]] if match[1].strip() else []
        indent = len(lines[at - 1]) - len(lines[at - 1].lstrip())
        while at < len(lines):
            line = lines[at]
            other = _OR.match(line)
            deeper = len(line) - len(line.lstrip()) > indent
            if (
                not line.strip()
                or not deeper
                or (_OPTION_LINE.match(line) and re.match(r"\s*-\S+(,|\s{2,})", line))
            ):
                if current or line.strip():
                    break
                at += 1
                continue
            if other:
                yield _one_line(current)
                current = [other[1]]
            elif current and _starts_anew(current[0], line):
                yield _one_line(current)
                current = [line]
            else:
                current.append(line)
            at += 1
        if current:
            yield _one_line(current)


def _one_line(parts: Sequence[str]) -> str:
    return " ".join(" ".join(parts).split())


def _starts_anew(first: str, line: str) -> bool:
    """Tell whether a line of a usage block is another usage: it begins with the same program name."""
    words = first.split()
    return bool(words) and line.split()[:1] == words[:1]


# --- options ---


def _options(lines: Sequence[str]) -> Iterator[HelpOption]:
    """Yield the listed options; a text that goes on in deeper lines is taken along. An option
    listed twice comes once."""
    seen: set[str] = set()
    found: HelpOption | None = None
    depth = 0
    for line in _without_formats(lines):
        match = _OPTION_LINE.match(line)
        option = (
            option_of(match["head"], match["text"]) if match and not _USAGE.match(line) else None
        )
        if option is not None and match is not None:
            if found is not None:
                yield found
            fresh = tuple(each for each in option.spellings if each not in seen)
            seen |= set(option.spellings)
            found = replace(option, spellings=fresh) if fresh else None
            depth = len(match["indent"])
        elif found is not None and line.strip() and len(line) - len(line.lstrip()) > depth + 1:
            found = replace(found, text=f"{found.text} {line.strip()}".strip())
        elif found is not None:
            yield found
            found = None
    if found is not None:
        yield found


_FORMATS = re.compile(r"\b(?:is|are) (?:one|any) of(?: these| the following)?:\s*$", re.IGNORECASE)


def _without_formats(lines: Sequence[str]) -> Iterator[str]:
    """Yield lines but for those of lists of ways to write a value (`Each range is one of:`), in
    which a dash begins no option."""
    inside = seen = False
    for line in lines:
        if _FORMATS.search(line):
            inside, seen = True, False
        elif inside and line.strip():
            seen = True
        elif inside and seen:
            inside = False
        if not inside:
            yield line


def option_of(head: str, text: str = "") -> HelpOption | None:
    """Return the option that the head of a line tells of: `-n, --riders RIDERS`, `-k,
    --key=KEYDEF`, `-n int`."""
    spellings: list[str] = []
    values: list[str] = []
    choices: tuple[str, ...] = ()
    optional = several = False
    for part in re.split(
        r",\s*(?=-)|\s*\|\s*(?=-)|\s+/\s+(?=-)|\s+or\s+(?=-)|/(?=--)|\s+(?=-[\w-])", head.strip()
    ):
        match = _SPELLING.fullmatch(part.strip())
        if not match:
            return None
        name, rest = match[1], match[2].strip()
        if name in spellings and rest:
            optional = True
        if "[no-]" in name:
            spellings += [name.replace("[no-]", ""), name.replace("[no-]", "no-")]
        else:
            spellings.append(name)
        if rest and rest not in (".", ",", ":"):
            read = _values(rest)
            if read is None:
                return None
            found, is_optional, is_several, of = read
            values = values or [_value_name(name) if each == "VALUE" else each for each in found]
            optional, several, choices = (
                optional or is_optional,
                several or is_several,
                choices or of,
            )
    if not spellings:
        return None
    return HelpOption(
        tuple(dict.fromkeys(spellings)), tuple(values), optional, several, text.strip(), choices
    )


def _values(rest: str) -> tuple[list[str], bool, bool, tuple[str, ...]] | None:
    """Return the values that stand behind a spelling: NAMEs, whether optional, whether several,
    and choices."""
    optional = bool(re.match(r"^\[=?", rest))
    several = ("..." in rest or "…" in rest) and re.search(r"\w", rest) is not None
    bare = re.sub(r"\.\.\.|…|[\[\]=()]", " ", rest).replace("|", " | ").strip()
    choices: tuple[str, ...] = ()
    braced = re.search(r"\{([^{}]+)\}", rest)
    if braced:
        choices = tuple(each.strip() for each in re.split(r"[,|]", braced[1]))
        return ["VALUE"], optional, several, choices
    names: list[str] = []
    for word in re.findall(r"<[^<>]+>|[^\s,]+", bare):
        if word == "|":
            return [*names[:1]] or ["VALUE"], optional, several, ()
        name = re.sub(r"[^\w]+", "_", word.strip("<>'\"")).strip("_").upper()
        if name and name not in names:
            names.append(name)
    if not names:
        return ["VALUE"], optional, several, ()
    if len(names) > 3 or len(rest) > 40:
        return None  # a sentence, no list of values
    return names, optional, several, choices


def _value_name(spelling: str) -> str:
    """Return a NAME for a value that the help does not name: the option's own."""
    return re.sub(r"\W+", "_", spelling.strip("-")).strip("_").upper() or "VALUE"


def default_in(text: str) -> str | None:
    """Return the default that a text tells of: `(default: 5)`, `defaults to 5`, `5 by default`."""
    match = re.search(
        r"""[(\[]default[: =]+["']?([^"')\]]+?)["']?[)\]]|\bdefaults?(?: is| to|:)\s+["']?([\w./-]+)["']?|"""
        r"""\b([\w.]+) by default\b""",
        text,
        re.IGNORECASE,
    )
    return next((each.strip() for each in match.groups() if each), None) if match else None


def range_in(text: str) -> tuple[int, int] | None:
    """Return the range that a text tells of: `1 to 60`, `1-60`, `between 1 and 60`, `1..60`."""
    match = re.search(
        r"\b(-?\d+)\s*(?:to|-|–|\.\.)\s*(-?\d+)\b|\bbetween (-?\d+) and (-?\d+)\b", text
    )
    if not match:
        return None
    low, high = (int(each) for each in match.groups() if each is not None)
    return (low, high) if low < high else None


_WORD = r"[A-Za-z][\w.-]*"
_LISTED = re.compile(rf"(?:{_WORD}(?:, *|/|\|))*{_WORD}(?:,? or |, *|/|\|){_WORD}", re.ASCII)


def words_in(text: str) -> tuple[str, ...]:
    """Return the words that a text gives to choose from and nothing else: `one of red, green`, `a
    or b (default a)`.

    Without `one of`, the default has to be among them: `port or berth` may describe a value of
    many.
    """
    default = default_in(text)
    bare = re.sub(r"\s*[(\[]default[^)\]]*[)\]]\s*$", "", text.strip(), flags=re.IGNORECASE).rstrip(
        "."
    )
    asked = re.match(r"(?:(?:must be |is )?(?:one of|either)):? +", bare, re.IGNORECASE)
    listed = bare[asked.end() :] if asked else bare
    words = tuple(re.split(r",? or |, *|/|\|", listed)) if _LISTED.fullmatch(listed) else ()
    return words if asked or default in words else ()


# --- operands ---


def _operands(lines: Sequence[str]) -> Iterator[HelpOperand]:
    """Yield the operands listed below a heading such as `positional arguments:`, and `NAME  text`
    lines elsewhere."""
    inside = False
    for line in lines:
        if _BLANK_SECTION.match(line):
            inside = True
            continue
        if inside and (not line.strip() or not line.startswith(" ")):
            inside = False
        match = re.match(r"^\s{0,6}([A-Z][A-Z0-9_-]*|<[^<>]+>)\s{2,}(\S.*)$", line)
        if inside:
            match = re.match(r"^\s{1,6}(\{[^{}]+\}|<?[\w.-]+>?)(?:\s{2,}(.*))?$", line)
        if match and not line.lstrip().startswith("-"):
            braced = match[1].startswith("{")
            choices = (
                tuple(each.strip() for each in match[1].strip("{}").split(",")) if braced else ()
            )
            yield HelpOperand(
                "COMMAND" if braced else match[1].strip("<>"), match[2] or "", choices
            )
