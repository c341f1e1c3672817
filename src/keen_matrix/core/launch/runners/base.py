"""What every runner says of itself, and of the program that it starts."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

from keen_matrix.core.structs import Struct, replace


class TypedPlace(NamedTuple):
    """Where words were typed, and where what is built is put."""

    directory: str
    out: str
    #: Whether a build tool may be started that says what it would do.
    may_ask: bool = True

    def above(self, *names: str) -> str:
        """Return the nearest directory, from here upwards, with one of some files; empty where none
        has."""
        directory = os.path.abspath(self.directory)
        while True:
            if any(os.path.isfile(os.path.join(directory, name)) for name in names):
                return directory
            parent = os.path.dirname(directory)
            if parent == directory:
                return ""
            directory = parent

    def built(self, name: str) -> str:
        """Return where a built file of a name is put."""
        return os.path.join(self.out, name)


class FoundProgram(Struct, frozen=True, kw_only=True):
    """How a program is started."""

    #: The words that were typed to start it, and those that are its own.
    words: tuple[str, ...]
    given: tuple[str, ...] = ()
    #: What is started for each call, with files by absolute paths.
    launch: tuple[str, ...]
    #: The runner that it was typed through; empty for none.
    runner: str = ""
    #: A command that is run once before the first call, and the directory that it runs in.
    build: tuple[str, ...] = ()
    #: The directory of the project; empty where there is none.
    root: str = ""
    #: Variables that the program needs.
    env: tuple[tuple[str, str], ...] = ()
    #: Names of variables that are taken from the caller.
    from_caller: tuple[str, ...] = ()
    #: Whether the runner itself is started for each call, in the project's directory.
    is_through: bool = False
    #: Where the runner says the exit that it hides, as a pattern with the group `status`.
    hides: str = ""

    def after(self, lead: Sequence[str]) -> FoundProgram:
        """Return this with the words of wrappers before it."""
        return replace(self, words=(*lead, *self.words), launch=(*lead, *self.launch))

    def of_runner(self, runner: Runner) -> FoundProgram:
        """Return this with what is known of its runner."""
        return replace(
            self,
            runner=self.runner or runner.name,
            hides=runner.hides if self.is_through else "",
            from_caller=runner.from_caller if self.is_through else (),
        )


class Runner(Struct, frozen=True, kw_only=True):
    """A tool that builds or finds a program and starts it."""

    #: How people call it: `go run`.
    name: str
    #: The file name of its command.
    names: re.Pattern[str]
    #: Returns how the words start a program; None where they do something else.
    find: Callable[[Sequence[str], TypedPlace], FoundProgram | None]
    #: What it does for the reader of a page, and how the program is started directly.
    about: str
    direct: str
    #: Variables that it needs of the caller.
    from_caller: tuple[str, ...] = ()
    #: Where it says the exit that it hides, as a pattern with the group `status`.
    hides: str = ""


def absolute_words(words: Sequence[str], directory: str) -> tuple[str, ...]:
    """Return words with those that name a file by its absolute path. The first one names a program:
    without a slash it is looked for in PATH, and no file of the directory."""
    return tuple(absolute(word, directory) if at or os.sep in word else word for at, word in enumerate(words))


def absolute(word: str, directory: str) -> str:
    """Return the absolute path of a word that names a file or directory there; any other as it
    is."""
    path = os.path.join(directory, word)
    is_path = word and (os.path.isfile(path) or (os.path.isdir(path) and (os.sep in word or word == ".")))
    return os.path.abspath(path) if is_path else word


def operand_at(words: Sequence[str], start: int, valued: frozenset[str], glued: str = "") -> int:
    """Return the place of the first word, from a start, that is no option and no value of one.
    `valued` are the options whose value is the next word; `glued` are letters of those."""
    at = start
    while at < len(words):
        word = words[at]
        if word == "--":
            return at
        if not word.startswith("-") or word == "-":
            return at
        takes_next = word in valued or (bool(glued) and re.fullmatch(f"-[{glued}]", word) is not None)
        at += 2 if takes_next else 1
    return len(words)


def through_runner(words: Sequence[str], given: Sequence[str], root: str, *more: str) -> FoundProgram:
    """Return how a program is started by its runner for each call, in the directory of the
    project: `more` are words that the runner needs before the program's own."""
    launch = ("sh", "-c", 'cd "$0" && exec "$@"', root, *words, *more)
    return FoundProgram(words=tuple(words), given=tuple(given), launch=launch, root=root, is_through=True)


def run_in_directory(
    words: Sequence[str], directory: str, spec_directory: str | None = None
) -> tuple[str, ...]:
    """Return a command that runs in a directory."""
    if spec_directory is not None and os.path.realpath(spec_directory) == os.path.realpath(directory):
        return tuple(words)
    return ("sh", "-c", 'cd "$0" && exec "$@"', directory, *words)


#: Where what a runner builds is put, from the directory of the spec.
BUILT = os.path.join(".keen-matrix", "build")
#: Variables that tools need which look things up at home or in the network.
HOME_OF_TOOLS: tuple[str, ...] = ("PATH", "HOME", "USER", "LANG")
#: Names as TOML has them → values, for rows that read a file.
Table = Mapping[str, object]
