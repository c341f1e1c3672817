"""Specs that are kept between calls, so that an unchanged one is not validated again: that takes
most of a small run's start.

A kept spec stands for the spec's text, for every file that reading it looked at, and for this very
build of Keen Matrix. When one of them is another now, the spec is read again. They are kept in the
user's own cache directory and never beside the spec: they are Python pickles, and reading one that
somebody else has written would run what that somebody likes.
"""

from __future__ import annotations

import contextlib
import datetime
import functools
import os
import pickle
import sys
import tempfile
import time
from collections.abc import Mapping
from hashlib import blake2b
from typing import NamedTuple

from keen_matrix.core.errors import Problem, RunFault
from keen_matrix.core.files import cache_directory, drop_oldest, open_regular, read_regular
from keen_matrix.core.model.lookups import Stamp, stamp, watching
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.oracle import named_functions, oracle_names
from keen_matrix.core.structs import replace
from keen_matrix.core.version import VERSION

#: Size up to which a spec, or what it came to, is kept.
MOST_BYTES = 4 << 20
#: Specs that are kept; beyond, those go that were kept first.
MOST_KEPT = 200
#: Age from which a file's stamp tells of every change: file times move in steps.
SETTLED_NS = 2_000_000_000
SUFFIX, LINTED = ".spec", ".linted"


class KeptSpec(NamedTuple):
    """A spec and what it stands for."""

    looked: Mapping[str, Stamp]
    #: The names of the functions of its oracle; they themselves are taken from the oracle file
    #: each time.
    oracle: frozenset[str]
    #: Whether the signature calls them.
    judged_by_oracle: bool
    spec: Spec


def kept_spec(path: str) -> Spec:
    """Return the compiled spec of a file, at once when it was read before and nothing has changed
    since.

    Raises SpecFault with every problem found, as load_spec does.
    """
    place = _place_of(path)
    found = _read(place) if place else None
    if found is not None:
        return found
    from keen_matrix.core.spec.load import load_spec

    began = time.time_ns()
    with watching() as looked:
        spec = load_spec(path)
    if place:
        _keep(place, spec, {each: stamp(each) for each in looked}, began)
    return spec


class Linted(NamedTuple):
    """What a careful reading of a spec found, and what that stands on."""

    looked: Mapping[str, Stamp]
    problems: tuple[Problem, ...]


def kept_problems(path: str) -> list[Problem]:
    """Return all problems of a spec, thought through, at once when it was read so before and
    nothing has changed since."""
    # By the day, since a known difference has one from which it counts.
    place = _place_of(path, LINTED, datetime.date.today().isoformat())
    found = _unpickled(place) if place else None
    if isinstance(found, Linted) and _stands(found.looked):
        return list(found.problems)
    from keen_matrix.core.spec.load import read_spec

    began = time.time_ns()
    with watching() as looked:
        _, problems = read_spec(path, deep=True)
    stamps = {each: stamp(each) for each in looked}
    if place and not _may_change_unseen(stamps, began):
        _write(place, pickle.dumps(Linted(stamps, tuple(problems)), pickle.HIGHEST_PROTOCOL))
    return problems


def directory() -> str:
    """Return the directory in which specs are kept."""
    return cache_directory("specs")


def _place_of(path: str, suffix: str = SUFFIX, also: str = "") -> str:
    """Return where what comes of a file is kept; empty when it cannot be."""
    try:
        # To digest it would take about as long as to read it.
        if os.path.getsize(path) > MOST_BYTES:
            return ""
        text = read_regular(path, MOST_BYTES)
    except (OSError, ValueError):
        return ""
    digest = blake2b(text, digest_size=16)
    # Its path too: names in messages, and files beside it, follow from where it stands.
    for each in (path, os.path.realpath(path), VERSION, sys.version, _build(), also):
        digest.update(b"\0" + each.encode("utf-8", "surrogateescape"))
    return os.path.join(directory(), digest.hexdigest() + suffix)


@functools.cache  # this process has loaded one build, whatever its files become
def _build() -> str:
    """Return what tells this build of the core from any other with the same version: the stamps of
    its files."""
    # While the product itself is worked on its version stays the same, and what it makes of a spec
    # does not.
    top = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
    stamps = []
    for place, _, names in os.walk(top):
        stamps += [(name, stamp(os.path.join(place, name))) for name in sorted(names) if name.endswith(".py")]
    return repr(stamps)


def _is_ours(path: str) -> bool:
    """Tell whether nobody else could have written a file or directory."""
    info = os.stat(path)
    return info.st_uid == os.getuid() and not info.st_mode & 0o022


def _unpickled(place: str) -> object:
    """Return what is kept at a place; None where there is nothing, or nothing of ours."""
    try:
        # To read a pickle is to run it, so one that another user could have written is none of
        # ours.
        if not (_is_ours(os.path.dirname(place)) and _is_ours(place)):
            return None
        with open_regular(place) as file:
            kept: object = pickle.load(file)
            return kept
    except Exception:  # a torn or foreign file can raise anything while it is unpickled
        return None


def _stands(looked: Mapping[str, Stamp]) -> bool:
    """Tell whether every file that was looked at is as it was."""
    return all(stamp(path) == seen for path, seen in looked.items())


def _may_change_unseen(looked: Mapping[str, Stamp], began: int) -> bool:
    """Tell whether a file is so new that its stamp would not tell of a change."""
    return any(seen is not None and max(seen[:2]) > began - SETTLED_NS for seen in looked.values())


def _read(place: str) -> Spec | None:
    """Return the spec that is kept at a place, if it still stands."""
    kept = _unpickled(place)
    try:
        if not isinstance(kept, KeptSpec) or not _stands(kept.looked):
            return None
        # The functions themselves cannot be pickled, and their file may have changed; only the
        # names are part of what was compiled.
        names = oracle_names(kept.spec.program.oracle).names
    except (OSError, RunFault):
        return None
    if names != kept.oracle:
        return None
    if kept.judged_by_oracle and kept.spec.signature is not None:
        functions = named_functions(kept.spec.program.oracle)
        return replace(kept.spec, signature=replace(kept.spec.signature, functions=functions))
    return kept.spec


def _keep(place: str, spec: Spec, looked: Mapping[str, Stamp], began: int) -> None:
    """Keep a spec; when it cannot be kept it is read again the next time."""
    if _may_change_unseen(looked, began):
        return
    signature = spec.signature
    judged = signature is not None and bool(signature.functions)
    # Functions come from the user's own file each time.
    bare = (
        replace(spec, signature=replace(signature, functions={}))
        if judged and signature is not None
        else spec
    )
    try:
        names = oracle_names(spec.program.oracle).names
        body = pickle.dumps(KeptSpec(looked, names, judged, bare), protocol=pickle.HIGHEST_PROTOCOL)
    except (OSError, RunFault, pickle.PicklingError, TypeError, AttributeError):
        return
    _write(place, body)


def _write(place: str, body: bytes) -> None:
    """Put something where it is kept, if it is small enough and can be."""
    if len(body) > MOST_BYTES:
        return
    with contextlib.suppress(OSError):
        where = os.path.dirname(place)
        os.makedirs(where, mode=0o700, exist_ok=True)
        drop_oldest(where, MOST_KEPT)
        with tempfile.NamedTemporaryFile(dir=where, delete=False) as file:
            file.write(body)
        # Whole or not at all: another call may read it at this moment.
        os.replace(file.name, place)
