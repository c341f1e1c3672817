"""What a program says of itself outside its help: examples, manual pages, completion scripts, samples."""

from __future__ import annotations

import gzip
import json
import tomllib
from pathlib import Path

import pytest

from keen_matrix.core.insight.settling.sources import words_near
from keen_matrix.core.signature.drafting import draft_signature
from keen_matrix.core.signature.examples import with_examples
from keen_matrix.core.signature.helptext import read_help
from keen_matrix.core.signature.model import SignatureFault
from keen_matrix.core.signature.signature import Signature
from keen_matrix.core.signature.sources.beside import completed
from keen_matrix.core.signature.sources.calls import calls_in, code_blocks
from keen_matrix.core.signature.sources.completions import options_in
from keen_matrix.core.signature.sources.manuals import manual_of, plain_manual
from keen_matrix.core.signature.sources.samples import SAMPLES, named_files, sample_for
from tests.conftest import Place

# --- calls in texts ---


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("fare Skerry Holm", ("Skerry", "Holm")),
        ("  $ fare Skerry 'Outer Holm' -n 2   # two of them", ("Skerry", "Outer Holm", "-n", "2")),
        ("python3 fare.py Skerry Holm", ("Skerry", "Holm")),
        ("./fare Skerry Holm    prints the fare", ("Skerry", "Holm")),
        ("fare [OPTIONS] PORT", None),
        ("fare FILE", None),
        ("fare port", None),
        ("fare Skerry | sort", None),
        ("fare Skerry > out.txt", None),
        ("fare - what a crossing costs", None),
        ("fare reads its ports from a file.", None),
        ("sail Skerry", None),
        ("fare 'Skerry", None),
    ],
)
def test_a_line_is_an_example_only_where_it_is_a_call(line: str, words: tuple[str, ...] | None) -> None:
    assert calls_in(line, ["fare", "fare.py"], ["port"]) == ([words] if words else [])


def test_of_a_readme_only_code_counts() -> None:
    text = (
        "# Fare\n\nfare is quick\n\n```sh\n$ fare Skerry Holm\n```\n\n    fare Holm Voe\n\nfare Voe Skerry\n"
    )
    assert calls_in(code_blocks(text), ["fare"]) == [("Skerry", "Holm"), ("Holm", "Voe")]


# --- manual pages ---

MAN = r""".TH FARE 1
.SH NAME
fare \- what a crossing costs
.SH SYNOPSIS
.B fare
[\fB\-n\fR \fIRIDERS\fR] \fIORIGIN\fR \fIDESTINATION\fR
.SH OPTIONS
.TP
.BR \-n ", " \-\-riders =\fIRIDERS\fR
how many
.TP
\fB\-\-bike\fR
with a bike \\fB
.SH EXAMPLES
.nf
fare Skerry Holm \-n 2
.fi
"""
MDOC = """.Dd June 1, 2026
.Dt FARE 1
.Sh NAME
.Nm fare
.Nd what a crossing costs
.Sh SYNOPSIS
.Nm
.Op Fl b
.Op Fl n Ar riders
.Ar origin
.Sh OPTIONS
.Bl -tag
.It Fl b
with a bike
.It Fl n Ar riders
how many
.El
.Sh EXAMPLES
.Dl fare -b Skerry
"""


@pytest.mark.parametrize(
    ("page", "usage", "spellings", "example"),
    [
        (
            MAN,
            "fare [-n RIDERS] ORIGIN DESTINATION",
            [("-n", "--riders"), ("--bike",)],
            ("Skerry", "Holm", "-n", "2"),
        ),
        (MDOC, "fare [-b] [-n riders] origin", [("-b",), ("-n",)], ("-b", "Skerry")),
    ],
)
def test_a_manual_page_is_read_as_a_help(
    page: str, usage: str, spellings: list[tuple[str, ...]], example: tuple[str, ...]
) -> None:
    text = plain_manual(page)
    found = read_help(text)
    assert found.usages == (usage,) and [each.spellings for each in found.options] == spellings
    assert calls_in(text, ["fare"]) == [example]


def test_a_page_may_be_packed_and_may_be_broken(tmp_path: Path) -> None:
    (tmp_path / "fare.1").write_text(MAN)
    assert "Skerry" in manual_of("fare", [str(tmp_path)])
    assert manual_of("no-such-page", [str(tmp_path)]) == ""
    (tmp_path / "fare.1").write_bytes(gzip.compress(MAN.encode())[:40])
    assert "Skerry" not in manual_of("fare", [str(tmp_path)])


# --- completion scripts ---

FISH = "complete -c fare -s n -l riders -x -d 'how many'\ncomplete -c fare -l format -xa 'text json'\ncomplete -c fare -l bike\n"
ZSH = "#compdef fare\n_arguments '(-n --riders)'{-n,--riders}'[how many]:riders:' '--format=[how]:format:(text json)' '--bike[with a bike]'\n"
BASH = 'case $prev in\n  --format) COMPREPLY=( $(compgen -W "text json" -- "$cur") );;\nesac\nCOMPREPLY=( $(compgen -W "--bike --format --riders=" -- "$cur") )\ncomplete -F _fare fare\n'


@pytest.mark.parametrize("script", [FISH, ZSH, BASH])
def test_each_shell_says_which_values_an_option_has(script: str) -> None:
    found = {spelling: each for each in options_in(script, "fare") for spelling in each.spellings}
    assert {"--bike", "--format", "--riders"} <= set(found)
    assert found["--format"].choices == ("text", "json") and not found["--bike"].choices
    assert found["--format"].takes_value and found["--riders"].takes_value and not found["--bike"].takes_value


def test_choices_of_a_script_complete_the_help(tmp_path: Path) -> None:
    (tmp_path / "fare.fish").write_text(FISH)
    (tmp_path / "fare.py").write_text("")
    page = read_help("usage: fare [--format FORMAT] PORT\n\n  --format FORMAT  how to print\n")
    (option,) = completed(page, ["python3", str(tmp_path / "fare.py")]).options
    assert option.choices == ("text", "json")


# --- samples ---


def test_each_kind_of_file_has_a_sample_that_is_one() -> None:
    assert {
        ".py",
        ".json",
        ".yaml",
        ".toml",
        ".csv",
        ".xml",
        ".html",
        ".css",
        ".js",
        ".md",
        ".rst",
        ".po",
        ".svg",
        ".ini",
    } <= {name for each in SAMPLES for name in each.names}
    json.loads(sample_for("a.json").content)  # type: ignore[union-attr]
    tomllib.loads(sample_for("a.toml").content)  # type: ignore[union-attr]
    compile(sample_for("x/a.py").content, "a.py", "exec")  # type: ignore[union-attr]
    assert sample_for("package.json").kind == "JSON" and sample_for("word") is None  # type: ignore[union-attr]


@pytest.mark.parametrize(
    ("said", "names"),
    [
        ("fare: error: config.toml: No such file or directory", ["config.toml"]),
        ("Error: ENOENT: no such file or directory, open 'package.json'", ["package.json"]),
        ("could not find .env here", [".env"]),
        ("no such file: '/etc/ports.toml'", []),
        ("config.toml is fine", []),
        ("fare.py: could not read .env", [".env"]),
    ],
)
def test_a_message_names_the_file_that_it_wants(said: str, names: list[str]) -> None:
    assert list(named_files(said)) == names


# --- examples in a signature ---


def test_the_words_of_examples_are_the_first_values() -> None:
    plain = Signature.from_synopsis("[-k KIND] WHAT [KG]", {"KG": {"type": "float"}})
    made = with_examples(plain, ["weigh 3.5", "-k Birch list"], ["KG"])
    assert made.values["WHAT"].legal() == ["weigh", "list"] and made.values["KIND"].legal() == ["Birch"]
    assert made.values["KG"].legal()[0] == "3.5" and len(made.values["KG"].legal()) > 1
    assert made.judge(("anything",)).status == "accepted", "other words are not refused"


def test_an_example_that_the_synopsis_refuses_is_told_with_its_place(place: Place) -> None:
    with pytest.raises(SignatureFault, match=r"refuses this example \(too-many: "):
        with_examples(Signature.from_synopsis("PORT"), ["a b"])
    place.write(
        "f.matrix.toml",
        '[program]\nlaunch = "true"\n[signature]\nsynopsis = "PORT"\nexample = ["a", "a b"]\n',
    )
    came = place.call("lint")
    assert came.status == 1 and "f.matrix.toml:5:17" in came.out + came.err
    place.write("f.matrix.toml", '[program]\nlaunch = "true"\n[signature]\nsynopsis = "PORT"\n')
    given = place.call("settle", "f.matrix.toml", "--example", "a b")
    assert (
        given.status == 2
        and "--example 'a b': the synopsis refuses this example (too-many: " in given.err
        and "toml:" not in given.err
    )


WEIGH = """
    import argparse
    KNOWN = {"Alder": 3, "Birch": 4}
    parser = argparse.ArgumentParser(
        prog="weigh.py", epilog="examples:\\n  weigh.py weigh Alder 3.5\\n  weigh.py -k Birch list\\n",
        formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("-k", "--kind")
    parser.add_argument("what")
    parser.add_argument("name", nargs="?")
    parser.add_argument("kg", nargs="?", type=float, default=1.0)
    given = parser.parse_args()
    if given.kind and given.kind not in KNOWN: parser.error("no such tree: " + given.kind)
    if given.what == "list":
        if given.name: parser.error("list takes no name")
        print(given.kind or "all")
    elif given.what == "weigh":
        if given.name not in KNOWN: parser.error("no such tree: %s" % given.name)
        print(given.name, given.kg)
    else: parser.error("unknown")
"""


@pytest.mark.long
def test_the_examples_of_a_help_are_bases(place: Place) -> None:
    place.write("weigh.py", WEIGH)
    place.call("draft", "-o", "w.matrix.toml", "--", "python3", "weigh.py")
    settled = place.call("settle", "w.matrix.toml", "--write", timeout=120)
    assert (
        "the example weigh Alder 3.5 works" in settled.out and "name goes with what weigh only" in settled.out
    )
    table = tomllib.loads((place.directory / "w.matrix.toml").read_text())["signature"]
    assert table["example"] == ["weigh Alder 3.5", "-k Birch list"]
    assert "name is None or what == 'weigh'" in table["only-if"]
    assert "all passed" in place.call("run", timeout=120).out


@pytest.mark.long
def test_an_example_that_was_given_finds_what_a_call_needs(place: Place) -> None:
    place.write("need.sh", """
        while getopts o:vw: x; do case $x in o) o=$OPTARG;; w) w=$OPTARG;; v) ;; *) exit 2;; esac; done
        shift $((OPTIND-1))
        [ "$o" = deep ] && [ "$w" = blue ] && [ $# = 1 ] || { echo "nothing to do" >&2; exit 1; }
        echo "ok $1"
    """)  # fmt: skip
    head = '[program]\nlaunch = "sh {here}/need.sh"\n[signature]\nsynopsis = "[-o OUT] [-v] [-w WHAT] [NAME]"\nreader = "getopts"\n'
    place.write("n.matrix.toml", head)
    assert "blocked" in place.call("run").out
    place.write("n.matrix.toml", head + 'example = ["-v -o deep -w blue word"]\n')
    came = place.call("run")
    assert "blocked" not in came.out and "synopsis: -o OUT -w WHAT, without brackets" in came.out
    drafted = place.call("draft", "--example", "-v -o deep -w blue word", "--", "sh", "need.sh")
    assert '"-v", "-o", "deep"' in drafted.out or "-o deep" in drafted.out


def test_a_program_without_help_is_drafted_by_its_manual_page(place: Place) -> None:
    place.write(
        "fare", '#!/bin/sh\ncase $1 in --help|-h|-help|help|"") echo no >&2; exit 1;; esac; echo "$@"\n'
    ).chmod(0o755)
    (place.directory / "fare.1").write_text(MAN)
    came = place.call("draft", "--", "./fare")
    assert "Drafted from its manual page" in came.out and "[-n,--riders RIDERS]" in came.out


WANTS = """
    import argparse, json
    parser = argparse.ArgumentParser(prog="ports.py")
    parser.add_argument("key")
    parser.add_argument("-u", action="store_true")
    given = parser.parse_args()
    try: text = open(".env").read()
    except OSError: raise SystemExit("ports.py: could not read .env")
    try: json.load(open("package.json"))
    except OSError: raise SystemExit("ports.py: package.json: No such file or directory")
    found = dict(line.split("=", 1) for line in text.split()).get(given.key, "none")
    print(found.upper() if given.u else found)
"""


@pytest.mark.long
def test_files_that_the_program_looks_for_by_name_are_put_there(place: Place) -> None:
    place.write("ports.py", WANTS)
    place.call("draft", "-o", "p.matrix.toml", "--", "python3", "ports.py")
    blocked = place.call("run", timeout=120)
    assert 'suggested edit   files.".env" = "…"' in blocked.out and "values.key" not in blocked.out
    settled = place.call("settle", "p.matrix.toml", "--write", timeout=120)
    assert "it needs .env, package.json" in settled.out
    assert "all passed" in place.call("run", timeout=120).out


SEEK = """
    file=; all=; pattern=
    [ "$1" = --help ] && { echo "usage: seek [-a] PATTERN [FILE]"; echo; echo "  -a  count them all"; exit 0; }
    while getopts a o; do case $o in a) all=1;; *) echo "usage: seek [-a] PATTERN [FILE]" >&2; exit 2;; esac; done
    shift $((OPTIND-1))
    [ $# -ge 1 ] && [ $# -le 2 ] || { echo "usage: seek [-a] PATTERN [FILE]" >&2; exit 2; }
    case "Skerry Holm Voe" in *"$1"*) echo "${all:+1 }$1";; *) exit 1;; esac
"""


@pytest.mark.long
def test_a_silent_end_is_no_refusal_where_refusals_speak(place: Place) -> None:
    place.write("seek.sh", SEEK)
    place.call("draft", "-o", "s.matrix.toml", "--", "sh", "seek.sh")
    settled = place.call("settle", "s.matrix.toml", "--write", timeout=120)
    assert "it ends with 1 and says nothing where nothing is wrong with the call" in settled.out
    assert tomllib.loads((place.directory / "s.matrix.toml").read_text())["expect"]["exit"] == [0, 1]


ADDS = """
    import argparse
    parser = argparse.ArgumentParser(prog="adds.py")
    parser.add_argument("-s", "--stop", action="append", default=[])
    parser.add_argument("-n", "--name", default="none")
    given = parser.parse_args()
    print(given.name, *given.stop)
"""


@pytest.mark.long
def test_an_option_whose_values_add_up_is_told_from_one_whose_last_value_counts(place: Place) -> None:
    place.write("adds.py", ADDS)
    place.call("draft", "--help-only", "-o", "a.matrix.toml", "--", "python3", "adds.py")
    settled = place.call("settle", "a.matrix.toml", "--write", timeout=120)
    synopsis = tomllib.loads((place.directory / "a.matrix.toml").read_text())["signature"]["synopsis"]
    assert (
        "each --stop counts" in settled.out
        and "[-s,--stop STOP]..." in synopsis
        and "[-n,--name NAME]..." not in synopsis
    )
    assert "all passed" in place.call("run", timeout=120).out


VALUED = """
    while [ $# -gt 0 ]; do
      case $1 in
        --help) printf '%s\\n' 'usage: load.sh [-o] [-q] PORT' '' '  -o, --output  file to write' '  -q, --quiet   less' '  -V            print version information'; exit 0;;
        -o|--output) [ $# -gt 1 ] || { echo "load.sh: option '--output' requires an argument; see --help" >&2; exit 2; }; out=$2; shift 2;;
        -q|--quiet) quiet=1; shift;;
        -V) echo load 1.0; exit 0;;
        -*) echo "load.sh: unknown option; see --help" >&2; exit 2;;
        *) break;;
      esac
    done
    [ $# -eq 1 ] || { echo "load.sh: one port, see --help" >&2; exit 2; }
    [ -n "$quiet" ] || echo "loading $1 $out"
"""


@pytest.mark.long
def test_an_option_that_says_that_a_value_is_missing_takes_one(place: Place) -> None:
    place.write("load.sh", VALUED)
    draft = place.call("draft", "-o", "l.matrix.toml", "--", "sh", "load.sh")
    assert draft.status == 0 and 'actions = ["-V"]' in (place.directory / "l.matrix.toml").read_text()
    settled = place.call("settle", "l.matrix.toml", "--write", timeout=120)
    assert "--output takes a value" in settled.out
    assert "[-o,--output OUTPUT]" in (place.directory / "l.matrix.toml").read_text()
    ran = place.call("run", timeout=120)
    assert "blame" not in ran.out, "who says where help is blames nobody"


def test_an_empty_table_of_a_stream_lets_anything_pass_and_the_rest_is_checked(place: Place) -> None:
    place.write("both.sh", '[ $# = 0 ] && exit 0; echo "usage: both.sh"; echo "no port" >&2; exit 2\n')
    head = '[program]\nlaunch = "sh {here}/both.sh"\n[signature]\nsynopsis = ""\nderive = ["refusals"]\n'
    place.write("b.matrix.toml", head)
    assert place.call("run").status == 1
    place.write("b.matrix.toml", head + "[refusal]\nstdout = {}\n")
    assert "all passed" in place.call("run").out
    place.write("both.sh", '[ $# = 0 ] && exit 0; echo "usage: both.sh"; echo "no port" >&2; exit 0\n')
    assert place.call("run").status == 1


@pytest.mark.parametrize(
    ("text", "spellings"),
    [
        ("usage: probe FILE\n\n\t-h - print this help\n\t-R - report mode\n", [("-h",), ("-R",)]),
        (
            "Usage: probe [OPTION] FILE\n  --label=name  the name\n  -e, --expr=text  it\n",
            [("--label",), ("-e", "--expr")],
        ),
        (
            "usage: probe FILE\n\n  -#      at most # errors\n  -k      literal\n  -w      words\n",
            [("-k",), ("-w",)],
        ),
        (
            "usage: probe FILE\n\n  --pe\u2010\n       dantic  strict\n  -w      words\n",
            [("--pedantic",), ("-w",)],
        ),
    ],
)
def test_more_ways_to_list_an_option(text: str, spellings: list[tuple[str, ...]]) -> None:
    assert [each.spellings for each in read_help(text).options] == spellings


def test_an_operand_that_only_stands_before_another_is_settled_without_a_crash(place: Place) -> None:
    place.write(
        "cal.sh",
        '[ "$1" = --help ] && { echo "usage: cal.sh [[MONTH] YEAR]"; echo; echo "  -w  by weeks"; exit; }; echo "$@"\n',
    )
    place.call("draft", "-o", "c.matrix.toml", "--", "sh", "cal.sh")
    came = place.call("settle", "c.matrix.toml", timeout=120)
    assert came.status in (0, 1) and "a bug in Keen Matrix" not in came.err


def test_a_word_with_dots_is_an_operand_where_other_words_are_typed_as_they_are() -> None:
    text = "Usage: chase [options ... ] [file ... ]\n       chase -h|--help\n       chase -v|--version\n\nOptions:\n  -f, --from-file\n     Treat them\n"
    draft = draft_signature(read_help(text), ["chase"])
    assert "[<file>...]" in draft.synopsis[0]


def test_one_exit_status_of_all_refusals_is_one_cause_with_its_edit(place: Place) -> None:
    place.write("die.sh", """
        n=1
        while getopts n:q o; do case $o in n) n=$OPTARG;; q) ;; *) echo "die: what?" >&2; exit 255;; esac; done
        shift $((OPTIND-1))
        case $n in ''|*[!0-9]*) echo "die: no number: $n" >&2; exit 255;; esac
        [ $# -ge 1 ] || { echo "die: no port" >&2; exit 255; }
        [ $# -le 1 ] || { echo "die: one port only: $2" >&2; exit 255; }
        echo "$1 $n"
    """)  # fmt: skip
    head = '[program]\nlaunch = "sh {here}/die.sh"\n[signature]\nsynopsis = "[-n N] [-q] PORT"\nvalues.N = { type = "int", min = 0 }\nderive = ["refusals"]\n'
    place.write("d.matrix.toml", head)
    came = place.call("run", timeout=120)
    assert "suggested edit   refusal.exit = 255, or refusal." in came.out
    assert came.out.count("found     255") == 1, came.out
    place.write("d.matrix.toml", head + "[refusal]\nexit = 255\n")
    assert "found     255" not in place.call("run", timeout=120).out


def test_a_plan_says_what_would_be_asked_and_launches_nothing(place: Place) -> None:
    log = place.directory / "log"
    place.write("ferry", f'#!/bin/sh\necho "$*" >> {log}\n').chmod(0o755)
    place.write("f.matrix.toml", '[program]\nlaunch = "{here}/ferry"\n[signature]\nsynopsis = "[-q] PORT"\n')
    came = place.call("settle", "--plan", "f.matrix.toml")
    assert came.status == 0 and not log.exists()
    assert (
        "each in a fresh directory" in came.out
        and "options that take a value" in came.out
        and "2,500 launches" in came.out
    )


def test_what_launches_did_not_suffice_for_is_named(place: Place) -> None:
    place.write("weigh.py", WEIGH)
    place.call("draft", "-o", "w.matrix.toml", "--", "python3", "weigh.py")
    came = place.call("settle", "w.matrix.toml", "--launches", "12", timeout=120)
    assert "still open: values with which its smallest call is accepted; " in came.out


def test_another_user_is_told_of_where_that_cannot_be(place: Place) -> None:
    place.write("f.matrix.toml", '[program]\nlaunch = "true"\n[signature]\nsynopsis = "PORT"\n')
    came = place.call("settle", "--as-user", "no-such-user", "f.matrix.toml")
    assert came.status == 2 and "there is no user no-such-user" in came.err


@pytest.mark.long
def test_a_default_that_the_help_states_is_checked_whatever_type_the_value_has(place: Place) -> None:
    place.write("rate.sh", """
        r=1.5
        while [ $# -gt 0 ]; do case $1 in
          --help) printf '%s\\n' 'usage: rate.sh [-r RATE] PORT' '' '  -r RATE  rate (default: 2.5)'; exit;;
          -r) r=$2; shift 2;; -*) echo "unknown option $1" >&2; exit 2;; *) break;; esac; done
        [ $# = 1 ] || { echo "one port" >&2; exit 2; }
        echo "$1 $r"
    """)  # fmt: skip
    place.call("draft", "-o", "r.matrix.toml", "--", "sh", "rate.sh")
    place.call("settle", "r.matrix.toml", "--write", timeout=120)
    assert 'RATE = { default = "2.5" }' in (place.directory / "r.matrix.toml").read_text()
    assert "default written out -r" in place.call("run", timeout=120).out


TREES = """
    import argparse, json, os
    parser = argparse.ArgumentParser(prog="trees.py")
    do = parser.add_subparsers(dest="do", required=True)
    add = do.add_parser("add"); add.add_argument("name"); add.add_argument("-q", "--quiet", action="store_true")
    weigh = do.add_parser("weigh"); weigh.add_argument("name"); weigh.add_argument("kg", type=float)
    do.add_parser("list")
    given = parser.parse_args()
    known = json.load(open("trees.json")) if os.path.exists("trees.json") else {}
    if given.do == "add":
        known[given.name] = 0.0
        json.dump(known, open("trees.json", "w"))
        if not given.quiet: print("added", given.name)
    elif given.do == "weigh":
        if given.name not in known: parser.error(f"no such tree: {given.name}")
        print(given.name, given.kg)
    else:
        if not known: parser.error("no trees yet")
        print(*sorted(known))
"""


@pytest.mark.long
def test_what_one_call_makes_another_needs(place: Place) -> None:
    place.write("trees.py", TREES)
    place.call("draft", "-o", "t.matrix.toml", "--", "python3", "trees.py")
    assert "blocked" in place.call("run", timeout=120).out
    settled = place.call("settle", "t.matrix.toml", "--write", timeout=120)
    assert (
        "weigh needs add {name} before it" in settled.out and "list needs add word before it" in settled.out
    )
    ran = place.call("run", timeout=120)
    assert "all passed" in ran.out, ran.out
    place.write("trees.py", TREES.replace("given.kg)", "given.kg * 2)"))
    place.write(
        "t.matrix.toml",
        (place.directory / "t.matrix.toml").read_text() + '\n[expect]\nstdout.contains = "1.5"\n',
    )
    failed = place.call("run", "--only", "accepted", timeout=120)
    assert "trees.py add word ; python3 trees.py weigh word 1.5" in failed.out, "the line to paste has it too"
    (case,) = [
        each["id"]
        for each in place.cases()
        if each["verdict"] == "failed" and each["kind"] == "smallest" and each["argv"][0] == "weigh"
    ]
    assert "word 3.0" in place.call("replay", case).out


@pytest.mark.parametrize("ends", ["exit 3", "kill -9 $$", "sleep 60"])
def test_a_call_whose_first_one_fails_is_not_started_and_says_why(place: Place, ends: str) -> None:
    place.write(
        "two.sh", f"case $1 in make) {ends};; use) [ $# = 1 ] && echo used || exit 2;; *) exit 2;; esac\n"
    )
    place.write("t.matrix.toml", """
        [program]
        launch = "sh {here}/two.sh"
        timeout = "1 s"
        [signature]
        synopsis = ["make", "use"]
        derive = ["accepted"]
        help = []
        before = [{ usage = "use", steps = [{ line = "make" }] }]
    """)  # fmt: skip
    came = place.call("run", timeout=60)
    records = {each["argv"][0]: each for each in place.cases()}
    assert records["use"]["verdict"] == "not-started" and "the step make" in came.out


def test_a_usage_that_is_none_is_told_with_the_nearest(place: Place) -> None:
    place.write("t.matrix.toml", '[program]\nlaunch = "true"\n[signature]\nsynopsis = ["add NAME", "weigh NAME"]\n'
                'before = [{ usage = "weight", steps = [{ line = "add {NAME}" }] }]\n')  # fmt: skip
    came = place.call("lint")
    assert (
        came.status == 1
        and "no usage of the synopsis begins with weight" in came.out + came.err
        and "weigh" in came.out + came.err
    )


@pytest.mark.long
def test_an_unknown_option_that_is_printed_as_a_word_is_an_operand(place: Place) -> None:
    place.write("put.py", """
        import sys
        words = sys.argv[1:]
        if "--help" in words:
            print("usage: put.py [--print] NAME...", "", "  --print  print them", sep="\\n")
            sys.exit()
        names = [each for each in words if each != "--print"]
        if not names: sys.exit("put.py: no names")
        print(*names, sep="\\n" if "--print" in words else " ")
    """)  # fmt: skip
    place.call("draft", "--help-only", "-o", "p.matrix.toml", "--", "python3", "put.py")
    place.call("settle", "p.matrix.toml", "--write", timeout=120)
    table = tomllib.loads((place.directory / "p.matrix.toml").read_text())["signature"]
    assert (
        table["unknown-options"] == "operand" and "ignore-case" not in table and "abbreviations" not in table
    ), table


RUNS = """
    case $1 in
      run) shift; [ $# -ge 1 ] || { echo "which?" >&2; exit 2; }; echo "running $*";;
      list) shift; case $1 in -*) echo "unknown option $1" >&2; exit 2;; esac; [ $# = 0 ] || { echo "no words" >&2; exit 2; }; echo all;;
      *) echo "unknown command" >&2; exit 2;;
    esac
"""


def test_one_usage_may_read_its_words_otherwise(place: Place) -> None:
    place.write("r.sh", RUNS)
    head = '[program]\nlaunch = "sh {here}/r.sh"\n[signature]\nsynopsis = ["run NAME...", "list"]\nhelp = []\nderive = ["refusals"]\n'
    place.write("r.matrix.toml", head)
    came = place.call("run")
    assert "unknown-option" in came.out and came.status == 1
    place.write("r.matrix.toml", head + 'usage.run = { unknown-options = "take" }\n')
    came = place.call("run")
    assert came.status == 0, came.out
    assert any(each["argv"][0] == "list" and each["kind"] == "unknown-option" for each in place.cases()), (
        "the others are still checked"
    )
    place.write("r.matrix.toml", head + 'usage.runs = { unknown-options = "take" }\n')
    wrong = place.call("lint")
    assert (
        "no usage of the synopsis begins with runs" in wrong.out + wrong.err
        and "run" in wrong.out + wrong.err
    )


TURNS = """
    import sys
    USAGE = '''usage: turn.py FORMAT FILE

      FORMAT is what comes out:
          skerry     holm
          voe        outer

      -q   say less
    '''
    words = sys.argv[1:]
    if "--help" in words: print(USAGE); sys.exit()
    words = [each for each in words if each != "-q"]
    if len(words) != 2: sys.exit("turn.py: a format and a file")
    if words[0] not in ("skerry", "holm", "voe", "outer"): sys.exit("turn.py: unknown format " + words[0])
    try: text = open(words[1]).read()
    except OSError as error: sys.exit("turn.py: " + str(error))
    if not text.startswith(">"): sys.exit("turn.py: this is no FASTA: " + words[1])
    print(words[0], len(text))
"""


@pytest.mark.long
def test_a_word_that_the_help_lists_and_a_file_of_a_kind_are_found_together(place: Place) -> None:
    place.write("turn.py", TURNS)
    place.call("draft", "--help-only", "-o", "t.matrix.toml", "--", "python3", "turn.py")
    settled = place.call("settle", "t.matrix.toml", "--write", timeout=120)
    assert "it reads FASTA" in settled.out, settled.out
    ran = place.call("run", timeout=120)
    assert "blocked" not in ran.out and "accepted" in ran.out
    accepted = [each for each in place.cases() if each["family"] == "accepted"]
    assert accepted and all(each["verdict"] == "passed" for each in accepted)


def test_words_near_a_name_are_those_of_its_lines_and_the_ones_below() -> None:
    text = "usage: turn FORMAT FILE\n\nFORMAT is what comes out:\n  skerry   holm\n  <voe>    --outer\n\nmisformatted things\n"
    assert {"skerry", "holm"} <= {*words_near(text, "FORMAT")} and not {"voe", "outer", "is", "format"} & {
        *words_near(text, "FORMAT")
    }
    assert words_near("one format\n", "s") == [] and words_near("", "FORMAT") == []
