"""Ways to start a program: its own launch words, other launchers, a reference, another name."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Sequence
from functools import cache
from typing import NamedTuple

from keen_matrix.core.errors import RunFault
from keen_matrix.core.expressions import Scope, Template
from keen_matrix.core.launch.environment import base_environment, find_program
from keen_matrix.core.launch.runtimes import INTERPRETERS
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.structs import replace


class ResolvedLaunch(NamedTuple):
    """The file that a launch starts, and its words as the spec has them."""

    file: str
    words: tuple[str, ...]
    #: Variables that are set or (null) taken away for it: what its launcher would do.
    changes: tuple[tuple[str, str | None], ...] = ()


def resolved_launch(spec: Spec) -> ResolvedLaunch:
    """Return how a spec's program is started. Raises RunFault when there is no such program."""
    scope = Scope({"here": spec.here})
    words = [template.render(scope) for template in spec.program.launch]
    environment = base_environment(spec.program.env_from_caller, os.environ)
    own = dict(spec.matrices[0].steps[0].surroundings.env).get("PATH") if spec.matrices else None
    search = own.constant if own is not None and own.constant is not None else environment.get("PATH")
    # Where cases run in the directory of the spec, a relative path is one from there.
    found, reason = find_program(
        words[0], search, spec.here, None if spec.program.fresh_directory else spec.here
    )
    reason = reason or missing_script(spec, words)
    if reason:
        raise RunFault(f"the program cannot be launched: {reason}")
    return ResolvedLaunch(found, tuple(words))


SHELL = "/bin/sh"
#: Locales with a decimal comma, and one that every system has.
OTHER_LOCALES = ("de_DE.UTF-8", "fr_FR.UTF-8", "nb_NO.UTF-8", "es_ES.UTF-8", "C.UTF-8")


def missing_script(spec: Spec, words: Sequence[str]) -> str:
    """Return why an interpreter would find no script: the file below {here} that its first operand
    names is not there."""
    if not INTERPRETERS.fullmatch(os.path.basename(words[0])):
        return ""
    script = next((word for word in words[1:] if not word.startswith("-")), "")
    own = script.startswith(spec.here + os.sep)
    return f"{script} does not exist" if own and not os.path.exists(script) else ""


def check_launchers(spec: Spec, launch: ResolvedLaunch) -> None:
    """Look up every other way to start a program that a spec's families and comparisons need.
    Raises RunFault."""
    named = replace(spec, matrices=tuple(each for each in spec.matrices if each.family != "renamed"))
    other_launches(named, launch, "")


def other_launches(spec: Spec, launch: ResolvedLaunch, directory: str) -> dict[str, ResolvedLaunch]:
    """Return the other ways to start a spec's program that its derived families need, by name.

    The family `renamed` starts it through a link in `directory`. Raises RunFault when a launcher
    does not exist."""
    families = {matrix.family for matrix in spec.matrices}
    found: dict[str, ResolvedLaunch] = {}
    if spec.program.launchers:
        for name, words in spec.program.launchers.items():
            try:
                found[name] = _launched_by(spec, words)
            except RunFault:
                if "launchers" in families or any(
                    m.other is not None and name in m.other.launchers for m in spec.matrices
                ):
                    raise
    if spec.reference is not None:
        found["reference"] = _launched_by(spec, spec.reference.launch)
    if "elsewhere" in families:
        found |= _elsewhere(launch)
    if "renamed" in families:
        found["renamed"] = _renamed(launch, directory)
    return found


def _elsewhere(launch: ResolvedLaunch) -> dict[str, ResolvedLaunch]:
    """Return the launchers that start a program in other surroundings, through a shell."""
    from keen_matrix.core.signature.families.elsewhere import FIELDS, HERE, PLACES, launcher_of

    def through(script: str, redirection: str = "") -> ResolvedLaunch:
        text = f'{script.replace(FIELDS, other_locale())} exec "$@" {redirection}'.strip()
        return ResolvedLaunch(SHELL, (SHELL, "-c", text, "sh", launch.file, *launch.words[1:]))

    others = {launcher_of(name): through(*place) for name, place in PLACES.items()}
    return {HERE: through(""), **others}


@cache
def other_locale() -> str:
    """Return a locale that the system has, with a decimal comma if there is one."""
    import locale

    before = locale.setlocale(locale.LC_NUMERIC)
    try:
        for name in OTHER_LOCALES:
            with contextlib.suppress(locale.Error):
                locale.setlocale(locale.LC_NUMERIC, name)
                return name
    finally:
        locale.setlocale(locale.LC_NUMERIC, before)
    return "C"


def _launched_by(spec: Spec, words: tuple[Template, ...]) -> ResolvedLaunch:
    return resolved_launch(replace(spec, program=replace(spec.program, launch=words)))


def _renamed(launch: ResolvedLaunch, directory: str) -> ResolvedLaunch:
    """Link the program, or the script that its launch names last, under another name."""
    from keen_matrix.core.signature.families.renamed import RENAMED

    os.makedirs(directory, exist_ok=True)
    at = next((n for n in range(len(launch.words) - 1, 0, -1) if os.path.isfile(launch.words[n])), 0)
    target = launch.words[at] if at else launch.file
    link = os.path.join(directory, RENAMED + os.path.splitext(target)[1])
    with contextlib.suppress(FileExistsError):
        os.symlink(os.path.abspath(target), link)
    words = (*launch.words[:at], link, *launch.words[at + 1 :])
    return ResolvedLaunch(launch.file if at else link, words)
