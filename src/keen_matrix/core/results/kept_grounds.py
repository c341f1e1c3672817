"""What was learnt of a program's accepted vectors, kept beside the journal: so that every command
derives the same vectors.

It is found again by a digest of the spec, the launch words and the files among them. A file of ours
holds what is known of one spec under its few latest digests.
"""

from __future__ import annotations

import contextlib
import os

from keen_matrix.core import structs
from keen_matrix.core.expressions import Scope
from keen_matrix.core.files import open_regular, replacing
from keen_matrix.core.model.identity import file_stem
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.results.history import program_digest
from keen_matrix.core.signature.grounds import Grounds

#: Digests that are kept of one spec: editions of its program.
MOST_KEPT = 8


class KeptGrounds(structs.Struct):
    """The file: the version of its form, and what is known by digest."""

    grounds_file: int
    known: dict[str, Grounds]


VERSION = 1
_DECODER = structs.json.Decoder(KeptGrounds)


def load_grounds(journal: str, spec: Spec) -> Grounds | None:
    """Return what is kept of a spec and a program; None when nothing is, or it cannot be read."""
    return _known(_path(journal, spec)).get(_key(spec))


def keep_grounds(journal: str, spec: Spec, grounds: Grounds) -> None:
    """Keep what is known. A directory that cannot be written in is no error: it is found out
    again."""
    path, key = _path(journal, spec), _key(spec)
    known = _known(path)
    known.pop(key, None)
    known[key] = grounds
    latest = dict(list(known.items())[-MOST_KEPT:])
    with contextlib.suppress(OSError):
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with replacing(path) as file:
            file.write(structs.json.encode(KeptGrounds(VERSION, latest)))


def _path(journal: str, spec: Spec) -> str:
    directory = os.path.dirname(os.path.abspath(journal))
    return os.path.join(directory, "grounds", f"{file_stem(spec.path)}.json")


def _key(spec: Spec) -> str:
    scope = Scope({"here": spec.here})
    words = [template.render(scope) for template in spec.program.launch]
    return f"{spec.digest}-{program_digest(words)}"


def _known(path: str) -> dict[str, Grounds]:
    try:
        with open_regular(path) as file:
            found = _DECODER.decode(file.read())
    except (OSError, structs.DecodeError, UnicodeDecodeError):
        return {}
    return found.known if found.grounds_file == VERSION else {}
