"""What the script of a version manager starts in the end, where that is no runtime that could be
asked: it is watched.

The script is launched once, with words that ask for help. Each program that takes the place of
another (exec) keeps the number of the process, so the last one that is seen under it is what the
script starts."""

from __future__ import annotations

import contextlib
import os
import resource
import signal
import tempfile
import time
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.process.between import Between
from keen_matrix.core.launch.through import ASK_SECONDS, MOST_ANSWER, OF_SHELLS, Through

#: The directory in which version managers keep their scripts, one for each program.
SHIMS = "shims"
SHELLS = frozenset({"sh", "bash", "dash", "ksh", "zsh"})
LOOK_SECONDS = 0.0005


def is_shell_script(file: str) -> bool:
    """Tell whether a file is a script for a shell, by its first line."""
    return any(os.path.basename(each) in SHELLS for each in interpreter_of(file)[:2])


def interpreter_of(file: str) -> list[str]:
    """Return the words of the first line of a script; none of what is no script."""
    try:
        with open(file, "rb") as opened:
            first = opened.readline(200).decode("utf-8", "replace")
    except OSError:
        return []
    return first[2:].split() if first.startswith("#!") else []


def is_shim(launch: ResolvedLaunch) -> bool:
    """Tell whether a program is started by the script of a version manager."""
    return os.path.basename(os.path.dirname(launch.file)) == SHIMS and is_shell_script(launch.file)


def watched_start(
    launch: ResolvedLaunch, environment: Mapping[str, str], words: Sequence[str]
) -> Through | None:
    """Return what a script starts with some words behind those of the launch; None where that
    cannot be reported, or does not come to the same when it is started on its own."""
    if not os.path.isdir("/proc/self/fd"):
        return None  # there is nothing to look at
    with tempfile.TemporaryDirectory(prefix="keen-matrix-") as directory:
        env = {**environment, "HOME": directory, "TMPDIR": directory}
        own = [*launch.words[1:], *words]
        seen = _watch(launch.file, [launch.words[0], *own], env, directory)
        target = _target(seen, own) if seen is not None else None
        if seen is None or target is None or os.path.realpath(target) == os.path.realpath(launch.file):
            return None
        direct = _watch(target, [target, *own], {**env, **_set(seen, env)}, directory)
    if direct is None or (direct.status, direct.printed) != (seen.status, seen.printed):
        return None
    changes = _set(seen, env)
    gone: dict[str, str | None] = {
        name: None for name in env if name not in seen.environment and name not in OF_SHELLS
    }
    return Through(file=target, changes={**gone, **changes}, seconds=max(0.0, seen.seconds - direct.seconds))


class _ShimAnswer(NamedTuple):
    #: The words of the last program that was seen.
    argv: list[str]
    environment: Mapping[str, str]
    status: int
    printed: bytes
    seconds: float


def _set(seen: _ShimAnswer, env: Mapping[str, str]) -> dict[str, str]:
    return {
        name: value
        for name, value in sorted(seen.environment.items())
        if env.get(name) != value and name not in OF_SHELLS
    }


def _target(seen: _ShimAnswer, own: Sequence[str]) -> str | None:
    """Return the file that was started in the end: the script that follows its interpreter,
    or the program itself; None where it had other words than ours."""
    before = seen.argv[: len(seen.argv) - len(own)]
    if seen.argv[len(before) :] != list(own) or not before:
        return None
    file = before[-1]
    # only what the first line of the script says may precede it
    said = [os.path.basename(each) for each in interpreter_of(file)]
    if not {os.path.basename(each) for each in before[:-1]} <= {*said}:
        return None
    if not (os.path.isabs(file) and os.access(file, os.X_OK)) or is_shell_script(file):
        return None
    return file


def _watch(file: str, argv: Sequence[str], env: Mapping[str, str], directory: str) -> _ShimAnswer | None:
    """Launch a program in a directory, and return what was seen of it."""
    with tempfile.TemporaryFile(dir=directory) as out:
        try:
            process = Between(
                argv, file=file, directory=directory, env=env, stdout=out.fileno(), stderr=out.fileno()
            )
        except OSError:
            return None
        with process:
            began = time.monotonic()
            with contextlib.suppress(OSError, ValueError):
                # whatever it prints, it fills no disk
                resource.prlimit(process.pid, resource.RLIMIT_FSIZE, (MOST_ANSWER, MOST_ANSWER))
            argv_seen, environment = _looked_at(process, began + ASK_SECONDS)
            seconds = time.monotonic() - began
        out.seek(0)
        printed = out.read(MOST_ANSWER)
    status = process.returncode if process.returncode is not None else -signal.SIGKILL
    return _ShimAnswer(argv_seen, environment, status, printed, seconds)


def _looked_at(process: Between, due: float) -> tuple[list[str], Mapping[str, str]]:
    """Return the words and the environment of what a process ran last, before it ended or time was
    up."""
    words = variables = b""
    while time.monotonic() < due:
        try:
            with open(f"/proc/{process.pid}/cmdline", "rb") as file:
                now = file.read(MOST_ANSWER)
            if now and now != words:
                with open(f"/proc/{process.pid}/environ", "rb") as file:
                    words, variables = now, file.read(MOST_ANSWER)
        except OSError:
            break
        if process.wait(0.0) is not None:
            break
        time.sleep(LOOK_SECONDS)
    argv = os.fsdecode(words).split("\0")[:-1]
    pairs = (each.partition("=") for each in os.fsdecode(variables).split("\0") if "=" in each)
    return argv, {name: value for name, _, value in pairs}


__all__ = ["interpreter_of", "is_shell_script", "is_shim", "watched_start"]
