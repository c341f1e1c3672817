"""The signature of a program: what it says it accepts, and the judgement of vectors by it."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache

from keen_matrix.core.expressions import Expression
from keen_matrix.core.signature.judging.binding import identifier
from keen_matrix.core.signature.judging.findings import Judgement
from keen_matrix.core.signature.judging.judge import judge
from keen_matrix.core.signature.model import SignatureParts
from keen_matrix.core.signature.readers import READERS
from keen_matrix.core.signature.values import Existing
from keen_matrix.core.structs import replace

#: Sets of files for which a signature is kept.
MOST_DIRECTORIES = 100
#: Judgements that are kept of a signature.
MOST_KNOWN = 2_000


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Signature(SignatureParts):
    """What a program says it accepts. Make one with `Signature.from_synopsis`."""

    #: Judgements that were made: families ask for the same vectors again and again.
    _known: dict[tuple[str, ...], Judgement] = field(init=False, default_factory=dict, repr=False)
    _in_directories: dict[tuple[frozenset[str], bool], Signature] = field(
        init=False, default_factory=dict, repr=False
    )

    def judge(self, words: Sequence[str], files: Iterable[str] | None = None) -> Judgement:
        """Return what a conforming program does with a vector: accepted, refused (with every kind
        and culprit), or unspecified.

        `files` are the names that exist where the program runs, those of directories with a slash
        at the end; without them, those that the types know.

        Follows the habits of the reader, or those of the style (the POSIX Utility Syntax
        Guidelines, XBD 12.2, and the GNU long-option conventions) with the switches that are set.
        What is open is followed in all its readings: where they agree, it is settled. Takes time in
        proportion to words, options and readings.
        """
        if files is not None:
            return self.with_files(frozenset(files)).judge(words)
        key = tuple(words)
        found = self._known.get(key)
        if found is None:
            if len(self._known) >= MOST_KNOWN:
                self._known.clear()
            found = self._known[key] = judge(self, key)
        return found

    def with_files(self, files: frozenset[str], *, are_all: bool = True) -> Signature:
        """Return the signature for a directory in which these names exist, and no others where they
        `are_all`."""
        key = files, are_all
        found = self._in_directories.get(key)
        if found is None:
            directories = {name.rstrip("/") for name in files if name.endswith("/")}
            directories |= {os.path.dirname(name) for name in files} - {""}
            known = {"dir": frozenset(directories), "file": frozenset(files - directories)}
            values = {
                name: replace(value, known=known[value.type], closed=are_all)
                if isinstance(value, Existing)
                else value
                for name, value in self.values.items()
            }
            if len(self._in_directories) >= MOST_DIRECTORIES:
                self._in_directories.clear()
            found = self._in_directories[key] = replace(self, values=values)
        return found

    def readers(self, words: Sequence[str]) -> Mapping[str, str]:
        """Return what each reader that is known would do with a vector: its name and the status."""
        found: dict[str, str] = {}
        for name, row in READERS.items():
            values = {each: value.read_by(row.habits) for each, value in self.values.items()}
            under = replace(self, reader=name, habits=row.habits, values=values, help=self.help or row.help)
            found[name] = under.judge(words).status
        return found


def unequal_condition(names: tuple[str, str]) -> str:
    """Return the condition that the values of two NAMEs differ, as a spec writes it."""
    first, second = map(identifier, names)
    return f"{first} != {second}"


@lru_cache(maxsize=16)
def with_unequal(signature: Signature, pairs: tuple[tuple[str, str], ...]) -> Signature:
    """Return a signature by which the values of pairs of NAMEs have to differ."""
    if not pairs:
        return signature
    conditions = tuple(Expression(unequal_condition(each)) for each in pairs)
    return replace(signature, only_if=(*signature.only_if, *conditions))
