"""How well `places` finds seeded faults of one line: python benchmarks/places.py

Seven programs of the ferry office in six languages; each mutation changes or removes one line of one. The sound
program is the reference, so no expectation is written. A fault counts as found when the line (of a removed
one, a neighbour) is among the first three, or ten, places of one of the causes.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from results import write_section

COMMAND = str(Path(sys.executable).parent / "keen-matrix")
SHELL_FARE = """day=1 riders=1 bike=
while getopts d:n:b option; do
    case $option in
    d) day=$OPTARG ;;
    n) riders=$OPTARG ;;
    b) bike=1 ;;
    *) exit 2 ;;
    esac
done
shift $((OPTIND - 1))
case $riders in
"" | *[!0-9]*)
    echo "riders: a number is expected" >&2
    exit 2
    ;;
esac
if [ "$riders" -gt 60 ]; then
    echo "riders: at most 60" >&2
    exit 2
fi
price=$((riders * 30))
if [ -n "$bike" ]; then
    price=$((price + riders * 15))
fi
if [ "$riders" -ge 10 ]; then
    price=$((price - price / 10))
fi
if [ "$day" -gt 5 ]; then
    price=$((price + 20))
fi
echo "$1: $price"
"""
PYTHON_FARE = """import sys

def price_of(riders, bike, day):
    price = riders * 30
    if bike:
        price += riders * 15
    if riders >= 10:
        price -= price // 10
    if day > 5:
        price += 20
    return price

def main(words):
    day, riders, bike = 1, 1, False
    while words and words[0].startswith("-"):
        word = words.pop(0)
        if word == "-b":
            bike = True
        elif word == "-d":
            day = int(words.pop(0))
        elif word == "-n":
            value = words.pop(0)
            if not value.isdecimal():
                sys.exit("riders: a number is expected")
            riders = int(value)
        else:
            return 2
    if riders > 60:
        sys.exit("riders: at most 60")
    print(f"{words[0]}: {price_of(riders, bike, day)}")
    return 0

sys.exit(main(sys.argv[1:]))
"""
PYTHON_MANIFEST = """import argparse
import sys

def seats(riders, bike):
    if riders <= 4:
        return "cabin"
    if riders <= 12:
        return "deck"
    return "hold"

def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("-d", type=int, default=1)
    parser.add_argument("-n", default="1")
    parser.add_argument("-b", action="store_true")
    parser.add_argument("port")
    given = parser.parse_args()
    try:
        riders = int(given.n)
    except ValueError:
        parser.error("riders: a number is expected")
    if riders > 60:
        parser.error("riders: at most 60")
    where = seats(riders, given.b)
    if given.b and where == "cabin":
        where = "deck"
    lines = [f"{given.port} day {given.d}"]
    for number in range(riders):
        if number % 10 == 0:
            lines.append(f"{where} {number // 10 + 1}")
    if given.d > 5:
        lines.append("weekend")
    print(" / ".join(lines))

main()
"""
NODE_FARE = """const words = process.argv.slice(2);
let day = 1, riders = "1", bike = false;
while (words.length && words[0].startsWith("-")) {
    const word = words.shift();
    if (word === "-b") {
        bike = true;
    } else if (word === "-d") {
        day = Number(words.shift());
    } else if (word === "-n") {
        riders = words.shift();
    } else {
        process.exit(2);
    }
}
if (!/^[0-9]+$/.test(riders)) {
    console.error("riders: a number is expected");
    process.exit(2);
}
const count = Number(riders);
if (count > 60) {
    console.error("riders: at most 60");
    process.exit(2);
}
let price = count * 30;
if (bike) {
    price += count * 15;
}
if (count >= 10) {
    price -= Math.floor(price / 10);
}
if (day > 5) {
    price += 20;
}
console.log(`${words[0]}: ${price}`);
"""
C_FARE = """#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static long price_of(long riders, int bike, long day)
{
    long price = riders * 30;
    if (bike)
        price += riders * 15;
    if (riders >= 10)
        price -= price / 10;
    if (day > 5)
        price += 20;
    return price;
}

int main(int argc, char **argv)
{
    long day = 1, riders = 1;
    int bike = 0, at = 1;
    for (; at < argc && argv[at][0] == '-'; at++) {
        if (!strcmp(argv[at], "-b")) {
            bike = 1;
        } else if (!strcmp(argv[at], "-d") && at + 1 < argc) {
            day = atol(argv[++at]);
        } else if (!strcmp(argv[at], "-n") && at + 1 < argc) {
            const char *value = argv[++at];
            if (!*value || strspn(value, "0123456789") != strlen(value)) {
                fputs("riders: a number is expected\\n", stderr);
                return 2;
            }
            riders = atol(value);
        } else {
            return 2;
        }
    }
    if (riders > 60) {
        fputs("riders: at most 60\\n", stderr);
        return 2;
    }
    printf("%s: %ld\\n", at < argc ? argv[at] : "", price_of(riders, bike, day));
    return 0;
}
"""
PERL_FARE = """use strict;
my ($day, $riders, $bike) = (1, 1, 0);
while (@ARGV && $ARGV[0] =~ /^-/) {
    my $word = shift;
    if ($word eq '-b') {
        $bike = 1;
    } elsif ($word eq '-d') {
        $day = shift;
    } elsif ($word eq '-n') {
        $riders = shift;
    } else {
        exit 2;
    }
}
if ($riders !~ /^[0-9]+$/) {
    print STDERR "riders: a number is expected\\n";
    exit 2;
}
if ($riders > 60) {
    print STDERR "riders: at most 60\\n";
    exit 2;
}
my $price = $riders * 30;
if ($bike) {
    $price += $riders * 15;
}
if ($riders >= 10) {
    $price -= int($price / 10);
}
if ($day > 5) {
    $price += 20;
}
print "$ARGV[0]: $price\\n";
"""
GO_FARE = """package main

import (
	"fmt"
	"os"
	"strconv"
)

func priceOf(riders int, bike bool, day int) int {
	price := riders * 30
	if bike {
		price += riders * 15
	}
	if riders >= 10 {
		price -= price / 10
	}
	if day > 5 {
		price += 20
	}
	return price
}

func main() {
	words := os.Args[1:]
	day, riders, bike := 1, 1, false
	for len(words) > 0 && len(words[0]) > 1 && words[0][0] == '-' {
		word := words[0]
		words = words[1:]
		if word == "-b" {
			bike = true
			continue
		}
		if word != "-d" && word != "-n" {
			fmt.Fprintln(os.Stderr, "no such option:", word)
			os.Exit(2)
		}
		number, err := strconv.Atoi(words[0])
		words = words[1:]
		if err != nil {
			fmt.Fprintln(os.Stderr, "a number is expected")
			os.Exit(2)
		}
		if word == "-d" {
			day = number
		} else {
			riders = number
		}
	}
	if riders > 60 {
		fmt.Fprintln(os.Stderr, "riders: at most 60")
		os.Exit(2)
	}
	fmt.Printf("%s: %d\\n", words[0], priceOf(riders, bike, day))
}
"""
PROGRAMS = {
    "fare in sh": ("fare.sh", SHELL_FARE, "sh {here}/%s"),
    "fare in Python": ("fare.py", PYTHON_FARE, "python3 {here}/%s"),
    "manifest in Python": ("manifest.py", PYTHON_MANIFEST, "python3 {here}/%s"),
    "fare in node": ("fare.js", NODE_FARE, "node {here}/%s"),
    "fare in C": ("fare.c", C_FARE, "{here}/%s.bin"),
    "fare in Go": ("fare.go", GO_FARE, "{here}/%s.bin"), "fare in Perl": ("fare.pl", PERL_FARE, "perl {here}/%s"),
}  # fmt: skip
SPEC = """[program]
launch = "{own}"
timeout = 1
[reference]
launch = "{sound}"
aspects = ["exit", "stdout"]
[[matrix]]
name = "crossings"
line = "[-b] [-d {{day}}] [-n {{riders}}] {{port}}"
axes.day = [1, 5, 6]
axes.riders = [1, 4, 5, 9, 10, 12, 13, 60, 61, "many", ""]
axes.port = ["Holm", "Voe"]
combine = "triples"
[[matrix]]
name = "no such option"
line = "-x {{port}}"
axes.port = ["Holm", "Voe"]
"""
CHANGES = (
    (r">=", ">"), (r" > 60", " > 6"), (r" > 5", " > 4"), (r"-gt 5 ", "-gt 4 "), (r"-gt 60", "-gt 6"),
    (r"-ge 10", "-gt 10"), (r"<= 4", "< 4"),
    (r"\* 30", "* 31"), (r"\* 15", "* 16"), (r"\+= 20", "+= 21"), (r"\+ 20", "+ 21"), (r"/ 10\b", "/ 11"),
    (r"exit 2", "exit 3"), (r"return 2", "return 3"), (r"exit\(2\)", "exit(3)"), (r"<= 12", "<= 11"), (r"% 10", "% 9"),
)  # fmt: skip
"""What is changed: the first that fits a line."""


def without(line: str, name: str) -> str:
    """Return a line that does nothing in place of one of a program."""
    gap = line[: len(line) - len(line.lstrip())]
    return gap + {".py": "pass", ".sh": ":"}.get(Path(name).suffix, ";")


def mutants(name: str, text: str) -> Iterator[tuple[int, bool, str]]:
    """Yield the number of a line, whether it is gone, and the program with it changed."""
    lines = text.split("\n")
    for number, line in enumerate(lines, 1):
        for old, new in CHANGES:
            changed = re.sub(old.replace("\\", "\\"), new, line, count=1)
            if changed != line:
                yield number, False, "\n".join([*lines[: number - 1], changed, *lines[number:]])
                break
        if re.fullmatch(r"\s*(if .* )?\$?(price|bike|riders|where|count)\b.*[^{:,]", line):
            yield (
                number,
                True,
                "\n".join([*lines[: number - 1], without(line, name), *lines[number:]]),
            )


def built(path: Path) -> None:
    """Compile a program where it is one to be compiled."""
    if path.suffix == ".c":
        subprocess.run(
            ["gcc", "--coverage", "-o", f"{path}.bin", path.name],
            cwd=path.parent,
            check=True,
            capture_output=True,
        )
    if path.suffix == ".go":
        subprocess.run(
            ["go", "build", "-cover", "-o", f"{path}.bin", path.name],
            cwd=path.parent,
            check=True,
            capture_output=True,
        )


def rank_of(found: dict[str, object], name: str, wanted: set[int]) -> int | None:
    """Return the best rank, from 1, that one of some lines has in any cause."""
    ranks = []
    for spec in found["specs"]:  # type: ignore[attr-defined]
        for cause in spec["causes"]:
            for rank, place in enumerate(cause["places"], 1):
                if (
                    cause["separates"]
                    and place["file"] == name
                    and wanted & set(range(place["line"], place["last"] + 1))
                ):
                    ranks.append(rank)
                    break
    return min(ranks, default=None)


def main() -> None:
    lines = [
        "| program | faults noticed | among the first 3 | among the first 10 | time beside a plain run |",
        "|---|---|---|---|---|",
    ]
    all_noticed = all_three = all_ten = 0
    for title, (name, text, launch) in PROGRAMS.items():
        if sys.argv[1:] and title not in sys.argv[1:]:
            continue
        needed = {".c": "gcc", ".go": "go"}.get(Path(name).suffix)
        if needed and shutil.which(needed) is None:
            continue
        noticed = three = ten = 0
        plain = traced = 0.0
        for number, is_gone, changed in mutants(name, text):
            with tempfile.TemporaryDirectory() as temporary:
                directory = Path(temporary)
                (directory / f"sound-{name}").write_text(text)
                (directory / name).write_text(changed)
                try:
                    built(directory / f"sound-{name}")
                    built(directory / name)
                except subprocess.CalledProcessError:
                    continue
                (directory / "f.matrix.toml").write_text(
                    SPEC.format(own=launch % name, sound=launch % f"sound-{name}")
                )
                env = {
                    key: value
                    for key, value in os.environ.items()
                    if key != "PYTHONDONTWRITEBYTECODE"
                }
                began = time.perf_counter()
                run = subprocess.run(
                    [COMMAND, "run", "--brief"],
                    cwd=directory,
                    capture_output=True,
                    text=True,
                    env=env,
                    check=False,
                )
                took = time.perf_counter() - began
                if run.returncode != 1:
                    continue
                began = time.perf_counter()
                done = subprocess.run(
                    [COMMAND, "places", "--format", "json"],
                    cwd=directory,
                    capture_output=True,
                    text=True,
                    env=env,
                    check=False,
                )
                plain, traced = plain + took, traced + time.perf_counter() - began
                noticed += 1
                wanted = {number - 1, number, number + 1} if is_gone else {number}
                rank = rank_of(json.loads(done.stdout), name, wanted) if done.stdout else None
                three += rank is not None and rank <= 3
                ten += rank is not None and rank <= 10
                if rank is None or rank > 3:
                    what = changed.splitlines()[number - 1].strip()
                    gone = " gone" if is_gone else ""
                    print(f"  {title}, line {number}{gone}: {rank}   {what}", flush=True)
        all_noticed, all_three, all_ten = all_noticed + noticed, all_three + three, all_ten + ten
        lines.append(
            f"| {title} | {noticed} | {three} | {ten} | {traced / plain if plain else 0:.1f} |"
        )
        print(lines[-1], flush=True)
    three, ten = (f"{each} ({100 * each / all_noticed:.0f} %)" for each in (all_three, all_ten))
    lines.append(f"| all | {all_noticed} | {three} | {ten} | |")
    print(lines[-1])
    write_section("Places of seeded faults", "python benchmarks/places.py", lines)


if __name__ == "__main__":
    main()
