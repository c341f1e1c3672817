"""Names of files and directories: of such as may be anything, and of such as must exist."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import ClassVar

from keen_matrix.core.signature.values.base import LEGAL, TypeName, ValueReading, ValueType, doubtful, illegal

#: A name that is in no case's directory.
ABSENT_FILE = "no-such-file"


class Path(ValueType, frozen=True, kw_only=True):
    """Any name."""

    type: ClassVar[TypeName] = "path"

    def read(self, text: str) -> ValueReading:
        """Return whether a text is a legal value."""
        if text or self.habits.empty_values == "take":
            return LEGAL
        return doubtful("whether an empty path will do is open")

    def made_up(self) -> Iterable[str]:
        """Return a plain name, and one with spaces."""
        return ("output.txt", "a name with spaces.txt")

    def made_wrong(self) -> Iterable[str]:
        """Return nothing: every name will do."""
        return ()


class Existing(ValueType, frozen=True, kw_only=True):
    """What must be in the case's directory."""

    #: Files or directories that are in every case's directory.
    known: frozenset[str] = frozenset()
    #: Whether what is not among `known` certainly does not exist: so in a fresh directory.
    closed: bool = True

    def read(self, text: str) -> ValueReading:
        """Return whether a text is a legal value."""
        noun = "directory" if self.type == "dir" else "file"
        if not text:
            return illegal(f"an empty name is not a {noun}")
        if text in self.known:
            return LEGAL
        reaches_out = text == "-" or "/" in text or text.startswith("~")
        if reaches_out or not (self.closed or text == ABSENT_FILE):
            return doubtful(f"whether this {noun} exists is not known")
        return illegal(f"there is no such {noun} in the case's directory")


class ExistingFile(Existing, frozen=True, kw_only=True):
    """A file that must exist."""

    type: ClassVar[TypeName] = "file"
    #: Whether a directory will do as well.
    directories: bool = False

    def read(self, text: str) -> ValueReading:
        """Return whether a text is a legal value."""
        if text in (".", "..") and text not in self.known:
            return LEGAL if self.directories else illegal("it is a directory")
        return Existing.read(self, text)

    def made_up(self) -> Iterator[str]:
        """Yield the files that are there, and the working directory where directories will do."""
        yield from sorted(self.known)
        if self.directories:
            yield "."

    def made_wrong(self) -> Iterable[str]:
        """Return a file that is not there, a directory, and no name."""
        return (ABSENT_FILE, ".", "")


class ExistingDirectory(Existing, frozen=True, kw_only=True):
    """A directory that must exist."""

    type: ClassVar[TypeName] = "dir"

    def read(self, text: str) -> ValueReading:
        """Return whether a text is a legal value."""
        if text in (".", "./"):
            return LEGAL
        return Existing.read(self, text)

    def made_up(self) -> Iterator[str]:
        """Yield the directories that are there, and the working directory."""
        yield from sorted(self.known)
        yield "."

    def made_wrong(self) -> Iterable[str]:
        """Return a directory that is not there, and no name."""
        return (ABSENT_FILE, "")
