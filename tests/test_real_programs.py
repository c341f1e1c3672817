"""Whole families against programs whose words are parsed by the parsers that people use: sound ones hold, broken ones do not.

What breaks show that are of no parser's own, a type or a choice or a conflict that is let pass, the demo's faulty editions show.
"""

from __future__ import annotations

import shutil
import sys
import textwrap
from typing import NamedTuple

import pytest

from tests.conftest import Place


class Real(NamedTuple):
    """A program, its launch, the signature that a user would state, and breaks: text, replacement, family that shows it."""

    file: str
    text: str
    launch: str
    signature: str
    breaks: tuple[tuple[str, str, str], ...]


ARGPARSE = Real(
    "book.py",
    """
    import argparse
    p = argparse.ArgumentParser(prog="book", allow_abbrev=False)
    p.add_argument("port", choices=["Skerry", "Holm"], metavar="PORT")
    p.add_argument("names", nargs="*", metavar="NAME")
    p.add_argument("-n", "--riders", type=int, default=1, metavar="N")
    g = p.add_mutually_exclusive_group()
    g.add_argument("--bike", action="store_true")
    g.add_argument("--car", action="store_true")
    p.add_argument("-v", action="store_true")
    print(vars(p.parse_args()))
    """,
    f"{sys.executable} -S {{here}}/book.py",
    """
    synopsis = "[-h,--help] [-n,--riders N] [--bike | --car] [-v] PORT [NAME...]"
    values.N = { type = "int", default = 1 }
    values.PORT.of = ["Skerry", "Holm"]
    """,
    (
        ("vars(p.parse_args())", "(lambda a: (a.port, a.names, a.riders, a.bike, a.car))(p.parse_args())", "effects"),
        ("p.parse_args()", "p.parse_known_args()[0]", "refusals"),
        ('"--riders", type=int, default=1', '"--riders", type=int, default=2', "accepted"),
("vars(p.parse_args())", "vars(p.parse_args()), len(__import__('sys').argv)", "rephrasings"),
    ),
)  # fmt: skip
GETOPTS = Real(
    "moor.sh",
    """
    usage() { echo "moor: $1" >&2; echo "usage: moor [-q] [-d DAYS] ROPE..." >&2; exit 2; }
    days=1 quiet=no
    while getopts :qd: option; do
        case $option in
            q) quiet=yes ;;
            d) days=$OPTARG
               case $days in '' | *[!0-9]* | ?????*) usage "-d: no number: $days" ;; esac
               [ "$days" -ge 1 ] && [ "$days" -le 9 ] || usage "-d: 1 to 9, not $days" ;;
            :) usage "-$OPTARG needs a value" ;;
            *) usage "unknown option -$OPTARG" ;;
        esac
    done
    shift $((OPTIND - 1))
    [ $# -ge 1 ] || usage "ROPE is missing"
    printf '%s %s' "$days" "$quiet"
    printf ' <%s>' "$@"
    """,
    "sh {here}/moor.sh",
    """
    synopsis = "[-q] [-d DAYS] ROPE..."
    style = "posix"
    values.DAYS = { type = "int", min = 1, max = 9, default = 1 }
    """,
    (
        ("-le 9", "-le 10", "refusals"),
        ("-ge 1 ] ||", "-ge 0 ] ||", "refusals"),
        ("quiet=yes", "quiet=no", "effects"),
        ('*) usage "unknown option -$OPTARG" ;;', "*) ;;", "refusals"),
        ('usage "-d: no number: $days"', 'usage "ROPE: no number"', "refusals"),
        ("shift $((OPTIND - 1))", "shift $((OPTIND - 1)); [ \"$days\" != 9 ] || exit 1", "accepted"),
    ),
)  # fmt: skip
NODE = Real(
    "tag.js",
    """
    const { parseArgs } = require('node:util');
    const options = { loud: { type: 'boolean', short: 'l' }, name: { type: 'string', short: 'n' } };
    try {
        const { values, positionals } = parseArgs({ options, allowPositionals: true });
        if (positionals.length < 1) throw new Error('PORT is missing');
        if (positionals.length > 1) throw new Error(`too many: ${positionals[1]}`);
        console.log(JSON.stringify([values.loud ?? false, values.name ?? '', positionals]));
    } catch (error) {
        console.error(`tag: ${error.message}`);
        process.exit(2);
    }
    """,
    "node {here}/tag.js",
    """
    synopsis = "[-l,--loud] [-n,--name TEXT] PORT"
    """,
    (
        ("options, allow", "options, strict: false, allow", "refusals"),
    ),
)  # fmt: skip
TRUSTED = ("--warm-check", "0")
"""That these do the same warm and cold need not be found out here."""
REAL = {"argparse": ARGPARSE, "getopts": GETOPTS, "node": NODE}


def office(place: Place, real: Real, text: str) -> None:
    families = [
        "accepted",
        "refusals",
        "rephrasings",
        "effects",
        "again",
        *(["help"] if "--help" in real.signature else []),
    ]
    stdout = "stdout.contains = \"'riders': {N}\"\n" if real is ARGPARSE else ""
    place.write(real.file, text)
    place.write(
        "real.matrix.toml",
        f'[program]\nlaunch = "{real.launch}"\nwarm = {str("python" in real.launch).lower()}\n[signature]\nderive = {families}\n{textwrap.dedent(real.signature)}'
        f'[expect]\nexit = 0\nstderr = ""\n{stdout}',
    )


def test_the_families_of_a_sound_program_hold(place: Place) -> None:
    """Those of the others hold in the cookbook, which is walked through."""
    office(place, GETOPTS, GETOPTS.text)
    came = place.call("run", timeout=120)
    assert came.status == 0, came.out + came.err
    judged = {case["judgement"] for case in place.cases()}
    assert judged == {"accepted", "refused"} and len(place.cases()) > 25


@pytest.mark.parametrize(
    ("name", "number"), [(name, number) for name, real in REAL.items() for number in range(len(real.breaks))]
)
def test_a_break_shows_in_its_family(place: Place, name: str, number: int) -> None:
    real = REAL[name]
    if shutil.which(real.launch.split()[0]) is None:
        pytest.skip(f"{real.launch.split()[0]} is not installed")
    text, instead, family = real.breaks[number]
    assert text in real.text
    office(place, real, real.text.replace(text, instead))
    came = place.call("run", "--brief", "--only", family, "--stop-after", "3", *TRUSTED, timeout=120)
    assert came.status == 1, came.out + came.err
    assert {case["verdict"] for case in place.cases()} <= {"passed", "failed", "blocked"}
    failed = [case for case in place.cases() if case["verdict"] == "failed"]
    assert failed and all(case["family"] == family for case in failed)
