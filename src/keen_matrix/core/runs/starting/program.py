"""How the program of a run is started: through its launcher, or what that starts in the end."""

from __future__ import annotations

import os

from keen_matrix.core.launch.environment import base_environment
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.launch.through import Through, is_wrapped, started_directly, through
from keen_matrix.core.launch.warm.shims import is_shell_script, is_shim, watched_start
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.starting.preparing import vector_count
from keen_matrix.core.runs.starting.warmth import FEW
from keen_matrix.core.structs import Struct

LAUNCHER, RESOLVED = "launcher", "resolved"


class Started(Struct, frozen=True):
    """How a program is started, and what it would save to start it directly."""

    launch: ResolvedLaunch
    #: What its launcher starts, where that is not started directly.
    saves: Through | None = None


def started(spec: Spec, launch: ResolvedLaunch, watch: RunWatch, *, are_many: bool = False) -> Started:
    """Return how the cases of a spec are started, `are_many` where it is known that they are. What
    its launcher starts in the end is found out where that is asked for, or there are more than a
    few cases; it is started directly where that is asked for, or its environment is the same.

    A runtime is asked; the script of a version manager for any other program is watched, and so is
    any shell script where that is asked for: what is no manager's may do more than look for the
    program."""
    asked = spec.program.launch_through
    is_runtime = is_wrapped(launch)
    is_watched = is_shim(launch) or (asked == RESOLVED and is_shell_script(launch.file))
    if asked == LAUNCHER or not (is_runtime or is_watched):
        return Started(launch)
    if not asked and not are_many:
        count = vector_count(spec)
        if count is not None and count <= FEW:
            return Started(launch)
    name = launch.words[0]
    environment = base_environment(spec.program.env_from_caller, os.environ)
    found = through(launch, environment) if is_runtime else None
    help_words = spec.signature.help[:1] if spec.signature is not None else ()
    if found is None and is_watched and (help_words or asked):
        found = watched_start(launch, environment, help_words or ("--help",))
    if found is None:
        if asked:
            watch.remarks(f"launched through {name}: the program that it starts could not be found out")
        return Started(launch)
    if not asked and found.changes:
        return Started(launch, found)
    watch.remarks(f"{name} starts {found.file}, which is started directly")
    return Started(started_directly(launch, found))
