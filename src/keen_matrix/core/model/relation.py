"""How the launches of one case must compare."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, TypeAlias, get_args

from keen_matrix.core.structs import Struct

RelationName: TypeAlias = Literal[
    "alike", "differs", "renamed", "reference", "reference-accepted", "unheard", "unmoved"
]
RELATIONS: tuple[RelationName, ...] = get_args(RelationName)
#: What the aspect of each is called.
ASPECT_OF: Mapping[RelationName, str] = {
    "alike": "alike",
    "differs": "effect",
    "renamed": "renamed",
    "reference": "reference",
    "reference-accepted": "reference",
    "unheard": "output",
    "unmoved": "consent",
}
#: The aspects of two launches that are compared unless a spec names some.
COMPARED = ("exit", "stdout", "stderr", "files")


class Relation(Struct, frozen=True, kw_only=True):
    """How the launches of one case must compare.

    `alike`: every launch does what the first did; `differs`: of launches in pairs, at least one
    pair differs; `renamed`: messages show the name that the program was started by; `reference`:
    the program gives the same result as the reference, `reference-accepted`: where that exits 0;
    `unheard`: where the first launch printed something, one whose output cannot be written says so;
    `unmoved`: no file is changed."""

    name: RelationName
    #: Whether each launch gets a directory of its own.
    fresh: tuple[bool, ...]
    #: How each launch is started; empty: as usual. None at all: all as usual.
    launchers: tuple[str, ...] = ()
    aspects: tuple[str, ...] = COMPARED

    #: Whether the order of lines in the streams does not matter.
    any_order: bool = False
    #: How far numbers in the streams may be off: absolute, relative.
    tolerance: tuple[float, float] = (0.0, 0.0)

    def launcher(self, number: int) -> str:
        """Return how the launch of a number, counted from 0, is started; empty: as usual."""
        if self.name == "renamed":
            return "renamed"
        return self.launchers[number] if self.launchers else ""
