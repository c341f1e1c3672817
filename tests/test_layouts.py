"""Help texts as programs of the common libraries print them, each in its layout, and what is drafted of them."""

from __future__ import annotations

from typing import Any

import pytest

from keen_matrix.core.signature.drafting import checked, draft_signature
from keen_matrix.core.signature.helptext import LAYOUTS, bounds_in, choices_in, read_help
from tests.conftest import Place

ARGPARSE = """\
usage: fare [-h] [-n RIDERS] [--format {text,json}] [-t TAG [TAG ...]] ORIGIN [PORT ...]

What a crossing costs.

positional arguments:
  ORIGIN                where the crossing starts
  PORT

options:
  -h, --help            show this help message and exit
  -n RIDERS, --riders RIDERS
                        people, 1 to 60 (default 1)
  --format {text,json}  how to print it
  -t TAG [TAG ...], --tags TAG [TAG ...]
"""
CLICK = """\
Usage: fare [OPTIONS] ORIGIN [PORTS]...

  What a crossing costs.

Options:
  -n, --riders INTEGER RANGE  People on board.  [default: 1; 1<=x<=60]
  --format [text|json]        How to print it.
  --day [%Y-%m-%d|%Y-%m-%dT%H:%M:%S|%Y-%m-%d %H:%M:%S]
                              The day.  [required]
  --bell / --no-bell          Ring the bell.
  --help                      Show this message and exit.
"""
TYPER = """\
 Usage: fare book [OPTIONS] {origin} [destinations]...

 Book a crossing.

╭─ Arguments ──────────────────────────────────────────────────────────────────╮
│ *    origin               <str>        where it starts [required]            │
│      destinations...      <list[str]>  where it ends                         │
╰──────────────────────────────────────────────────────────────────────────────╯
╭─ Options ────────────────────────────────────────────────────────────────────╮
│    --riders  -n               <int range> [1<=x<=60]  people [default: 1]    │
│    --format                   <text|json>             how to print it        │
│                                                       [default: text]        │
│ *  --day                      <str>                   the day [required]     │
│    --bell        --no-bell    <bool>                  ring [default: bell]   │
│              -v               <int>                   say more [default: 0]  │
│    --help                     <bool>                  Show this message and  │
│                                                       exit.                  │
╰──────────────────────────────────────────────────────────────────────────────╯
"""
TYPEROLD = """\
 Usage: fare [OPTIONS] ORIGIN [PORTS]...

 What a crossing costs.

╭─ Arguments ──────────────────────────────────────────────────────────────────╮
│ *    origin      TEXT        where it starts [default: None] [required]      │
│      ports       [PORTS]...  more [default: None]                            │
╰──────────────────────────────────────────────────────────────────────────────╯
╭─ Options ────────────────────────────────────────────────────────────────────╮
│ *  --day     -d               TEXT                   the day [default: None] │
│                                                      [required]              │
│    --riders  -n               INTEGER RANGE          people [default: 1]     │
│                               [1<=x<=60]                                     │
│    --format                   [text|json]            how to print it         │
│    --bell        --no-bell                           ring [default: bell]    │
│    --help                                            Show this message and   │
│                                                      exit.                   │
╰──────────────────────────────────────────────────────────────────────────────╯
"""
DOCOPT = """\
Ferry.

Usage:
  ferry book <name>... [--riders=<n>]
  ferry list [--all | --open] [<port>]
  ferry (-h | --help)
  ferry --version

Options:
  -h --help      Show this screen.
  --version      Show version.
  --riders=<n>   People on board [default: 1].
  --all          All of them.
"""
GNU = """\
Usage: order [OPTION]... [FILE]...
Write sorted lines.

Mandatory arguments to long options are mandatory for short options too.
  -b, --ignore-blanks         ignore leading blanks
  -c, --check, --check=diagnose-first  check for sorted input
  -C, --check=quiet, --check=silent  like -c, but do not report
  -k, --key=KEYDEF            sort via a key
      --color[=WHEN]          colour it; WHEN is 'always', 'never', or 'auto'
  -0 ... -9                   how hard to try
      --help     display this help and exit
      --version  output version information and exit
"""
GETOPTS = """\
usage: tide [-q] [-d day] [-u unit] port...
"""
GO_FLAG = """\
Usage of ./ferry:
  -bell
    \tring the bell (default true)
  -count int
    \thow many (default 3)
  -format string
    \thow to print it, one of text, json (default "text")
  -n riders
    \tpeople, riders on board (default 1)
  -rate float
    \trate (default 1.5)
  -v\tsay more
  -wait duration
    \thow long to wait (default 1s)
"""
GO_PFLAG = """\
book a crossing

Usage:
  ferry book ORIGIN [DESTINATION] [flags]

Flags:
      --colour string[="always"]   when to colour (default "auto")
      --day string                 the day
      --format string              how to print it (text|json) (default "text")
  -h, --help                       help for book
  -l, --loud count                 how loud
      --rate float                 the rate (default 1.5)
  -n, --riders int                 how many people (default 1)
      --tags strings               several tags
      --wait duration              how long to wait

Global Flags:
  -v, --verbose   say more
"""
CLAP2 = """\
ferry 0.1.0
Books the ferry.

USAGE:
    ferry [FLAGS] [OPTIONS] <ORIGIN> [DESTINATION]...

FLAGS:
    -h, --help       Prints help information
    -q, --quiet      Says less
    -V, --version    Prints version information

OPTIONS:
    -f, --format <FORMAT>    How to print it [default: text]  [possible values: text, json]
    -n, --riders <N>...      How many people

ARGS:
    <ORIGIN>            Where it starts
    <DESTINATION>...    Where it ends
"""
CLAP4 = """\
book a crossing

Usage: ferry book [OPTIONS] --day <DAY> <ORIGIN> [DESTINATIONS]...

Arguments:
  <ORIGIN>           where it starts
  [DESTINATIONS]...  where it ends

Options:
  -n, --riders <RIDERS>    how many people [default: 1]
      --format <FORMAT>    how to print it [default: text] [possible values: text, json]
      --day <DAY>          the day
  -t, --tags <TAGS>...     tags
      --colour[=<COLOUR>]  when to colour
  -h, --help               Print help information
"""
CLAP4LONG = """\
Books the ferry

Usage: ferry [OPTIONS] --day <DAY> <ORIGIN>

Arguments:
  <ORIGIN>
          Where it starts

Options:
  -f, --format <FORMAT>
          How to print it

          [default: text]
          [possible values: text, json]

      --day <DAY>
          The day

  -h, --help
          Print help (see a summary with '-h')
"""
COMMANDER = """\
Usage: ferry book [options] <origin> [destinations...]

book a crossing

Arguments:
  origin                 where it starts
  destinations           where it ends

Options:
  -n, --riders <number>  how many people (default: "1")
  -f, --format <kind>    how to print it (choices: "text", "json", default:
                         "text")
  -d, --day <date>       the day
  -t, --tags <tag...>    several tags
  --no-bell              no bell
  -c, --cheese [type]    with cheese
  -h, --help             display help for command
"""
YARGS = """\
ferry book <origin> [destination]

book a crossing

Positionals:
  origin       where it starts                               [string] [required]
  destination  where it ends                          [string] [default: "Holm"]

Options:
      --help     Show help                                             [boolean]
      --version  Show version number                                   [boolean]
  -n, --riders   how many people                           [number] [default: 1]
  -f, --format   how to print it     [choices: "text", "json"] [default: "text"]
      --day      the day                                     [string] [required]
      --tags     several tags                                            [array]
  -v, --verbose  say more                                                [count]
"""
POD = """\
Usage:
        ferry [options] port ...

Options:
    -help   Prints a brief help message and exits.

    -n, --riders=NUMBER
            People on board (default 1).

    --format FORMAT
            One of "text" or "json".

    --[no]bell
            Rings the bell.
"""
BSD = """\
usage: moor [-f | -i | -n] [-alpsv] rope ... bollard
       moor [-R [-H | -L | -P]] [-D format] source_file target_file
"""
GLUED = """\
usage: ferry [options] <expr>[=value] path[#seed]
  -c RRGGBB[AA]      colour
  -p X[,Y,Z]         place
  --set=<key>[=value]  sets it
  -v be verbose
  -e, --level {LMQH}   one letter of LMQH
  -k POS1[,POS2],
      --key=POS1[,POS2]   key
  -n,  --number N    number, for example 3 to 5
  -t --tide T        tide
  --fmt FMT          format [csv|tsv|json]
  --x ...what is this thing? no one knows at all
"""
TIGHT = """\
Usage: tide [options] files
-q be quiet
-d DAY the day
-o FILE write to FILE
-h help
"""
PROSE = """\
Usage: tide [-q] PORT

  Prints when the water is high.  Use -q for the time only.

  Options:
    -q   only the time
"""
SPLIT = """\
Usage: tide [options] args

  -u
  --unit=UNIT       metres or feet, possible values are: metres, feet
  --very-long-name-of-an-option
                    its text
"""


SAMPLES = [
    (ARGPARSE, "fare", "argparse", "argparse", ["[-h,--help] [-n,--riders RIDERS] [--format FORMAT] [-t,--tags TAG...] ORIGIN [PORT...]"],
     {'RIDERS': {'type': 'int', 'min': 1, 'max': 60, 'default': 1}, 'FORMAT': {'type': 'choice', 'of': ['text', 'json']}}),
    (CLICK, "fare", "click", "click", ["[-n,--riders <INTEGER-RANGE>] [--format FORMAT] --day DATE [--bell | --no-bell]... [--help] ORIGIN [PORTS]..."],
     {'INTEGER-RANGE': {'type': 'int', 'min': 1, 'max': 60, 'default': 1}, 'FORMAT': {'type': 'choice', 'of': ['text', 'json']}, 'DATE': {'type': 'date'}}),
    (TYPER, "fare book", "typer", "typer", ["[--riders,-n <int-range>] [--format FORMAT] --day <str> [--bell | --no-bell]... [-v <int>] [--help] <origin> [<destinations>]..."],
     {'int-range': {'type': 'int', 'min': 1, 'max': 60, 'default': 1}, 'FORMAT': {'type': 'choice', 'of': ['text', 'json'], 'default': 'text'}, 'int': {'type': 'int', 'default': 0}}),
    (TYPEROLD, "fare", "typer", "typer", ["--day,-d TEXT [--riders,-n <INTEGER-RANGE>] [--format FORMAT] [--bell | --no-bell]... [--help] ORIGIN [PORTS]..."],
     {'INTEGER-RANGE': {'type': 'int', 'min': 1, 'max': 60, 'default': 1}, 'FORMAT': {'type': 'choice', 'of': ['text', 'json']}}),
    (DOCOPT, "ferry", "docopt", "", ["book <name>... [--riders <n>]", "list [--all | --open] [<port>]", "(-h,--help)", "--version"],
     {'n': {'type': 'int', 'default': 1}}),
    (GNU, "order", "gnu", "getopt-long", ["[-b,--ignore-blanks] [--check[=CHECK]] [-c] [-C] [-k,--key KEYDEF] [--color[=WHEN]] [-0 … -9]... [--help] [--version] [FILE]..."],
     {'CHECK': {'type': 'choice', 'of': ['diagnose-first', 'quiet']}, 'WHEN': {'type': 'choice', 'of': ['always', 'never', 'auto']}, 'FILE': {'type': 'file'}}),
    (GETOPTS, "tide", "getopts", "", ["[-q] [-d <day>] [-u <unit>] <port>..."],
     {}),
    (GO_FLAG, "ferry", "go-flag", "go-flag", ["[-bell] [-count <int>] [-format <string>] [-n <riders>] [-rate <float>] [-v] [-wait <duration>]"],
     {'int': {'type': 'int', 'default': 3}, 'string': {'type': 'choice', 'of': ['text', 'json'], 'default': 'text'}, 'riders': {'type': 'int', 'default': 1}, 'float': {'type': 'float', 'default': 1.5}, 'duration': {'type': 'duration'}}),
    (GO_PFLAG, "ferry book", "go-pflag", "go-pflag", ["[--colour[=<string>]] [--day <day>] [--format <format>] [-h,--help] [-l,--loud...] [--rate <float>] [-n,--riders <int>] [--tags <strings>] [--wait <duration>] [-v,--verbose] ORIGIN [DESTINATION]"],
     {'format': {'type': 'choice', 'of': ['text', 'json'], 'default': 'text'}, 'float': {'type': 'float', 'default': 1.5}, 'int': {'type': 'int', 'default': 1}, 'duration': {'type': 'duration'}}),
    (CLAP2, "ferry", "clap", "clap", ["[-h,--help] [-q,--quiet] [-V,--version] [-f,--format FORMAT] [-n,--riders N...] <ORIGIN> [DESTINATION]..."],
     {'FORMAT': {'type': 'choice', 'of': ['text', 'json'], 'default': 'text'}, 'N': {'type': 'int'}}),
    (CLAP4, "ferry book", "clap", "clap", ["--day DAY [-n,--riders RIDERS] [--format FORMAT] [-t,--tags TAGS...] [--colour[=COLOUR]] [-h,--help] <ORIGIN> [DESTINATIONS]..."],
     {'RIDERS': {'type': 'int', 'default': 1}, 'FORMAT': {'type': 'choice', 'of': ['text', 'json'], 'default': 'text'}}),
    (CLAP4LONG, "ferry", "clap", "clap", ["--day DAY [-f,--format FORMAT] [-h,--help] <ORIGIN>"],
     {'FORMAT': {'type': 'choice', 'of': ['text', 'json'], 'default': 'text'}}),
    (COMMANDER, "ferry book", "commander", "commander", ["[-n,--riders <number>] [-f,--format <kind>] [-d,--day <date>] [-t,--tags <tag>...] [--no-bell] [-c,--cheese[=<type>]] [-h,--help] <origin> [<destinations>...]"],
     {'number': {'type': 'int', 'default': 1}, 'kind': {'type': 'choice', 'of': ['text', 'json'], 'default': 'text'}}),
    (YARGS, "ferry book", "yargs", "yargs", ["[--help] [--version] [-n,--riders RIDERS] [-f,--format FORMAT] --day DAY [--tags TAGS...] [-v,--verbose...] <origin> [<destination>]"],
     {'RIDERS': {'type': 'float', 'default': 1.0}, 'FORMAT': {'type': 'choice', 'of': ['text', 'json'], 'default': 'text'}}),
    (POD, "ferry", "pod", "", ["[-help] [-n,--riders NUMBER] [--format FORMAT] [--bell | --nobell]... <port>..."],
     {'NUMBER': {'type': 'int', 'default': 1}, 'FORMAT': {'type': 'choice', 'of': ['text', 'json']}}),
    (BSD, "moor", "bsd", "", ["[-f | -i | -n] [-a] [-l] [-p] [-s] [-v] <rope>... <bollard>", "[-R [-H | -L | -P]] [-D <format>] <source_file> <target_file>"],
     {'source_file': {'type': 'file'}, 'target_file': {'type': 'file'}}),
    (GLUED, "ferry", "gnu", "", ["[-c RRGGBB] [-p X] [--set <key>] [-v] [-e,--level LEVEL] [-k,--key POS1] [-n,--number N] [-t,--tide T] [--fmt FMT] <expr> <path>"],
     {'LEVEL': {'type': 'choice', 'of': ['L', 'M', 'Q', 'H']}, 'N': {'type': 'int'}, 'FMT': {'type': 'choice', 'of': ['csv', 'tsv', 'json']}, 'path': {'type': 'file'}}),
    (TIGHT, "tide", "getopts", "", ["[-q] [-d DAY] [-o FILE] [-h] <files>..."],
     {'FILE': {'type': 'path'}, 'files': {'type': 'file'}}),
    (PROSE, "tide", "getopts", "", ["[-q] PORT"],
     {}),
    (SPLIT, "tide", "commander", "", ["[-u,--unit UNIT] [--very-long-name-of-an-option] <args>..."],
     {'UNIT': {'type': 'choice', 'of': ['metres', 'feet']}}),
]  # fmt: skip


@pytest.mark.parametrize(("text", "program", "layout", "reader", "synopsis", "values"), SAMPLES)
def test_each_layout_is_read_as_it_is_meant(
    text: str, program: str, layout: str, reader: str, synopsis: list[str], values: dict[str, Any]
) -> None:
    page = read_help(text)
    draft = draft_signature(page, program.split())
    assert (page.layout, page.reader) == (layout, reader)
    assert draft.synopsis == synopsis and draft.values == values
    assert checked(draft).forms


def test_every_layout_has_a_sample() -> None:
    assert {each.name for each in LAYOUTS} == {str(sample[2]) for sample in SAMPLES} | {"general"}


def test_a_line_that_gave_no_option_is_a_doubt() -> None:
    draft = draft_signature(read_help(GLUED), ["ferry"])
    assert draft.doubts == [
        "this line of the help was not understood: --x ...what is this thing? no one knows at all"
    ]


@pytest.mark.parametrize(("text", "choices"), [
    ("format, one of: csv, tsv or json", "csv tsv json"), ("[possible values: fast, slow]", "fast slow"), ("a word [csv|tsv|json]", "csv tsv json"),
    ('how (choices: "text", "json", default: "text")', "text json"), ("level {LMQH}, a letter", "L M Q H"),
    ("colour it; WHEN is 'always', 'never', or 'auto'", "always never auto"), ("choices are red/green", "red green"), ("the mode is one of fast or slow.", "fast slow"),
    ("such as red, green or blue", ""), ("files, e.g. one of a.txt, b.txt", ""), ("one of the many things there are", ""), ("wind {speed}", ""),
    ("the tide is low or high", ""), ("", ""),
])  # fmt: skip
def test_choices_in_prose(text: str, choices: str) -> None:
    assert choices_in(text) == tuple(choices.split())


@pytest.mark.parametrize(("text", "bounds"), [
    ("people, 1 to 60", {"min": 1, "max": 60}), ("[x>=1]", {"min": 1}), ("[default: 3; x<=9]", {"max": 9}), ("[0<=x<=5]", {"min": 0, "max": 5}),
    ("people [default: 1; 1<=x<=60]", {"min": 1, "max": 60}), ("a non-negative number", {"min": 0}), ("for example 3 to 5", {}), ("at 12:30-14:00", {}), ("version 1.2-1.3", {}),
])  # fmt: skip
def test_bounds_in_texts(text: str, bounds: dict[str, int]) -> None:
    assert bounds_in(text) == bounds


FERRY = r"""#!/bin/sh
case "$1" in
  --help) printf 'Usage: ferry [--quiet] COMMAND [ARGS]...\n\nOptions:\n  --quiet   say less\n  --help    help\n\nCommands:\n'
    printf '  book      book a crossing\n  list, ls  list the ports\n  help      this\n  sink      do not\n' ;;
  book) [ "$2" = --help ] && printf 'Usage: ferry book [-n N] PORT\n  -n N      riders\n  --quiet   say nothing\n' ;;
  list) [ "$2" = -h ] && printf 'Usage: ferry list [-n N]\n  -n N   one of a, b\n' ;;
  *) echo "sunk: $*" >> "$LOG"; exit 1 ;;
esac
"""


def test_a_help_that_lists_nothing_but_subcommands_is_one(place: Place) -> None:
    """No other word is tried then: the program may take it for a subcommand."""
    place.write("many.sh", """case $1 in
        --help) printf 'usage: many COMMAND\\n\\ncommands:\\n  book   book a crossing\\n  list   list the ports\\n' ;;
        *) printf 'usage: many %s [-a] PORT\\n  -a   all\\n' "$1" ;; esac""")
    done = place.call("draft", "--", "sh", "many.sh")
    assert '"book [-a] PORT"' in done.out and '"list [-a] PORT"' in done.out, done.out


def test_subcommands_are_asked_for_their_own_help_and_become_forms(place: Place) -> None:
    program = place.write("ferry", FERRY.replace("$LOG", str(place.directory / "log")))
    program.chmod(0o755)
    done = place.call("draft", "--", "./ferry")
    assert done.status == 0, done.err
    assert '"[--help] book [-n N] [--quiet] PORT"' in done.out
    assert '"[--quiet] [--help] list [-n LIST-N]"' in done.out
    assert '"[--quiet] [--help] sink"' in done.out
    assert "doubt: the subcommand sink printed no help of its own" in done.out
    assert (place.directory / "log").read_text() == "sunk: sink --help\nsunk: sink -h\nsunk: \nsunk: --no-such-option\n"
