"""Made-up programs, sound by the way they are made, and with one fault each: python benchmarks/sound.py [COUNT] [FIRST].

Programs are made at random, as many of each kind: Python with argparse, click, typer or optparse, and shell with getopts. Each
is drafted, settled and run, nothing edited. A sound one must run green, with no defect told; whatever else is told of it is our
own doing. Then each shell program gets one fault after another, and what is told of it is counted: by settling, as a defect or a
remark, or by the run.
"""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from random import Random

from results import write_section

COMMAND = str(Path(sys.executable).parent / "keen-matrix")
NAMES = ["riders", "kind", "day", "depth", "route", "format", "verbose", "quiet", "output", "rate", "speed", "tide", "berth"]
OPERANDS = ["island", "port", "count", "name"]


class Made:
    """What a program is made of: names that are not taken yet."""

    def __init__(self, seed: int) -> None:
        self.random = Random(seed)
        self.names = self.random.sample(NAMES, len(NAMES))
        self.letters: set[str] = set()

    def spellings(self, name: str) -> str:
        """Return the spellings of an option as they stand in a call."""
        letter = name[0]
        found = [f"--{name}"]
        if letter not in self.letters and self.random.random() < 0.5:
            self.letters.add(letter)
            found = self.random.choice([[f"-{letter}", *found], [*found, f"-{letter}"]])
        return ", ".join(map(repr, found))

    def operands(self) -> list[str]:
        """Return the names of a few operands."""
        return self.random.sample(OPERANDS, self.random.choice([0, 1, 1, 2, 2, 3]))

    def call(self, words: str, *more: str) -> str:
        """Return the arguments of a call, those aside that are empty."""
        return ", ".join(filter(None, [words, *more]))


ARGPARSE = [
    "action='store_true'", "action='count', default=0", "type=int", "type=float, default=1.5", "", "metavar='WORD'",
    "choices=['bike', 'car', 'foot']", "action='append'", "nargs=2", "nargs='+'", "nargs='?', const='auto'",
    "action='store_const', const=3", "action=argparse.BooleanOptionalAction", "type=int, choices=[1, 2, 3]",
]  # fmt: skip


def argparse(made: Made) -> str:
    """Return a program that reads its words with argparse."""
    choose = made.random.choice

    def option(target: str, *, in_group: bool = False) -> str:
        name, kind = made.names.pop(), choose(ARGPARSE)
        may_be_required = not in_group and not re.search("store|count|Boolean|default", kind)
        required = "required=True" if may_be_required and made.random.random() < 0.12 else ""
        spelt = repr(f"--{name}") if "Boolean" in kind else made.spellings(name)
        text = f"help='The {name} of it.'" if made.random.random() < 0.7 else ""
        return f"{target}.add_argument({made.call(spelt, kind, required, text)})"

    def words(target: str, most: int) -> list[str]:
        lines = []
        for _ in range(made.random.randint(0, most)):
            if made.random.random() < 0.2:
                lines.append(f"g = {target}.add_mutually_exclusive_group(required={choose([True, False, False])})")
                lines += [option("g", in_group=True), option("g", in_group=True)]
            else:
                lines.append(option(target))
        operands = made.operands()
        for name in operands:
            kind = choose(["", "", "type=int", "choices=['bike', 'car']"])
            last = choose(["", "", "", "nargs='?'", "nargs='*'", "nargs='+'"])
            count = last if name == operands[-1] else choose(["", "", "", "nargs=2"])
            shown = f"metavar={name.upper()!r}" if made.random.random() < 0.5 else ""
            lines.append(f"{target}.add_argument({made.call(repr(name), kind, count, shown)})")
        return lines

    strict = ", allow_abbrev=False" if made.random.random() < 0.25 else ""
    lines = ["import argparse", f"p = argparse.ArgumentParser(prog='fare'{strict})"]
    if made.random.random() < 0.25:
        lines += ["s = p.add_subparsers(dest='command', required=True)"]
        for name in ("add", "list"):
            made.letters.clear()
            lines += [f"q = s.add_parser({name!r})", *words("q", 2)]
    else:
        lines += words("p", 4)
    return "\n".join([*lines, "print(sorted(vars(p.parse_args()).items(), key=str))"])


CLICK = [
    "is_flag=True", "count=True", "type=int", "type=float, default=1.5", "", "default='x'", "type=click.Choice(['bike', 'car'])",
    "multiple=True", "nargs=2", "type=click.IntRange(1, 60)", "type=click.Choice(['a', 'B'], case_sensitive=False)", "opposites",
]  # fmt: skip


def click(made: Made) -> str:
    """Return a program that reads its words with click."""
    choose = made.random.choice

    def command() -> list[str]:
        lines = []
        for _ in range(made.random.randint(0, 3)):
            name, kind = made.names.pop(), choose(CLICK)
            if kind == "opposites":
                lines.append(f"@click.option('--{name}/--no-{name}', default=False)")
                continue
            may_be_required = "default" not in kind and kind not in ("is_flag=True", "count=True")
            required = "required=True" if may_be_required and made.random.random() < 0.12 else ""
            lines.append(f"@click.option({made.call(made.spellings(name), kind, required)}, help='The {name} of it.')")
        operands = made.operands()
        for name in operands:
            kind = choose(["", "", "type=int", "type=click.Choice(['bike', 'car'])"])
            last = choose(["", "", "required=False", "nargs=-1", "nargs=-1, required=True"])
            count = last if name == operands[-1] else choose(["", "", "nargs=2"])
            lines.append(f"@click.argument({made.call(repr(name), kind, count)})")
        return lines

    if made.random.random() < 0.75:
        end = ["def fare(**a): click.echo(sorted(a.items()))", "fare()"]
        return "\n".join(["import click", "@click.command()", *command(), *end])
    lines = ["import click", "@click.group()", "def cli(): pass"]
    for name in ("add", "list"):
        made.letters.clear()
        lines += ["@cli.command()", *command(), f"def {name}(**a): click.echo(('{name}', sorted(a.items())))"]
    return "\n".join([*lines, "cli()"])


def typer(made: Made) -> str:
    """Return a program that reads its words with typer."""
    choose = made.random.choice
    operands = made.operands()
    required = [f"{name}: {choose(['str', 'str', 'int'])}" for name in operands]
    if operands and made.random.random() < 0.3:
        required[-1] = f"{operands[-1]}: List[str]"
    optional = [
        f"{made.names.pop()}: " + choose([
            "bool = False", "int = 3", "float = 1.5", "Optional[str] = None", "int = typer.Option(1, min=1, max=60)",
            "List[str] = typer.Option([])",
        ]) for _ in range(made.random.randint(0, 3))
    ]  # fmt: skip
    return (
        "import typer\nfrom typing import List, Optional\n"
        f"def fare({', '.join([*required, *optional])}):\n    print(sorted(locals().items()))\ntyper.run(fare)"
    )


OPTPARSE = [
    "action='store_true'", "action='count', default=0", "type='int'", "type='float', default=1.5", "", "nargs=2",
    "type='choice', choices=['a', 'b']", "action='append'",
]  # fmt: skip


def optparse(made: Made) -> str:
    """Return a program that reads its words with optparse."""
    operands = made.operands()
    usage = " ".join(["%prog [options]", *map(str.upper, operands)])
    lines = ["import optparse", f"p = optparse.OptionParser(usage={usage!r})"]
    for _ in range(made.random.randint(1, 4)):
        name = made.names.pop()
        kind = made.random.choice(OPTPARSE)
        lines.append(f"p.add_option({made.call(made.spellings(name), kind)}, help='The {name} of it.')")
    check = f"if len(a) != {len(operands)}: p.error('expected {len(operands)} operands')"
    return "\n".join([*lines, "o, a = p.parse_args()", check, "print(sorted(vars(o).items()), a)"])


CHECKS = {
    "NUMBER": ("how many", "case $OPTARG in ''|*[!0-9]*) die \"-{0} needs a number, not '$OPTARG'\";; esac; "),
    "WORD": ("a word to print", ""),
    "KIND": ("one of bike, car, foot", "case $OPTARG in bike|car|foot) ;; *) die \"unknown kind '$OPTARG'\";; esac; "),
    "DAY": ("day of the week, 1 to 7", "case $OPTARG in [1-7]) ;; *) die \"-{0} must be 1 to 7, not '$OPTARG'\";; esac; "),
}  # fmt: skip


def getopts(made: Made) -> str:
    """Return a shell script that reads its words with getopts, and checks all that its help says."""
    choose = made.random.choice
    spelt, cases, usage, listed = "", [], [], []
    for letter in made.random.sample("abcdefgijklmnopqrstuvwxyz", choose([1, 2, 3, 4])):
        name = choose(["", "", *CHECKS])
        spelt += letter + (":" if name else "")
        text, check = CHECKS.get(name, ("say more", ""))
        cases.append(f"    {letter}) {check.format(letter)}v_{letter}=${{OPTARG:-yes}};;")
        usage.append(f"[-{letter} {name}]" if name else f"[-{letter}]")
        listed.append(f"  -{letter} {name:9}{text}")
    operands = [each.upper() for each in made.operands()]
    optional = choose(["", "", "[MORE]"]) if operands else ""
    most = len(operands) + bool(optional)
    line = " ".join(filter(None, ["usage: fare.sh [-h]", *usage, *operands, optional]))
    values = " ".join(f"$v_{each}" for each in spelt.replace(":", ""))
    return "\n".join([
        "#!/bin/sh", "usage() { cat <<'EOF'", line, "", "Fares of the ferries.", "", *listed, "  -h         this help", "EOF",
        "}", 'die() { echo "fare.sh: $1" >&2; exit 2; }', f"while getopts :h{spelt} o; do", "  case $o in",
        "    h) usage; exit 0;;", *cases,
        '    :) die "option -$OPTARG needs a value";;', '    *) die "unknown option -$OPTARG";;', "  esac", "done",
        "shift $((OPTIND - 1))", f'[ $# -ge {len(operands)} ] || die "too few operands: expected {len(operands)}, found $#"',
        f'[ $# -le {most} ] || die "too many operands: $*"', f'echo "{values}: $*"',
    ])  # fmt: skip


KINDS: dict[str, tuple[Callable[[Made], str], str]] = {
    "argparse": (argparse, "fare.py"), "click": (click, "fare.py"), "typer": (typer, "fare.py"),
    "optparse": (optparse, "fare.py"), "getopts": (getopts, "fare.sh"),
}  # fmt: skip
UNKNOWN = '*) die "unknown option -$OPTARG";;'
FAULTS: dict[str, Callable[[str], str]] = {
    "too many operands are taken": lambda text: re.sub(r"\[ \$# -le .*\n", "", text),
    "too few operands are taken": lambda text: re.sub(r"\[ \$# -ge .*\n", "", text),
    "unknown options end with 0": lambda text: text.replace(UNKNOWN, '*) echo "unknown -$OPTARG" >&2; exit 0;;'),
    "unknown options crash it": lambda text: text.replace(UNKNOWN, "*) kill -SEGV $$;;"),
    "messages on standard output": lambda text: text.replace(" >&2; exit 2; }", "; exit 2; }"),
    "no messages": lambda text: text.replace('echo "fare.sh: $1" >&2; exit 2; }', "exit 2; }"),
    "a choice of the help is refused": lambda text: text.replace("bike|car|foot) ;;", "bike|car) ;;"),
    "a bound is off by one": lambda text: text.replace("[1-7])", "[1-6])"),
    "help ends with 1": lambda text: text.replace("usage; exit 0", "usage; exit 1"),
}


def tried(program: str, name: str) -> tuple[bool, str, str]:
    """Draft, settle and run a program; return whether the run was green, what settling told beside findings, and the
    last line of the run."""
    words = [sys.executable if name.endswith(".py") else "sh", name]
    with tempfile.TemporaryDirectory() as directory:
        Path(directory, name).write_text(program + "\n")
        draft = [COMMAND, "draft", "--settle", "-o", "fare.matrix.toml", "--", *words]
        settled = subprocess.run(draft, cwd=directory, capture_output=True, text=True)
        ran = subprocess.run([COMMAND, "run"], cwd=directory, capture_output=True, text=True)
    told = re.findall(r"^(?:defect|remark) .*", settled.stderr, re.MULTILINE)
    lines = [each for each in ran.stdout.splitlines() if " vectors: " in each or " vector: " in each]
    return settled.returncode == ran.returncode == 0, "; ".join(told), lines[-1] if lines else settled.stderr[-200:]


def main() -> None:
    """Make programs and write what became of them."""
    given = [int(each) for each in sys.argv[1:]]
    count, first = [*given, *[12, 0][len(given) :]]
    rows = ["| programs | sound | green, and no defect told | seconds a program |", "|---|---|---|---|"]
    for kind, (make, name) in KINDS.items():
        green, spent = 0, []
        for seed in range(first, first + count):
            begun = time.monotonic()
            is_green, told, last = tried(make(Made(seed)), name)
            spent.append(time.monotonic() - begun)
            green += is_green and "defect" not in told
            if not is_green or "defect" in told:
                print(kind, seed, told, last, flush=True)
        rows.append(f"| {kind} | {count} | {green} | {sorted(spent)[len(spent) // 2]:.1f} |")
        print(rows[-1], flush=True)
    rows += ["", "| one fault | programs | told by settling | told by the run | not told |", "|---|---|---|---|---|"]
    for fault, change in FAULTS.items():
        seen = [0, 0, 0, 0]
        for seed in range(first, first + count):
            sound = getopts(Made(seed))
            faulty = change(sound)
            if faulty == sound:
                continue
            is_green, told, _ = tried(faulty, "fare.sh")
            seen[0] += 1
            seen[1] += bool(told)
            seen[2] += not is_green
            seen[3] += is_green and not told
        rows.append(f"| {fault} | {' | '.join(map(str, seen))} |")
        print(rows[-1], flush=True)
    command = f"python benchmarks/sound.py {count}" + (f" {first}" if first else "")
    write_section("Made-up programs, sound and with a fault", command, rows)


if __name__ == "__main__":
    main()
