"""Settling: what a signature leaves open is found out by experiments, told with its evidence, and stated where nothing
speaks against it."""

from __future__ import annotations

import ast
import json
import re
import shutil
import signal
import sys
import textwrap
import time
import tomllib
from collections import Counter
from pathlib import Path

import pytest

import keen_matrix
from keen_matrix.core.experiments.edits import (
    AppendEdit,
    Edit,
    KeyEdit,
    MaskEdit,
    RemoveEdit,
    SynopsisEdit,
    ValueEdit,
    edited,
)
from keen_matrix.core.experiments.findings import Finding
from keen_matrix.core.insight.settling import (
    answers,
    combinations,
    conflicts,
    contents,
    examples,
    going_with,
    habits,
    outcomes,
    preceding,
    reading,
    refusing,
    replacing,
    structure,
    values,
)
from keen_matrix.core.insight.settling.lab import Lab
from keen_matrix.core.insight.settling.program import with_edit
from keen_matrix.core.insight.settling.settle import STEPS, settled
from keen_matrix.core.insight.settling.sources import lines_told, words_of_script
from keen_matrix.core.launch.workers.engine import WorkerPool
from keen_matrix.core.runs.events import RunWatch
from keen_matrix.core.runs.starting.scripts import text_of_script
from tests.conftest import SIDE_BY_SIDE, Place
from tests.programs import in_sh

FREIGHT = r"""
    refuse() { echo "freight: error: $1" >&2; exit 64; }
    number() { case $1 in '' | *[!-+.0-9eEinfaINFA]*) return 1 ;; esac; printf %f "$1" > /dev/null 2>&1; }
    read_words() { getopt -n freight -o r:u:vq -l round:,unit:,verbose,quiet,list -- "$@"; }
    [ $# = 1 ] && case $1 in -h | --help)
        printf '%s\n' 'usage: freight [-r DIGITS] [-u UNIT] [-v] [-q] WEIGHT FROM' '' 'options:' '  -r, --round DIGITS  digits to round to' \
            '  -u, --unit UNIT  unit' '  -v, --verbose  more' '  -q, --quiet  less' '  --list  list units' '  -h, --help  help'
        exit ;;
    esac
    words=$(read_words "$@" 2> /dev/null) || refuse "$(read_words "$@" 2>&1 > /dev/null)"
    eval set -- "$words"
    digits=2 unit=kg verbose= quiet= list=
    while [ "$1" != -- ]; do
        case $1 in
            -r | --round) digits=$2; shift ;;
            -u | --unit) unit=$2; shift ;;
            -v | --verbose) verbose=1 ;;
            -q | --quiet) quiet=1 ;;
            --list) list=1 ;;
        esac
        shift
    done
    shift
    [ -z "$list" ] || { printf 'kg\nlb\n'; exit; }
    [ -z "$verbose" ] || [ -z "$quiet" ] || refuse "--verbose and --quiet exclude each other"
    [ $# = 2 ] || refuse "expected WEIGHT and FROM"
    number "$1" || refuse "WEIGHT '$1' is not a number"
    case $2 in kg | lb) ;; *) refuse "FROM: invalid choice: '$2' (choose from 'kg', 'lb')" ;; esac
    case $digits in '' | *[!0-9]* | ????????*) refuse "$digits is not between 0 and 9" ;; esac
    [ "$digits" -le 9 ] || refuse "$digits is not between 0 and 9"
    case $unit in kg | lb) ;; *) refuse "UNIT is none of kg, lb" ;; esac
    printf "%.${digits}f\n" "$1"
    """
SPARSE = """
    # what freight costs
    [program]
    launch = "sh {here}/freight.sh"   # in every shell

    [signature]
    synopsis = "[-r,--round DIGITS] [-u,--unit UNIT] [-v,--verbose] [-q,--quiet] [--list] WEIGHT FROM"
    style = "gnu"           # guess
    help = ["-h", "--help"]
    """
FOUND = [
    "WEIGHT is a number", "FROM is one of kg, lb", "DIGITS is a whole number from 0 to 9", "UNIT is one of kg, lb",
    "--verbose and --quiet exclude each other", "--list acts alone", "help is printed on standard output",
    "the help lists no option that the synopsis does not have",
    "it reads its words as getopt-long does", "it refuses with exit 64", 'every refusal says "freight: error:"',
]  # fmt: skip


def findings(text: str, word: str = "finding") -> list[str]:
    return [line.split(None, 1)[1] for line in text.splitlines() if line.startswith(word)]


@pytest.fixture
def freight(place: Place) -> Place:
    place.write("freight.sh", FREIGHT)
    place.write("f.matrix.toml", SPARSE)
    return place


@pytest.mark.long
def test_what_a_spec_leaves_open_is_found_shown_and_written_once(freight: Place) -> None:
    path = freight.directory / "f.matrix.toml"
    before = path.read_text()
    shown = freight.call("settle", "f.matrix.toml", "--launches", "200", timeout=120)
    assert shown.status == 1 and path.read_text() == before
    assert sorted(findings(shown.out)) == sorted(FOUND)
    assert findings(shown.out, "defect") == ["--help is refused together with other words"]
    assert "at most 200 launches of sh" in shown.err
    assert "word kg   exit 64: freight: error: WEIGHT 'word' is not a number" in shown.out
    assert (
        '+values.FROM = { of = ["kg", "lb"] } # observed: ' in shown.out
        and "keen-matrix settle f.matrix.toml --write" in shown.out
    )
    written = freight.call("settle", "f.matrix.toml", "--write", timeout=120)
    text = path.read_text()
    assert written.status == 0 and findings(written.out) == findings(shown.out)
    assert "at most 2,500 launches of sh" in written.err, "by what one costs"
    assert "# what freight costs\n[program]\n" in text and "   # in every shell\n" in text
    assert (
        "exit = 64 # observed in" in text
        and 'reader = "getopt-long" # observed' in text
        and "style" not in text
    )
    again = freight.call("settle", "f.matrix.toml", timeout=120)
    assert (
        again.status == 0
        and findings(again.out) == []
        and "nothing to write, 1 likely defect" in again.out
    )
    assert path.read_text() == text
    ran = freight.call("run", "f.matrix.toml", "--jobs", "2", timeout=120)
    kinds = {each["family"] for each in freight.cases() if each["verdict"] != "passed"}
    assert ran.status == 1 and kinds == {"help"}, "only what was told as a defect"


def test_launches_are_limited_and_what_was_found_is_kept(freight: Place) -> None:
    came = freight.call("settle", "f.matrix.toml", "--launches", "30", timeout=120)
    assert came.status == 1 and "the launches did not suffice" in came.out
    assert "WEIGHT is a number" in findings(came.out) and len(findings(came.out)) < len(FOUND)
    assert int(came.out.split("after ")[1].split()[0]) <= 30


def test_an_interruption_keeps_what_was_found(freight: Place) -> None:
    freight.write("freight.sh", "    sleep 0.04" + FREIGHT)
    process = freight.start("settle", "f.matrix.toml", "--write")
    assert process.stderr is not None
    # a warning where root runs it may precede
    assert any(b" launches of " in process.stderr.readline() for _ in range(2))
    time.sleep(5)
    process.send_signal(signal.SIGINT)
    out, _ = process.communicate(timeout=60)
    assert (
        process.returncode == 130 and b"interrupted: this was found so far" in out
    )
    assert 'WEIGHT = { type = "float" }' in (freight.directory / "f.matrix.toml").read_text()


def test_what_a_spec_states_by_itself_is_not_written_over(freight: Place) -> None:
    own = ['joined = true   # as agreed', 'repeat = "last"', '[refusal] # every one', 'exit = [64, 65]', 'stderr.contains = "error:"', 'stream = "stdout"']
    text = textwrap.dedent(SPARSE).replace('style = "gnu"           # guess', "\n".join(own[:2])) + "\n".join([*own[2:5], "[help]", own[5], ""])
    path = freight.write("f.matrix.toml", text)
    came = freight.call("settle", "f.matrix.toml", "--write", timeout=120)
    after = path.read_text()
    assert came.status == 0 and "WEIGHT is a number" in findings(came.out)
    assert all(f"{line}\n" in after for line in own) and "reader" not in after


LENIENT = """
    import sys
    words = sys.argv[1:]
    if "--help" in words:
        print("usage: berth [--deep] [--side SIDE] PORT\\n\\noptions:\\n  --deep  deep water\\n  --side {port,starboard}  which\\n  --help  help")
        sys.exit(0)
    if "--side" in words[-1:]:
        raise IndexError("no side")
    operands = [word for at, word in enumerate(words) if not word.startswith("-") and words[at - 1] != "--side"]
    if len(operands) != 1:
        print("berth: expected PORT", file=sys.stderr)
        sys.exit(2)
    print(operands[0])
    """


def test_what_looks_like_a_fault_is_told_and_not_stated(place: Place) -> None:
    place.write("berth.py", LENIENT)
    came = place.call(
        "draft", "--settle", "-o", "b.matrix.toml", "--", "python3", "-S", "berth.py", timeout=120
    )
    defects = findings(came.err, "defect")
    assert "it accepts calls that its signature refuses: not-a-choice" in defects, came.err
    assert any("unhandled error" in each for each in defects), "a traceback is no refusal"
    text = (place.directory / "b.matrix.toml").read_text()
    assert '["port", "starboard"]' in text and "missing-values" not in text


TIDE = """
    #!/bin/sh
    while getopts qd: option; do
        case $option in d) day=$OPTARG ;; q) ;; *) echo "usage: tide [-q] [-d DAY] PORT" >&2; exit 2 ;; esac
    done
    shift $((OPTIND - 1))
    [ $# -eq 1 ] || { echo "tide: expected PORT" >&2; exit 2; }
    case $1 in
    Skerry | Holm) echo "$1" ;;
    Voe) echo "$1" ;;
    *) echo "tide: unknown PORT" >&2; exit 2 ;;
    esac
    """


def test_words_of_a_script_are_tried_where_nothing_else_is_accepted(place: Place) -> None:
    place.write("tide.sh", TIDE)
    place.write(
        "t.matrix.toml",
        '[program]\nlaunch = "sh {here}/tide.sh"\n[signature]\nsynopsis = "[-q] [-d DAY] PORT"\n',
    )
    came = place.call("settle", "t.matrix.toml", "--write", timeout=120)
    text = (place.directory / "t.matrix.toml").read_text()
    assert "PORT is a text such as Skerry, Holm, Voe" in findings(came.out)
    assert (
        'PORT = { of = ["Skerry", "Holm", "Voe"], open = true }' in text
        and 'reader = "getopts"' in text
    )
    assert place.call("run", "t.matrix.toml").status == 0


NEEDING = """
    while getopts bfd:s option; do
        case $option in b | f) [ -z "$mode" ] || { echo "pick: -b or -f" >&2; exit 2; }; mode=$option ;; d) sign=$OPTARG ;; s) only=1 ;; *) exit 2 ;; esac
    done
    shift $((OPTIND - 1))
    [ $# -eq 1 ] || { echo "pick: expected PORT" >&2; exit 2; }
    [ -n "$mode" ] || { echo "pick: say -b or -f" >&2; exit 2; }
    [ ${#sign} -le 1 ] || { echo "pick: the sign must be a single character" >&2; exit 2; }
    [ "$mode" = f ] || [ -z "$sign$only" ] || { echo "pick: that makes sense with fields only" >&2; exit 2; }
    echo "$1"
    """


def test_an_option_that_needs_another_is_found_with_it(place: Place) -> None:
    place.write("pick.sh", NEEDING)
    place.write("p.matrix.toml", '[program]\nlaunch = "sh {here}/pick.sh"\n[signature]\nsynopsis = "(-b | -f) [-d SIGN] [-s] PORT"\nhelp = []\n')
    came = place.call("settle", "p.matrix.toml", "--write", timeout=120)
    assert {"-s needs -f", "-d needs -f"} <= set(findings(came.out)), came.out
    text = (place.directory / "p.matrix.toml").read_text()
    assert "not has('-s') or has('-f')" in text and 'SIGN = { of = [","], open = true }' in text
    ran = place.call("run", "p.matrix.toml")
    assert ran.status == 0, ran.out
    refused = [each["argv"] for each in place.cases() if each["family"] == "refusals" and each["kind"] == "condition"]
    assert ["-b", "-s", "word"] in refused, "each condition has a vector that it refuses"


STYLES = """
    while getopts acegnrupt option; do
        case $option in
        a | c | e | g | n | r | u) [ "${style:-$option}" = $option ] || { echo "list: conflicting styles" >&2; exit 2; }; style=$option ;;
        p) padded=1 ;;
        t) echo "list: unexpected end of input" >&2; exit 1 ;;
        *) exit 2 ;;
        esac
    done
    shift $((OPTIND - 1))
    case "$padded$style" in 1[!c]) echo "list: conflicting styles" >&2; exit 2 ;; esac
    [ $# -eq 2 ] || { echo "list: expected two PORTS" >&2; exit 2; }
    echo "${style:-plain} $1 $2"
    """


def test_many_options_that_exclude_each_other_are_one_group_and_what_is_always_refused_is_aside(place: Place) -> None:
    place.write("list.sh", STYLES)
    synopsis = "[-a] [-c] [-e] [-g] [-n] [-r] [-u] [-p] [-t] [-x] PORTS..."
    place.write("l.matrix.toml", f'[program]\nlaunch = "sh {{here}}/list.sh"\n[signature]\nsynopsis = "{synopsis}"\nhelp = []\n'
                "[signature.values]\nPORTS = { type = \"int\" }   # guess\n")  # fmt: skip
    came = place.call("settle", "l.matrix.toml", "--write", "--launches", "400", timeout=120)
    text = (place.directory / "l.matrix.toml").read_text()
    found = findings(came.out)
    assert "[-a | -c | -e | -g | -n | -r | -u]" in text, came.out
    assert "not (has('-a') and has('-p'))" in text and "has('-c')" not in text, "beside -c it is accepted"
    assert "-t is refused on its own" in found and 'aside = ["-t"]' in text
    assert "-x is in the synopsis, but the program does not know it" in findings(came.out, "remark")
    assert "PORTS has 2 words" in found and "PORTS is any text" in found, "that they are two says nothing of their type"
    assert "count = 2" in text and "guess" not in text
    ran = place.call("run", "l.matrix.toml")
    assert {each["family"] for each in place.cases() if each["verdict"] != "passed"} == {"accepted"}, ran.out
    assert not any("-t" in each["argv"] for each in place.cases()), "no derived vector has what is set aside"


PICKING = """
    [ "$1" = --help ] && { echo "usage: pick"; exit 0; }
    case "$*" in
    "-a Holm" | "Holm" | "-b Holm" | "-a") echo ok ;;
    *-t*) echo "pick: not an archive" >&2; exit 1 ;;
    *-a*-b* | *-b*-a*) echo "pick: -a and -b exclude each other" >&2; exit 1 ;;
    *-z*) echo "pick: unknown option" >&2; exit 1 ;;
    *) echo ok ;;
    esac
    """


def test_what_goes_within_a_pass_is_passed_over_by_what_comes_behind_it(place: Place) -> None:
    place.write("pick.sh", PICKING)
    place.write("p.matrix.toml", '[program]\nlaunch = "sh {here}/pick.sh"\n[signature]\n'
                'synopsis = ["[-a] [-b] [-t] [-u] PORT", "-a [-b] [-t] [-u]"]\n')  # fmt: skip
    came = place.call("settle", "p.matrix.toml", "--write", timeout=120)
    assert came.status == 0 and "fault in Keen Matrix" not in came.err, came.err
    assert 'aside = ["-t"]' in (place.directory / "p.matrix.toml").read_text()


def settled_and_run(place: Place, script: str, signature: str) -> tuple[str, str, str]:
    """Settle and then run a program that the settled signature must describe; return what settling and
    the run print, and the spec."""
    place.write("own.sh", script)
    place.write("own.matrix.toml", f'[program]\nlaunch = "sh {{here}}/own.sh"\n[signature]\nhelp = []\n{signature}\n')
    came = place.call("settle", "own.matrix.toml", "--write", timeout=120)
    ran = place.call("run", "own.matrix.toml")
    assert {each["verdict"] for each in place.cases()} == {"passed"}, came.out + ran.out
    return came.out, ran.out, (place.directory / "own.matrix.toml").read_text()


SEEKING = """
    while getopts qe:dlR:h option; do
        case $option in
        e) pattern=$OPTARG ;;
        d) few=1 ;;
        l) echo Holm Vik; exit 0 ;;
        q | h) ;;
        *) exit 2 ;;
        esac
    done
    shift $((OPTIND - 1))
    [ "$pattern" ] || { [ $# -gt 0 ] || { echo "seek: expected PATTERN" >&2; exit 2; }; pattern=$1; shift; }
    [ $# -gt 0 ] || [ "$few" ] || { echo "seek: expected PORT" >&2; exit 2; }
    [ "$few" ] && [ $# -gt 0 ] && { echo "seek: too many words: $1" >&2; exit 2; }
    [ $# -gt 1 ] && { echo "seek: too many words: $2" >&2; exit 2; }
    echo "$pattern in ${1:-all}"
    """


def test_an_option_that_stands_in_for_an_operand_begins_a_line_of_its_own(place: Place) -> None:
    out, _, text = settled_and_run(place, SEEKING, 'style = "posix"\nsynopsis = "[-q] [-e TEXT] [-d] [-l] PATTERN PORT"')
    assert {"with -e it asks for no PATTERN", "with -d it asks for no PORT", "-l acts alone"} <= set(findings(out)), out
    lines = ("[-q] [-l] PATTERN PORT", "[-q] -d [-l] PATTERN", "[-q] -e TEXT [-l] PORT", "[-q] -e TEXT -d [-l]")
    assert all(f'  "{each}",\n' in text for each in lines), text


LISTING = """
    [ "$1" = --from ] && { echo "count: cannot open '$2'" >&2; exit 1; }
    for word; do case $word in -l | -w) ;; -*) echo "count: unknown option $word" >&2; exit 1 ;; esac; done
    echo counted
    """


def test_a_line_of_which_nothing_is_accepted_is_set_aside_where_another_works(place: Place) -> None:
    out, ran, text = settled_and_run(place, LISTING, 'synopsis = ["[-l] [-w] [FILE]...", "--from LIST [-l] [-w]"]')
    assert 'aside = ["--from"]' in text and "-l is refused" not in out, out
    assert "left out   1 option is in no derived case: --from" in ran
    assert not any("--from" in each["argv"] for each in place.cases() if each["family"] != "refusals")
    assert "calls with --from, which the signature sets aside" in place.call("unfold", "own.matrix.toml").out


DECODING = """
    while getopts dqv option; do case $option in d) decodes=1 ;; q | v) ;; *) exit 2 ;; esac; done
    shift $((OPTIND - 1))
    [ $# -le 1 ] || { echo "too many words" >&2; exit 2; }
    [ "$decodes" ] && [ $# -gt 0 ] && { echo "$1: invalid input" >&2; exit 1; }
    echo "${1:-nothing}"
    """


def test_an_option_that_cannot_use_the_operand_is_set_aside(place: Place) -> None:
    out, _, _ = settled_and_run(place, DECODING, 'synopsis = "[-d] [-q] [-v] [WORD]"')
    assert "-d is refused beside operands" in findings(out), out


FOLLOWING = """
    while getopts fq option; do case $option in f) endless=1 ;; q) ;; *) exit 2 ;; esac; done
    shift $((OPTIND - 1))
    [ $# -gt 0 ] || { echo "expected PORT" >&2; exit 2; }
    [ "$endless" ] && exec sleep 600
    echo "$1"
    """


def test_an_option_with_which_the_program_does_not_end_is_set_aside_at_once(place: Place) -> None:
    out, _, _ = settled_and_run(place, FOLLOWING, 'synopsis = "[-f] [-q] PORT"')
    assert findings(out)[0] == "with -f it does not end" and out.count("timed out") == 1, out


PACKING = """
    case $1 in -?*) echo "pack: no option $1" >&2; exit 2 ;; esac
    [ $# -gt 0 ] || { echo "pack: FILE is missing" >&2; exit 2; }
    for file; do
        [ -f "$file" ] || { echo "pack: cannot open $file: No such file" >&2; exit 2; }
        mv "$file" "$file.packed"
    done
    """


def test_a_file_that_is_taken_away_is_no_count_of_words(place: Place) -> None:
    place.write("pack.sh", PACKING)
    place.write("p.matrix.toml", '[program]\nlaunch = "sh {here}/pack.sh"\n[signature]\nhelp = []\nsynopsis = "FILE..."\nvalues.FILE = { type = "file" }\n'
                "[files]\n\"sample.txt\" = \"a\"\n\"third.txt\" = \"mine\"\n")  # fmt: skip
    out = place.call("settle", "p.matrix.toml", "--write", timeout=120).out
    assert "it takes sample.txt away: several FILE are several files" in findings(out)
    assert not any(re.search(r"has \d+ words", each) for each in findings(out)), out
    assert '"third.txt" = "mine"\n' in (place.directory / "p.matrix.toml").read_text(), "what is there stays"
    place.call("run", "p.matrix.toml")
    counts = [each for each in place.cases() if each["kind"].startswith("count")]
    assert {len(each["argv"]) for each in counts} >= {2, 3} and {each["verdict"] for each in place.cases()} == {"passed"}


LOOPING = """
    while getopts abq option; do case $option in a) a=1 ;; b) b=1 ;; q) ;; *) exit 2 ;; esac; done
    shift $((OPTIND - 1))
    [ $# -eq 1 ] || { echo "loop: one PORT" >&2; exit 2; }
    [ "$a" ] && [ "$b" ] && exec sleep 60
    echo "$1"
    """


def test_where_some_vectors_do_not_end_a_run_waits_for_them_no_longer_than_they_need(place: Place) -> None:
    place.write("loop.sh", LOOPING)
    path = place.write("l.matrix.toml", '[program]\nlaunch = "sh {here}/loop.sh"\n[signature]\nhelp = []\nstyle = "posix"\nsynopsis = "[-a] [-b] [-q] PORT"\n')
    out = place.call("settle", "l.matrix.toml", "--write", timeout=120, env=SIDE_BY_SIDE).out
    assert findings(out, "remark") == ["with -a and -b it does not end"]
    (told,) = (each for each in findings(out) if "do not end within" in each)
    within = re.fullmatch(r"calls that end take at most \d\.\d+ s; others do not end within (\d) s", told)  # a busy machine takes its time
    assert within, told
    seconds = int(within[1])
    assert tomllib.loads(path.read_text())["program"]["timeout"] == seconds
    place.call("run", "l.matrix.toml", env=SIDE_BY_SIDE)
    hung = [each for each in place.cases() if each["verdict"] == "timed-out"]
    assert hung and all(seconds <= each["seconds"] < 10 for each in hung)  # the default, which it would wait otherwise
    path.write_text(path.read_text().replace(f"timeout = {seconds} # observed", "timeout = 9"))
    place.call("settle", "l.matrix.toml", "--write", timeout=120, env=SIDE_BY_SIDE)
    assert "timeout = 9\n" in path.read_text(), "what a spec says stands"


LENDING = """
    refuse() { echo "lend: $1" >&2; exit 2; }
    while getopts a:b:zn: option; do
        case $option in a) from=$OPTARG ;; b) to=$OPTARG ;; z) none=1 ;; n) count=$OPTARG ;; *) refuse "see lend.txt" ;; esac
    done
    shift $((OPTIND - 1))
    [ $# -eq 0 ] || refuse "too many words: $1"
    for number in "${from-1}" "${to-1}" "${count-1}"; do case $number in '' | *[!0-9]*) refuse "$number is no number" ;; esac; done
    [ "$to" ] && [ "${from:-0}" -gt "$to" ] && { echo "day $from is after day $to" >&2; exit 3; }
    [ "$none" ] && [ "$count" = 0 ] && { echo "with -z and 0 nothing is lent" >&2; exit 3; }
    echo "lent from ${from:-0} to ${to:-0}"
    """


def test_values_that_are_refused_beside_each_other_are_a_condition(place: Place) -> None:
    out, _, text = settled_and_run(
        place, LENDING,
        'style = "posix"\nsynopsis = "[-a DAY] [-b 2-DAY] [-z] [-n COUNT]"\n[signature.values]\n'
        + "\n".join(f'{name} = {{ type = "int", min = 0 }}' for name in ("DAY", "2-DAY", "COUNT")),
    )
    stated = tomllib.loads(text)
    assert set(stated["signature"]["only-if"]) == {"not (has('-a') and has('-b')) or DAY <= _2_DAY", "not (has('-z') and COUNT == 0)"}, out
    # they are refused by another part of the program than what all other refusals come from
    other = {"exit": 3, "stderr": {"empty": False}}
    assert stated["refusal"] == {"exit": 2, "stderr": {"contains": "lend:"}, "condition": other}, text


DIVING = """
    use Getopt::Long qw(:config no_ignore_case);
    GetOptions("depth=s" => \\my $depth, "fast" => \\my $fast) or exit 255;
    if (defined $depth && (length $depth < 1 || length $depth > 2)) { print STDERR "depth should be 1 or 2 chars, not $depth\\n"; exit 2; }
    if (@ARGV) { print STDERR "too many words: @ARGV\\n"; exit 255; }
    print "dived\\n";
    """


@pytest.mark.skipif(shutil.which("perl") is None, reason="no perl here")
def test_lengths_that_a_message_tells_letter_case_and_several_statuses_are_stated(place: Place) -> None:
    place.write("dive.pl", DIVING)
    place.write("dive.matrix.toml", '[program]\nlaunch = "perl {here}/dive.pl"\n[signature]\nhelp = []\n'
                'style = "one-dash"   # guess\nsynopsis = "[-depth DEPTH] [-fast]"\n')  # fmt: skip
    out = place.call("settle", "dive.matrix.toml", "--write", timeout=120).out
    place.call("run", "dive.matrix.toml")
    text = (place.directory / "dive.matrix.toml").read_text()
    assert {each["verdict"] for each in place.cases()} == {"passed"}, text
    assert {"DEPTH is a text of 1 to 2 characters", "it reads its words as perl-getopt-long does, except for ignore-case = false",
            "it refuses with exit 2 or 255; from 126 on they are the shell's"} <= set(findings(out)), out


def test_what_is_set_aside_is_an_option_of_the_synopsis(place: Place) -> None:
    place.write("a.matrix.toml", '[program]\nlaunch = "true"\n[signature]\nsynopsis = "[--follow] PORT"\naside = ["--folow"]\n')
    came = place.call("lint", "a.matrix.toml")
    assert came.status == 1 and "the synopsis has no option --folow" in came.out and "--follow" in came.out.split("mean")[1]


def test_a_file_has_the_lines_that_the_message_asks_for(place: Place) -> None:
    script = """
        case "$#" in 1) ;; *) echo "expected FILE" >&2; exit 2 ;; esac
        case "$1" in -*) echo "unknown option" >&2; exit 2 ;; esac
        [ -f "$1" ] || { echo "$1: no such file" >&2; exit 2; }
        grep -q '^[a-z]*,[0-9]*$' "$1" || { echo "no NAME,SEATS line" >&2; exit 2; }
        grep -c , "$1"
        """
    place.write("aboard.sh", script)
    place.write(
        "a.matrix.toml", '[program]\nlaunch = "sh {here}/aboard.sh"\n[signature]\nsynopsis = "FILE"\nvalues.FILE.type = "file"\n'
        '[files]\n"sample.txt" = "one"\n',
    )  # fmt: skip
    came = place.call("settle", "a.matrix.toml", "--write", timeout=120)
    assert "it reads lines" in findings(came.out), came.out
    assert '"sample.txt" = "word,2\\n"' in (place.directory / "a.matrix.toml").read_text()


COMPARING = """
    import getopt, sys
    pairs, rest = getopt.getopt(sys.argv[1:], "lsr:")
    given = dict(pairs)
    def refuse(text, status=2):
        print("level:", text, file=sys.stderr)
        sys.exit(status)
    if {"-l", "-s"} <= set(given):
        refuse("-l and -s are incompatible")
    if not 1 <= len(rest) <= 3:
        refuse("expected one to three operands")
    if len(rest) > 2 and not rest[2].isdigit():
        refuse(f"invalid START value {rest[2]!r}")
    if "-l" in given and "-r" in given and not open("sample.txt") is given["-r"] and given["-r"] != ".":
        refuse(f"{given['-r']}: No such file or directory")
    sys.exit(0 if rest[0] in "1 one 2 two 3 three" and (len(rest) < 3 or rest[2] == "0") else 1)
    """


def test_optional_operands_and_values_hide_no_conflict_and_a_silent_answer_is_no_type(place: Place) -> None:
    place.write("level.py", COMPARING)
    place.write("l.matrix.toml", """
        [program]
        launch = "python3 -S {here}/level.py"
        [signature]
        synopsis = "[-l] [-s] [-r RULE] PATTERN [PLACE [START]]"
        help = []
        [files]
        "sample.txt" = "1 one"
        """)  # fmt: skip
    came = place.call("settle", "l.matrix.toml", "--write", timeout=120)
    found = findings(came.out)
    # PATTERN is refused with no word of why where it is not found: that is an answer, not a kind of word
    assert "PATTERN is a text such as 2" in found, came.out
    # with 2 the complaint of START is another one, and only with 0 there is none
    assert "START is a text such as 0" in found
    # START is a word at first, with which every vector of all operands is refused
    assert "-s and -l exclude each other" in found
    # what is refused beside -l is the value of -r
    assert any(each.startswith("RULE is ") for each in found) and not any("-r" in each for each in found)


@pytest.mark.parametrize(("help_text", "told"), [
    ("Usage: ferry [OPTION]... PORT\n  -l, --loud   say more\n      --help     display this help and exit\n", "getopt-long"),
    ("Usage: ferry [options] PORT\n\nOptions:\n  -l, --loud  say more\n  -h, --help  display help for command\n", "commander"),
])  # fmt: skip
def test_a_reader_that_is_guessed_is_held_against_the_program(
    place: Place, help_text: str, told: str
) -> None:
    program = f"""
        import getopt, sys
        try:
            pairs, rest = getopt.gnu_getopt(sys.argv[1:], "lh", ["loud", "help"])
        except getopt.GetoptError as error:
            sys.exit(f"ferry: {{error}}")
        if ("--help", "") in pairs or ("-h", "") in pairs:
            print({help_text!r})
            sys.exit(0)
        if len(rest) != 1:
            sys.exit("ferry: expected PORT")
        """
    place.write("ferry.py", program)
    place.call(
        "draft", "--settle", "-o", "d.matrix.toml", "--", "python3", "-S", "ferry.py", timeout=120
    )
    text = (place.directory / "d.matrix.toml").read_text()
    if told == "commander":
        assert 'reader = "getopt-long" # observed' in text and "commander" not in text
    else:
        assert 'reader = "getopt-long" # observed' in text and "guess: its help" not in text


def test_a_draft_launches_only_what_asks_for_help_and_two_calls_that_no_program_accepts(place: Place) -> None:
    log = place.directory / "log"
    place.write(
        "ferry",
        f'#!/bin/sh\necho "$*" >> {log}\necho "usage: ferry [-q] PORT"; echo; echo "  -q  quiet"; echo "  -h  help"\n',
    ).chmod(0o755)
    assert place.call("draft", "--", "./ferry").status == 0
    assert log.read_text().split("\n") == ["--help", "", "--no-such-option", ""]


def test_a_draft_is_refused_before_anything_is_launched_where_its_file_is_there(place: Place) -> None:
    log = place.directory / "log"
    place.write("ferry", f'#!/bin/sh\necho "$*" >> {log}\n').chmod(0o755)
    place.write("d.matrix.toml", "")
    came = place.call("draft", "--settle", "-o", "d.matrix.toml", "--", "./ferry")
    assert came.status == 2 and "d.matrix.toml cannot be written: it exists already" in came.err and not log.exists()


# --- the parts ---


def test_every_step_is_taken() -> None:
    named = {
        each for module in (answers, combinations, conflicts, contents, examples, going_with, habits, outcomes, preceding, reading, refusing, replacing, structure, values) for name, each in vars(module).items() if name.startswith("settle_")
    }  # fmt: skip
    assert named == {step.find for step in STEPS} and all(step.needs and step.finds for step in STEPS)


TEXT = """# first
[signature]
synopsis = "[-a A] [-b] C"   # as it is called
reader = "clap"   # guess: its help is laid out so
# A: a text? how many

[signature.values]
C = { type = "int" }   # guess; how many
"""


@pytest.mark.parametrize(("edit", "old", "new"), [
    (ValueEdit("C", {"type": "int", "min": 1}, "observed"), 'C = { type = "int" }   # guess; how many', 'C = { type = "int", min = 1 } # observed; how many'),
    (ValueEdit("C", {}, "observed: any"), 'C = { type = "int" }   # guess; how many', "# C: observed: any; how many"),
    (ValueEdit("A", {"of": ["x"]}, "observed"), "# A: a text? how many\n", ""),
    (KeyEdit(("signature", "reader"), "yargs", "observed"), 'reader = "clap"   # guess: its help is laid out so', 'reader = "yargs" # observed'),
    (RemoveEdit(("signature", "reader")), 'reader = "clap"   # guess: its help is laid out so\n', ""),
    (AppendEdit(("signature", "actions"), "-b", "observed"), "", 'actions = ["-b"] # observed\n'),
    (SynopsisEdit(("[-a A | -b] C",)), '"[-a A] [-b] C"', '"[-a A | -b] C"'),
    (MaskEdit("stdout", "[0-9]+ ms"), "", "[[mask]]\nmatches = '[0-9]+ ms'"),
])  # fmt: skip
def test_edits_leave_the_rest_of_a_spec_as_it_is(edit: Edit, old: str, new: str) -> None:
    after = edited(TEXT, [edit])
    assert (not old or old not in after) and new in after
    kept = [line for line in TEXT.splitlines() if line not in old]
    assert all(
        line in after
        for line in kept
        if "synopsis" not in line or not isinstance(edit, SynopsisEdit)
    )


def test_what_a_list_has_already_is_not_appended_again() -> None:
    edit = AppendEdit(("signature", "actions"), "-b", "observed")
    assert edited(edited(TEXT, [edit]), [edit]) == edited(TEXT, [edit])


def test_words_of_scripts(tmp_path: Path) -> None:
    script = tmp_path / "s.sh"
    script.write_text("case $1 in\nSkerry | Holm) ;;\n*) x='Voe' y=\"--no\" z='help' ;;\nesac\n")
    assert words_of_script(text_of_script(["/bin/sh", str(script)])) == ["Skerry", "Holm", "Voe"]
    assert text_of_script(["/bin/sh", "no-such-file"]) == ""


@pytest.mark.parametrize(("said", "lines"), [
    ("no NAME,SEATS line", ["word,word\n", "2,word\n", "word,2\n", "2,2\n"]), ("expected KEY=VALUE", ["word=word\n", "2=word\n", "word=2\n", "2=2\n"]),
    ("no such file", []), ("expected A,B,C,D,E", []),
])  # fmt: skip
def test_lines_that_a_message_asks_for(said: str, lines: list[str]) -> None:
    assert list(lines_told(said)) == lines


def test_specs_that_share_workers_are_each_launched_as_they_say(place: Place) -> None:
    place.write("p.sh", 'echo "$* $(cat)"')
    path = place.write("p.matrix.toml", '[program]\nlaunch = "sh {here}/p.sh"\nstdin = "own"\n[signature]\nsynopsis = "PORT"\n')
    with WorkerPool(1) as pool:
        lab = Lab(str(path), path.read_text(), pool, RunWatch(), 20)
        other = with_edit(lab, KeyEdit(("program", "stdin"), "other"))
        said = {(port, name): each.answer((port,)).record.stdout
                for port in ("Holm", "Vik", "Voe") for name, each in (("own", lab), ("other", other))}  # fmt: skip
    assert said == {words: f"{' '.join(words)}\n" for words in said}


CARELESS = """
    use Getopt::Long qw(:config no_ignore_case);
    GetOptions("quiet" => \\my $quiet, "note=s" => \\my $note, "man" => \\my $man);
    print $quiet ? "quiet\\n" : "noted\\n";
    """


@pytest.mark.skipif(shutil.which("perl") is None, reason="no perl here")
def test_a_program_that_goes_on_where_its_reader_complains_has_that_reader(place: Place) -> None:
    place.write("p.pl", CARELESS)
    place.write("p.matrix.toml", '[program]\nlaunch = "perl {here}/p.pl"\n[signature]\nhelp = []\n'
                'style = "one-dash"   # guess\nsynopsis = "[-quiet] [-note NOTE] [-man]"\n')  # fmt: skip
    place.call("settle", "p.matrix.toml", "--write", timeout=120)
    stated = tomllib.loads((place.directory / "p.matrix.toml").read_text())["signature"]
    assert stated["reader"] == "perl-getopt-long" and stated["unknown-options"] == "take" and not stated["ignore-case"], stated
    place.call("run", "p.matrix.toml")
    assert {each["verdict"] for each in place.cases()} == {"passed"}


def test_what_contradicts_the_spec_is_told_and_ends_nothing(place: Place) -> None:
    path = place.write("p.matrix.toml", '[program]\nlaunch = "true"\n[signature]\nsynopsis = "[-a]"\n')
    with WorkerPool(1) as pool:
        lab = Lab(str(path), path.read_text(), pool, RunWatch(), 20)
        assert lab.add(Finding(text="-b is refused", edits=(AppendEdit(("signature", "aside"), "-b"),)))
    assert [each.weight for each in lab.findings] == ["note"] and lab.text == path.read_text()


def test_every_launch_counts_and_none_is_made_twice_since_the_spec_says_more_by_now(place: Place) -> None:
    log = place.directory / "log"
    noted = f"""line=$(printf '<%s>' "$@" | tr '\\n' ' ')\necho "$line" >> '{log}'\n"""
    place.write("freight.sh", noted + textwrap.dedent(FREIGHT))
    path = place.write("f.matrix.toml", textwrap.dedent(SPARSE))
    path.write_text(path.read_text() + '[files]\n"list.txt" = "1\\n"\n')
    came = place.call("settle", "f.matrix.toml", "--launches", "300", timeout=120)
    told = re.search(r"after (\d+) launches", came.out)
    made = log.read_text().splitlines()
    assert told and int(told[1]) == len(made), came.out
    # with the sample and without, again for what varies, and beside an input that is silent
    assert max(Counter(made).values()) <= 4, Counter(made).most_common(4)


def test_launches_end_settling_and_no_clock_does(freight: Place) -> None:
    path = freight.directory / "f.matrix.toml"
    with WorkerPool(1) as pool:
        lab = Lab(str(path), path.read_text(), pool, RunWatch(), 0)
        ended = settled(lab)
    assert (ended.is_stopped, ended.launches, ended.findings) == (True, 0, ())


@pytest.mark.parametrize("place", ["core/covering", "core/insight/settling", "core/experiments/ask.py", "core/experiments/forms.py", "core/runs/grounding/controls.py"])
def test_nothing_that_chooses_what_to_launch_or_state_asks_a_clock(place: str) -> None:
    root = Path(keen_matrix.__file__).parent / place
    for file in [root] if root.is_file() else root.rglob("*.py"):
        imported = {each.name for node in ast.walk(ast.parse(file.read_text())) if isinstance(node, ast.Import) for each in node.names}
        assert not {"time", "datetime"} & imported, file


WHARF = r"""
    words=$(getopt -n wharf -o aqh -l all,quiet,help -- "$@") || exit 1
    eval set -- "$words"
    all= quiet=
    while [ "$1" != -- ]; do
        case $1 in
            -a|--all) all=1 ;;
            -q|--quiet) quiet=1 ;;
            -h|--help) printf '%s\n' 'Usage: wharf NAME [BERTH]' '  or:  wharf OPTION... NAME...' '' '  -a, --all    each NAME' '  -q, --quiet  say less' '  -h, --help   help'; exit ;;
        esac
        shift
    done
    shift
    [ $# -ge 1 ] || { echo "wharf: a NAME is missing" >&2; exit 1; }
    [ -n "$all" ] || [ $# -le 2 ] || { echo "wharf: superfluous '$3'" >&2; exit 1; }
    [ -n "$quiet" ] || echo "$*"
    """


@pytest.mark.skipif(not Path("/usr/bin/getopt").exists(), reason="no getopt here")
def test_a_line_that_takes_many_words_with_an_option_alone_asks_for_it(place: Place) -> None:
    place.write("wharf.sh", WHARF)
    came = place.call("draft", "--settle", "-o", "w.matrix.toml", "--", "sh", "wharf.sh", timeout=120)
    text = place.directory.joinpath("w.matrix.toml").read_text()
    assert "finding   many NAME need --all" in came.err, came
    assert '"-a,--all [-q,--quiet] [-h,--help] NAME..."' in text, text
    assert place.call("run", timeout=120).status == 0


def test_the_bounds_of_a_number_are_found_though_its_parser_says_what_it_is(place: Place) -> None:
    place.write("dock.py", """
        import argparse
        parser = argparse.ArgumentParser(prog="dock")
        parser.add_argument("ship")
        parser.add_argument("--length", type=int, default=20)
        parser.add_argument("--tug", choices=["one", "two"])
        given = parser.parse_args()
        if not 5 <= given.length <= 120:
            parser.error("argument --length: expected 5 to 120")
        """)  # fmt: skip
    came = place.call("draft", "--settle", "-o", "d.matrix.toml", "--", sys.executable, "dock.py", timeout=120)
    stated = tomllib.loads(place.directory.joinpath("d.matrix.toml").read_text())["signature"]
    assert "finding   LENGTH is a whole number from 5 to 120" in came.err, came
    assert stated["values"]["LENGTH"] == {"type": "int", "default": 20, "min": 5, "max": 120}
    assert not {"only-if", "repeat", "aside"} & stated.keys(), "2 is refused on its own: no second use, and no words beside, are to blame"


def test_a_value_is_looked_for_before_a_partner_that_a_message_seems_to_name(place: Place) -> None:
    """Beside --tabs the delimiter does nothing, so that any is accepted."""
    place.write("p.sh", in_sh({"--delimiter": "CHAR", "--tabs": ""}, ("", 0, 0), says="""
        [ -z "$delimiter" ] || [ ${#delimiter} = 1 ] || [ "$is_tabs" ] || wrong "the delimiter is one character (--tabs for tabs)"
        """))
    place.write("p.matrix.toml", '[program]\nlaunch = "sh {here}/p.sh"\n[signature]\nreader = "argparse"\nabbreviations = false\nsynopsis = "[--delimiter CHAR] [--tabs]"\n')
    place.call("settle", "p.matrix.toml", "--write", "--launches", "300", timeout=120)
    stated = tomllib.loads((place.directory / "p.matrix.toml").read_text())["signature"]
    assert "only-if" not in stated and stated["values"] == {"CHAR": {"max": 1}}, stated


def test_an_option_that_needs_an_operand_is_not_set_aside(place: Place) -> None:
    """--read takes standard input for it, and so needs none."""
    place.write("p.sh", in_sh({"--list": "", "--read": ""}, ("PORT", 0, 1), says="""
        [ -z "$is_list" ] || [ $_at = 1 ] || wrong "nothing to list"
        [ -z "$is_read" ] || [ $_at = 1 ] || [ "$(cat)" ] || wrong "nothing to read"
        echo ok
        """))
    place.write("p.matrix.toml", '[program]\nlaunch = "sh {here}/p.sh"\n[signature]\nreader = "argparse"\nabbreviations = false\nsynopsis = "[--list] [--read] [PORT]"\n')
    place.call("settle", "p.matrix.toml", "--write", "--launches", "300", timeout=120)
    stated = tomllib.loads((place.directory / "p.matrix.toml").read_text())["signature"]
    assert stated["only-if"] == ["not has('--list') or PORT is not None"] and stated["aside"] == ["--read"], stated
    place.call("run")
    assert {each["verdict"] for each in place.cases()} == {"passed"}


def test_an_operand_that_every_option_asks_for_is_required_beside_options(place: Place) -> None:
    place.write("p.sh", "[ $# -gt 0 ] || { echo 'usage: fare PORTS'; exit; }" + in_sh(
        {"--list": "", "--all": "", "--quick": ""}, ("PORTS", 0, 99), says='[ $_at -gt 0 ] || wrong "no ports to sail to"; echo ok'
    ))
    place.write("p.matrix.toml", '[program]\nlaunch = "sh {here}/p.sh"\n[signature]\nreader = "argparse"\nabbreviations = false\nsynopsis = "[--list] [--all] [--quick] [PORTS...]"\n')
    place.call("settle", "p.matrix.toml", "--write", "--launches", "300", timeout=120)
    stated = tomllib.loads((place.directory / "p.matrix.toml").read_text())["signature"]
    assert stated["synopsis"] == ["[--list] [--all] [--quick] PORTS...", ""] and "aside" not in stated, stated
    place.call("run")
    assert {each["verdict"] for each in place.cases()} == {"passed"}


def test_what_is_refused_behind_the_input_only_is_claimed_of_no_value(place: Place) -> None:
    place.write("p.sh", in_sh({"--sign": "SIGN"}, ("", 0, 0), says="""
        cat > /dev/null
        sign=${sign-,}
        [ ${#sign} = 1 ] || wrong "the sign must be a single character"
        """))
    place.write("p.matrix.toml", '[program]\nlaunch = "sh {here}/p.sh"\n[signature]\nreader = "argparse"\nabbreviations = false\nsynopsis = "[--sign SIGN]"\n')
    place.call("settle", "p.matrix.toml", "--write", "--launches", "300", timeout=120)
    values = tomllib.loads((place.directory / "p.matrix.toml").read_text())["signature"]["values"]
    assert values["SIGN"]["open"] is True, values
    place.call("run")
    assert {each["verdict"] for each in place.cases()} == {"passed"}


BOAT = """\
while getopts :k:y: o; do
  case $o in
    k) case $OPTARG in KINDS) ;; *) echo "boat: unknown kind '$OPTARG'" >&2; exit 2;; esac;;
    y) case $OPTARG in NUMBERS) ;; *) echo "boat: -y must be 1 to 7, not '$OPTARG'" >&2; exit 2;; esac;;
    *) echo "boat: unknown option -$OPTARG" >&2; UNKNOWN;;
  esac
done
shift $((OPTIND - 1))
[ $# -eq 1 ] || { echo "boat: one island, not $#" >&2; exit 2; }
echo "boat to $1"
"""
BOAT_SPEC = """\
[program]
launch = "sh {here}/boat.sh"
[signature]
synopsis = "[-k KIND] [-y N] ISLAND"
help = []
[signature.values]
KIND = { of = ["bike", "car"] } # guess
"""


@pytest.mark.parametrize(
    ("change", "told", "stated"),
    [
        ({}, None, ""),
        ({"UNKNOWN": "exit 0"}, ("defect", "it accepts calls that its signature refuses: unknown-option"), ""),
        ({"UNKNOWN": ":"}, None, 'unknown-options = "take"'),
        ({"KINDS": "bike|raft"}, ("note", "it refuses car, which the help has: KIND is one of bike, car"), ""),
        ({"NUMBERS": "[1-6]"}, ("defect", "it refuses 7 for N, and its message says 1 to 7"), ""),
        ({"NUMBERS": "[1-8]"}, ("defect", "it accepts 8 for N, and its message says 1 to 7"), ""),
    ],
    ids=["sound", "complains and ends with 0", "warns and goes on", "a choice less", "a number less", "a number more"],
)
def test_what_speaks_against_itself_is_told_and_not_stated(
    place: Place, change: dict[str, str], told: tuple[str, str] | None, stated: str
) -> None:
    sound = {"UNKNOWN": "exit 2", "KINDS": "bike|car", "NUMBERS": "[1-7]"}
    text = BOAT
    for name, code in {**sound, **change}.items():
        text = text.replace(name, code)
    place.write("boat.sh", text)
    place.write("boat.matrix.toml", BOAT_SPEC)
    came = place.call("settle", "--format", "json", timeout=120)
    (spec,) = json.loads(came.out)["specs"]
    found = [(each["class"], each["text"]) for each in spec["findings"] if each["class"] != "change"]
    assert found == ([told] if told else [])
    assert stated in "\n".join(spec["difference"]) and ("unknown-options" in "\n".join(spec["difference"])) == bool(stated)


BY_WORDS = """
    import sys
    words = sys.argv[1:]
    if not words or words[0] == "--help":
        print("usage: crew.py add NAME | crew.py list | crew.py drop NAME COUNT")
        sys.exit(0 if words else 1)
    if words[0] == "add" and len(words) == 2:
        print("added", words[1])
    elif words == ["list"]:
        print("nobody")
    elif words[0] == "drop" and len(words) == 3 and words[2].isdigit():
        print("dropped", words[1], words[2])
    else:
        print("usage: crew.py add NAME | crew.py list | crew.py drop NAME COUNT")
        sys.exit(1)
"""


def test_a_program_that_refuses_on_standard_output_is_no_broken_one(place: Place) -> None:
    place.write("crew.py", BY_WORDS)
    place.call("draft", "-o", "crew.matrix.toml", "--", "python3", "crew.py")
    draft = (place.directory / "crew.matrix.toml").read_text()
    assert [f'  "{each}",' in draft for each in ("add NAME", "list", "drop NAME COUNT")] == [True] * 3
    assert "stdout = { empty = false } # observed" in draft and "stderr = { empty = true } # observed" in draft
    settled = place.call("settle", "crew.matrix.toml", "--write", timeout=120)
    text = (place.directory / "crew.matrix.toml").read_text()
    assert 'help-wins = "alone" # observed' in text and "reader =" not in text, "six calls without options tell no reader"
    assert "gives no help" not in settled.out and "all passed" in place.call("run", timeout=120).out
    place.write("crew.py", BY_WORDS.replace("else:\n", "else:\n        print('which?', file=sys.stderr)\n"))
    assert place.call("run", timeout=120).status == 1, "what was seen is checked"


def test_each_kind_of_refusal_has_the_stream_it_was_seen_on(place: Place) -> None:
    place.write("zone.sh", """
        usage() { echo "usage: zone.sh [-n COUNT] PORT"; }
        case "$1" in -h|--help) usage; echo "  -n COUNT  how many"; exit 0;; esac
        while getopts n: o; do case $o in n) n=$OPTARG;; *) usage; exit 2;; esac; done
        shift $((OPTIND-1)); [ $# -eq 1 ] || { usage; exit 1; }
        echo "$1 $n"
    """)  # fmt: skip
    place.call("draft", "-o", "z.matrix.toml", "--", "sh", "zone.sh")
    place.call("settle", "z.matrix.toml", "--write", timeout=120)
    table = tomllib.loads((place.directory / "z.matrix.toml").read_text())["refusal"]
    assert table["stderr"] == {"empty": True} and table["unknown-option"]["stderr"] == {"contains": "Illegal option"}
    assert "all passed" in place.call("run", timeout=120).out
