"""What identifies a case everywhere: the spec that it belongs to, and its id there."""

from __future__ import annotations

import os
import re
from hashlib import blake2b
from typing import NamedTuple

#: Characters of a name that a file name begins with: file systems take 255 bytes (POSIX,
#: NAME_MAX).
MOST_CHARACTERS = 80
_SAFE = re.compile(r"[a-z0-9_]+( [a-z0-9_]+)*")


class CaseKey(NamedTuple):
    """The identity of a case. Two specs may have the same matrix, and then cases of equal ids."""

    #: The absolute path of the spec.
    spec: str
    id: str

    @classmethod
    def of(cls, spec: object, id: str) -> CaseKey:
        """Return the key of a case from its spec's path as a journal has it: from the directory in
        which the run was called."""
        return cls(os.path.abspath(str(spec)), id)


def file_stem(name: str) -> str:
    """Return a file name, without a suffix, that stands for a name and for no other one.

    A short name of lower-case words has a dash for each space; any other gets a digest at its end,
    so that "a b", "a-b" and "a/b" differ, and "Fares" and "fares" also where a file system takes
    them for one.
    """
    if _SAFE.fullmatch(name) and len(name) <= MOST_CHARACTERS:
        return name.replace(" ", "-")
    plain = re.sub(r"[^a-z0-9_.-]+", "-", name.lower()).strip("-.")[:MOST_CHARACTERS] or "matrix"
    digest = blake2b(name.encode("utf-8", "surrogatepass"), digest_size=4).hexdigest()
    return f"{plain}-{digest}"
