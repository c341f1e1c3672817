"""Watching what specs and their programs are made of: a process of its own, which tells on a pipe
which files have other content than before.

It is a process apart so that the one that starts the runs has one thread and little in memory: what
is in its memory would count into the peak of every program."""

from __future__ import annotations

import contextlib
import json
import os
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from itertools import chain

from keen_matrix.core.errors import KeenMatrixError
from keen_matrix.core.files import SUFFIX
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.model.lookups import stamp, watching
from keen_matrix.core.runs.watching.sources import (
    SourcePlaces,
    digests_of,
    file_digest,
    is_ignored,
    is_passed_over,
    is_source,
    places_of,
    too_large,
    written_beside,
)
from keen_matrix.core.spec.project import PROJECT_FILE, PYPROJECT
from keen_matrix.core.structs import Struct

#: Milliseconds between looks for changes, for which changes are gathered, and after which it is
#: looked whether anybody still listens.
STEP_MS, SETTLE_MS, LOOK_MS = 20, 60, 250


class Watched(Struct, frozen=True, kw_only=True):
    """What is watched: directories, down to the lowest, single files elsewhere, and the digests of
    all files."""

    directories: tuple[str, ...]
    files: tuple[str, ...]
    without: frozenset[str]
    digests: dict[str, str]
    remarks: tuple[str, ...]


def watched(paths: Sequence[str], without: Collection[str]) -> Watched:
    """Return what is to be watched for some specs; one that is wrong is watched for its mending."""
    directories: list[str] = []
    files: list[str] = []
    excluded: set[str] = set(map(os.path.realpath, without))
    digests: dict[str, str] = {}
    remarks: list[str] = []
    for path in paths:
        files.append(path)
        with watching() as looked, contextlib.suppress(KeenMatrixError, OSError):
            places = _places(path, without)
            directories += places.directories
            files += places.files
            digests |= digests_of(places)
            if places.too_large:
                remarks.append(too_large(places))
        files += looked
    single = [each for each in dict.fromkeys(map(os.path.realpath, files)) if each not in excluded]
    digests |= {each: file_digest(each) for each in single}
    return Watched(
        directories=tuple(dict.fromkeys(directories)),
        files=tuple(each for each in single if not _is_below(each, directories)),
        without=frozenset(excluded),
        digests=digests,
        remarks=tuple(remarks),
    )


def _places(path: str, without: Collection[str]) -> SourcePlaces:
    from keen_matrix.core.launch.launchers import resolved_launch
    from keen_matrix.core.spec.load import load_spec

    spec = load_spec(path)
    try:
        launch = resolved_launch(spec)
    except KeenMatrixError:  # a program that is not built yet, say
        launch = ResolvedLaunch("", ())
    return places_of(spec, launch, without)


def _is_below(path: str, directories: Collection[str]) -> bool:
    return any(path == each or path.startswith(each.rstrip("/") + "/") for each in directories)


def changed_files(seen: Watched, paths: Collection[str]) -> list[str]:
    """Return which of some paths have other content than before, and take note of it."""
    found, new = [], []
    for path in sorted(paths):
        if path in seen.without or not _is_looked_at(seen, path):
            continue
        digest = file_digest(path)
        if digest != seen.digests.get(path, ""):
            if path not in seen.digests:
                new.append(path)
            seen.digests[path] = digest
            # What the output of this very command goes to grows with each round, and would begin
            # another.
            if not written_beside(path):
                found.append(path)
    ignored = is_ignored(new)
    return [each for each in found if each not in ignored]


def _is_looked_at(seen: Watched, path: str) -> bool:
    name = os.path.basename(path)
    if path in seen.digests:
        return True
    if name.endswith(SUFFIX) or not is_source(name):
        return False
    top = next((each for each in seen.directories if _is_below(path, (each,))), None)
    if top is None:
        return False
    between = os.path.relpath(path, top).split(os.sep)[:-1]
    return not any(map(is_passed_over, between))


def tell_changes(
    paths: Sequence[str], without: Collection[str], tell: Callable[[Mapping[str, object]], bool]
) -> None:
    """Watch, and tell of changes until nobody listens any more: `{"changed": [paths]}`, once
    everything is watched `{"watching": number of files}`, and `{"remark": text}`. What belongs to
    the specs is found out again when one of them changes."""
    told: set[str] = set()
    before: dict[str, str] = {}
    while True:
        seen = watched(paths, without)
        for text in seen.remarks:
            if text not in told and not tell({"remark": text}):
                return
        told.update(seen.remarks)
        if not tell({"watching": len(seen.digests)}):
            return
        # what has changed while it was found out again
        late = [each for each, digest in seen.digests.items() if before.get(each, digest) != digest]
        for changed in chain([late], _changes(seen)):
            if not tell({"changed": changed}):
                return
            if any(each.endswith(OF_SPECS) for each in changed) and changed is not late:
                break
        else:
            return
        before = dict(seen.digests)


#: Ends of the names of files a change of which may change what is to be watched.
OF_SPECS = (SUFFIX, PROJECT_FILE, PYPROJECT, ".toml")


def _changes(seen: Watched) -> Iterator[list[str]]:
    """Yield which files have changed, as they do; an empty list now and then where nothing does."""
    from watchfiles import watch

    def is_wanted(_: object, path: str) -> bool:
        return path not in seen.without

    stamps = {each: stamp(each) for each in seen.files}
    is_first = True
    for changes in watch(
        *seen.directories,
        watch_filter=is_wanted,
        debounce=SETTLE_MS,
        step=STEP_MS,
        rust_timeout=LOOK_MS,
        yield_on_timeout=True,
        recursive=True,
        raise_interrupt=False,
        ignore_permission_denied=True,
    ):
        paths = {path for _, path in changes}
        # a directory that is watched for one file of it would be watched with all below it
        paths |= {each for each in seen.files if stamp(each) != stamps[each]}
        stamps |= {each: stamp(each) for each in paths & set(seen.files)}
        if is_first:  # what has changed before anything was watched
            paths |= set(seen.digests)
            is_first = False
        yield changed_files(seen, paths)


def serve_changes(paths: Sequence[str], without: Collection[str], pipe: int) -> None:
    """Watch, and write what is told to a pipe, a line of JSON each, until it is closed."""

    def tell(message: Mapping[str, object]) -> bool:
        try:
            os.write(pipe, json.dumps(message).encode() + b"\n")
        except OSError:
            return False
        return os.getppid() != 1

    tell_changes(paths, without, tell)
