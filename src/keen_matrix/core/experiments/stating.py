"""What would state in a spec what a program was seen to do: the edit that is shown with a clash."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from keen_matrix.core.signature.model import Option
from keen_matrix.core.signature.requests import Request
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.signature.sources.samples import named_files
from keen_matrix.core.signature.values import Text

#: How argument readers introduce the choices that there are.
_LISTS = re.compile(
    r"(?:choose from|choices?(?: are| is)?|one of|possible values?|valid (?:values?|arguments?)(?: are)?|"
    r"allowed(?: values)?|must be|expected)[:\s(\[-]*",
    re.IGNORECASE | re.DOTALL,
)
#: Characters behind such words in which the choices are looked for.
LONGEST_LIST = 300
_WORD = re.compile(r"""['"‘“]([\w.+-]{1,30})['"’”]|(?<![\w.+-])([A-Za-z0-9][\w.+-]{0,29})""")
_NOT_CHOICES = frozenset(
    [
        "or",
        "and",
        "of",
        "the",
        "a",
        "an",
        "one",
        "are",
        "is",
        "to",
        "value",
        "values",
        "be",
        "from",
        "got",
        "not",
    ]
)
#: Words of messages → the type that they ask for.
_TYPES = (
    (r"no such file|cannot open|can't open|does not exist|not found", "file"),
    (r"is not a directory|no such directory", "dir"),
    (r"float|decimal|floating", "float"),
    (r"\bint(eger)?\b|\bnumber|numeric|digit|parseint|atoi|base 10", "int"),
    (r"\bdate\b|yyyy|iso ?8601|isoformat", "date"),
    (r"\bbool(ean)?\b|true or false", "bool"),
)


def spelt(option: Option) -> str:
    """Return an option as a synopsis writes it."""
    names = " ".join(option.value_names)
    spellings = ",".join(option.spellings)
    return f"{spellings} {names}" if names else spellings


def stated_conflict(options: Sequence[Option]) -> str:
    """Return the part of a synopsis that says that options exclude each other."""
    return f"synopsis: [{' | '.join(map(spelt, options))}]"


def stated_requirement(options: Iterable[Option]) -> str:
    """Return the part of a synopsis that says that options are required."""
    return f"synopsis: {' '.join(map(spelt, options))}, without brackets"


def stated_value(signature: Signature, request: Request, answer: str, option: Option | None = None) -> str:
    """Return the type of a value that a message asks for, as a spec writes it; nothing where the
    message does not tell."""
    names = option.value_names if option is not None else _names_told(request, answer)
    if option is not None and not names:
        return 'synopsis without it, or: actions = ["' + option.key + '"] if it acts alone, as --version does'
    untyped = [name for name in names if isinstance(signature.values.get(name), Text)]
    if not untyped:
        return ""
    choices = choices_told(answer)
    if choices:
        listed = ", ".join(f'"{each}"' for each in choices)
        return f"values.{untyped[0]} = {{ of = [{listed}] }}"
    wanted = next((each for each in named_files(answer) if each not in request.words()), "")
    if wanted:
        return f'files."{wanted}" = "…", a file that the program looks for by that name'
    for pattern, type_name in _TYPES:
        if type_name == "file" and re.search(pattern, answer, re.IGNORECASE):
            # a message about another file than the one that was given is not about the value
            if not any(word in answer for _, _, name, word in request.slots() if name == untyped[0]):
                continue
            return f'values.{untyped[0]} = {{ type = "file" }}, and one in [files]'
        if re.search(pattern, answer, re.IGNORECASE):
            return f'values.{untyped[0]} = {{ type = "{type_name}" }}'
    return f'values.{untyped[0]} = {{ example = "…" }}, with a value that the program accepts'


#: Values of a type that a message asks for.
USUAL = {"float": ["1.5", "2"], "int": ["2"], "date": ["2025-06-01"], "bool": ["true"]}


def stated_example(edit: str, values: dict[str, str]) -> str:
    """Return an edit that only asks for an example, with the value that was found to be taken."""
    value = next(iter(values.values()), "")
    return edit.replace('example = "…" }, with a value that the program accepts', f'example = "{value}" }}')


def untyped_names(signature: Signature, request: Request, answer: str) -> list[str]:
    """Return the NAMEs in a request that are texts for want of a type, those that an answer
    mentions first."""
    kinds = signature.values
    return [
        name
        for name in _names_told(request, answer)
        if isinstance(kind := kinds[name], Text) and kind.example is None and kind.matches is None
    ]


def values_told(answer: str) -> list[str]:
    """Return values that a message asks for, then a number: what is most often asked for."""
    found = choices_told(answer)[:1]
    if asks_for_a_character(answer):
        found.append(",")
    for pattern, type_name in _TYPES:
        if re.search(pattern, answer, re.IGNORECASE):
            found += USUAL.get(type_name, [])
            break
    return list(dict.fromkeys([*found, "2"]))


def asks_for_a_character(answer: str) -> bool:
    """Tell whether a message asks for one character: `must be a 1-character string`, as csv says
    it."""
    pattern = r"\b(?:single|one|1)[- ]char|multi-?char|\blength (?:one|1)\b"
    return re.search(pattern, answer, re.IGNORECASE) is not None


def types_told(answer: str) -> list[str]:
    """Return the types that a message asks for, the surest first."""
    return [name for pattern, name in _TYPES if re.search(pattern, answer, re.IGNORECASE)]


def _names_told(request: Request, answer: str) -> list[str]:
    """Return the NAMEs in a request: first those that an answer mentions, by NAME or by value."""
    slots = [(name, word) for _, _, name, word in request.slots()]
    told = [name for name, word in slots if word in answer or name.lower() in answer.lower()]
    return list(dict.fromkeys([*told, *(name for name, _ in slots)]))


_GIVEN = re.compile(r",? (?:but )?(?:not|got|found)\b(?! (?:be|in)\b)")


def _may_be_choice(word: str) -> bool:
    """Tell whether a bare word of a list may be a choice: a letter in capitals is no article."""
    return word.lower() not in _NOT_CHOICES or (len(word) == 1 and word.isupper())


def choices_told(answer: str) -> list[str]:
    """Return the choices that a message lists; nothing when it lists none."""
    for start in _LISTS.finditer(answer):
        # what is behind was given, and is none of them: "must be m or ft, not 'M'"
        text = _GIVEN.split(answer[start.end() :][:LONGEST_LIST])[0]
        listed = list(
            dict.fromkeys(
                quoted or bare for quoted, bare in _WORD.findall(text) if quoted or _may_be_choice(bare)
            )
        )
        separated = sum(map(text.count, (",", "|", " or ", "\n")))
        if 2 <= len(listed) <= separated + 1:
            return listed
    return []
