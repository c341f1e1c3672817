"""The head of an option's line: its spellings, and what it takes."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from keen_matrix.core.signature.helptext.page import HelpOption
from keen_matrix.core.signature.values.base import TypeName
from keen_matrix.core.structs import Struct

_SPELLING = re.compile(r"(--?\[no-?\][\w-]+|--\w[\w-]*(?:\.[\w-]+)*|-[\w?#@][\w-]*)(.*)", re.DOTALL)
_BETWEEN = re.compile(
    r",\s*(?=-)|\s*\|\s*(?=-)|\s+/\s+(?=-)|\s+or\s+(?=-)|/(?=--)|\s+(?=-{1,2}[A-Za-z0-9?\[])"
)
_GLUED = re.compile(r"-[a-z](?=[A-Z]{2,}$)")
_RANGE = re.compile(r"-(\w)\s*(?:\.\.\.?|…|to|-)\s*-(\w)")
_ON_AND_OFF = re.compile(r"(--?)(?:\[(no-?)\]|\((no-?)\))(?=\w)")
_PLAIN = re.compile(r"[A-Z][A-Z0-9_:./=-]*")
#: Words after a spelling that are values; more are a sentence.
MOST_VALUES = 3
LONGEST_VALUES = 48
#: Words after one dash that are spellings of one option.
MOST_WORDS = 2


class HeadValues(Struct, frozen=True):
    """What follows the spellings of an option."""

    names: tuple[str, ...] = ()
    optional: bool = False
    several: bool = False
    choices: tuple[str, ...] = ()
    kind: TypeName | None = None


def written_name(name: str) -> str:
    """Return a NAME as a synopsis writes it: in capitals as it is, else between < and >."""
    bare = re.sub(r"[<>{}\x00-\x1f\x7f|\[\]\\]+", "", name.strip()).strip()
    if not re.search(r"[\w#]", bare):
        return "VALUE"
    return bare if _PLAIN.fullmatch(bare) and len(bare) < 60 else f"<{bare.replace(' ', '-')}>"


def option_of(head: str, text: str = "", kinds: Mapping[str, TypeName] | None = None) -> HelpOption | None:
    """Return the option that the head of a line tells of: `-n, --riders RIDERS`, `-k,
    --key=KEYDEF`, `-n int`; None where it tells of none. `kinds` are words for types that the
    layout has."""
    span = _RANGE.fullmatch(head.strip())
    if span:
        return HelpOption((f"-{span[1]}", f"-{span[2]}"), text=text.strip(), is_range=True)
    if re.fullmatch(r"-[A-Z]{2,}", head.strip()):
        return None  # -NUM: a number behind a dash, whatever it is
    head = re.sub(r"(?<=\w) - (?=--?\w)", " ", head)  # -a - --all: a dash alone does the same
    parts = list(_parts(_ON_AND_OFF.sub(r"\1[\2\3]", head)))
    if sum(bool(re.match(r"-[a-z]{2}[\w-]+", each)) for each in parts) > MOST_WORDS:
        return None  # a list of options, and not ways to write one
    made = _spelt(parts, head, text, kinds or {})
    if made is None or not made[0]:
        return None
    spellings, negated, found = made
    if not found.names:
        off = list(_switching_off(spellings, head))
        negated += off
        spellings = [each for each in spellings if each not in off]
    choices = found.choices
    letters = choices[0] if len(choices) == 1 else ""
    if len(letters) > 1 and letters.isalpha() and re.search(r"\b(?:letter|one of|character)", text):
        choices = tuple(letters)  # {LMQH}
    long = max(spellings, key=len) if spellings else head
    names = tuple(_own_name(long) if each == "VALUE" else each for each in found.names)
    return HelpOption(
        tuple(dict.fromkeys(spellings)),
        names,
        found.optional and bool(names),
        found.several and bool(names),
        text.strip(),
        choices,
        tuple(dict.fromkeys(negated)),
        found.kind,
        again=found.several and not names,
    )


def _spelt(
    parts: Iterable[str], head: str, text: str, kinds: Mapping[str, TypeName]
) -> tuple[list[str], list[str], HeadValues] | None:
    """Return the spellings in the parts of a head, those that switch off, and their values; None
    where a part is no spelling."""
    spellings, negated = list[str](), list[str]()
    found = HeadValues()
    for part in parts:
        match = _SPELLING.fullmatch(part)
        if match is None or _is_no_spelling(match[1], text):
            return None
        if _is_its_number(match[1], head):
            continue
        name, rest = _name_and_rest(match)
        if re.search(r"\[no-?\]", name):
            spellings.append(re.sub(r"\[no-?\]", "", name))
            negated.append(re.sub(r"\[(no-?)\]", r"\1", name))
        else:
            spellings.append(name)
        read = _values_of(name, rest, kinds)
        if read is None:
            return None
        if not read.names:
            found = read if read.several else found
            continue
        found = found if found.names else read
        if read.optional or name in spellings[:-1]:
            found = HeadValues(found.names, True, found.several, found.choices, found.kind)
    return spellings, negated, found


def _name_and_rest(match: re.Match[str]) -> tuple[str, str]:
    """Return a spelling, and what is after it: `-k` and ` KEY`; of `-j<n>` the letter alone."""
    name, rest = match[1], match[2].rstrip()
    glued = _GLUED.match(name)
    if glued and not rest:
        return glued[0], name[glued.end() :]
    return name, rest


def _values_of(name: str, rest: str, kinds: Mapping[str, TypeName]) -> HeadValues | None:
    """Return the values that are after a spelling, none where it takes none; None where what is
    there is no value."""
    if rest.strip() in ("=...", "="):
        rest = "=VALUE"
    if not rest.strip(" .,:"):
        return HeadValues(several=rest.strip().startswith("..."))
    if rest == "#" and len(name) == 2:
        # -T#: a number that is glued to the letter, as the one that it may be left out with
        return HeadValues(("N",), True, kind="int")
    return values_in(rest, kinds)


def _is_no_spelling(name: str, text: str) -> bool:
    """Tell whether what looks like an option is part of one, as `--gdwarf-<N>`, or a number: `-20`,
    and `-#` where the text says so."""
    is_number = name == "-#" and re.search(r"\b(?:number|level|digit)s?\b|\s#\s", text)
    return bool(name.endswith("-") or re.fullmatch(r"-\d{2,}", name) or is_number)


def _is_its_number(name: str, head: str) -> bool:
    """Tell whether a spelling is the value of another after a dash: `-COLUMN, --columns=COLUMN`,
    and in a manual that writes NAMEs small `-w, --width=width, -width`."""
    if re.fullmatch(r"-[A-Z]{2,}", name):
        return re.search(rf"[= \[]{name[1:]}\b", head) is not None
    small = rf"--[\w-]+[= ][<*]?{name[1:]}[>*]?, {name}(?![\w-])"
    return bool(re.fullmatch(r"-[a-z]{2,}", name) and re.search(small, head))


def _switching_off(spellings: Sequence[str], head: str) -> Iterator[str]:
    """Yield the spellings of an option without values that switch it off: those after the stroke
    of `-f, --flag / -F, --no-flag` and of `--clean / --dirty`, and one of `-warnings
    -nowarnings`."""
    _front, stroke, behind = head.partition(" / ")
    off = [
        each for each in spellings if stroke and re.search(rf"(?<![\w-]){re.escape(each)}(?![\w-])", behind)
    ]
    on = [each for each in spellings if each not in off]
    are_long = any(len(each) > 2 for each in on) and all(len(each) > 2 for each in off)
    if behind.lstrip().startswith("-") and (
        are_long or all(each.startswith("--no") or len(each) == 2 for each in off)
    ):
        yield from off
        spellings = on
    for each in spellings:
        bare = re.sub(r"^(--?)no-?", r"\1", each)
        if bare != each and bare in spellings:
            yield each


def _parts(head: str) -> Iterator[str]:
    """Yield the spellings of a head, each with what follows it."""
    start = depth = 0
    text = head.strip()
    at = 0
    while at < len(text):
        depth += text[at] in "[{(<"
        depth -= text[at] in "]})>"
        match = _BETWEEN.match(text, at) if depth <= 0 and at > start else None
        if match:
            yield text[start:at].strip()
            start = at = match.end()
            depth = 0
            continue
        at += 1
    yield text[start:].strip()


def values_in(rest: str, kinds: Mapping[str, TypeName]) -> HeadValues | None:
    """Return what the text after a spelling says of its values; None where it is a sentence.

    What is glued to the end of a word belongs to it: `X[,Y,Z]`, `<expr>[=value]` and
    `path[#seed]` are one word each.
    """
    optional = bool(re.match(r"^ *=?\[(?!\.)", rest)) and rest.rstrip(".").endswith("]")
    if re.fullmatch(r" +\[(?:[^\[\]=]+\|[^\[\]]+|\d+-\d+)\]", rest):
        # apart, [text|json] are the choices of a value that is needed, as [0-255] is its range
        optional = False
    rest = re.sub(r",\s?(?:\.{3}|…)(?=[>\]})]|\s*$)", "", rest)  # <uid,...> is one word
    several = bool(re.search(r"\.\.\.|…", rest))
    inner = re.sub(r"\.\.\.|…", " ", rest)
    if optional:
        inner = re.sub(r"^ *=?\[=?|\]\s*$", " ", inner)
    choices = _choices(inner)
    if choices:
        return HeadValues(("VALUE",), optional, several, choices)
    kind = kinds.get(re.sub(r"[\[\]=]", " ", inner).strip())
    names: list[str] = []
    words = _words(inner) if kind is None else [inner.strip(" =")]
    for word in words:
        if word == "|":
            break
        name = written_name(word)
        if name not in names:
            names.append(name)
        kind = kind or kinds.get(word.strip("<>"))
    if not names:
        return HeadValues(("VALUE",), optional, several)
    if len(names) > MOST_VALUES or len(rest) > LONGEST_VALUES:
        return None
    return HeadValues(tuple(names), optional, several, (), kind)


def _choices(inner: str) -> tuple[str, ...]:
    """Return the words of `{a,b}`, `a|b`, `[a|b]` or `(a|b)` where they are written to choose
    from."""
    match = re.fullmatch(
        r"\s*=?\s*[\[({<]?([^\s\[\](){}<>]+(?:\s*[|]\s*[^\s\[\](){}<>|]+)+)[\])}>]?\s*", inner
    )
    if match is None:
        match = re.fullmatch(r"\s*=?\s*\{([^{}]+)\}\s*", inner)
        return tuple(each.strip() for each in re.split(r"[,|]", match[1])) if match else ()
    words = [each.strip() for each in match[1].split("|")]
    # SIZE|FILE are two names for a value, and no choices
    return (
        ()
        if all(re.fullmatch(r"[A-Z][A-Z0-9_]+", each) for each in words) and len(words) < 3
        else tuple(words)
    )


def _words(text: str) -> Iterator[str]:
    """Yield the NAMEs of a text after a spelling, without what is glued to their ends."""
    for match in re.finditer(r"<[^<>]*>|\"[^\"]+\"|'[^']+'|\||[^\s|<>]+", text.replace("=<", " <")):
        word = match[0].strip("\"'")
        glued = match.start() > 0 and not text.replace("=<", " <")[match.start() - 1].isspace()
        if glued and word != "|" and not word.startswith("<"):
            continue  # `<expr>[=value]`
        if not word.startswith("<"):
            word = re.sub(r"[\[({].*$", "", word).strip("=,;)]}")
        if word:
            yield word


def _own_name(spelling: str) -> str:
    """Return a NAME for a value that the help does not name: the option's own."""
    return re.sub(r"\W+", "_", spelling.strip("-")).strip("_").upper() or "VALUE"
