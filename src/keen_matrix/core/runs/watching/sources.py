"""The files that a program is made of, as far as it can be known: what a change is looked for in.

These are the files among the launch words, and those in the directories of the spec and of those
files, or instead of these directories what [program] sources names. What runs write is none of
them; libraries elsewhere, the network and the clock cannot be known."""

from __future__ import annotations

import contextlib
import glob
import os
import re
import shutil
import subprocess
from collections.abc import Collection, Iterator, Mapping, Sequence
from hashlib import blake2b

from keen_matrix.core.expressions import Scope, Template
from keen_matrix.core.files import SUFFIX
from keen_matrix.core.launch.launchers import ResolvedLaunch
from keen_matrix.core.model.spec import Spec
from keen_matrix.core.notation.nodes import Characters, Part
from keen_matrix.core.spec.project import PROJECT_FILE, PYPROJECT
from keen_matrix.core.structs import Struct

#: Files of a directory beyond which only those are looked at that are named.
MOST_FILES = 5_000
#: Bytes up to which a file, and all files together, are compared by content; others are compared by
#: size and time, since every run pays for it.
READ_MOST, READ_IN_ALL = 4 << 20, 64 << 20
#: Time in which git says what it ignores.
GIT_SECONDS = 5.0
NOT_OURS = ("__pycache__", "node_modules")
#: Directories of the system: a program there is known by its own file.
SYSTEM = ("/bin", "/sbin", "/usr", "/lib", "/lib64", "/opt/homebrew", "/nix/store")
_VIRTUAL = "pyvenv.cfg"


class SourcePlaces(Struct, frozen=True):
    """Where the files of a program are."""

    #: Directories whose files, down to the lowest, belong to it.
    directories: tuple[str, ...]
    #: Single files that do.
    files: tuple[str, ...]
    #: Files in them that do not: tables whose rows are cases, reports that a run writes.
    without: frozenset[str] = frozenset()
    #: Directories that have too many files to be looked at.
    too_large: tuple[str, ...] = ()


def places_of(spec: Spec, launch: ResolvedLaunch, without: Collection[str] = ()) -> SourcePlaces:
    """Return where the files of a spec's program are; `without` are files that a run writes."""
    scope = Scope({"here": spec.here})
    lines = [spec.program.launch, *spec.program.launchers.values()]
    if spec.reference is not None:
        lines.append(spec.reference.launch)
    words = [each.render(scope) for line in lines for each in line]
    named = [launch.file, *launch.words, *words, *spec.program.sources]
    found = dict.fromkeys(
        os.path.realpath(each) for each in named if os.path.isabs(each) and os.path.exists(each)
    )
    files = [each for each in found if os.path.isfile(each)]
    directories = [each for each in found if os.path.isdir(each)]
    if not spec.program.sources:
        directories.append(spec.here)
        directories += [
            os.path.dirname(each)
            for each in files
            if not _is_of_system(each) and os.path.dirname(each) != os.path.realpath(os.sep)
        ]
    if spec.program.oracle:
        files.append(spec.program.oracle)
    files += named_beside(spec)
    whole = _outermost(dict.fromkeys(map(os.path.realpath, directories)))
    large = tuple(each for each in whole if _is_large(each))
    return SourcePlaces(
        directories=tuple(each for each in whole if each not in large),
        files=tuple(dict.fromkeys(files)),
        without=frozenset((*spec.parts.tables, *map(os.path.abspath, without))),
        too_large=large,
    )


def named_beside(spec: Spec) -> list[str]:
    """Return the files that a spec itself names: what is compared with, fed in, or copied. Where a
    name has fields, those that it can become as far as they are there."""
    templates: list[Template] = []
    rules = [*spec.rules, *spec.help_rules]
    if spec.refusal is not None:
        rules += [spec.refusal.general, *spec.refusal.kinds.values()]
    for matrix in spec.matrices:
        rules += matrix.rules
        for step in matrix.steps:
            rules += step.rules
            around = step.surroundings
            templates += [put.copy for _, put in around.files if put.copy is not None]
            if around.stdin is not None and around.stdin.file is not None:
                templates.append(around.stdin.file)
    for rule in rules:
        for aspect in rule.aspects.values():
            forms = getattr(aspect, "forms", ())
            templates += [each.file for each in forms if getattr(each, "file", None) is not None]
    found: dict[str, None] = {}
    for template in templates:
        parts = [_pattern_of(each, spec.here) for each in template.parts]
        whole = os.path.join(glob.escape(spec.here), "".join(parts))
        found |= dict.fromkeys(map(os.path.realpath, glob.glob(whole)[:MOST_FILES]))
    return [each for each in found if os.path.isfile(each)]


def _pattern_of(part: Part, here: str) -> str:
    """Return a part of the name of a file as a pattern for the names that it can become."""
    if isinstance(part, Characters):
        return glob.escape(part.text)
    return glob.escape(here) if part.source.strip() == "here" else "*"


def is_ignored(paths: Collection[str]) -> frozenset[str]:
    """Return those of some files that version control ignores: what a build or a run makes, mostly.
    Without git, or outside of its trees, that is none."""
    git = shutil.which("git")
    by_directory: dict[str, list[str]] = {}
    for path in paths:
        by_directory.setdefault(os.path.dirname(path), []).append(path)
    found: set[str] = set()
    for directory, inside in by_directory.items() if git else ():
        asked = "\0".join(inside).encode("utf-8", "surrogateescape")
        with contextlib.suppress(OSError, subprocess.SubprocessError):
            done = subprocess.run(
                [str(git), "-C", directory, "check-ignore", "-z", "--stdin"],
                input=asked,
                capture_output=True,
                timeout=GIT_SECONDS,
                check=False,
            )
            found.update(filter(None, done.stdout.decode("utf-8", "surrogateescape").split("\0")))
    return frozenset(found)


def written_beside(path: str) -> bool:
    """Tell whether this process, or another of its session that it has not started, has a file open
    to write to it: `run --watch > watch.log`, `| tee watch.log`. Known on Linux only (proc(5))."""
    with contextlib.suppress(OSError):
        wanted = os.stat(path)
        session = os.getsid(0)
        for pid in filter(str.isdecimal, os.listdir("/proc")):
            with contextlib.suppress(OSError, ValueError):
                if os.getsid(int(pid)) != session:
                    continue
                for fd in os.listdir(f"/proc/{pid}/fd"):
                    there = os.stat(f"/proc/{pid}/fd/{fd}")
                    if (there.st_dev, there.st_ino) == (wanted.st_dev, wanted.st_ino):
                        with open(f"/proc/{pid}/fdinfo/{fd}", encoding="ascii") as info:
                            flags = int(re.search(r"flags:\s*(\d+)", info.read())[1], 8)  # type: ignore[index]
                        if flags & (os.O_WRONLY | os.O_RDWR):
                            return True
    return False


def _is_of_system(path: str) -> bool:
    if path.startswith(tuple(f"{each}/" for each in SYSTEM)) and not path.startswith("/usr/src/"):
        return True
    # an interpreter in a virtual environment, and what was installed beside it
    return os.path.exists(os.path.join(os.path.dirname(os.path.dirname(path)), _VIRTUAL))


def _outermost(directories: Collection[str]) -> list[str]:
    return [
        each
        for each in directories
        if not any(each != other and each.startswith(other.rstrip("/") + "/") for other in directories)
    ]


def _is_large(directory: str) -> bool:
    return any(number >= MOST_FILES for number, _ in enumerate(files_below(directory)))


def files_below(directory: str) -> Iterator[str]:
    """Yield the files of a directory, down to the lowest, in a fixed order: not those of hidden
    directories, of libraries that are installed in it, or of specs."""
    for root, directories, names in os.walk(directory):
        directories[:] = sorted(
            each
            for each in directories
            if not is_passed_over(each) and not os.path.exists(os.path.join(root, each, _VIRTUAL))
        )
        for name in sorted(names):
            if is_source(name):
                yield os.path.join(root, name)


def is_passed_over(directory: str) -> bool:
    """Tell whether what is in a directory of that name is none of a program's own."""
    return directory.startswith(".") or directory in NOT_OURS


def is_source(name: str) -> bool:
    """Tell whether a file of that name can be a program's: the text of a spec is looked at by
    itself."""
    return not (
        name.endswith((SUFFIX, ".pyc", "~", ".swp"))
        or name in (PROJECT_FILE, PYPROJECT)
        or name.startswith((".", "#"))
    )


def too_large(places: SourcePlaces) -> str:
    """Return the remark on directories that have too many files."""
    directories = " and ".join(places.too_large)
    return (
        f"{directories} has more than {MOST_FILES:,} files, so only those that the launch words "
        'name are watched; name the program\'s own files: sources = ["src"]'
    )


def digests_of(places: SourcePlaces) -> dict[str, str]:
    """Return a digest of each file of a program."""
    paths = [*places.files, *(each for directory in places.directories for each in files_below(directory))]
    wanted = (each for each in dict.fromkeys(paths) if each not in places.without)
    # Those that words of the launch name count, whatever version control says of them.
    below = dict.fromkeys(each for directory in places.directories for each in files_below(directory))
    ignored = is_ignored([each for each in below if each not in places.files])
    wanted = (each for each in wanted if each not in ignored)
    found: dict[str, str] = {}
    left = READ_IN_ALL
    for each in wanted:
        digest = file_digest(each, min(READ_MOST, left))
        if digest:
            found[each] = digest
            left -= min(_size_of(each), left)
    return found


def _size_of(path: str) -> int:
    try:
        return os.stat(path).st_size
    except OSError:
        return 0


def file_digest(path: str, most: int = READ_MOST) -> str:
    """Return a digest of a file's content, or of its size and time where it has more than `most`
    bytes; nothing of what is no file, or cannot be read."""
    with contextlib.suppress(OSError, ValueError):
        info = os.stat(path)
        if not os.path.isfile(path):
            return ""
        if info.st_size > most:
            return f"{info.st_size}-{info.st_mtime_ns}"
        with open(path, "rb") as file:
            # no more than it had: one that grows while it is read would be read for ever
            return blake2b(file.read(info.st_size), digest_size=12).hexdigest()
    return ""


def digest_of_all(digests: Mapping[str, str], more: Sequence[str]) -> str:
    """Return one digest of many files, and of some texts."""
    digest = blake2b(digest_size=12)
    for each in (*more, *(f"{path}\0{found}" for path, found in digests.items())):
        digest.update(each.encode("utf-8", "surrogateescape") + b"\0\0")
    return digest.hexdigest()
