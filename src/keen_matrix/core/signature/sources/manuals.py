"""Manual pages: their text, without the macros and escapes of roff (groff_man(7), mdoc(7)).

It is as much of it as a help text needs: headings, options with their values, lines as they are.
"""

from __future__ import annotations

import bz2
import lzma
import os
import re
import zlib
from collections.abc import Iterator, Sequence
from functools import lru_cache

MOST_PAGE = 2_000_000
#: Where manual pages are, below which `man1` and the like are (hier(7)).
DIRECTORIES = ("/usr/share/man", "/usr/local/share/man", "/usr/local/man")
SECTIONS = ("1", "6", "8")
_ESCAPES = (
    (re.compile(r"\\f(?:\[\w*\]|\(\w\w|.)"), ""),
    (re.compile(r"\\s[-+]?\d+"), ""),
    (re.compile(r"\\m\[\w*\]"), ""),
    (re.compile(r"\\\*\(?(?:lq|rq|[LR]q)"), '"'),
    (re.compile(r"\\\(?(?:aq|cq|oq)|\\\[aq\]"), "'"),
    (re.compile(r"\\\((?:dq|lq|rq)|\\\[(?:dq|lq|rq)\]"), '"'),
    (re.compile(r"\\(?:\(em|\(en|\[em\]|\[en\]|-)"), "-"),
    (re.compile(r"\\\(b[u]|\\\[b[u]\]"), "*"),
    (re.compile(r"\\(?:&|\||\^|/|,|%|:|\{|\})"), ""),
    (re.compile(r"\\[ ~0]"), " "),
    (re.compile(r"\\(?:e|\(rs|\[rs\])"), "\\\\"),
    (re.compile(r'\s*\\".*$'), ""),
    (re.compile(r"\\h'[^']*'|\\v'[^']*'|\\w'[^']*'"), ""),
)
_WORDS = re.compile(r'"((?:[^"]|"")*)"|(\S+)')
_HEADINGS = frozenset({"SH", "Sh"})
#: Macros whose arguments are text of one line, set in turn in two fonts without blanks between.
_JOINED = frozenset({"BI", "BR", "IB", "IR", "RB", "RI"})
_PLAIN = frozenset({"B", "I", "SM", "SB", "R", "Dl", "D1", "Li", "Ql", "SS", "Ss"})
#: Macros after which a tagged paragraph has its tag.
_TAGGED = frozenset({"TP", "TQ"})


def manual_of(name: str, beside: Sequence[str] = ()) -> str:
    """Return the text of a program's manual page, in its sources beside it or installed; empty
    where there is none."""
    for path in _paths(name, beside):
        data = _read(path)
        if data:
            return plain_manual(data.decode("utf-8", "replace"))
    return ""


def _paths(name: str, beside: Sequence[str]) -> Iterator[str]:
    for directory in beside:
        for below in ("", "man", "doc", "docs", "man/man1", "share/man/man1"):
            for number in SECTIONS:
                yield os.path.join(directory, below, f"{name}.{number}")
    for directory in DIRECTORIES:
        for number in SECTIONS:
            for ending in ("", ".gz", ".bz2", ".xz"):
                yield os.path.join(directory, f"man{number}", f"{name}.{number}{ending}")


def _read(path: str) -> bytes:
    """Return the bytes of a page; none where it cannot be read."""
    if not os.path.isfile(path):
        return b""
    try:
        with open(path, "rb") as file:
            data = _unpacked(file.read(MOST_PAGE), os.path.splitext(path)[1])
    except (OSError, EOFError, zlib.error, lzma.LZMAError):
        return b""
    # a page may be nothing but the name of another one
    match = re.match(rb"\s*\.so\s+(\S+)\s*$", data)
    if match:
        other = os.path.join(os.path.dirname(os.path.dirname(path)), os.fsdecode(match[1]))
        return b"" if other == path else next(filter(None, map(_read, (other, f"{other}.gz"))), b"")
    return data


def _unpacked(data: bytes, ending: str) -> bytes:
    """Return the bytes of a page that may be compressed, up to a size."""
    if ending == ".gz":
        return zlib.decompressobj(wbits=31).decompress(data, MOST_PAGE)
    if ending == ".bz2":
        return bz2.BZ2Decompressor().decompress(data, MOST_PAGE)
    return lzma.LZMADecompressor().decompress(data, MOST_PAGE) if ending == ".xz" else data


@lru_cache(maxsize=4)
def plain_manual(roff: str) -> str:
    """Return the text of a page in roff: with man's macros, or with those of mdoc."""
    if re.search(r"^\.Sh\b", roff, re.MULTILINE):
        return "\n".join(_Mdoc().lines(roff.splitlines()))
    return "\n".join(_Man().lines(roff.splitlines()))


def _unescaped(text: str) -> str:
    for pattern, new in _ESCAPES:
        text = pattern.sub(new, text)
    return text


def _arguments(text: str) -> list[str]:
    return [_unescaped(quoted or bare) for quoted, bare in _WORDS.findall(text)]


class _RoffPage:
    """A page that is read line by line, whatever its macros: the words of a paragraph are collected
    until something ends it."""

    def __init__(self) -> None:
        self._text: list[str] = []
        #: What tags a paragraph: its text goes on in the line of the tag.
        self._tag: str | None = None
        self._awaits_tag = False
        self._is_verbatim = False

    def lines(self, source: Sequence[str]) -> Iterator[str]:
        """Yield the lines of the text."""
        for line in source:
            yield from self._line(line)
        yield from self._flushed()

    def _line(self, line: str) -> Iterator[str]:
        """Yield what a line of the source ends or is."""
        raise NotImplementedError

    def _words(self, text: str) -> Iterator[str]:
        if self._is_verbatim:
            yield f"    {text}"
        elif self._awaits_tag and text.strip():
            self._tag, self._awaits_tag = text.strip(), False
        elif text.strip():
            self._text.append(text.strip())

    def _flushed(self) -> Iterator[str]:
        text = re.sub(r"\s+", " ", " ".join(self._text)).strip()
        self._text.clear()
        tag, self._tag = self._tag, None
        if tag is not None:
            yield f"  {tag}  {text}".rstrip()
        elif text:
            yield f"  {text}"


class _Man(_RoffPage):
    """A page with the macros of man."""

    def _line(self, line: str) -> Iterator[str]:
        match = re.match(r"^[.']\s*(\w+|\\\")\s*(.*)$", line)
        if match is None:
            yield from self._words(_unescaped(line))
            return
        macro, rest = match[1], match[2]
        if macro in _HEADINGS:
            yield from self._flushed()
            yield from ("", f"{' '.join(_arguments(rest))}:")
        elif macro in _TAGGED:
            yield from self._flushed()
            self._awaits_tag = True
        elif macro == "IP":
            yield from self._flushed()
            words = _arguments(rest)
            self._tag = words[0] if words else None
        elif macro in ("PP", "P", "LP", "br", "sp", "RS", "RE", "HP"):
            yield from self._flushed()
        elif macro in ("nf", "EX", "Vb"):
            yield from self._flushed()
            self._is_verbatim = True
        elif macro in ("fi", "EE", "Ve"):
            self._is_verbatim = False
        elif macro in _JOINED:
            yield from self._words("".join(_arguments(rest)))
        elif macro in _PLAIN:
            yield from self._words(" ".join(_arguments(rest)))


#: Macros of mdoc that are words of a line → what is put before the first of their arguments.
_MDOC_WORDS = {"Fl": "-", **dict.fromkeys(("Cm", "Ar", "Pa", "Li", "Ql", "Em", "Sy", "Va", "Dv"), "")}


class _Mdoc(_RoffPage):
    """A page with the macros of mdoc."""

    def __init__(self) -> None:
        super().__init__()
        self._name = ""
        self._is_synopsis = False

    def _line(self, line: str) -> Iterator[str]:
        match = re.match(r"^\.\s*(\w\w)\s*(.*)$", line)
        if match is None:
            if not line.startswith("."):
                yield from self._words(_unescaped(line))
            return
        macro, rest = match[1], match[2]
        if macro == "Sh":
            yield from self._flushed()
            title = " ".join(_arguments(rest))
            self._is_synopsis = title == "SYNOPSIS"
            yield from ("", f"{title}:")
        elif macro == "Nm":
            words = _arguments(rest)
            self._name = self._name or (words[0] if words else "")
            if self._is_synopsis:
                yield from self._flushed()
            self._text.append(" ".join(words) or self._name)
        elif macro == "It":
            yield from self._flushed()
            self._tag = _inline(rest)
        elif macro in ("Pp", "El", "Bl"):
            yield from self._flushed()
        elif macro in ("Bd", "Ed"):
            yield from self._flushed()
            self._is_verbatim = macro == "Bd" and "-filled" not in rest
        elif macro in ("Dl", "D1"):
            yield from self._flushed()
            yield f"    {_inline(rest)}"
        elif macro in _MDOC_WORDS or macro in ("Op", "Oo", "Oc", "Xr", "Dq", "Sq", "Pq", "Ns", "No"):
            self._text.append(_inline(f"{macro} {rest}"))


def _inline(text: str) -> str:
    """Return a line of mdoc's macros as it is printed: `Op Fl a Ar file` as `[-a file]`."""
    shown: list[str] = []
    lead, closing, glue = "", "", False
    for word in _arguments(text):
        if word in _MDOC_WORDS:
            if word == "Fl" and lead == "-":
                shown.append("-")
            lead = _MDOC_WORDS[word]
        elif word == "Op":
            shown.append("[")
            closing += "]"
        elif word in ("Oo", "Oc"):
            shown.append("[" if word == "Oo" else "]")
        elif word == "Ns":
            glue = True
        elif word in ("No", "Xr", "Dq", "Sq", "Pq"):
            lead = ""
        else:
            said = word if word in ("|", ",") else lead + word
            if glue and shown:
                shown[-1] += said
            else:
                shown.append(said)
            glue = False
    line = " ".join(shown) + closing
    return re.sub(r"\s+([\],])", r"\1", re.sub(r"\[\s+", "[", line)).strip()
