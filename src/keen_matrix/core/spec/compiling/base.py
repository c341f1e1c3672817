"""What every part of a document needs to be compiled: its places, its rules, its masks."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Unpack

from keen_matrix.core.errors import Problem
from keen_matrix.core.expect.masks import Mask
from keen_matrix.core.expressions import Expression
from keen_matrix.core.model.spec import Rule
from keen_matrix.core.spec.compiling.tables import compiled_aspects
from keen_matrix.core.spec.document.expectations import Expectations, MaskTable
from keen_matrix.core.spec.document.whole import SpecDocument
from keen_matrix.core.spec.keys import KeyPath
from keen_matrix.core.spec.source import Placing, Source


class Compiling:
    """A validated document that is being compiled, and what can only be seen while doing so."""

    def __init__(self, source: Source, document: SpecDocument) -> None:
        self.source, self.document = source, document
        self.problems: list[Problem] = []

    def place(self, *path: str | int) -> str:
        """Return where a key stands, `file:line`."""
        return self.source.where(path)

    def problem(self, path: KeyPath, message: str, **more: Unpack[Placing]) -> None:
        """Add a problem at a place."""
        self.problems.append(self.source.problem(path, message, **more))

    def rule(self, table: Expectations, path: KeyPath, promise: Rule | None = None) -> Rule:
        """Return one rule with the line of every aspect it names. `promise` is what a [refusal]
        changes."""
        aspects = dict(compiled_aspects(table))
        if promise is not None:
            from keen_matrix.core.expect.refusals import blame_aspects
            from keen_matrix.core.spec.document.signature import RefusalKind

            if isinstance(table, RefusalKind):
                aspects |= dict(blame_aspects(table, promise))
        when = getattr(table, "when", None)
        return Rule(
            when=Expression(when) if when else None,
            aspects=aspects,
            origins={name: self.place(*path, *_aspect_path(name)) for name in aspects},
        )

    def masks(self, tables: Sequence[MaskTable], path: KeyPath) -> tuple[Mask, ...]:
        """Return masks with their places."""
        return tuple(
            Mask(each.matches, each.as_, tuple(each.in_), self.place(*path, number))
            for number, each in enumerate(tables)
        )


def _aspect_path(name: str) -> KeyPath:
    head, dot, rest = name.partition(".")
    return (head, rest) if dot else (head,)
