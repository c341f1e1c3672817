"""What the source of a program tells of the words that it takes: literals that it compares them
with, numbers, and whether it reads standard input or files.

No language is parsed. What is found is only tried, and what the program does with it is what
counts: a word too many costs a launch.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Sequence

from keen_matrix.core.runs.starting.scripts import MOST_SOURCE, text_of_script
from keen_matrix.core.structs import Struct

#: Sources of compiled programs.
_SOURCES = re.compile(r"\.(?:go|rs|c|cc|cpp|cxx|h|java|kt|cs|swift|zig|hs|ml|d|nim|cr)$")
_SKIPPED = frozenset({"target", "node_modules", "vendor", "build", "bin", "obj", "test", "tests"})
#: Files of a project that are read, and directories below each other.
MOST_FILES, DEEPEST = 30, 3


class SourceReading(Struct, frozen=True, kw_only=True):
    """What a source tells."""

    #: Words that it has as literals, those that it compares with first.
    words: tuple[str, ...] = ()
    #: Options, each with whether it takes a value where that is known.
    options: tuple[str, ...] = ()
    #: Numbers that it has.
    numbers: tuple[str, ...] = ()
    #: Whether it reads standard input, or a file that a word names.
    reads_input: bool = False
    reads_files: bool = False
    #: Signs that it splits lines at.
    separators: tuple[str, ...] = ()


def program_source(launch: Sequence[str], root: str) -> str:
    """Return the text of a program's source: its script, the text that is a word, what a script
    reads first, or the sources of the project that it is built from."""
    script = text_of_script(launch)
    if script:
        return script
    texts = [each for each in launch if any(sign in each for sign in " \n;(") and len(each) > 8]
    named = (each for text in texts for each in re.findall(r"(?:/[\w.-]+)+", text))
    found = [*texts, *filter(None, map(_regular, named))]
    if found:
        return "\n".join(found)[:MOST_SOURCE]
    module = _module(launch, root)
    if module:
        return module
    directories = [root] if root else []
    directories += [os.path.dirname(each) for each in launch if os.path.isabs(each) and os.path.isfile(each)]
    directories += [part for each in launch for part in each.split(":") if os.path.isdir(part)]
    stems = {os.path.splitext(os.path.basename(each))[0].lower() for each in launch}
    paths = list(dict.fromkeys(path for each in directories for path in _sources_below(each)))
    own = [each for each in paths if os.path.splitext(os.path.basename(each))[0].lower() in stems]
    return "\n".join(filter(None, map(_regular, own or paths)))[:MOST_SOURCE]


def _module(launch: Sequence[str], root: str) -> str:
    """Return the source of a module that `python3 -m` names."""
    if "-m" not in launch or not root:
        return ""
    name = launch[launch.index("-m") + 1 : launch.index("-m") + 2]
    path = os.path.join(root, *name[0].split(".")) if name else ""
    if os.path.isfile(path + ".py"):
        return _regular(path + ".py")
    files = sorted(os.listdir(path)) if path and os.path.isdir(path) else []
    return "\n".join(_regular(os.path.join(path, each)) for each in files if each.endswith(".py"))


def _regular(path: str) -> str:
    return text_of_script([path])


def _sources_below(directory: str) -> Iterator[str]:
    count, top = 0, directory.rstrip(os.sep).count(os.sep)
    for where, below, names in os.walk(directory):
        depth = where.count(os.sep) - top
        below[:] = sorted(e for e in below if e not in _SKIPPED and not e.startswith("."))
        if depth >= DEEPEST:
            below.clear()
        for name in sorted(names):
            if _SOURCES.search(name):
                yield os.path.join(where, name)
                count += 1
                if count >= MOST_FILES:
                    return


#: A word that is likely a value: no sentence, no format, no path of a library.
_WORD = r"[A-Za-z0-9][\w.+-]{0,29}"
#: Where a literal is compared with, or is a key that is looked up: in whatever language.
_COMPARED = (
    rf"""(?:===?|!==?|\beq\b|\bne\b|=~|\bin\b|\bwhen\b|\bcase\b|\bequals\(|strcmp\([^,()]+,|strncmp\([^,()]+,)\s*\(?["']({_WORD})["']""",
    rf"""["']({_WORD})["']\s*(?:===?|!==?|\.equals|=>|:(?!:)|\))""",
    rf"""\[\[?[^\]\n]*?(?:==?|!=)\s*["']?({_WORD})["']?\s*\]""",
    rf"""^\s*\(?({_WORD}(?:\s*\|\s*{_WORD})*)\)""",
    rf"""\b({_WORD})\s*=>""",
    rf"""[{{,]\s*({_WORD})\s*:\s*["'\d\[{{(]""",
)
#: Signs that are compared with: an operator that is typed.
_SIGN = r"[-+*/%^=<>!?.:@x]{1,2}"
_SIGNS = (
    rf"""(?:===?|!==?|\beq\b|\bwhen\b|\bcase\b|\bequals\()\s*\(?["']({_SIGN})["']""",
    rf"""["']({_SIGN})["']\s*(?:===?|=>|:|\))""",
    rf"""^\s*\(?["']?\\?({_SIGN})["']?\)""",
)
_QUOTED = re.compile(rf"""["']({_WORD})["']""")
_OPTION = re.compile(r"""(?<![\w-])(--?[A-Za-z][\w-]{0,29})(?![\w-])""")
_GETOPTS = re.compile(r"""\bgetopts?\w*\W{1,3}(?:[^"'\n]*,\s*)?["']?[:+]?([A-Za-z?:]{1,40})["']?""")
_NUMBER = re.compile(r"(?<![\w.])(\d{1,7}(?:\.\d{1,4})?)(?![\w.])")
_NO_VALUES = re.compile(
    r"\$\d+|\[\d\]|%[\d.]*\w|(?i:exit(?:code)?|abort|return)\W{0,4}\d+|"
    r"[$#]#?\s*(?:-\w\w|[=!<>]=?)\s*\d|\d?>&?\s*\d"
)
_COMMENT = re.compile(r"^\s*(?:#(?!!).*|//.*|\*.*)$", re.MULTILINE)
_READS_INPUT = re.compile(
    r"\bstdin\b|\bSTDIN\b|<STDIN>|\bread\s+-?\w|\binput\(|\bgets\b|\breadline|\bcat\b(?!\s+\S)|\bScanner\(|"
    r"\bgetline\b|\bscanf\b|\bfgets\b|\bgetchar\b|\bReadLine\b|\bSystem\.in\b|\bwhile\s*\(?<>|\$<|/dev/stdin|\bNF\b|ARGF|fd\s*0|readFileSync\(0"
)
_READS_FILES = re.compile(
    r"\bopen\s*\(|\bfopen\b|\breadFile|\bFile\.(?:read|open|foreach)|\bos\.Open|\bReadFile|\bfs::read|File::open|\bfile_get_contents|"
    r"\bfile\(|\bnew File|\bFiles\.|ioutil|"
    r"\bcat\s+\"?\$|<\s*\"?\$\d|\[\s*-[efrs]\s|\bwc\b|\bsort\b|\bgrep\b|\bF?NR\b|\bNF\b|\$NF|-f\s+\$"
)
_SPLITS = re.compile(
    r"""(?:split|explode|Split|strtok|IFS=|-F|FS\s*=|cut -d)\s*\(?\s*(?:[\w$.]+,\s*)?["'/]?([,;:|\t])["'/]?"""
)
#: Words that sources are full of and no user types.
_USUAL_TEXT = """
main string int str float bool void char const let var def self this return print printf println echo exit error Error
stdin stdout stderr utf-8 utf8 ascii fs path os sys process require module exports default true false null nil None True
False use strict warnings import from as if else elif fi then do done for while end class static public private new
function local set test usage Usage help args argv ARGV argc length slice push join split map len range EOF w r rb wb a
UTF-8 package fmt strconv strings bufio errors log math x y i j n env node sh bash python python3 ruby perl php
"""
_USUAL = frozenset(_USUAL_TEXT.split())


def reading_of_source(text: str) -> SourceReading:
    """Return what the text of a source tells."""
    bare = _COMMENT.sub("", text)
    compared = [
        word
        for pattern in _COMPARED
        for each in re.findall(pattern, bare, re.MULTILINE)
        for word in _parts(each)
    ]
    compared += [each for pattern in _SIGNS for each in re.findall(pattern, bare, re.MULTILINE)]
    quoted = [word for each in _QUOTED.findall(bare) for word in _parts(each)]
    # What is compared with is a value whatever it is called; of the rest the usual words are not.
    own = [each for each in compared if not each.replace(".", "").isdigit()]
    words = dict.fromkeys((*own, *(each for each in quoted if _is_value(each))))
    options = list(dict.fromkeys(_OPTION.findall(" ".join(_strings(bare)))))
    for letters in _GETOPTS.findall(bare):
        options += [f"-{each}" for each in letters if each not in ":?"]
    # Neither the numbers of words, nor exits, nor widths in formats are values.
    numbers = dict.fromkeys(_NUMBER.findall(_NO_VALUES.sub("", bare)))
    return SourceReading(
        words=tuple(words),
        options=tuple(dict.fromkeys(options)),
        numbers=tuple(numbers),
        reads_input=_READS_INPUT.search(bare) is not None,
        reads_files=_READS_FILES.search(bare) is not None,
        separators=tuple(dict.fromkeys(_SPLITS.findall(bare))),
    )


def _parts(text: str) -> list[str]:
    return re.split(r"\s*\|\s*", text)


def _is_value(word: str) -> bool:
    return (
        word not in _USUAL
        and not word.replace(".", "").isdigit()
        and not re.search(r"\.(?:py|js|h|sh|rb|pm)$", word)
    )


def _strings(text: str) -> Iterator[str]:
    """Yield what is in quotes, and the labels of a shell's `case`."""
    for single, double in re.findall(r"'([^'\n]{1,60})'|\"([^\"\n]{1,60})\"", text):
        whole = single or double
        if not re.search(r"\s", whole) or whole.startswith("-"):
            yield whole
    yield from re.findall(r"^\s*\(?(-[^)\n]{1,60})\)", text, re.MULTILINE)
    yield from re.findall(r"[=!]=?\s*(-[\w-]+)\s*\]", text)
