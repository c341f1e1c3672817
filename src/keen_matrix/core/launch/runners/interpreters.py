"""Interpreters: which of their words start a program, and which are the program's own.

Options are those of each interpreter's manual: python3(1), node(1), perlrun(1), ruby(1), php(1),
sh(1) in POSIX, gawk(1), tclsh(1), java(1).
"""

from __future__ import annotations

import os
import re
from collections.abc import Mapping, Sequence

from keen_matrix.core.launch.runners.base import FoundProgram, TypedPlace, absolute, operand_at
from keen_matrix.core.structs import Struct


class InterpreterKind(Struct, frozen=True, kw_only=True):
    """How an interpreter reads its own words."""

    #: Options whose value is the next word.
    valued: frozenset[str] = frozenset()
    #: Options, or ends of bundles (`-lne`), whose value is the program's text; then `--` is needed
    #: before words that begin with a dash, where `ends_options`.
    texts: frozenset[str] = frozenset()
    text_letters: str = ""
    ends_options: bool = False
    #: Options whose value is a module: nothing that names the program comes after it.
    modules: frozenset[str] = frozenset()
    #: Options that name the program's file.
    files: frozenset[str] = frozenset()
    #: Options that take directories which are made absolute: `-I lib`, `-Ilib`.
    paths: frozenset[str] = frozenset()
    #: Words of a subcommand before the file: `deno run`.
    commands: frozenset[str] = frozenset()
    #: Whether the word after a text is the name of the program, `$0`.
    names_itself: bool = False


_PYTHON = InterpreterKind(
    valued=frozenset({"-W", "-X", "--check-hash-based-pycs"}),
    texts=frozenset({"-c"}),
    modules=frozenset({"-m"}),
)
_NODE = InterpreterKind(
    valued=frozenset(
        {"-r", "--require", "--import", "--loader", "--experimental-loader", "-C", "--conditions"}
    ),
    texts=frozenset({"-e", "--eval", "-p", "--print", "-pe"}),
    ends_options=True,
)
_PERL = InterpreterKind(
    valued=frozenset({"-I"}),
    texts=frozenset({"-e", "-E"}),
    text_letters="eE",
    ends_options=True,
    paths=frozenset({"-I"}),
)
_RUBY = InterpreterKind(
    valued=frozenset({"-I", "-r", "-C", "-E"}),
    texts=frozenset({"-e"}),
    text_letters="e",
    ends_options=True,
    paths=frozenset({"-I"}),
)
_PHP = InterpreterKind(
    valued=frozenset({"-d", "-c", "-z"}), texts=frozenset({"-r"}), ends_options=True, files=frozenset({"-f"})
)
_SHELL = InterpreterKind(
    valued=frozenset({"-o", "+o", "-O", "+O", "--rcfile", "--init-file"}),
    texts=frozenset({"-c"}),
    text_letters="c",
    names_itself=True,
)
_LUA = InterpreterKind(valued=frozenset({"-l"}), texts=frozenset({"-e"}))
_TCL = InterpreterKind(valued=frozenset({"-encoding"}))
_R = InterpreterKind(texts=frozenset({"-e"}))
_DENO = InterpreterKind(
    valued=frozenset({"-c", "--config", "--import-map", "--cert"}), commands=frozenset({"run"})
)

#: File name of an interpreter → how it reads its words.
INTERPRETER_KINDS: Mapping[re.Pattern[str], InterpreterKind] = {
    re.compile(r"(?:python|pypy)[\d.]*"): _PYTHON,
    re.compile(r"node|nodejs"): _NODE,
    re.compile(r"perl[\d.]*"): _PERL,
    re.compile(r"ruby[\d.]*|jruby"): _RUBY,
    re.compile(r"php[\d.]*"): _PHP,
    re.compile(r"(?:ba|da|k|z|mk|a)?sh"): _SHELL,
    re.compile(r"lua[\d.]*|luajit"): _LUA,
    re.compile(r"(?:tclsh|wish|expect)[\d.]*"): _TCL,
    re.compile(r"Rscript"): _R,
    re.compile(r"deno|bun"): _DENO,
    re.compile(r"mono"): InterpreterKind(),
}
_AWK = re.compile(r"[gmnp]?awk|busybox-awk")
_AWK_VALUED = frozenset({"-v", "--assign", "-F", "--field-separator", "-i", "--include", "-l", "--load"})
_AWK_FILES = frozenset({"-f", "--file", "-E", "--exec"})
_JAVA_VALUED = frozenset(
    {
        "-cp",
        "-classpath",
        "--class-path",
        "-p",
        "--module-path",
        "--add-modules",
        "--add-opens",
        "--add-exports",
        "--add-reads",
        "--limit-modules",
        "--patch-module",
        "--upgrade-module-path",
        "--source",
        "--enable-native-access",
    }
)
_CLASS_PATHS = frozenset({"-cp", "-classpath", "--class-path", "-p", "--module-path"})


def interpreter_kind(name: str) -> InterpreterKind | None:
    """Return how an interpreter of a name reads its words; None for any other program."""
    return next((kind for pattern, kind in INTERPRETER_KINDS.items() if pattern.fullmatch(name)), None)


def interpreted(words: Sequence[str], place: TypedPlace) -> FoundProgram | None:
    """Return how the program of an interpreter is started; None where the first word is none."""
    name = os.path.basename(words[0])
    if _AWK.fullmatch(name):
        return _awk(words, place)
    if name == "java":
        return _java(words, place)
    kind = interpreter_kind(name)
    return None if kind is None else _by_kind(kind, words, place)


def _by_kind(kind: InterpreterKind, words: Sequence[str], place: TypedPlace) -> FoundProgram:
    own: list[str] = []
    at = 1
    while at < len(words):
        word = words[at]
        bundle = (
            bool(kind.text_letters) and re.fullmatch(rf"-[A-Za-z0]*[{kind.text_letters}]", word) is not None
        )
        if word in kind.texts or (bundle and word not in kind.valued):
            return _of_text(kind, words, at, place)
        if word in kind.modules:
            return _of_module(words, at, place)
        if word in kind.files:
            end = at + 2
            return _cut(
                words, end, [*words[: at + 1], *(absolute(e, place.directory) for e in words[at + 1 : end])]
            )
        if word in kind.commands or word.startswith(("-", "+")):
            at += 2 if word in kind.valued else 1
            continue
        break
    file = at
    for number, word in enumerate(words[:file]):
        own.append(_with_path(kind, words, number, place) if number else word)
    operand = [absolute(each, place.directory) for each in words[file : file + 1]]
    return _cut(words, file + 1, [*own, *operand])


def _with_path(kind: InterpreterKind, words: Sequence[str], at: int, place: TypedPlace) -> str:
    """Return an option of an interpreter with the directory that it names by its absolute path."""
    word, before = words[at], words[at - 1]
    if before in kind.paths or (
        before in kind.valued and os.path.isfile(os.path.join(place.directory, word))
    ):
        parts = (os.path.join(place.directory, each) for each in word.split(":"))
        return ":".join(os.path.abspath(each) if os.path.exists(each) else each for each in parts)
    for option in kind.paths:
        inside = word[len(option) :]
        if word.startswith(option) and os.path.isdir(os.path.join(place.directory, inside or ".")) and inside:
            return option + os.path.abspath(os.path.join(place.directory, inside))
    return word


def _cut(words: Sequence[str], end: int, launch: Sequence[str]) -> FoundProgram:
    return FoundProgram(words=tuple(words[:end]), given=tuple(words[end:]), launch=tuple(launch))


#: What may be the name of a file in the text of a program.
_FILE_IN_TEXT = re.compile(r"(?<![\w./$-])(?:\./)?[\w.-]+(?:/[\w.-]+)*(?![\w/])")


def _of_text(kind: InterpreterKind, words: Sequence[str], at: int, place: TypedPlace) -> FoundProgram:
    """Return how a program is started whose text is a word: `sh -c TEXT NAME`."""
    end = at + 2
    text = words[at + 1] if at + 1 < len(words) else ""
    if kind.names_itself:
        text = _FILE_IN_TEXT.sub(lambda found: _found_file(found[0], place), text)
        end += end < len(words)
    elif end < len(words) and words[end] == "--":
        end += 1
    launch = [*words[: at + 1], text, *words[at + 2 : end]]
    # Else the interpreter would take the program's own --help for its own.
    if kind.ends_options and launch[-1] != "--":
        launch.append("--")
    if kind.names_itself and end == at + 2:
        launch.append(os.path.basename(words[0]))
    return _cut(words, end, launch)


def _found_file(word: str, place: TypedPlace) -> str:
    path = os.path.abspath(os.path.join(place.directory, word))
    # With a dot or a slash: `test` may be a file here, and is a command all the same.
    is_file = ("/" in word or "." in word) and os.path.isfile(path) and not re.search(r"[^\w./-]", path)
    return path if is_file else word


def _of_module(words: Sequence[str], at: int, place: TypedPlace) -> FoundProgram:
    """Return how a module is started, `python3 -m fare`, which is looked for where it was typed."""
    name = words[at + 1] if at + 1 < len(words) else ""
    top = os.path.join(place.directory, name.partition(".")[0])
    own = os.path.isdir(top) or os.path.isfile(top + ".py")
    started = _cut(words, at + 2, words[: at + 2])
    if not own:
        return started
    here = os.path.abspath(place.directory)
    return FoundProgram(
        words=started.words,
        given=started.given,
        launch=started.launch,
        root=here,
        env=(("PYTHONPATH", here),),
    )


def _awk(words: Sequence[str], place: TypedPlace) -> FoundProgram:
    """Return how a program of awk is started: a file, whose words come after `--`, or a text, after
    which nothing is an option of awk's (POSIX, awk, OPERANDS)."""
    launch = [words[0]]
    at, has_file = 1, False
    while at < len(words) and words[at].startswith("-") and words[at] not in ("-", "--"):
        word = words[at]
        if word in _AWK_FILES or word in _AWK_VALUED:
            value = words[at + 1] if at + 1 < len(words) else ""
            launch += [word, absolute(value, place.directory) if word in _AWK_FILES else value]
            has_file |= word in _AWK_FILES
            at += 2
            continue
        if has_file and not re.match(r"-[vFfE].", word):
            break  # awk's own it would be in a shell, where nobody means that
        if re.match(r"-[fE].", word):
            launch.append(word[:2] + absolute(word[2:], place.directory))
            has_file = True
        else:
            launch.append(word)
        at += 1
    if has_file:
        at += at < len(words) and words[at] == "--"
        return _cut(words, at, [*launch, "--"])
    return _cut(words, at + 1, [*launch, *words[at : at + 1]])


def _java(words: Sequence[str], place: TypedPlace) -> FoundProgram:
    """Return how a program of Java is started: a class, a jar, a module, or one file of source,
    which is compiled once and not at every start."""
    launch = [words[0]]
    at = 1
    while at < len(words) and words[at].startswith("-"):
        word = words[at]
        if word in ("-jar", "-m", "--module"):
            value = words[at + 1] if at + 1 < len(words) else ""
            return _cut(words, at + 2, [*launch, word, absolute(value, place.directory)])
        launch.append(word)
        if word in _JAVA_VALUED and at + 1 < len(words):
            launch.append(_class_path(words[at + 1], place) if word in _CLASS_PATHS else words[at + 1])
            at += 1
        at += 1
    if at < len(words) and words[at].endswith(".java"):
        return _java_source(words, at, launch, place)
    if not _CLASS_PATHS & {*launch}:  # else classes are looked for where it was typed
        launch[1:1] = ["-cp", os.path.abspath(place.directory)]
    return _cut(words, at + 1, [*launch, *words[at : at + 1]])


def _class_path(text: str, place: TypedPlace) -> str:
    # A directory that is not there yet may be made by a build.
    parts = (os.path.abspath(os.path.join(place.directory, each)) if each else "" for each in text.split(":"))
    return ":".join(parts)


def _java_source(words: Sequence[str], at: int, launch: list[str], place: TypedPlace) -> FoundProgram:
    file = absolute(words[at], place.directory)
    name = os.path.basename(file).removesuffix(".java")
    package = _package(file)
    classes = place.built(f"{name}.classes")
    compiler = os.path.join(os.path.dirname(words[0]), "javac") if os.sep in words[0] else "javac"
    given = next((launch[n + 1] for n, each in enumerate(launch[:-1]) if each in _CLASS_PATHS), "")
    options = [
        each
        for n, each in enumerate(launch[1:], 1)
        if each not in _CLASS_PATHS and launch[n - 1] not in _CLASS_PATHS
    ]
    build = (compiler, *(("-cp", given) if given else ()), "-d", classes, file)
    path = f"{classes}:{given}" if given else classes
    return FoundProgram(
        words=tuple(words[: at + 1]),
        given=tuple(words[at + 1 :]),
        runner="java FILE.java",
        build=build,
        launch=(words[0], *options, "-cp", path, f"{package}.{name}".lstrip(".")),
        root=os.path.dirname(file),
    )


def _package(file: str) -> str:
    """Return the package that a file of Java says it is in; empty for none."""
    try:
        with open(file, encoding="utf-8", errors="replace") as source:
            found = re.search(r"^\s*package\s+([\w.]+)\s*;", source.read(1 << 16), re.MULTILINE)
    except OSError:
        return ""
    return found[1] if found else ""


__all__ = ["INTERPRETER_KINDS", "InterpreterKind", "interpreted", "interpreter_kind", "operand_at"]
