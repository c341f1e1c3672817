"""Reading help texts in the layouts that programs commonly print, and bringing usage lines into our notation."""

from __future__ import annotations

import shutil
import textwrap

import pytest

from keen_matrix.core.signature.drafting import checked, draft_signature
from keen_matrix.core.signature.helptext import default_in, option_of, range_in, read_help, words_in
from tests.conftest import Place

ARGPARSE = """
    usage: fare [-h] [-n RIDERS] [--bike | --car] [--format {text,json}]
                ORIGIN DESTINATION [PORT ...]

    What a crossing costs.

    positional arguments:
      ORIGIN                where the crossing starts
      DESTINATION           where it ends

    options:
      -h, --help            show this help message and exit
      -n RIDERS, --riders RIDERS
                            people, 1 to 60 (default 1)
      --bike                with a bike each
      --format {text,json}  how to print it
    """
BOOK = """
    usage: book [-h] [-n RIDERS] [-o FILE]
                {Skerry,Holm} [names ...]

    positional arguments:
      {Skerry,Holm}
      names

    options:
      -h, --help            show this help message and exit
      -n RIDERS, --riders RIDERS
      -o FILE, --out FILE
    """
GNU = """
    Usage: order [OPTION]... [FILE]...
      or:  order [OPTION]... --files0-from=F
    Write sorted lines.

      -b, --ignore-blanks         ignore leading blanks
      -k, --key=KEYDEF            sort via a key; KEYDEF gives location
                                    and type
          --color[=WHEN]          colour the output; WHEN can be always
      -S, --buffer-size=SIZE      use SIZE for main memory
          --help     display this help and exit
    """
GO = """
    Usage of ferry:
      -n int
        \tnumber of riders (default 5)
      -name string
        \tname of the port
      -v\tverbose
    """
NODE = """
    Usage: ferry [options] <origin> [destination]

    Options:
      -V, --version          output the version number
      -p, --port <number>    port to use (default: "80")
      --no-color             no colours
      -t, --tags <tag...>    several tags
      -h, --help             display help for command
    """
GIT = """
    usage: boat load [<options>] [--] <crate>...

        -v, --[no-]verbose    be verbose
        -n, --dry-run         dry run
        --weight <n>          weight of each
    """
GETOPTS = """
    usage: tide [-q] [-d DAY] [-u UNIT] PORT
      -q       only the time
      -d DAY   day of the week, 1 to 7 (default 1)
    """
MANUAL = """
    SYNOPSIS
           moor [-abc] [-f FILE] ROPE...

    OPTIONS
           -a     all
           -f FILE
                  read FILE
    """


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        (ARGPARSE, {"-h --help": "", "-n --riders": "RIDERS", "--bike": "", "--format": "FORMAT"}),
        (GNU, {"-b --ignore-blanks": "", "-k --key": "KEYDEF", "--color": "WHEN", "-S --buffer-size": "SIZE", "--help": ""}),
        (GO, {"-n": "<int>", "-name": "<string>", "-v": ""}),
        (NODE, {"-V --version": "", "-p --port": "<number>", "--no-color": "", "-t --tags": "<tag>", "-h --help": ""}),
        (GIT, {"-v --verbose": "", "-n --dry-run": "", "--weight": "<n>"}),
        (GETOPTS, {"-q": "", "-d": "DAY"}),
        (MANUAL, {"-a": "", "-f": "FILE"}),
    ],
    ids=["argparse", "gnu", "go", "node", "git", "getopts", "manual"],
)  # fmt: skip
def test_options_are_read_in_every_layout(text: str, expected: dict[str, str]) -> None:
    page = read_help(textwrap.dedent(text))
    assert {" ".join(each.spellings): " ".join(each.values) for each in page.options} == expected


@pytest.mark.parametrize(
    ("text", "program", "synopsis"),
    [
        (ARGPARSE, "fare", "[-h,--help] [-n,--riders RIDERS] [--bike | --car] [--format FORMAT] ORIGIN DESTINATION [PORT...]"),
        (GNU, "order", "[-b,--ignore-blanks] [-k,--key KEYDEF] [--color[=WHEN]] [-S,--buffer-size SIZE] [--help] [FILE]..."),
        (GETOPTS, "tide", "[-q] [-d DAY] [-u UNIT] PORT"),
        (NODE, "ferry", "[-V,--version] [-p,--port <number>] [--no-color] [-t,--tags <tag>...] [-h,--help] <origin> [<destination>]"),
        (GIT, "boat load", "[-v,--verbose | --no-verbose]... [-n,--dry-run] [--weight <n>] <crate>..."),
        (MANUAL, "moor", "[-a] [-b] [-c] [-f FILE] ROPE..."),
        (BOOK, "book", "[-h,--help] [-n,--riders RIDERS] [-o,--out FILE] COMMAND [<names>...]"),
        # nothing of a word with a letter twice is a flag of one letter
        ("usage: dive [-v] [-except] [-nocase] [-strip|s PATTERN] PORT\n", "dive", "[-v] [-except] [-nocase] [-strip,-s PATTERN] PORT"),
        ("Dives.\n\ndive [OPTIONS] PORT\n\nOPTIONS\n  --deep  deep\n", "dive", "[--deep] PORT"),
        # what a text says at the beginning of a line is no option
        ("Usage:\n    dive [--left=mark] [--both=mark]\n\nOptions:\n    --left=mark\n        Sets the mark. If one of the other options is set,\n"
         "        --left or --right overrides --both.\n\n    --both=mark\n        Sets both.\n", "dive", "[--left <mark>] [--both <both>]"),
    ],
    ids=["argparse", "gnu", "getopts", "node", "git", "manual", "choices", "words", "without heading", "text"],
)  # fmt: skip
def test_a_usage_line_becomes_a_synopsis_that_fits_together(text: str, program: str, synopsis: str) -> None:
    draft = draft_signature(read_help(textwrap.dedent(text)), program.split())
    assert draft.synopsis[0] == synopsis
    assert checked(draft).forms


def test_types_are_guessed_from_names_defaults_choices_and_ranges() -> None:
    draft = draft_signature(read_help(textwrap.dedent(ARGPARSE)), ["fare"])
    assert draft.values["RIDERS"] == {"type": "int", "min": 1, "max": 60, "default": 1}
    assert draft.values["FORMAT"] == {"type": "choice", "of": ["text", "json"]}
    go = draft_signature(read_help(textwrap.dedent(GO)), ["ferry"])
    assert go.style == "one-dash" and go.values["int"] == {"type": "int", "default": 5}
    assert draft_signature(read_help(textwrap.dedent(GETOPTS)), ["tide"]).style == "posix"


@pytest.mark.parametrize(
    ("text", "default"),
    [("people (default 5)", "5"), ('port (default: "80")', "80"), ("[default: text]", "text"), ("defaults to 7", "7"), ("40 by default", "40"),
     ("the default is none of these words", None), ("no word of it", None)],
)  # fmt: skip
def test_defaults_in_texts(text: str, default: str | None) -> None:
    assert default_in(text) == default or (default is None and default_in(text) in (None, "none"))


@pytest.mark.parametrize(
    ("text", "words"),
    [("port or starboard (default port)", "port starboard"), ("one of red, green or dark-blue", "red green dark-blue"),
     ("either up or down.", "up down"), ("a|b|c [default: b]", "a b c"), ("must be one of: json, csv", "json csv"),
     ("fast, slow, or steady (default: slow)", "fast slow steady"), ("port or berth", ""), ("the port or the berth (default port)", ""),
     ("port (default port)", ""), ("port or starboard (default none)", ""), ("one of many", ""), ("", "")],
)  # fmt: skip
def test_words_to_choose_from_in_texts(text: str, words: str) -> None:
    assert words_in(text) == tuple(words.split())


@pytest.mark.parametrize(
    ("text", "bounds"),
    [
        ("1 to 60", (1, 60)),
        ("between 2 and 9", (2, 9)),
        ("0..5", (0, 5)),
        ("1-7", (1, 7)),
        ("9 to 1", None),
        ("many", None),
    ],
)
def test_ranges_in_texts(text: str, bounds: tuple[int, int] | None) -> None:
    assert range_in(text) == bounds


@pytest.mark.parametrize(
    ("head", "spellings", "values"),
    [
        ("-n, --riders RIDERS", ("-n", "--riders"), ("RIDERS",)), ("-n RIDERS, --riders RIDERS", ("-n", "--riders"), ("RIDERS",)),
        ("--size=W,H", ("--size",), ("<W,H>",)), ("-x | --extra", ("-x", "--extra"), ()), ("--color[=WHEN]", ("--color",), ("WHEN",)),
        ("--name=", ("--name",), ("NAME",)), ("-o <file>", ("-o",), ("<file>",)), ("--dry-run", ("--dry-run",), ()),
        ("-w, --width=width, -width", ("-w", "--width"), ("<width>",)), ("-user, --user user", ("-user", "--user"), ("<user>",)),
    ],
)  # fmt: skip
def test_heads_of_option_lines(head: str, spellings: tuple[str, ...], values: tuple[str, ...]) -> None:
    option = option_of(head)
    assert option is not None and (option.spellings, option.values) == (spellings, values)


@pytest.mark.parametrize(
    "head", ["- a list item", "-- ", "-n is what one would give to the program in such a case as this one here"]
)
def test_sentences_are_no_options(head: str) -> None:
    assert option_of(head) is None


def test_escape_sequences_and_overstriking_are_no_part_of_a_help_text() -> None:
    page = read_help("usage: \x1b[1mp\x1b[0m [-a]\n\n  \x1b[1m-a\x1b[0m, --all   N\bNa\bam\bme\be\n")
    assert [each.spellings for each in page.options] == [("-a", "--all")] and page.options[0].text == "Name"


def test_a_remark_in_a_usage_line_is_no_operand() -> None:
    page = read_help("Usage: index [OPTION]... [INPUT]...   (without -G)\n  or:  index -G [INPUT]\n  -G, --old   as before\n  -q  quiet\n")
    assert draft_signature(page, ["index"]).synopsis == ["[-G,--old] [-q] [INPUT]...", "-G,--old [-q] [INPUT]"]


@pytest.mark.parametrize(("line", "synopsis"), [
    ("-p DIR, --tmpdir[=DIR]   where", "[-p,--tmpdir[=DIR]]"), ("-F, --classify[=WHEN]   how", "[-F] [--classify[=WHEN]]"), ("-d[X], --deep[=X]   how", "[-d,--deep[=X]]"),
    ("-c, -C NUM, --context[=NUM]   how", "[-c] [-C NUM] [--context[=CONTEXT]]"),
])  # fmt: skip
def test_a_letter_has_no_value_where_only_the_long_name_may_have_one(line: str, synopsis: str) -> None:
    page = read_help(f"Usage: index [OPTION]...\n  {line}\n  -q, --quiet   less\n")
    assert draft_signature(page, ["index"]).synopsis == [f"{synopsis} [-q,--quiet]"]


MANY_USAGES = """
    NAME
        tide log - what was entered

    SYNOPSIS
        tide log [-t <type>] [--path=<file> | --all]
                 [--stdin [--raw]] <file>...
        tide log -i DAYS [OPTIONS]
        other-command [OPTIONS] <words>

    OPTIONS
        -t <type>
            Which kind of entry.

        --path
            As if it were there.

        --all
            Everything.

        -o FILE
            write to FILE instead

        --source=FILE
            get the bytes from FILE

        -i DAYS
            The last days.

        --stdin
            Read entries.

        --raw
            As they are.
    """


def test_usage_lines_of_a_page_are_the_programs_own_with_what_makes_up_each() -> None:
    page = read_help(textwrap.dedent(MANY_USAGES))
    draft = draft_signature(page, ["tide", "log"])
    first, second = draft.synopsis
    assert "<file>..." in first and "[--stdin [--raw]]" in first, "a line that ends in dots goes on, and is no sentence"
    assert "-i" not in first and second.startswith("-i DAYS"), "what another line requires makes it up"
    assert "--path <path>" in first and "--path <path>" in second, "its value stands in the usage alone"
    assert draft.values["FILE"] == {"type": "path"} and draft.values["SOURCE"] == {"type": "file"}


NAMED_USAGES = """
    Usage:
        tides -s
        tides [-a|-d] <Port> | /<Pattern>/ [<Day>] ...
        tides [-s <Season>] [ <Port> | /<Pattern>/ ] ...
        tides --pilots -s <Season>
        tides --compare <Day> <Day>

    Options:
        -a          all of them
        -d          by day
        -s          lists all seasons
        --pilots    with pilots
        --compare   two days
        --quiet     say less
"""


def test_an_option_that_usage_lines_name_stands_where_they_name_it_and_others_everywhere() -> None:
    draft = draft_signature(read_help(textwrap.dedent(NAMED_USAGES)), ["tides"])
    assert draft.synopsis == [
        "-s[<Season>] [--quiet]", "[-a | -d] [--quiet] <Port> [<Day>]...", "[-s[<Season>]] [--quiet] [<Port>]...",
        "--pilots -s[<Season>] [--quiet]", "--compare [--quiet] <Day> <Day>",
    ], "-s comes with a value and without, and a pattern stands for the operand before it"


@pytest.mark.skipif(shutil.which("perl") is None, reason="no perl here")
@pytest.mark.parametrize(("switch", "reader"), [("", "perl-getopt-long"), ("qw(:config bundling)", "perl-getopt-long-bundling")])
def test_a_draft_of_a_script_guesses_the_reader_that_it_names(place: Place, switch: str, reader: str) -> None:
    place.write("tides.pl", f"use Getopt::Long {switch};\nGetOptions('day=s', 'help') or exit 2;\n"
                "print \"Usage: tides [OPTION]... PORT\\n\\n  --day=DAY   of that day\\n  --help      this text\\n\";\n")  # fmt: skip
    came = place.call("draft", "--", "perl", "tides.pl")
    assert came.status == 0 and f'reader = "{reader}"   # guess: its script names it' in came.out, came


MANY_HEADS = {
    "several of a NAME, letters that stand for choices, and a dash alone": (
        "Usage: hull [option(s)] [file(s)]\n  -a - --all                Weigh the whole hull\n"
        "  -A|-B|-C  --format={sail|steam|oar}  Kind of hull\n  -h|-H|-?  --help          This text\n  -v|-V     --version       The version\n",
        ["[-a,--all]", "[-A]", "[-B]", "[-C]", "[--format FORMAT]", "[-h,-H,-?,--help]", "[-v,-V,--version]", "[<file>...]"], 0,
    ),
    "a sentence in brackets": (
        "usage: hull [flags and input files in any order]\n\n   -q --quiet   say less\n", ["[-q,--quiet]", "[FILE...]"], 1,
    ),
    "a colon behind the option, and NAMEs with a dash for standard input": (
        "usage: hull [-h|-d|-e] [file|-]\n        -h: print this help message and exit\n        -d: dry\n        -e: wet (default)\n",
        ["[-h | -d | -e] [<file>]"], 0,
    ),
    "a colon behind a NAME": (
        "Command line usage:\n    hull [-n N] [-h] [--] [plank]\n\nOptions:\n  -n/--number N: how many planks\n  -h/--help: this text\n",
        ["[-n,--number N] [-h,--help] [<plank>]"], 0,
    ),
    "heads in brackets": (
        "Usage: hull [options] [names]\nOptions are:\n  [-s|--strip]     Without bark\n  [-w|--wood {oak,fir}]\n  [-h|--help]      This text\n",
        ["[-s,--strip]", "[-w,--wood WOOD]", "[-h,--help]", "[<names>...]"], 0,
    ),
    "a list of options in one line": (
        "Usage: hull [PLANK]\n\nTests:\n      -oak -fir N -older YEARS -wet\n\nOthers:\n  -q  say less\n", ["[-q] [PLANK]"], 1,
    ),
    "a value of several, in one word": (
        "Usage: hull PLANK\n  -g, --group <gid,...>    of these groups\n  -u, --user <uid>,...     of these\n      --depth [0-255]      how deep\n",
        ["[-g,--group <gid>] [-u,--user <uid>] [--depth DEPTH] PLANK"], 0,
    ),
    "letters in brackets": ("usage: hull [-[qz]] [-[AB][name]] plank\n", ["[-q] [-z] [-A[<name>]] [-B[<name>]] <plank>"], 0),
    "options below the usage, one space before a sentence": (
        "Usage: hull [switches] [--] [plank]\n  -0[octal] specify the kind of knot (\\0, if none)\n  -a        all of them\n  -c        check only\n",
        ["[-0[<octal>]] [-a] [-c] [<plank>]"], 0,
    ),
    "an option that cannot be written": ("usage: hull [-q] PLANK\n\n  -q           say less\n  --marks=<\\>  signs\n", ["[-q] [--marks MARKS] PLANK"], 0),
    "a number below zero at the beginning of a line": (
        "Usage: hull [-n N] PLANK\n\n  -n N   how deep, from\n  -20 (the deepest) to 19\n", ["[-n N] PLANK"], 1,
    ),
    "a usage with gaps is no list": (
        "usage: hull [-q]  [-v]\n            [-a | -b]\n            [-c FILE]  [PLANK]\n\n  -q  say less\n", ["[-q] [-v] [-a | -b] [-c FILE] [PLANK]"], 0,
    ),
    "a sign for a number": (
        "Usage: hull [options] [PLANK... | -]\n\n  -#    level, where `#` is a number\n  -T#   so many threads\n  -t#   so many turns, 1-9\n",
        ["[-T[N]] [-t[T-N]] [PLANK...]"], 1,
    ),
    "on and off, both spelt out": ("Usage: hull [OPTIONS]\n\nOptions:\n  -c, --clean / --dirty  Wash it before.\n  --help  Show this.\n", ["[-c,--clean | --dirty]... [--help]"], 0),
}  # fmt: skip


@pytest.mark.parametrize("name", MANY_HEADS)
def test_ways_to_write_a_head_and_a_usage(name: str) -> None:
    text, items, doubts = MANY_HEADS[name]
    draft = draft_signature(read_help(text), ["hull"])
    (line,) = draft.synopsis
    assert " ".join(line.split()) == " ".join(items)
    assert len(draft.doubts) == doubts, draft.doubts
    checked(draft)


@pytest.mark.parametrize(("line", "spellings", "values"), [
    ("  -p NUM  --strip=NUM  Strip NUM leading components.", ("-p", "--strip"), ("NUM",)),
    ("  -F LINES  --fuzz LINES  Set the fuzz factor.", ("-F", "--fuzz"), ("LINES",)),
    ("  -l  --ignore-space  Ignore it.", ("-l", "--ignore-space"), ()),
])  # fmt: skip
def test_spellings_in_two_columns_are_one_option(line: str, spellings: tuple[str, ...], values: tuple[str, ...]) -> None:
    page = read_help(f"Usage: fare [OPTION]...\n\nOptions:\n{line}\n  --dry-run  Change nothing.\n")
    assert (page.options[0].spellings, page.options[0].values) == (spellings, values) and not page.unread


def test_types_of_go_are_read_though_no_letter_shares_its_line() -> None:
    page = read_help("Usage of fare:\n  -count int\n    \tnumber of riders (default 5)\n  -name string\n    \ta name\n  -wait duration\n    \thow long\n")
    assert [(each.spellings, each.kind) for each in page.options] == [(("-count",), "int"), (("-name",), "text"), (("-wait",), "duration")]


@pytest.mark.parametrize(("text", "missing"), [("  --[no]color  use colour", False), ("  --[no-]color  x", False), ("  --(no-)color  x", False), ("  --colors", True)])
def test_a_flag_with_no_in_brackets_names_both_its_spellings(place: Place, text: str, missing: bool) -> None:
    place.write("p.sh", f"echo 'usage: fare [options]'; echo '{text}'")
    no = "--nocolor" if "[no]" in text else "--no-color"
    place.write("t.matrix.toml", f"""
        [program]
        launch = "sh {{here}}/p.sh"
        [signature]
        synopsis = "[--color | {no}]"
        help = ["--help"]
        derive = ["help"]
        """)
    place.call("run", "--only", "help")
    assert any(each["verdict"] != "passed" for each in place.cases()) is missing


def test_help_that_ends_well_wins_over_a_usage_for_a_mistake(place: Place) -> None:
    place.write("p.sh", """
        case $1 in
            -h) echo 'usage: fare [-a] PORT'; echo '  -a  all'; exit 0 ;;
            *) { echo "unknown $1"; echo 'usage: fare [-a] [-b] PORT'; echo '  -a  all'; } >&2; exit 2 ;;
        esac
        """)
    came = place.call("draft", "--", "sh", "p.sh")
    assert 'synopsis = "[-a] PORT"' in came.out and 'help = ["-h"]' in came.out, came


@pytest.mark.parametrize(("usage", "synopsis"), [
    ("[-n infile outfile ...]", "[-n,--newfile <infile> <outfile>...] [-b,--keep-bom]"),
    ("[-n infile [outfile]]", "[-n,--newfile <infile> [<outfile>]] [-b,--keep-bom]"),
    ("[-n infile...] file", "[-n,--newfile <infile>...] [-b,--keep-bom] <file>"),
])  # fmt: skip
def test_values_that_a_usage_line_gives_an_option_keep_their_dots(usage: str, synopsis: str) -> None:
    page = read_help(f"Usage: convert {usage}\n -b, --keep-bom        keep it\n -n, --newfile         write to new file\n")
    assert draft_signature(page, ["convert"]).synopsis == [synopsis]


@pytest.mark.parametrize(
    ("usage", "found"),
    [
        ("crew add NAME | crew list", ["crew add NAME", "crew list"]),
        ("crew add NAME | list | drop NAME", ["crew add NAME", "crew list", "crew drop NAME"]),
        ("python3 crew.py add NAME | python3 crew.py list", ["python3 crew.py add NAME", "python3 crew.py list"]),
        ("crew -a NAME | crew -b", ["crew -a NAME", "crew -b"]),
        ("crew PORT start | stop", ["crew PORT start | stop"]),
        ("crew [-a | -b] {x | y} (NAME | FILE)", ["crew [-a | -b] {x | y} (NAME | FILE)"]),
        ("crew FILE | -", ["crew FILE | -"]),
    ],
)
def test_usages_behind_a_bar_are_several(usage: str, found: list[str]) -> None:
    assert list(read_help(f"usage: {usage}\n").usages) == found
