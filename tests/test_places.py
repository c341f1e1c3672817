"""Where in a program the failing vectors go: the lines of five runtimes, ranked, with what no case reaches."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from typing import Any

import pytest

from keen_matrix.core.insight.places.ranking import dstar, ochiai, parting, ranked
from keen_matrix.core.insight.places.trace import Place, trace_of
from keen_matrix.core.insight.places.tracers import TRACERS
from keen_matrix.core.insight.places.tracers.go import Block, lines_of_blocks
from keen_matrix.core.insight.places.tracing import TracedCase
from keen_matrix.core.model.case import Case
from keen_matrix.core.model.record import Record
from tests.conftest import Place as Directory

PYTHON = """\
import sys

n = sys.argv[1]
if not n.isdecimal():
    sys.exit("usage: fare N")
price = int(n) * 3
if int(n) > 5:
    price -= 2
if price > 1000:
    print("too dear")
print(price)
"""
SHELL = """\
n=${1-1}
case $n in
*[!0-9]*)
    echo "usage: fare N" >&2
    exit 2
    ;;
esac
. "$(dirname "$0")/rates.sh"
price=$((n * RATE))
if [ "$n" -gt 5 ]; then
    price=$((price - 2))
fi
echo "$price"
"""
NODE = """\
const n = process.argv[2];
function price(n) {
    let p = n * 3;
    if (n > 5) {
        p = p - 2;
    }
    return p;
}
if (!/^[0-9]+$/.test(n)) {
    console.error("usage: fare N");
    process.exit(2);
}
console.log(price(Number(n)));
"""
PERL = """\
my $n = shift;
if ($n !~ /^[0-9]+$/) {
    print STDERR "usage: fare N\\n";
    exit 2;
}
my $price = $n * 3;
if ($n > 5) {
    $price = $price - 2;
}
print "$price\\n";
"""
C = """\
#include <stdio.h>
#include <stdlib.h>
#include <ctype.h>
int main(int argc, char **argv) {
    long n, p;
    if (!isdigit(*argv[1]))
        return 2;
    n = atol(argv[1]);
    p = n * 3;
    if (n > 5) {
        p = p - 2;
    }
    printf("%ld\\n", p);
    return 0;
}
"""
GO = """\
package main

import (
	"fmt"
	"os"
	"strconv"
)

func price(n int) int {
	p := n * 3
	if n > 5 {
		p = p - 2
	}
	return p
}

func main() {
	n, err := strconv.Atoi(os.Args[1])
	if err != nil {
		fmt.Fprintln(os.Stderr, "usage: fare N")
		os.Exit(2)
	}
	fmt.Println(price(n))
}
"""
# what a compiler of TypeScript makes of the source below it, and its source map
MADE_JS = """\
"use strict";
var _a;
const rate = { each: 3 };
function price(fare) {
    let p = fare.riders * rate.each;
    if (fare.riders > 5) {
        p = p - 2;
    }
    return p;
}
const n = (_a = process.argv[2]) !== null && _a !== void 0 ? _a : "";
if (!/^[0-9]+$/.test(n)) {
    console.error("usage: fare N");
    process.exit(2);
}
console.log(price({ riders: Number(n) }));
//# sourceMappingURL=fare.js.map"""
MAPPINGS = (
    ";;AAMA,MAAM,IAAI,GAAS,EAAE,IAAI,EAAE,CAAC,EAAE,CAAC;AAE/B,SAAS,KAAK,CAAC,IAAU;IACrB,IAAI,CAAC,GAAW,IAAI,CAAC,MAAM,GAAG,IAAI,CAAC,IAAI,CAAC;IACxC,IAAI,IAAI,CAAC,MAAM,GAAG,CAAC,EAAE,CAAC;"
    "QAClB,CAAC,GAAG,CAAC,GAAG,CAAC,CAAC;IACd,CAAC;IACD,OAAO,CAAC,CAAC;AACb,CAAC;AACD,MAAM,CAAC,SAAW,OAAO,CAAC,IAAI,CAAC,CAAC,CAAC,mCAAI,EAAE,CAAC;AACxC,IAAI,CAAC,UAAU,CAAC,IAAI,CAAC,CAAC,CAAC,EAAE,CAAC;"
    "IACtB,OAAO,CAAC,KAAK,CAAC,eAAe,CAAC,CAAC;IAC/B,OAAO,CAAC,IAAI,CAAC,CAAC,CAAC,CAAC;AACpB,CAAC;AACD,OAAO,CAAC,GAAG,CAAC,KAAK,CAAC,EAAE,MAAM,EAAE,MAAM,CAAC,CAAC,CAAC,EAAE,CAAC,CAAC,CAAC"
)
TYPESCRIPT = """\
type Fare = { riders: number; bike?: boolean };

interface Rate {
    each: number;
}

const rate: Rate = { each: 3 };

function price(fare: Fare): number {
    let p: number = fare.riders * rate.each;
    if (fare.riders > 5) {
        p = p - 2;
    }
    return p;
}
const n: string = process.argv[2] ?? "";
if (!/^[0-9]+$/.test(n)) {
    console.error("usage: fare N");
    process.exit(2);
}
console.log(price({ riders: Number(n) }));
"""
SPEC = """
    [program]
    launch = "{launch}"
    [[matrix]]
    name = "prices"
    line = "{{n}}"
    axes.n = {{ from = 1, to = 9 }}
    expect.stdout = "{{n * 3}}\\n"
    [[matrix]]
    name = "words"
    line = "abc"
    expect.exit = "1..2"
    """
PROGRAMS = {
    "python": ("fare.py", PYTHON, f"{sys.executable} {{here}}/fare.py", 8, "python3"),
    "shell": ("fare.sh", SHELL, "sh {here}/fare.sh", 11, "bash"),
    "node": ("fare.js", NODE, "node {here}/fare.js", 5, "node"),
    "perl": ("fare.pl", PERL, "perl {here}/fare.pl", 8, "perl"),
    "go": ("fare.go", GO, "{here}/fare", 12, "go"),
    "gcov": ("fare.c", C, "{here}/fare", 11, "gcc"),
}


def made(place: Directory, name: str) -> int:
    """Write a program whose line of the number returned is wrong, and its spec."""
    file, text, launch, line, needed = PROGRAMS[name]
    if shutil.which(needed) is None:
        pytest.skip(f"there is no {needed} here")
    path = place.write(file, "")
    path.write_text(text)
    place.write("rates.sh", "RATE=3\n")
    if name == "gcov":
        subprocess.run(["gcc", "--coverage", "-o", "fare", "fare.c"], cwd=place.directory, check=True, capture_output=True)
    if name == "go":
        place.write("go.mod", "module island.example/fare\n\ngo 1.20\n")
        built = subprocess.run(["go", "build", "-cover", "-o", "fare", "."], cwd=place.directory, check=False, capture_output=True)
        if built.returncode:
            pytest.skip("the go that is here builds no program that counts its lines")
    place.write("f.matrix.toml", SPEC.format(launch=launch))
    assert place.call("run").status == 1
    return line


def found(place: Directory, *words: str) -> dict[str, Any]:
    came = place.call("places", "--format", "json", *words)
    assert came.status == 1, came.err
    (spec,) = json.loads(came.out)["specs"]
    return dict(spec)


def test_every_tracer_has_a_program_here() -> None:
    assert {each.name for each in TRACERS} == set(PROGRAMS)


@pytest.mark.parametrize("name", PROGRAMS)
def test_the_wrong_line_is_first_in_every_runtime(place: Directory, name: str) -> None:
    line = made(place, name)
    spec = found(place)
    (cause,) = spec["causes"]
    first, second = cause["places"][:2]
    assert (spec["runtime"], spec["failing"], spec["holding"], spec["traced_differently"]) == (name, 4, 6, [])
    assert (first["line"], first["score"], first["why"], first["holding"]) == (line, 1.0, "runs", 0)
    assert (second["line"], second["why"]) == (line - 1, "decides")
    came = place.call("places")
    assert came.status == 1 and f"{PROGRAMS[name][0]}:{line}   1.00   4 of 4 run it, and 0 of 6 that passed" in came.out
    assert not list(place.directory.glob("**/*.v8")) and not list(place.directory.glob("**/prices.*"))


@pytest.mark.skipif(shutil.which("node") is None, reason="there is no node here")
def test_of_a_script_with_a_source_map_the_lines_are_those_of_its_source(place: Directory) -> None:
    place.write("dist/fare.js", "")
    place.directory.joinpath("dist/fare.js").write_text(MADE_JS)
    source_map = {"version": 3, "file": "fare.js", "sourceRoot": "", "sources": ["../fare.ts"], "names": [], "mappings": MAPPINGS}
    place.directory.joinpath("dist/fare.js.map").write_text(json.dumps(source_map))
    place.directory.joinpath("fare.ts").write_text(TYPESCRIPT)
    place.write("f.matrix.toml", SPEC.format(launch="node {here}/dist/fare.js"))
    place.call("run")
    spec = found(place)
    (cause,) = spec["causes"]
    assert [(each["file"], each["line"]) for each in cause["places"][:2]] == [("fare.ts", 12), ("fare.ts", 11)]
    assert spec["unreached"] == []
    # a map that is none, or whose sources are elsewhere: then the script itself
    place.write("f.matrix.toml", SPEC.format(launch="node {here}/dist/fare.js").replace("from = 1, to = 9", "from = 5, to = 6"))
    place.call("run")
    for mappings, sources in (("!!", ["../fare.ts"]), (MAPPINGS, ["../gone.ts"]), (7, 7)):
        place.directory.joinpath("dist/fare.js.map").write_text(json.dumps({**source_map, "mappings": mappings, "sources": sources}))
        (cause,) = found(place)["causes"]
        assert (cause["places"][0]["file"], cause["places"][0]["line"]) == ("dist/fare.js", 7), mappings


@pytest.mark.parametrize(
    ("blocks", "lines"),
    [
        # as Go 1.27 tells a block, by its statements
        ([(10, 2, 11, 11, 1), (12, 3, 13, 1, 0), (14, 2, 14, 10, 1)], {10: 1, 11: 1, 12: 0, 14: 1}),
        # as Go 1.20 does, by its brackets: the `if` is on the line of both
        ([(9, 23, 11, 11, 1), (14, 2, 14, 10, 1), (11, 11, 13, 3, 0)], {10: 1, 11: 1, 12: 0, 14: 1}),
        ([], {}),
        ([(900, 1, 901, 1, 1)], {}),
    ],
)
def test_lines_of_the_blocks_of_go(blocks: list[tuple[int, int, int, int, int]], lines: dict[int, int]) -> None:
    assert lines_of_blocks(GO.split("\n"), [Block(*each) for each in blocks]) == lines


WHO = "import os, sys\nopen('{log}', 'a').write(open(f'/proc/{{os.getppid()}}/cmdline').read().replace('\\0', ' ') + '\\n')\n"


@pytest.mark.skipif(sys.platform != "linux", reason="who the parent is stands in /proc")
@pytest.mark.parametrize("warm", [True, False])
def test_a_program_that_is_run_warm_is_followed_warm(place: Directory, warm: bool) -> None:
    log = place.directory / "parents.log"
    place.directory.joinpath("fare.py").write_text(WHO.format(log=log) + PYTHON)
    spec = SPEC.format(launch=f"{sys.executable} {{here}}/fare.py").replace("[[matrix]]", f"warm = {str(warm).lower()}\n    [[matrix]]", 1)
    place.write("f.matrix.toml", spec)
    place.call("run")
    log.write_text("")
    (cause,) = found(place)["causes"]
    assert (cause["places"][0]["line"], cause["places"][0]["score"]) == (10, 1.0)
    assert all(("keeper_" in line) == warm for line in log.read_text().splitlines()[warm:])  # the first tells what it imports


@pytest.mark.skipif(sys.platform != "linux", reason="who the parent is stands in /proc")
def test_what_does_otherwise_when_it_is_launched_warm_is_followed_cold(place: Directory) -> None:
    odd = "import os\nif 'keeper_' in open(f'/proc/{os.getppid()}/cmdline').read():\n    print('otherwise')\n"
    place.directory.joinpath("fare.py").write_text(PYTHON + odd)
    place.write("f.matrix.toml", SPEC.format(launch=f"{sys.executable} {{here}}/fare.py"))
    place.call("run")
    place.directory.joinpath("f.matrix.toml").write_text(
        place.directory.joinpath("f.matrix.toml").read_text().replace("[[matrix]]", "warm = true\n[[matrix]]", 1)
    )
    place.call("run", "--cold")
    spec = found(place)
    assert (spec["traced_differently"], spec["failing"], spec["causes"][0]["places"][0]["line"]) == ([], 4, 8)


def test_where_a_vector_leaves_the_way_of_one_that_held(place: Directory) -> None:
    made(place, "python")
    id = next(case["id"] for case in place.cases() if case["argv"] == ["6"])
    spec = found(place, id[:6])
    (way,) = spec["branch_points"]
    assert (way["id"], way["last"], way["next"], way["instead"]) == (id, "fare.py:7", "fare.py:8", "fare.py:9")
    came = place.call("places", id[:6])
    assert "both come to    fare.py:7  if int(n) > 5:" in came.out and "it goes on with fare.py:8  price -= 2" in came.out


def test_what_no_vector_reaches_is_told_with_what_decides_it(place: Directory) -> None:
    made(place, "python")
    (never,) = found(place)["unreached"]
    assert (never["first"], never["last"], never["text"], never["condition"]) == (10, 10, 'print("too dear")', "if price > 1000:")
    assert "9 of 10 lines reached" in place.call("places").out


def test_an_option_that_no_vector_has_is_named(place: Directory) -> None:
    place.write("p.py", """\
        import argparse
        parser = argparse.ArgumentParser()
        parser.add_argument("--bike", action="store_true")
        parser.add_argument("port")
        given = parser.parse_args()
        if given.bike:
            print("with a bike")
        print(given.port)
        """)  # fmt: skip
    place.write("f.matrix.toml", f"""
        [program]
        launch = "{sys.executable} {{here}}/p.py"
        [signature]
        synopsis = "[--bike] PORT"
        derive = []
        [[matrix]]
        name = "ports"
        line = "Holm"
        expect.stdout = "Voe\\n"
        """)  # fmt: skip
    place.call("run")
    (never,) = found(place)["unreached"]
    assert never["argv"] is not None and "--bike" in never["argv"]


def test_a_program_that_does_otherwise_when_traced_is_left_out(place: Directory) -> None:
    place.write("p.py", "import sys\nprint(len(sys.argv), sys.gettrace() is None and not hasattr(sys, 'monitoring'))\n")
    place.write("f.matrix.toml", SPEC.format(launch=f"{sys.executable} {{here}}/p.py"))
    place.call("run")
    came = place.call("places")
    if sys.version_info < (3, 12):
        assert came.status == 3 and "left out: the result changed under tracing" in came.out and "no case could be traced" in came.out


def test_vectors_that_run_the_same_lines_are_no_ranking(place: Directory) -> None:
    place.write("p.py", "import sys\nprint(int(sys.argv[1]) % 7 * 3)\n")
    place.write("f.matrix.toml", SPEC.format(launch=f"{sys.executable} {{here}}/p.py"))
    place.call("run")
    came = place.call("places")
    assert came.status == 1 and "passed cases run the same lines" in came.out and "1.00" not in came.out


@pytest.mark.parametrize(
    ("launch", "why"),
    [
        ("{python} -I {{here}}/fare.py", "-I, so no tracer can be loaded into the program"),
        ("sh -c 'echo 3' x", "so the program is in no file"),
        ("awk 1", "does not count its lines; compile and link it with --coverage"),
    ],
)
def test_what_is_missing_is_said(place: Directory, launch: str, why: str) -> None:
    place.write("fare.py", "print(1)\n")
    place.write("f.matrix.toml", SPEC.format(launch=launch.format(python=sys.executable)))
    place.call("run")
    came = place.call("places")
    assert came.status == 3 and why in came.err


def test_a_child_in_the_same_runtime_is_followed(place: Directory) -> None:
    place.write("p.py", "import subprocess, sys\nsubprocess.run([sys.executable, sys.path[0] + '/q.py', *sys.argv[1:]], check=False)\n")
    place.write("q.py", PYTHON)
    place.directory.joinpath("q.py").write_text(PYTHON)
    place.write("f.matrix.toml", SPEC.format(launch=f"{sys.executable} {{here}}/p.py").replace('expect.exit = "1..2"', "expect.exit = 0"))
    place.call("run")
    (cause,) = found(place)["causes"]
    assert (cause["places"][0]["file"], cause["places"][0]["line"]) == ("q.py", 8)


def test_lines_of_a_program_that_is_killed_are_not_lost(place: Directory) -> None:
    place.write("p.py", "import os, sys\nif sys.argv[1] == '4':\n    os.kill(os.getpid(), 9)\nprint(int(sys.argv[1]) * 3)\n")
    place.write("f.matrix.toml", SPEC.format(launch=f"{sys.executable} {{here}}/p.py"))
    place.call("run")
    causes = found(place)["causes"]
    assert any(each["places"][0]["line"] == 3 for each in causes if each["separates"])


def run_of(id: str, failed: bool, *lines: int, words: tuple[str, ...] = ()) -> TracedCase:
    fields = {"id": id, "matrix": "m", "argv": words, "values": {}, "verdict": "failed" if failed else "passed", "seconds": 0.0, "aspects": []}
    record = Record(**fields, exit=0, signal=None, user_seconds=0.0, system_seconds=0.0, peak_bytes=0)  # type: ignore[arg-type]
    return TracedCase(Case(id=id, matrix=0, argv=words or (id,)), record, trace_of(Place("/f", line) for line in lines))


@pytest.mark.parametrize(
    ("failing", "holding", "all_failing", "expected"), [(4, 0, 4, 1.0), (2, 2, 4, 0.5), (0, 3, 4, 0.0), (4, 12, 4, 0.5)]
)
def test_the_coefficient_of_ochiai(failing: int, holding: int, all_failing: int, expected: float) -> None:
    assert ochiai(failing, holding, all_failing) == pytest.approx(expected)
    assert dstar(4, 0, 4) == float("inf") and dstar(2, 2, 4) == 1.0


def test_a_line_that_failing_vectors_pass_over_is_told_with_the_one_that_decides() -> None:
    runs = [run_of("a", True, 1, 2, 5), run_of("b", False, 1, 2, 3, 5), run_of("c", False, 1, 2, 3, 5)]
    first, second = ranked(runs).places[:2]
    assert (first.place.line, first.why) == (2, "decides") and (second.place.line, second.why) == (3, "skipped")


def test_of_equal_lines_the_one_nearest_to_where_the_ways_part_is_first() -> None:
    runs = [run_of("a", True, 1, 2, 8, 9, 3, 20), run_of("b", False, 1, 2, 3)]
    assert ranked(runs).places[0].place.line == 8
    way = parting(runs[0], [runs[1]])
    assert way is not None and (way.last, way.next, way.instead) == (Place("/f", 2), Place("/f", 8), Place("/f", 3))
    assert parting(runs[1], [runs[1]]) is None


def test_reports_and_coverage_tell_of_the_places(place: Directory) -> None:
    made(place, "python")
    assert "place" in place.call("report", "--format", "csv").out.splitlines()[0]
    assert "suspicious line" not in place.call("report", "--format", "annotations").out
    place.call("places")
    rows = json.loads(place.call("report", "--format", "json").out)
    assert {row["place"] for row in rows if row["verdict"] == "failed"} == {"fare.py:8"}
    assert {row["place"] for row in rows if row["verdict"] == "passed"} == {""}
    told = place.call("report", "--format", "annotations").out
    assert "::warning file=fare.py,line=8,title=suspicious line::" in told
    place.call("report", "--format", "html", "-o", "page.html")
    assert "most suspicious line" in (place.directory / "page.html").read_text()
    came = place.call("coverage")
    assert "lines of the program" in came.out and "9 of 10" in came.out and 'fare.py:10  print("too dear")' in came.out
    (spec,) = json.loads(place.call("coverage", "--format", "json").out)["specs"]
    assert (spec["lines"]["reached"], spec["lines"]["total"]) == (9, 10)
    place.call("run")  # another run, of which nothing is known yet
    assert "suspicious line" not in place.call("report", "--format", "annotations").out


def test_what_cannot_be_kept_is_shown_all_the_same(place: Directory) -> None:
    made(place, "python")
    (place.directory / ".keen-matrix/places.json/full").mkdir(parents=True)
    came = place.call("places")
    assert came.status == 1 and "fare.py:8" in came.out and "cannot be cached for reports and coverage" in came.err


def test_a_case_that_is_not_there_or_held_is_no_comfort(place: Directory) -> None:
    made(place, "python")
    passed = next(case["id"] for case in place.cases() if case["verdict"] == "passed")
    for id in (passed[:6], "zzzzzz"):
        came = place.call("places", id)
        assert came.status in (2, 3) and "suspicious" not in came.out and id in came.err
    came = place.call("places", "--format", "json", passed[:6])
    assert came.status == 3 and json.loads(came.out)["specs"] == []
