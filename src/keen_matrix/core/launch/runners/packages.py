"""Runners of package managers: scripts of a package.json, and programs of a virtual environment.

npm-run-script(1), npm-exec(1), `yarn run`, `pnpm run`; `uv run`, `poetry run`, `pipenv run`.
"""

from __future__ import annotations

import json
import os
import re
import shlex
import shutil
from collections.abc import Sequence

from keen_matrix.core.launch.runners.base import (
    HOME_OF_TOOLS,
    FoundProgram,
    Runner,
    TypedPlace,
    absolute_words,
    operand_at,
    through_runner,
)
from keen_matrix.core.launch.runners.interpreters import interpreted

_NPM_VALUED = frozenset({"--prefix", "-C", "--loglevel", "-w", "--workspace"})
_RUN_WORDS = frozenset({"run", "run-script", "rum", "urn"})
#: Scripts that have a command of their own.
_SHORT = frozenset({"start", "stop", "test", "restart"})
#: What only a shell understands.
_SHELL_SIGNS = re.compile(r"[|&;<>()$`\\*?\[\]#~%!{}]|^\w+=")


def _npm(words: Sequence[str], place: TypedPlace) -> FoundProgram | None:
    at = operand_at(words, 1, _NPM_VALUED)
    if at >= len(words):
        return None
    command = words[at]
    if command in ("exec", "x"):
        return _exec(words, at + 1, place)
    if command in _RUN_WORDS:
        at = operand_at(words, at + 1, _NPM_VALUED)
        if at >= len(words):
            return None
    elif command not in _SHORT:
        return None
    return _script(words, at, _prefix(words, place), options_are_its_own=True)


def _prefix(words: Sequence[str], place: TypedPlace) -> TypedPlace:
    values = dict(zip(words, [*words[1:], ""], strict=False))
    prefix = values.get("--prefix") or values.get("-C") or values.get("--cwd") or "."
    return TypedPlace(os.path.join(place.directory, prefix), place.out)


def _yarn(words: Sequence[str], place: TypedPlace) -> FoundProgram | None:
    at = operand_at(words, 1, frozenset({"--cwd", "-C", "--dir"}))
    if words[at : at + 1] == ["run"]:
        at = operand_at(words, at + 1, frozenset())
    if at >= len(words):
        return None
    if words[at] in ("exec", "dlx"):
        return _exec(words, at + 1, place)
    return _script(words, at, _prefix(words, place), options_are_its_own=False)


def _script(
    words: Sequence[str], at: int, place: TypedPlace, *, options_are_its_own: bool
) -> FoundProgram | None:
    """Return how the script of a name is started: what npm would hand to a shell, without npm."""
    root = place.above("package.json")
    name = words[at]
    scripts = _package(root).get("scripts")
    texts = {key: str(value) for key, value in scripts.items()} if isinstance(scripts, dict) else {}
    text = texts.get(name) or ("node server.js" if name == "start" and _has(root, "server.js") else "")
    if not root or not text:
        return None
    rest = list(words[at + 1 :])
    own = at + 1
    given = rest
    if "--" in rest:
        cut = rest.index("--")
        given, own = (
            [*(each for each in rest[:cut] if not each.startswith("-")), *rest[cut + 1 :]],
            at + 2 + cut,
        )
    elif options_are_its_own:  # npm takes what begins with a dash for its own
        given = [each for each in rest if not each.startswith("-")]
    build = ("sh", "-c", texts[f"pre{name}"]) if f"pre{name}" in texts else ()
    return FoundProgram(
        words=tuple(words[:own]), given=tuple(given), launch=_of_text(text, root), build=build, root=root
    )


def _of_text(text: str, root: str) -> tuple[str, ...]:
    """Return the launch words of a script's text: its own words, where a shell would do nothing
    more with them."""
    try:
        own = shlex.split(text)
    except ValueError:
        own = []
    if own and not _SHELL_SIGNS.search(text):
        local = os.path.join(root, "node_modules", ".bin", own[0])
        if os.path.exists(local):
            own[0] = local
        inner = interpreted(own, TypedPlace(root, ""))
        if inner is not None and not inner.env and not inner.build:
            return (*inner.launch, *inner.given)
        first = os.path.abspath(os.path.join(root, own[0])) if os.sep in own[0] else own[0]
        return (first, *absolute_words(["", *own[1:]], root)[1:])
    binaries = os.path.join(root, "node_modules", ".bin")
    return ("sh", "-c", f'cd "$0" && PATH={shlex.quote(binaries)}:"$PATH" && {text} "$@"', root)


def _package(root: str) -> dict[str, object]:
    try:
        with open(os.path.join(root, "package.json"), encoding="utf-8") as file:
            found = json.load(file)
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def _has(root: str, name: str) -> bool:
    return os.path.isfile(os.path.join(root, name))


def _npx(words: Sequence[str], place: TypedPlace) -> FoundProgram | None:
    return _exec(words, 1, place)


def _exec(words: Sequence[str], start: int, place: TypedPlace) -> FoundProgram | None:
    """Return how a program of a package is started: one that is installed, or the package's own."""
    at = operand_at(words, start, frozenset({"-p", "--package", "-w", "--workspace"}))
    at += at < len(words) and words[at] == "--"
    root = place.above("package.json")
    if at >= len(words) or not root:
        return None
    name = words[at]
    local = os.path.join(root, "node_modules", ".bin", name)
    given = words[at + 1 :]
    own = words[at + 1 : at + 2] == ["--"]
    file = local if os.path.exists(local) else _own_program(root, name)
    if not file:
        return through_runner(words[: at + 1], given[own:], root)
    launch = (file,) if os.access(file, os.X_OK) else ("node", file)
    return FoundProgram(
        words=tuple(words[: at + 1 + own]), given=tuple(given[own:]), launch=launch, root=root
    )


def _own_program(root: str, name: str) -> str:
    """Return the file that a package says is its program of a name; empty for none."""
    package = _package(root)
    programs = package.get("bin")
    if isinstance(programs, str):
        programs = {str(package.get("name") or "").rpartition("/")[2]: programs}
    file = programs.get(name) if isinstance(programs, dict) else None
    path = os.path.normpath(os.path.join(root, str(file))) if file else ""
    return path if os.path.isfile(path) else ""


_ENVIRONMENTS = (".venv", "venv")
_PROJECTS = ("pyproject.toml", "uv.lock", "poetry.lock", "Pipfile", "setup.py", "requirements.txt")
_UV_VALUED = frozenset(
    {"--with", "--extra", "--group", "-p", "--python", "--package", "--directory", "--project", "--env-file"}
)


def _environment_run(words: Sequence[str], place: TypedPlace) -> FoundProgram | None:
    """Return how a program of a project's virtual environment is started."""
    if words[1:2] != ["run"]:
        return None
    at = operand_at(words, 2, _UV_VALUED)
    at += at < len(words) and words[at] == "--"
    root = place.above(*_PROJECTS)
    if at >= len(words) or not root:
        return None
    name = words[at]
    folder = next((each for each in _ENVIRONMENTS if os.path.isdir(os.path.join(root, each, "bin"))), "")
    programs = os.path.join(root, folder, "bin") if folder else ""
    file = os.path.join(programs, name) if programs else ""
    if file and os.path.exists(file):
        inner = interpreted([file, *words[at + 1 :]], place)
        if inner is None:
            return FoundProgram(
                words=tuple(words[: at + 1]), given=tuple(words[at + 1 :]), launch=(file,), root=root
            )
        count = len(inner.words)
        return FoundProgram(
            words=tuple(words[: at + count]), given=inner.given, launch=inner.launch, root=root, env=inner.env
        )
    if programs and name.endswith(".py"):
        script = os.path.abspath(os.path.join(place.directory, name))
        launch = (os.path.join(programs, "python"), script)
        return FoundProgram(
            words=tuple(words[: at + 1]), given=tuple(words[at + 1 :]), launch=launch, root=root
        )
    # The environment may be elsewhere, which only the tool knows.
    end = at + 2 if re.fullmatch(r"python[\d.]*", name) else at + 1
    return (
        through_runner(words[:end], words[end:], os.path.abspath(place.directory))
        if shutil.which(words[0])
        else None
    )


PACKAGE_RUNNERS: tuple[Runner, ...] = (
    Runner(
        name="npm",
        names=re.compile("npm"),
        find=_npm,
        about="runs a script of package.json, and prints more than the program",
        direct="the script's own words",
        from_caller=HOME_OF_TOOLS,
    ),
    Runner(
        name="yarn",
        names=re.compile("yarn|pnpm"),
        find=_yarn,
        about="runs a script of package.json",
        direct="the script's own words",
        from_caller=HOME_OF_TOOLS,
    ),
    Runner(
        name="npx",
        names=re.compile("npx"),
        find=_npx,
        about="runs a program of a package",
        direct="the file in node_modules/.bin, or the package's own",
        from_caller=HOME_OF_TOOLS,
    ),
    Runner(
        name="uv run",
        names=re.compile("uv|poetry|pipenv|pdm|hatch|rye"),
        find=_environment_run,
        about="runs a program of the project's virtual environment",
        direct="the file in .venv/bin",
        from_caller=(*HOME_OF_TOOLS, "VIRTUAL_ENV"),
    ),
)
