"""What a launcher really starts: a version manager's `python3` is often a script that looks for the
right one and starts that, which takes longer than the program itself.

The runtime is asked once, through the launcher, which file it was started from and in what
environment it runs. Starting that file with that environment is the same launch without the
looking."""

from __future__ import annotations

import json
import os
import re
import tempfile
import time
from collections.abc import Mapping
from typing import NamedTuple

from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.process.between import Between
from keen_matrix.core.structs import Struct

ASK_SECONDS = 10.0
MOST_ANSWER = 1 << 20
#: Variables that any shell leaves in the environment of what it starts (POSIX 2.5.3 for PWD and
#: OLDPWD): no program is meant to look at them.
OF_SHELLS = frozenset({"_", "SHLVL", "PWD", "OLDPWD"})


class Runtime(NamedTuple):
    """How a runtime is asked which file it was started from and in what environment."""

    names: re.Pattern[str]
    #: Words that have it print a JSON list of the two.
    question: tuple[str, ...]


RUNTIMES = (
    Runtime(
        re.compile(r"(python|pypy)[\d.]*"),
        ("-c", "import json, os, sys; print(json.dumps([sys.executable, dict(os.environ)]))"),
    ),
    Runtime(
        re.compile(r"node|nodejs"), ("-e", "console.log(JSON.stringify([process.execPath, process.env]))")
    ),
    Runtime(
        re.compile(r"ruby[\d.]*"),
        ("-rjson", "-rrbconfig", "-e", "puts JSON.generate([RbConfig.ruby, ENV.to_h])"),
    ),
)


class Through(Struct, frozen=True, kw_only=True):
    """What a launcher starts in the end."""

    file: str
    #: Variables that the launcher sets or (null) takes away, apart from those of any shell.
    changes: Mapping[str, str | None]
    #: What it takes beside a launch of the file itself.
    seconds: float


def runtime_of(launch: ResolvedLaunch) -> Runtime | None:
    """Return the runtime that the first launch word names."""
    name = os.path.basename(launch.words[0])
    return next((each for each in RUNTIMES if each.names.fullmatch(name)), None)


def is_wrapped(launch: ResolvedLaunch) -> bool:
    """Tell at once whether a runtime is started by something else that bears its name: a script, or
    a link to a program of another name."""
    runtime = runtime_of(launch)
    if runtime is None:
        return False
    # Some managers are one program with many names, which looks at the one that it was called by.
    if not runtime.names.fullmatch(os.path.basename(os.path.realpath(launch.file))):
        return True
    try:
        with open(launch.file, "rb") as file:
            return file.read(2) == b"#!"
    except OSError:
        return False


def through(launch: ResolvedLaunch, environment: Mapping[str, str]) -> Through | None:
    """Return what a wrapped runtime starts; None where that cannot be known, or it is the file
    itself.

    The runtime is launched through its launcher and directly, once each, in an empty directory.
    """
    runtime = runtime_of(launch)
    if runtime is None:
        return None
    with tempfile.TemporaryDirectory(prefix="keen-matrix-") as directory:
        env = {**environment, "HOME": directory, "TMPDIR": directory}
        asked = _asked(launch.file, launch.words[0], runtime, env, directory)
        if asked is None or not os.path.isfile(asked.file):
            return None
        # Nothing is between: what it starts is itself.
        if os.path.realpath(asked.file) == os.path.realpath(launch.file):
            return None
        # Once more by its own name: only then is it known to start itself, and what the way through
        # the launcher adds.
        direct = _asked(asked.file, asked.file, runtime, env, directory)
    # what it starts must be what it is when it is started on its own
    if direct is None or direct.file != asked.file:
        return None
    names = {*asked.environment, *direct.environment} - OF_SHELLS
    changes = {
        name: asked.environment.get(name)
        for name in sorted(names)
        if asked.environment.get(name) != direct.environment.get(name)
    }
    return Through(file=asked.file, changes=changes, seconds=max(0.0, asked.seconds - direct.seconds))


class _LauncherAnswer(NamedTuple):
    file: str
    environment: Mapping[str, str]
    seconds: float


def _asked(
    file: str, name: str, runtime: Runtime, env: Mapping[str, str], directory: str
) -> _LauncherAnswer | None:
    with tempfile.TemporaryFile(dir=directory) as out, open(os.devnull, "wb") as nowhere:
        try:
            with Between(
                [name, *runtime.question],
                file=file,
                directory=directory,
                env=env,
                stdout=out.fileno(),
                stderr=nowhere.fileno(),
            ) as asked:
                began = time.monotonic()
                if asked.wait(ASK_SECONDS) is None:
                    return None
                seconds = time.monotonic() - began
        except OSError:
            return None
        out.seek(0)
        said = out.read(MOST_ANSWER)
    try:
        found, environment = json.loads(said)
    except (ValueError, TypeError):
        return None
    if not isinstance(found, str) or not isinstance(environment, dict):
        return None
    return _LauncherAnswer(found, environment, seconds)


def started_directly(launch: ResolvedLaunch, found: Through) -> ResolvedLaunch:
    """Return the launch of what a launcher starts in the end, with what it sets."""
    return ResolvedLaunch(found.file, (found.file, *launch.words[1:]), tuple(found.changes.items()))
