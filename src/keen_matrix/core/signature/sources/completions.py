"""Completion scripts: what the shells are told that a program takes. Fish and zsh name the values
of an option; bash names the options alone, as words to choose from."""

from __future__ import annotations

import os
import re
import shlex
from collections.abc import Iterator, Mapping, Sequence

from keen_matrix.core.structs import Struct

MOST_SCRIPT = 500_000
#: Where installed scripts are, with `{}` for the program's name.
INSTALLED = (
    "/usr/share/bash-completion/completions/{}",
    "/usr/share/zsh/vendor-completions/_{}",
    "/usr/share/zsh/site-functions/_{}",
    "/usr/share/fish/vendor_completions.d/{}.fish",
)
#: Where they are beside a program's own files.
BESIDE = (
    "{}.bash",
    "_{}",
    "{}.fish",
    "completions/{}.bash",
    "completions/_{}",
    "completions/{}.fish",
    "completion/{}.bash",
    "completion/_{}",
    "completion/{}.fish",
)
_SPELLING = re.compile(r"--?[A-Za-z0-9?][\w-]*")
_CHOICE = re.compile(r"[A-Za-z0-9][\w.+-]*")


class CompletedOption(Struct, frozen=True):
    """An option as a completion script has it."""

    spellings: tuple[str, ...]
    #: The values that it may have, where the script lists them.
    choices: tuple[str, ...] = ()
    #: Whether it takes a value; null where the script does not say.
    takes_value: bool | None = None


def completed_options(name: str, beside: Sequence[str] = ()) -> list[CompletedOption]:
    """Return the options in the completion scripts of a program: those beside it, else installed
    ones."""
    paths = [os.path.join(each, form.format(name)) for each in beside for form in BESIDE]
    paths += [form.format(name) for form in INSTALLED]
    found: dict[str, CompletedOption] = {}
    for path in paths:
        try:
            with open(path, encoding="utf-8", errors="replace") as file:
                text = file.read(MOST_SCRIPT)
        except OSError:
            continue
        for option in options_in(text, name):
            for spelling in option.spellings:
                old = found.get(spelling)
                if old is None or (option.choices and not old.choices):
                    found[spelling] = option
    return list(dict.fromkeys(found.values()))


def options_in(text: str, name: str) -> Iterator[CompletedOption]:
    """Yield the options in the text of one completion script, by the shell that it is for."""
    if re.search(rf"^\s*complete\s+(?:.*\s)?(?:-c|--command)\s+{re.escape(name)}\b", text, re.MULTILINE):
        yield from _of_fish(text)
    elif text.startswith("#compdef") or "_arguments" in text:
        yield from _of_zsh(text)
    else:
        yield from _of_bash(text)


#: Options of fish's `complete` with a value that says what is completed (complete(1) of fish).
_FISH: Mapping[str, str] = {
    "-s": "short",
    "--short-option": "short",
    "-l": "long",
    "--long-option": "long",
    "-o": "old",
    "--old-option": "old",
    "-a": "choices",
    "--arguments": "choices",
    "-d": "",
    "--description": "",
    "-c": "",
    "--command": "",
    "-n": "",
    "--condition": "",
}


def _of_fish(text: str) -> Iterator[CompletedOption]:
    for line in re.sub(r"\\\n", " ", text).splitlines():
        try:
            words = shlex.split(line)
        except ValueError:
            continue
        if words[:1] != ["complete"]:
            continue
        said: dict[str, list[str]] = {}
        rest = words[1:]
        flags: set[str] = set()
        while rest:
            word = rest.pop(0)
            if word in _FISH and rest:
                said.setdefault(_FISH[word], []).append(rest.pop(0))
            elif word.startswith("--"):
                flags.add({"--exclusive": "x", "--require-parameter": "r"}.get(word, ""))
            elif word.startswith("-"):
                flags |= set(word[1:])
                last = f"-{word[-1]}"  # as -xa 'text json'
                if len(word) > 2 and last in _FISH and rest:
                    said.setdefault(_FISH[last], []).append(rest.pop(0))
        spellings = [f"-{each}" for each in said.get("short", [])]
        spellings += [f"--{each}" for each in said.get("long", [])]
        spellings += [f"-{each}" for each in said.get("old", [])]
        listed = " ".join(said.get("choices", []))
        choices = () if re.search(r"[($]", listed) else _choices(re.split(r"[\s,]+", listed))
        if spellings:
            yield CompletedOption(tuple(spellings), choices, bool(flags & {"x", "r"}) or bool(choices))


#: One description of zsh's `_arguments` (zshcompsys(1)): spellings, a text in brackets, a message
#: and an action.
_ZSH = re.compile(
    r"""(?P<some>\{(?P<several>-[\w,?=+-]+)\})?['"]?(?:\([^)]*\))?(?:['"]?\{(?P<more>-[\w,?=+-]+)\}['"]?)?"""
    r"""\*?(?P<one>--?[A-Za-z0-9?][\w-]*)?[=+-]{0,2}\[[^\]]*\](?P<rest>(?::[^:'"\\(]*)*(?:\((?P<listed>[^()]*)\))?)"""
)


def _of_zsh(text: str) -> Iterator[CompletedOption]:
    for match in _ZSH.finditer(text):
        named = ",".join(filter(None, (match["several"], match["more"], match["one"])))
        spellings = tuple(dict.fromkeys(_SPELLING.findall(named)))
        if not spellings:
            continue
        listed = re.sub(r"\\ ", " ", match["listed"] or "")
        words = [each.split(":")[0].split("\\")[0] for each in listed.split()]
        yield CompletedOption(spellings, _choices(words), bool(match["rest"]))


def _of_bash(text: str) -> Iterator[CompletedOption]:
    """Yield the options among the words that `compgen -W` completes, and the choices of those that
    a `case` of the word before names."""
    by_option: dict[str, tuple[str, ...]] = {}
    for labels, body in re.findall(r"^\s*\(?((?:--?[\w-]+\|?)+)\)\s*(.*?);;", text, re.MULTILINE | re.DOTALL):
        listed = re.search(r"compgen\s+-W\s+(['\"])([^'\"$]*)\1", body)
        for label in labels.split("|"):
            by_option[label] = _choices(listed[2].split()) if listed else ()
    words = [
        word
        for _, listed in re.findall(r"compgen\s+-W\s+(['\"])([^'\"]*)\1", text)
        for word in listed.split()
    ]
    for _, listed in re.findall(r"\bopts=(['\"])([^'\"]*)\1", text):
        words += listed.split()
    spelt = dict.fromkeys(word.rstrip("=") for word in words if _SPELLING.fullmatch(word.rstrip("=")))
    for spelling in dict.fromkeys([*spelt, *by_option]):
        choices = by_option.get(spelling, ())
        yield CompletedOption((spelling,), choices, True if choices or f"{spelling}=" in words else None)


def _choices(words: Sequence[str]) -> tuple[str, ...]:
    """Return words that are plain values; none where any of them is something else."""
    listed = [each for each in words if each]
    return tuple(listed) if listed and all(_CHOICE.fullmatch(each) for each in listed) else ()
