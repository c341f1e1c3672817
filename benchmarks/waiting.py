"""What people wait for beside the launches themselves: python benchmarks/waiting.py [PART…]

Parts: combining, specs, starts, node, parts. Each writes a section of RESULTS.md.
"""

from __future__ import annotations

import os
import re
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path

from results import write_section

BIN = Path(sys.executable).parent
COMMAND = str(BIN / "keen-matrix")
ROUNDS = 5


def seconds(words: Sequence[str], directory: Path, **env: str) -> float:
    """Return how long one call takes."""
    outer = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
    started = time.perf_counter()
    subprocess.run(words, cwd=directory, env={**outer, **env}, capture_output=True, check=False)
    return time.perf_counter() - started


def matrix(line: str, axes: str, combine: str = "pairs") -> str:
    return (
        f'[program]\nlaunch = "true"\n[[matrix]]\nname = "all"\nline = "{line}"\ncombine = "{combine}"\n'
        f"limit = 10000000\n[matrix.axes]\n{axes}\n"
    )


def systems() -> dict[str, str]:
    """Return specs whose combining takes a while, by name."""
    flags = " ".join(f"[-{each}]" for each in "abcdefghij")
    options = " ".join(f"[--o{n} {{V{n}}}]" for n in range(10))
    many = range(300)
    groups = "abcdefghijklmnopqr"
    return {
        "pairs over 10 flags and 10 options of three values": matrix(
            f"{flags} {options}", "\n".join(f'V{n} = ["x{n}", "y{n}", "z{n}"]' for n in range(10))
        ),
        "a line with 18 optional groups, all combinations": matrix(
            " ".join(f"[-{each} {{X{each}}}]" for each in groups),
            "\n".join(f'X{each} = ["1"]' for each in groups),
            "all",
        ),
        "pairs over 300 axes of three values": matrix(
            " ".join(f"{{a{n}}}" for n in many),
            "\n".join(f'a{n} = ["x{n}", "y{n}", "z{n}"]' for n in many),
        ),
        "pairs over 12 axes of ten values (10^12)": matrix(
            " ".join(f"{{a{n}}}" for n in range(12)),
            "\n".join(f"a{n} = {[f'{n}.{each}' for each in range(10)]}" for n in range(12)),
        ),
    }


def combining(directory: Path) -> list[str]:
    lines = [
        "| unfold --count of | first time, s | of python -c pass | combining alone, s | of python -c pass | then, s | vectors |",
        "|---|---|---|---|---|---|---|",
    ]
    for number, (name, text) in enumerate(systems().items()):
        spec = directory / f"c{number}.matrix.toml"
        spec.write_text(text)
        words = [COMMAND, "unfold", "--count", spec.name]
        cache = {"XDG_CACHE_HOME": str(directory / "cache")}
        took, alone, python = [], [], []
        for _ in range(9 if number == 0 else 3):
            shutil.rmtree(directory / "cache", ignore_errors=True)
            began = time.perf_counter()
            outer = {**os.environ, **cache}
            out = subprocess.run(words, cwd=directory, env=outer, capture_output=True, text=True, check=True).stdout
            took.append(time.perf_counter() - began)
            told = re.search(r"([\d.]+) s$", out, re.MULTILINE)
            alone.append(float(told[1]) if told else 0.0)
            python.append(seconds([sys.executable, "-c", "pass"], directory))
        again = [seconds(words, directory, **cache) for _ in range(3)]
        count = re.search(r"in all\s+([\d,]+)", out)
        lines.append(
            f"| {name} | {statistics.median(took):.2f} | {statistics.median(took) / statistics.median(python):.0f} "
            f"| {statistics.median(alone):.2f} | {statistics.median(alone) / statistics.median(python):.1f} "
            f"| {statistics.median(again):.2f} | {count[1] if count else '?'} |"
        )
    return lines


def specs(directory: Path) -> list[str]:
    large = ['[program]\nlaunch = "true"\n']
    for number in range(5_000):
        large.append(
            f'[[matrix]]\nname = "m{number}"\nline = "{{w}} --n {number}"\naxes = {{ w = ["a{number}", "b"] }}\n'
            'expect = { exit = 0, stdout = "" }\n'
        )
    (directory / "large.matrix.toml").write_text("\n".join(large))
    small = directory / "small.matrix.toml"
    small.write_text(
        '[program]\nlaunch = "true"\n[[matrix]]\nname = "one"\nline = "a"\nexpect.exit = 0\n'
    )
    completing = {
        "_ARGCOMPLETE": "1", "_ARGCOMPLETE_IFS": "\v", "COMP_LINE": "keen-matrix run --j", "COMP_POINT": "19",
        "COMP_TYPE": "9", "_ARGCOMPLETE_SHELL": "bash", "_ARGCOMPLETE_STDOUT_FILENAME": str(directory / "answer"),
    }  # fmt: skip
    python = statistics.median(
        seconds([sys.executable, "-c", "pass"], directory) for _ in range(ROUNDS)
    )
    lines = ["| what | seconds | of python -c pass |", "|---|---|---|"]

    def row(what: str, once: Callable[[], float], rounds: int = ROUNDS) -> None:
        took = statistics.median(once() for _ in range(rounds))
        lines.append(f"| {what} | {took:.2f} | {took / python:.1f} |")

    def changed() -> float:
        small.write_text(small.read_text() + "\n")
        return seconds([COMMAND, "lint", small.name], directory)

    row("lint of a small spec that has changed", changed)
    row("lint of one that has not", lambda: seconds([COMMAND, "lint", small.name], directory))
    row("run of one trivial case", lambda: seconds([COMMAND, "run", small.name], directory))
    row("try of a program", lambda: seconds([COMMAND, "try", "--", "true"], directory))
    commands = " ".join(f"c{number}" for number in range(20))
    (directory / "many.sh").write_text(
        'case $1 in --help) printf "Usage: many [--help] COMMAND\\n\\nOptions:\\n  --help  this\\n\\nCommands:\\n"\n'
        'for c in COMMANDS; do echo "  $c  does $c"; done ;;\n'
        '*) printf "Usage: many $1 [-a] NAME\\n\\nOptions:\\n  -a  all\\n" ;; esac\n'.replace("COMMANDS", commands)
    )
    row(
        "draft of a program with 20 subcommands",
        lambda: seconds([COMMAND, "draft", "--", "sh", "many.sh"], directory),
    )
    row("completion of an option", lambda: seconds([COMMAND], directory, **completing))
    row(
        "lint of 5,000 matrices", lambda: seconds([COMMAND, "lint", "large.matrix.toml"], directory), 1
    )
    row(
        "run of 5,000 matrices, 10,000 launches of true",
        lambda: seconds([COMMAND, "run", "--brief", "large.matrix.toml"], directory),
        1,
    )
    return lines


PROGRAM = """import argparse
p = argparse.ArgumentParser(); p.add_argument("n", type=int); a = p.parse_args(); print(a.n * 2)
"""


BOOK = """
from enum import Enum
from typing import Annotated, Optional
import typer
Port = Enum("Port", {name: name for name in ("Skerry", "Holm", "Voe")}, type=str)
Deck = Enum("Deck", {name: name for name in ("open", "cabin")}, type=str)
def book(
    port: Port,
    to: Port,
    riders: Annotated[int, typer.Option("-n", "--riders", min=1, max=60)] = 1,
    deck: Annotated[Deck, typer.Option("--deck")] = Deck.open,
    car: Annotated[bool, typer.Option("--car")] = False,
    bikes: Annotated[int, typer.Option("--bikes", min=0, max=9)] = 0,
    note: Annotated[Optional[str], typer.Option("--note")] = None,
    quiet: Annotated[bool, typer.Option("-q", "--quiet")] = False,
    weight: Annotated[float, typer.Option("--weight")] = 1.0,
    day: Annotated[int, typer.Option("--day", min=1, max=31)] = 1,
    back: Annotated[bool, typer.Option("--return/--single")] = False,
):
    print("booked", port.value, to.value, riders, deck.value, car, bikes, back)
typer.run(book)
"""


def starts(directory: Path) -> list[str]:
    """A Python program as it is and through a launcher that takes its time, with and without our help."""
    (directory / "p.py").write_text(PROGRAM)
    real = os.path.realpath(sys.executable)
    shims = directory / "shims"
    shims.mkdir()
    shim = shims / "python3"
    shim.write_text(f'#!/bin/sh\nsleep 0.2\nexec {real} "$@"\n')
    shim.chmod(0o755)
    lines = [
        "| cases | launched through | cold, s | left to itself, s | ratio |",
        "|---|---|---|---|---|",
    ]
    for launcher, path in (
        ("the interpreter", f"{Path(real).parent}:{os.environ['PATH']}"),
        ("a script that takes 0.2 s", f"{shims}:{os.environ['PATH']}"),
    ):
        for count in (20, 60, 100, 300):
            name = f"s{count}.matrix.toml"
            (directory / name).write_text(
                f'[program]\nlaunch = "python3 {{here}}/p.py"\n[[matrix]]\nname = "m"\nline = "{{n}}"\n'
                f'axes.n = {{ from = 1, to = {count} }}\nexpect.stdout = "{{n * 2}}\\n"\n'
            )
            (directory / f"l{name}").write_text(
                (directory / name)
                .read_text()
                .replace("[program]", '[program]\nlaunch-through = "launcher"')
            )
            took: dict[str, list[float]] = {"cold": [], "itself": []}
            for _ in range(3):
                took["cold"].append(
                    seconds([COMMAND, "run", "--brief", "--cold", f"l{name}"], directory, PATH=path)
                )
                took["itself"].append(seconds([COMMAND, "run", "--brief", name], directory, PATH=path))
            cold, itself = (statistics.median(each) for each in took.values())
            lines.append(
                f"| {count} | {launcher} | {cold:.2f} | {itself:.2f} | {itself / cold:.2f} |"
            )
    (directory / "book.py").write_text(BOOK)
    seconds([COMMAND, "draft", "-o", "book.matrix.toml", "--", "python3", "book.py"], directory)
    took = {"cold": [], "itself": []}
    for each, more in (("cold", ["--cold"]), ("itself", [])):  # each finds out what it stands on
        shutil.rmtree(directory / ".keen-matrix", ignore_errors=True)
        took[each].append(seconds([COMMAND, "run", *more, "book.matrix.toml"], directory))
    (cold,), (itself,) = took.values()
    count = len((directory / ".keen-matrix/last.jsonl").read_text().splitlines()) - 2
    lines.append(
        f"| {count} drafted ones of a typer program | the interpreter | {cold:.2f} | {itself:.2f} | {itself / cold:.2f} |"
    )
    return lines


def node(directory: Path) -> list[str]:
    """What node's compile cache gives, with the node of NODE or of PATH."""
    program = os.environ.get("NODE", "node")
    functions = "".join(
        f"function f{n}(x) {{ return x > {n} ? x * {n} : [x].map(y => y + {n}); }}\n"
        for n in range(20_000)
    )
    programs = {"a line of code": "", "1.4 MB of code": functions}
    version = subprocess.run(
        [program, "--version"], capture_output=True, text=True, check=True
    ).stdout.strip()
    lines = [
        f"node {version}",
        "",
        "| program | without, ms | with, ms | ratio |",
        "|---|---|---|---|",
    ]
    for name, text in programs.items():
        (directory / "p.js").write_text(text + "console.log(process.argv.length);\n")
        cache = {"NODE_COMPILE_CACHE": str(directory / "compiled")}
        seconds([program, "p.js"], directory, **cache)
        took: dict[str, list[float]] = {"without": [], "with": []}
        for _ in range(15):
            took["without"].append(seconds([program, "p.js"], directory))
            took["with"].append(seconds([program, "p.js"], directory, **cache))
        without, used = (statistics.median(each) * 1000 for each in took.values())
        lines.append(f"| {name} | {without:.0f} | {used:.0f} | {used / without:.2f} |")
    return lines


def parts(directory: Path) -> list[str]:
    """What a launch of true costs beside the launch: system calls of the worker, by strace."""
    count = 1_000
    (directory / "t.matrix.toml").write_text(
        f'[program]\nlaunch = "/bin/true"\n[[matrix]]\nname = "m"\nline = "{{n}}"\naxes.n = {{ from = 1, to = {count} }}\n'
        'expect = { exit = 0, stdout = "", stderr = "" }\n'
    )
    (directory / "bare.py").write_text(
        f'import os\nfor n in range({count}):\n    os.waitpid(os.posix_spawn("/bin/true", ["true", str(n)], {{}}), 0)\n'
    )
    found = {}
    log = Path(tempfile.mkdtemp()) / "calls"  # not below the spec, whose directory is read
    for name, words in (
        ("worker", [COMMAND, "run", "--jobs", "1", "--brief", "t.matrix.toml"]),
        ("bare loop", [sys.executable, "bare.py"]),
    ):
        subprocess.run(
            ["strace", "-f", "-o", str(log), *words], cwd=directory, capture_output=True, check=True
        )
        calls: dict[str, Counter[str]] = {}
        for line in log.read_text(errors="replace").splitlines():
            match = re.match(r"(\d+)\s+(\w+)\(", line)
            if match:
                calls.setdefault(match[1], Counter())[match[2]] += 1
        found[name] = max(
            calls.values(), key=lambda each: each["clone3"] + each["clone"] + each["vfork"]
        )
    lines = [
        "| system call of a case | our worker | a bare loop of posix_spawn and wait |",
        "|---|---|---|",
    ]
    for call in sorted(found["worker"], key=lambda each: -found["worker"][each]):
        ours, bare = (found[name][call] / count for name in ("worker", "bare loop"))
        if max(ours, bare) >= 0.1:
            lines.append(f"| {call} | {ours:.2f} | {bare:.2f} |")
    ours, bare = (sum(found[name].values()) / count for name in ("worker", "bare loop"))
    return [*lines, f"| all | {ours:.1f} | {bare:.1f} |"]


PARTS: dict[str, tuple[str, Callable[[Path], list[str]]]] = {
    "combining": ("Combining", combining), "specs": ("Small and large specs", specs),
    "starts": ("Warm by itself, and past a launcher", starts), "node": ("The compile cache of node", node),
    "parts": ("What a case asks of the system", parts),
}  # fmt: skip


def main() -> None:
    for name in sys.argv[1:] or PARTS:
        title, measure = PARTS[name]
        with tempfile.TemporaryDirectory() as directory:
            lines = measure(Path(directory))
        print("\n".join(lines), flush=True)
        write_section(title, f"python benchmarks/waiting.py {name}", lines)


if __name__ == "__main__":
    main()
