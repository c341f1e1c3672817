"""Whether a message names a word, as argument readers and people write messages."""

from __future__ import annotations

import re


def is_named(word: str, message: str, *, exactly: bool = False) -> bool:
    """Tell whether a message names a word, as people write it: as a whole word in whatever letter
    case; an option also without its dashes, with one dash for two, or by its letter alone (as
    getopt does); a name of several parts with other signs between them (FROM_UNIT, from-unit).

    `exactly` is for what is blamed wrongly: only as it is written, dashes and letter case kept.
    """
    if not word:
        return False
    if exactly:
        return re.search(rf"(?<![\w-]){re.escape(word)}(?![\w-])", message) is not None
    bare = word.lstrip("-")
    if len(bare) < 2 or not re.search(r"\w", bare):
        return _is_sign_named(word, message)
    if not re.fullmatch(r"[\w-]+", bare):
        # a value of any shape: a whole word of the message, or any part of it where it has signs
        bounded = re.escape(word)
        if word[:1].isalnum():
            bounded = rf"(?<![\w-]){bounded}(?![\w-])"
        return re.search(bounded, message, re.IGNORECASE) is not None
    parts = [re.escape(each) for each in re.split(r"[-_]+", bare) if each]
    # In the plural too: "expected two PORTS" names PORT.
    pattern = rf"(?<!\w){'[-_ ]*'.join(parts)}(?:e?s)?(?!\w)"
    return re.search(pattern, message, re.IGNORECASE) is not None


def _is_sign_named(word: str, message: str) -> bool:
    """Tell whether a message names a letter, a digit or a sign: bounded, since every text has
    letters; the letter of an option also in quotes, behind two dashes, or alone after a colon."""
    bounded = rf"(?<![\w-]){re.escape(word)}(?![\w-])" if word[:1].isalnum() else re.escape(word)
    is_option = re.fullmatch(r"-\w", word) is not None
    if is_option:  # -c and -C are two, and `a 1-character string` names neither
        bounded = rf"(?<![\w-]){bounded}"
    if re.search(bounded, message, re.IGNORECASE if len(word) > 1 and not is_option else 0):
        return True
    if not is_option:
        return False
    letter = re.escape(word[1])
    quoted = re.search(rf"""(?:-- ?|['"`‘]){letter}(?![\w-])""", message)
    listed = re.search(rf": (?:\w, )*{letter}(?:, \w)*$", message, re.MULTILINE)
    return quoted is not None or listed is not None


#: A line that points to the help: `diff: Try 'diff --help' for more information.`
_POINTER = re.compile(
    r"\s*(?:[\w./-]+: )?(?:please )?(?:try|see|for more|run|use|type)\b.*(?:help|man)\b", re.IGNORECASE
)
#: Headings of lists in a help text.
_LIST = re.compile(
    r"(?:(?:global|available|other|common) )?(?:options|flags|commands|subcommands|arguments|positionals|"
    r"positional arguments|args)(?: and \w+)?:\s*",
    re.IGNORECASE,
)


def without_usage(text: str) -> str:
    """Return a message without its usage block: the line that begins with usage and those indented
    below it, and the lists of a help text that is printed along."""
    kept: list[str] = []
    inside = False
    for line in text.splitlines():
        if re.match(r"\s*usage\b", line, re.IGNORECASE) or _LIST.fullmatch(line):
            inside = True
            continue
        if inside and (not line.strip() or line.startswith((" ", "\t"))):
            continue
        inside = False
        # It names --help, and would name an option of nearly every program.
        if not _POINTER.match(line):
            kept.append(line)
    return "\n".join(kept)
