"""What a program's manual page and completion scripts add to its help: the page in place of a help
that there is not, values and choices of options that the help leaves out."""

from __future__ import annotations

import os
import re
from collections.abc import Sequence

from keen_matrix.core.signature.helptext import HelpOption, HelpText, read_help
from keen_matrix.core.signature.sources.completions import CompletedOption, completed_options
from keen_matrix.core.signature.sources.manuals import manual_of
from keen_matrix.core.structs import replace

#: Directories above a program's file that are its own.
LEVELS = 3
_INTERPRETER = re.compile(
    r"(?:python|pypy|node|deno|bun|perl|ruby|php|java|lua|tclsh|awk|gawk|mawk|sh|bash|dash|zsh|ksh|fish)[\d.]*"
)
#: What the system's programs are in, whose neighbours are other programs.
_SYSTEM = ("/usr", "/bin", "/sbin", "/opt", "/lib", "/etc")


def program_names(launch: Sequence[str]) -> list[str]:
    """Return what a program may be called by in its own texts: its file's name, with and without
    the ending."""
    scripts = [each for each in launch[1:] if not each.startswith("-") and os.path.isfile(each)]
    is_run_by_another = len(launch) > 1 and _INTERPRETER.fullmatch(os.path.basename(launch[0]))
    # what an interpreter is called is the name of no program that it runs
    files = scripts[:1] if scripts or is_run_by_another else list(launch[:1])
    named = [os.path.basename(each) for each in files]
    return list(dict.fromkeys(form for name in named for form in (os.path.splitext(name)[0], name) if form))


def directories_of_program(launch: Sequence[str]) -> list[str]:
    """Return the directories of the program's own files, and those above them, not the system's."""
    found: dict[str, None] = {}
    for word in launch:
        path = os.path.dirname(os.path.abspath(word)) if os.sep in word and os.path.isfile(word) else ""
        for _ in range(LEVELS):
            if path in ("", "/") or path.startswith(_SYSTEM):
                break
            found.setdefault(path)
            path = os.path.dirname(path)
    return list(found)


def manual_page(launch: Sequence[str]) -> HelpText | None:
    """Return what the manual page of a program says, if it has one with a synopsis and options."""
    places = directories_of_program(launch)
    for name in program_names(launch)[:1]:
        page = read_help(manual_of(name, places))
        if page.usages and len(page.options) > 1:
            return page
    return None


def completed(page: HelpText, launch: Sequence[str]) -> HelpText:
    """Return a help text with the values and choices that a manual page or a completion script has
    of its options, and with the options of the manual page where it lists none itself."""
    names = program_names(launch)
    manual = manual_page(launch)
    scripts = completed_options(names[0], directories_of_program(launch)) if names else []
    if not page.options and manual is not None and manual.options:
        page = replace(page, options=manual.options)
    listed = {} if manual is None else {s: option for option in manual.options for s in option.spellings}
    scripted = {spelling: option for option in scripts for spelling in option.spellings}
    options = [
        _with_script(_with_manual(option, listed.get(option.spellings[0])), scripted)
        for option in page.options
    ]
    return replace(page, options=tuple(options))


def _with_manual(option: HelpOption, other: HelpOption | None) -> HelpOption:
    """Return an option with the choices of the manual page, and its words where the help has
    none."""
    if other is None or option.is_range:
        return option
    if option.values and not option.choices and len(option.values) == len(other.values):
        choices = other.choices if len(other.choices) > 1 else ()
        return replace(option, choices=choices, text=option.text or other.text)
    return option


def _with_script(option: HelpOption, scripted: dict[str, CompletedOption]) -> HelpOption:
    """Return an option with the choices that a completion script lists, where nothing else does."""
    found = next((scripted[each] for each in option.spellings if each in scripted), None)
    if found is None or len(found.choices) < 2 or option.choices or option.kind or len(option.values) != 1:
        return option
    return replace(option, choices=found.choices)
