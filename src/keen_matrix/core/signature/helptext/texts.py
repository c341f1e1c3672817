"""What the text beside an option tells: its default, a range, words to choose from."""

from __future__ import annotations

import re

#: Examples tell neither the range nor the choices.
_EXAMPLES = re.compile(
    r"\((?:e\.? ?g\.?|for example|such as|like)\b[^)]*\)|\b(?:e\. ?g\.|for example|such as)\s.*",
    re.IGNORECASE,
)


def without_examples(text: str) -> str:
    """Return a text without what it gives for an example."""
    return _EXAMPLES.sub(" ", text)


def default_in(text: str) -> str | None:
    """Return the default that a text tells of: `(default: 5)`, `defaults to 5`, `5 by default`."""
    match = re.search(
        r"""[(\[]default[: =]+["']?([^"')\];]+?)["']?[)\];]|\bdefaults?(?: is| to|:)\s+["']?([\w./-]+)["']?|"""
        r"""\b([\w.]+) by default\b""",
        text,
        re.IGNORECASE,
    )
    return next((each.strip() for each in match.groups() if each), None) if match else None


def range_in(text: str) -> tuple[int, int] | None:
    """Return the range that a text tells of: `1 to 60`, `1-60`, `between 1 and 60`, `1..60`."""
    match = re.search(
        r"(?<![\w.:/])(-?\d+)\s*(?:to|-|–|\.\.)\s*(-?\d+)(?![\w:/]|\.\d)|\bbetween (-?\d+) and (-?\d+)\b|"
        r"\[(?:[^\[\]]*; )?(-?\d+)<=x<=(-?\d+)[;\]]",
        without_examples(text),
    )
    if not match:
        return None
    low, high = (int(each) for each in match.groups() if each is not None)
    return (low, high) if low < high else None


_WORD = r"[A-Za-z](?:[\w.-]*\w)?"
_LISTED = re.compile(rf"(?:{_WORD}(?:, *|/|\|))*{_WORD}(?:,? or |, *|/|\|){_WORD}", re.ASCII)


def words_in(text: str) -> tuple[str, ...]:
    """Return the words that a text gives to choose from and nothing else: `one of red, green`, `a
    or b (default a)`.

    Without `one of`, the default has to be among them: `port or berth` may describe a value of
    many.
    """
    default = default_in(text)
    bare = re.sub(r"\s*[(\[]default[^)\]]*[)\]]\s*$", "", text.strip(), flags=re.IGNORECASE).rstrip(".")
    asked = re.match(r"(?:(?:must be |is )?(?:one of|either)):? +", bare, re.IGNORECASE)
    listed = bare[asked.end() :] if asked else bare
    words = tuple(re.split(r",? or |, *|/|\|", listed)) if _LISTED.fullmatch(listed) else ()
    return words if asked or default in words else ()


_LIST_END = r"(?=\s*$|\s*[.;:()\[\]])"
_SEPARATOR = r"(?:\s*(?:,? or |,? and |,|\||/)\s*)"
_PROSE = re.compile(
    r"(?:\b(?:one of|either)|\b(?:choices|possible values|valid values|allowed "
    r"values|supported values|values|"
    r"available(?: \w+)?|supported(?: \w+)?)(?: are|:| is))\s*:?\s*"
    rf"(?P<list>{_WORD}(?:{_SEPARATOR}{_WORD})+){_LIST_END}",
    re.IGNORECASE,
)
_QUOTED = r"""["'‘“`]([^"'’”`\s,|]+)["'’”`]"""
_QUOTED_LIST = re.compile(
    r"""(?:\b(?:one of|either|choices|values|is|are|can be|may be|must be)\b:?|\bchoices:)\s*(?:the |these: )?"""
    rf"""(?P<list>{_QUOTED}(?:\s*\([^)]*\))?(?:(?:,? or |,? and |, ?|/|\|)\s*{_QUOTED}(?:\s*\([^)]*\))?)+)""",
    re.IGNORECASE,
)


def choices_in(text: str) -> tuple[str, ...]:
    """Return the choices that stand somewhere in a text: `format, one of: csv, tsv or json`,
    `[possible values: a, b]`, `[csv|tsv|json]`, `(choices: "a", "b")`, `level {LMQH}, a letter`,
    `WHEN is 'always', 'never' or 'auto'`."""
    text = without_examples(text)
    bracketed = re.search(r"[\[{(]((?:[\w.+-]+\|)+[\w.+-]+)[\]})]", text)
    if bracketed:
        return tuple(bracketed[1].split("|"))
    letters = re.search(r"\{([A-Za-z]{2,8})\}", text)
    if letters and re.search(r"\b(?:letter|one of|character)", text, re.IGNORECASE):
        return tuple(letters[1])
    quoted = _QUOTED_LIST.search(text)
    if quoted:
        return tuple(dict.fromkeys(re.findall(_QUOTED, quoted["list"])))
    match = _PROSE.search(text)
    if match is None:
        return ()
    words = (each for each in re.split(_SEPARATOR, match["list"].strip()) if each)
    return tuple(dict.fromkeys(words))


def bounds_in(text: str) -> dict[str, int]:
    """Return the least and the largest whole number that a text tells of, by `min` and `max`: a
    range, or one end of it as click writes it, `[x>=1]`."""
    both = range_in(text)
    if both is not None:
        return {"min": both[0], "max": both[1]}
    found = {}
    for sign, key, step in ((">=", "min", 0), (">", "min", 1), ("<=", "max", 0), ("<", "max", -1)):
        match = re.search(rf"\[(?:[^\[\]]*; )?x{sign}(-?\d+)(?:[;\]])", text)
        if match and key not in found:
            found[key] = int(match[1]) + step
    if not found and re.search(r"\b(?:non-negative|not negative)\b", text, re.IGNORECASE):
        return {"min": 0}
    return found
