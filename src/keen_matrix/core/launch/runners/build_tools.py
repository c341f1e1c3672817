"""Runners that build a program and start it: go, cargo, make, dotnet, gradle.

What each does with its words is in its manual: `go help run`, `cargo run --help`, make(1), `dotnet
run --help`, the Application Plugin of Gradle.
"""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import tomllib
from collections.abc import Sequence

from keen_matrix.core.launch.runners.base import (
    HOME_OF_TOOLS,
    FoundProgram,
    Runner,
    TypedPlace,
    absolute_words,
    operand_at,
    through_runner,
)
from keen_matrix.core.launch.runners.interpreters import interpreted

_GO_VALUED = frozenset(
    {
        "-C",
        "-p",
        "-asmflags",
        "-buildmode",
        "-buildvcs",
        "-compiler",
        "-gccgoflags",
        "-gcflags",
        "-installsuffix",
        "-ldflags",
        "-mod",
        "-modfile",
        "-overlay",
        "-pkgdir",
        "-tags",
        "-toolexec",
        "-exec",
        "-cover",
        "-coverpkg",
        "-covermode",
    }
)


def _go_run(words: Sequence[str], place: TypedPlace) -> FoundProgram | None:
    if words[1:2] != ["run"]:
        return None
    at = operand_at(words, 2, _GO_VALUED - {"-cover"})
    end = at + 1
    if at < len(words) and words[at].endswith(".go"):
        while end < len(words) and words[end].endswith(".go"):
            end += 1
    if at >= len(words) or "@" in words[at]:  # a version of a package, which is fetched
        return None
    first = words[at]
    inside = os.path.abspath(os.path.join(place.directory, first))
    name = os.path.basename(first.removesuffix(".go") if first.endswith(".go") else inside) or "program"
    if inside == place.above("go.mod"):
        name = _module(inside) or name
    binary = place.built(name)
    build = (words[0], "build", *words[2:at], "-o", binary, *words[at:end])
    return FoundProgram(
        words=tuple(words[:end]),
        given=tuple(words[end:]),
        launch=(binary,),
        build=build,
        root=os.path.abspath(place.directory),
    )


def _module(root: str) -> str:
    """Return the last part of the name of a module, as `go build` calls its program; empty where it
    has none."""
    try:
        with open(os.path.join(root, "go.mod"), encoding="utf-8", errors="replace") as file:
            found = re.search(r"^module\s+(\S+)", file.read(1 << 16), re.MULTILINE)
    except OSError:
        return ""
    return found[1].strip('"').rpartition("/")[2] if found else ""


_CARGO_VALUED = frozenset(
    {
        "--bin",
        "--example",
        "-p",
        "--package",
        "-F",
        "--features",
        "--target",
        "--target-dir",
        "--manifest-path",
        "--profile",
        "-j",
        "--jobs",
        "--color",
        "--message-format",
        "-Z",
        "--config",
        "-C",
    }
)


def _cargo_run(words: Sequence[str], place: TypedPlace) -> FoundProgram | None:
    start = 2 if words[1:2] and words[1].startswith("+") else 1
    if words[start : start + 1] not in (["run"], ["r"]):
        return None
    at = operand_at(words, start + 1, _CARGO_VALUED)
    options = list(words[start + 1 : at])
    given = words[at + 1 :] if words[at : at + 1] == ["--"] else words[at:]
    own = words[:at] if words[at : at + 1] != ["--"] else words[: at + 1]
    root = place.above("Cargo.toml")
    if not root:
        return None
    values = dict(zip(options, [*options[1:], ""], strict=False))
    manifest = values.get("--manifest-path") or os.path.join(root, "Cargo.toml")
    name = (
        values.get("--bin")
        or values.get("--example")
        or _cargo_program(os.path.join(place.directory, manifest))
    )
    if not name:
        return None
    folder = "release" if {"-r", "--release"} & {*options} else values.get("--profile", "debug")
    target = (
        values.get("--target-dir")
        or os.environ.get("CARGO_TARGET_DIR")
        or os.path.join(_workspace(root), "target")
    )
    parts = [os.path.join(place.directory, target), *filter(None, [values.get("--target")]), folder]
    binary = os.path.join(*parts, *(["examples"] if "--example" in values else []), name)
    quiet = [] if {"-q", "--quiet"} & {*options} else ["--quiet"]
    build = (*words[:start], "build", *quiet, *options)
    return FoundProgram(
        words=tuple(own),
        given=tuple(given),
        launch=(os.path.abspath(binary),),
        build=build,
        root=os.path.abspath(place.directory),
    )


def _toml(path: str) -> dict[str, object]:
    try:
        with open(path, "rb") as file:
            return tomllib.load(file)
    except (OSError, tomllib.TOMLDecodeError):
        return {}


def _cargo_program(manifest: str) -> str:
    """Return the name of the program that a package has, or runs by default; empty where it cannot
    be known."""
    document = _toml(manifest)
    package = document.get("package")
    if not isinstance(package, dict):
        return ""
    if isinstance(package.get("default-run"), str):
        return str(package["default-run"])
    programs = document.get("bin")
    if isinstance(programs, list) and len(programs) == 1 and isinstance(programs[0], dict):
        return str(programs[0].get("name") or package.get("name") or "")
    return str(package.get("name") or "")


def _workspace(root: str) -> str:
    """Return the directory of the workspace that a package belongs to, or its own."""
    directory = os.path.dirname(root)
    while directory != os.path.dirname(directory):
        if "workspace" in _toml(os.path.join(directory, "Cargo.toml")):
            return directory
        directory = os.path.dirname(directory)
    return root


#: Variables of makefiles that are passed on to a program, by how common they are.
ARGUMENT_NAMES = ("ARGS", "args", "ARGUMENTS", "ARGV", "CMD_ARGS", "RUN_ARGS", "OPTS", "FLAGS", "A")
_ASSIGNMENT = re.compile(r"([A-Za-z_]\w*)=(.*)", re.DOTALL)
_MAKE_VALUED = frozenset({"-C", "--directory", "-f", "--file", "--makefile", "-j", "-I", "-o", "-W", "-l"})
#: A word that stands for the program's own in what make says that it would do.
MARK = "keen-matrix-words"
MAKE_SECONDS = 10.0
#: Characters of a recipe's line that only a shell understands.
_SHELL_SIGNS = re.compile(r"[|&;<>()$`\\*?\[\]#~=%!{}]")


def _make(words: Sequence[str], place: TypedPlace) -> FoundProgram | None:
    if not place.may_ask:
        return None
    values = dict(zip(words[1:], [*words[2:], ""], strict=False))
    directory = os.path.join(place.directory, values.get("-C") or values.get("--directory") or ".")
    found = {each: match for each in words[1:] if (match := _ASSIGNMENT.fullmatch(each))}
    fixed = [each for each in words if each not in found]
    # The variable that the recipe hands to the program: one that was typed, else a usual name.
    asked = [(each, match[1], match[2]) for each, match in found.items()]
    for text, name, value in asked or [("", each, "") for each in ARGUMENT_NAMES]:
        lines = _recipe(fixed, [each for each in found if each != text], name, place.directory)
        if lines is None:
            return None
        if any(MARK in line for line in lines):
            return _of_recipe(tuple(words), _split(value), lines, directory)
    return None


def _split(text: str) -> list[str]:
    try:
        return shlex.split(text)
    except ValueError:
        return text.split()


def _recipe(words: Sequence[str], others: Sequence[str], name: str, directory: str) -> list[str] | None:
    """Return the lines that make would run, with a mark for the program's words; None where it
    would run none."""
    # -B: also what is made already, since another checkout has not made it.
    argv = [words[0], "-n", "-B", "--no-print-directory", *words[1:], *others, f"{name}={MARK}"]
    try:
        done = subprocess.run(
            argv,
            cwd=directory,
            capture_output=True,
            stdin=subprocess.DEVNULL,
            timeout=MAKE_SECONDS,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired):
        return None
    if done.returncode:
        return None
    text = done.stdout.decode("utf-8", "surrogateescape").replace("\\\n", " ")
    return [line.strip() for line in text.split("\n") if line.strip()]


def _of_recipe(
    words: tuple[str, ...], given: Sequence[str], lines: Sequence[str], directory: str
) -> FoundProgram:
    """Return how the program of a recipe is started: what comes before it is its build."""
    at = next(number for number, line in enumerate(lines) if MARK in line)
    line = re.sub(rf"""["']?{MARK}["']?""", '"$@"', lines[at])
    root = os.path.abspath(directory)
    build: tuple[str, ...] = ()
    if at:
        build = ("sh", "-c", "set -e\n" + "\n".join(lines[:at]))
    plain = line.removesuffix('"$@"').strip() if line.endswith('"$@"') else ""
    # What it builds before is not there yet, so a path counts whether it exists or not.
    if plain and not _SHELL_SIGNS.search(plain):
        own = _split(plain)
        inner = interpreted(own, TypedPlace(root, "")) if own else None
        launch = inner.launch if inner is not None and not inner.given else _rooted(own, root)
    else:
        launch = ("sh", "-c", f'cd "$0" && {line}', root)
    return FoundProgram(words=words, given=tuple(given), launch=launch, build=build, root=root)


def _rooted(words: Sequence[str], root: str) -> tuple[str, ...]:
    first = os.path.abspath(os.path.join(root, words[0])) if os.sep in words[0] else words[0]
    return (first, *absolute_words(["", *words[1:]], root)[1:])


def _dotnet_run(words: Sequence[str], place: TypedPlace) -> FoundProgram | None:
    if words[1:2] != ["run"]:
        return None
    valued = frozenset(
        {"--project", "-p", "-c", "--configuration", "-f", "--framework", "-r", "--runtime", "-v"}
    )
    at = operand_at(words, 2, valued)
    options = words[2:at]
    values = dict(zip(options, [*options[1:], ""], strict=False))
    given = words[at + 1 :] if words[at : at + 1] == ["--"] else words[at:]
    project = os.path.join(place.directory, values.get("--project") or values.get("-p") or ".")
    files = [project] if project.endswith("proj") else _projects(project)
    if not files:
        return None
    name = os.path.basename(files[0]).rpartition(".")[0]
    out = place.built(name)
    kept = [
        each
        for n, each in enumerate(options)
        if not ({"--project", "-p"} & {each, *options[max(0, n - 1) : n]})
    ]
    build = (words[0], "build", os.path.abspath(files[0]), "-o", out, "-v", "quiet", *kept)
    return FoundProgram(
        words=tuple(words[: len(words) - len(given)]),
        given=tuple(given),
        build=build,
        launch=(words[0], os.path.join(out, f"{name}.dll")),
        root=os.path.abspath(place.directory),
    )


def _projects(directory: str) -> list[str]:
    try:
        names = sorted(os.listdir(directory))
    except OSError:
        return []
    return [os.path.join(directory, each) for each in names if re.search(r"\.(?:cs|fs|vb)proj$", each)]


def _gradle_run(words: Sequence[str], place: TypedPlace) -> FoundProgram | None:
    if "run" not in words[1:]:
        return None
    root = place.above("settings.gradle", "settings.gradle.kts", "build.gradle", "build.gradle.kts")
    if not root:
        return None
    text = next((each.partition("=")[2] for each in words if each.startswith("--args=")), "")
    name = os.path.basename(root)
    for each in ("settings.gradle", "settings.gradle.kts"):
        path = os.path.join(root, each)
        if os.path.isfile(path):
            with open(path, encoding="utf-8", errors="replace") as file:
                found = re.search(r"rootProject\.name\s*=\s*[\"']([^\"']+)", file.read(1 << 16))
            name = found[1] if found else name
    build = (absolute_words(words[:1], place.directory)[0], "-q", "installDist")
    launch = (os.path.join(root, "build", "install", name, "bin", name),)
    return FoundProgram(words=tuple(words), given=tuple(_split(text)), build=build, launch=launch, root=root)


def _maven_exec(words: Sequence[str], place: TypedPlace) -> FoundProgram | None:
    """A maven program has no file of its own, so maven is started for each call."""
    if not any(each.startswith("exec:") for each in words[1:]):
        return None
    root = place.above("pom.xml")
    text = next((each.partition("=")[2] for each in words if each.startswith("-Dexec.args=")), "")
    kept = [each for each in words if not each.startswith("-Dexec.args=")]
    if not root:
        return None
    # Its words are one word, split as a shell splits.
    script = 'cd "$0"; a=; for each do a="$a \\"$each\\""; done; exec "$RUNNER" $OPTIONS "-Dexec.args=$a"'
    started = through_runner(kept, _split(text), root)
    return FoundProgram(
        words=tuple(words),
        given=started.given,
        launch=("sh", "-c", script, root),
        root=root,
        is_through=True,
        env=(("RUNNER", kept[0]), ("OPTIONS", " ".join(kept[1:]))),
    )


BUILD_TOOLS: tuple[Runner, ...] = (
    Runner(
        name="go run",
        names=re.compile("go"),
        find=_go_run,
        about="compiles a package and runs it; exits 1 for every failure",
        direct="go build once, then the program",
        from_caller=HOME_OF_TOOLS,
        hides=r"^exit status (?P<status>\d+)$",
    ),
    Runner(
        name="cargo run",
        names=re.compile("cargo"),
        find=_cargo_run,
        about="compiles a package and runs it",
        direct="cargo build once, then target/debug/NAME",
        from_caller=HOME_OF_TOOLS,
    ),
    Runner(
        name="make",
        names=re.compile("g?make"),
        find=_make,
        about="runs the recipe of a target; exits 2 for every failure",
        direct="the recipe's own line; what is before it once",
        hides=r"^make: \*\*\* \[.*\] Error (?P<status>\d+)$",
    ),
    Runner(
        name="dotnet run",
        names=re.compile("dotnet"),
        find=_dotnet_run,
        about="compiles a project and runs it",
        direct="dotnet build once, then dotnet NAME.dll",
        from_caller=HOME_OF_TOOLS,
    ),
    Runner(
        name="gradle run",
        names=re.compile(r"gradlew?"),
        find=_gradle_run,
        about="compiles and runs an application",
        direct="gradle installDist once, then its start script",
        from_caller=(*HOME_OF_TOOLS, "JAVA_HOME"),
        hides=r"finished with non-zero exit value (?P<status>\d+)",
    ),
    Runner(
        name="mvn exec",
        names=re.compile(r"mvnw?"),
        find=_maven_exec,
        about="runs a class of a project",
        direct="none: maven is started for each call",
        from_caller=(*HOME_OF_TOOLS, "JAVA_HOME"),
    ),
)
