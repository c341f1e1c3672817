"""What `places` found, kept beside the journal for the commands that tell of it too."""

from __future__ import annotations

import os

from keen_matrix.core import structs
from keen_matrix.core.files import open_regular, replacing
from keen_matrix.core.structs import Struct

FILE = "places.json"
VERSION = 1


class KeptPlace(Struct, frozen=True, kw_only=True):
    """A suspicious line."""

    file: str
    line: int
    score: float


class KeptPlaces(Struct, frozen=True, kw_only=True):
    """What was found of one spec."""

    spec_digest: str
    #: Of the run that it is about.
    started: str
    launched: int
    #: Lines of the program that some vector runs.
    reached: int
    #: Lines of the files that it runs that hold something to run.
    lines: int
    #: `FILE:LINE` of the parts that none runs, with what is there.
    unreached: list[str]
    #: The most suspicious first.
    places: list[KeptPlace]
    #: Id of a case that failed → the most suspicious line that it runs.
    by_case: dict[str, KeptPlace]


class _KeptPlaces(Struct, frozen=True):
    version: int
    specs: dict[str, KeptPlaces]


def path_of(journal: str) -> str:
    """Return where what was found of a journal's run is kept."""
    return os.path.join(os.path.dirname(os.path.abspath(journal)), FILE)


def keep_places(journal: str, spec: str, found: KeptPlaces) -> None:
    """Keep what was found of a spec, by its absolute path."""
    whole = _read(journal)
    specs = {**whole.specs, os.path.abspath(spec): found}
    with replacing(path_of(journal)) as file:
        file.write(structs.json.encode(_KeptPlaces(VERSION, specs)))


def kept_places(journal: str, spec: str, started: str) -> KeptPlaces | None:
    """Return what was found of a spec in the run of a journal that began then; None where nothing
    was."""
    found = _read(journal).specs.get(os.path.abspath(spec))
    return found if found is not None and found.started == started else None


def _read(journal: str) -> _KeptPlaces:
    try:
        with open_regular(path_of(journal)) as file:
            found = structs.json.decode(file.read(), type=_KeptPlaces)
    except (OSError, structs.DecodeError, structs.ValidationError):
        return _KeptPlaces(VERSION, {})
    return found if found.version == VERSION else _KeptPlaces(VERSION, {})
