"""What settling finds: a sentence, the vectors that show it, and the edits that state it."""

from __future__ import annotations

from typing import Literal, TypeAlias

from keen_matrix.core.experiments.edits import Edit
from keen_matrix.core.signature.grounds import Words
from keen_matrix.core.structs import Struct

Weight: TypeAlias = Literal["change", "note", "defect"]


class Shown(Struct, frozen=True):
    """A vector, and what the program did with it, in a line."""

    words: Words
    came: str


class Finding(Struct, frozen=True, kw_only=True):
    """Something that was found out."""

    #: What it is, in a sentence without its stop.
    text: str
    shown: tuple[Shown, ...] = ()
    #: What states it in the spec; none where it is no matter of the spec.
    edits: tuple[Edit, ...] = ()
    #: Whether it looks like a fault of the program, which no spec should take for a promise.
    defect: bool = False

    @property
    def weight(self) -> Weight:
        """Whether it changes the spec, is only a note, or is a likely bug of the program."""
        if self.defect:
            return "defect"
        return "change" if self.edits else "note"
