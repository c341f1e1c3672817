"""Readers: the libraries that read argument words, each a row of habits.

A new reader is a new row and nothing else. Where a setting is not in the library's documentation it
was seen in trials (benchmarks/readers.py), with the version that the row names.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from typing import Literal, TypeAlias, get_args

from keen_matrix.core.signature.habits import OPERANDS, Habits
from keen_matrix.core.structs import Struct, replace

Style: TypeAlias = Literal["gnu", "posix", "one-dash"]
STYLES: tuple[Style, ...] = get_args(Style)
ReaderName: TypeAlias = Literal[
    "argparse", "optparse", "click", "typer", "getopt-long", "getopt-posix", "getopts", "go-flag", "go-pflag",
    "node-parseargs", "commander", "yargs", "minimist", "perl-getopt-long", "perl-getopt-long-bundling",
    "ruby-optparse", "clap",
]  # fmt: skip
Stream: TypeAlias = Literal["stdout", "stderr"]
Runtime: TypeAlias = Literal["python", "shell", "node", "perl", "ruby", "binary", "any"]
OF_VALUES = frozenset({"bad-type", "out-of-range", "not-a-choice"})
OF_OPTIONS = frozenset({"unknown-option", "missing-value", "unexpected-value", "ambiguous"})


class Reader(Struct, frozen=True, kw_only=True):
    """A library, or a way of reading by hand: its habits and what it promises by itself."""

    habits: Habits
    source: str
    """Where the settings are known from."""
    runtime: Runtime = "binary"
    """What programs that use it are run by; any where every language has an edition of it."""
    named: str = ""
    """What stands in the text of a script that uses it."""
    style: Style = "gnu"
    """How options are written in its synopsis."""
    help: tuple[str, ...] = ()
    """Spellings of help that the library adds by itself."""
    exit: int | None = None
    """What the library exits with when it refuses words; None where that is left to the program."""
    stream: Stream | None = None
    """Where it says so."""
    help_exit: int | None = None
    help_stream: Stream | None = None
    refuses: frozenset[str] = frozenset()
    """Kinds that the library itself refuses: for these exit and stream are promised. Those of values
    are of the options' values, unless OPERANDS is among them."""


_ALL = OF_OPTIONS | {"too-few", "too-many", "missing-option", "bad-type", "not-a-choice", OPERANDS}
_GETOPT = Habits(
    help_joined="refuse",
    abbreviations=True, letter_equals="keep", dash_values="take", negative_numbers=False, dash_spaces=False,
    empty_joined="take", repeat="last", split_operands=True, split_optional=True, bare_delimiter="nothing",
    later_delimiter="operand", help_wins="in-order",
    help_yields_to=OF_OPTIONS, letter_dash="refuse", numbers="c", empty_values="take", lone_dash="text",
)  # fmt: skip
_POSIX = Habits(
    abbreviations=False, interleaved=False, letter_equals="keep", dash_values="take", negative_numbers=False,
    dash_spaces=False, empty_joined="take", repeat="last", split_operands=True, split_optional=True,
    bare_delimiter="nothing", later_delimiter="operand",
    help_wins="in-order", help_yields_to=OF_OPTIONS, letter_dash="refuse", numbers="c", empty_values="take",
    lone_dash="text",
)  # fmt: skip
_CLICK = Reader(
    source="click 8: Parameters, Options, Command Line Arguments; trials with 8.5", runtime="python",
        named="click",
    habits=Habits(
            help_joined="refuse", command_before_help=True,
        abbreviations=False, letter_equals="keep", dash_values="take", negative_numbers=False, dash_spaces=False,
        optional_follows=True,
        empty_joined="take", repeat="last", split_operands=True, split_optional=True, bare_delimiter="nothing",
        later_delimiter="operand", help_wins="reading",
        help_yields_to=OF_OPTIONS, letter_dash="refuse", numbers="python", booleans="click", dates="click", empty_values="take",
        lone_dash="text", late_values=True,
    ),
    help=("--help",), exit=2, stream="stderr", help_exit=0, help_stream="stdout",
    refuses=_ALL,
)  # fmt: skip
READERS: Mapping[str, Reader] = {
    "argparse": Reader(
        source="Python 3.11, argparse: allow_abbrev, option value syntax, arguments containing -; trials", runtime="python",
        named="argparse",
        habits=Habits(
            help_joined="refuse", help_letters="refuse", early_delimiter=None, command_before_help=True,
            abbreviations=True, letter_equals="strip", dash_values="refuse", negative_numbers=True, dash_spaces=True,
            optional_follows=True, empty_joined="take", repeat="last", split_operands=False, split_optional=None,
            letter_dash="refuse", flag_rest="value", bare_delimiter="refuse",
            later_delimiter=None, help_wins="in-order",
            help_yields_to=(OF_OPTIONS | OF_VALUES | {"conflict", OPERANDS}) - {"unknown-option"},
            numbers="python", empty_values="take", lone_dash="text", default_unseen=True,
        ),
        help=("-h", "--help"), exit=2, stream="stderr", help_exit=0, help_stream="stdout",
        refuses=_ALL | {"conflict"},
    ),
    "optparse": Reader(
        source="Python 3.11, optparse; trials", runtime="python",
        named="optparse",
        habits=Habits(
            help_joined="refuse",
            abbreviations=True, letter_equals="keep", dash_values="take", negative_numbers=False, dash_spaces=False,
            empty_joined="take", repeat="last", split_operands=True, split_optional=True, bare_delimiter="nothing",
            later_delimiter="operand", help_wins="in-order",
            help_yields_to=OF_OPTIONS | OF_VALUES, letter_dash="refuse", numbers="optparse", empty_values="take",
            lone_dash="text",
        ),
        help=("-h", "--help"), exit=2, stream="stderr", help_exit=0, help_stream="stdout",
        refuses=OF_OPTIONS | {"bad-type", "not-a-choice"},
    ),
    "click": _CLICK,
    "typer": replace(_CLICK, named="typer"),
    "getopt-long": Reader(
        source="getopt_long(3) of glibc 2.36, getopt(1) of util-linux; trials", runtime="any", habits=_GETOPT, refuses=OF_OPTIONS,
    ),
    "getopt-posix": Reader(
        source="POSIX XSH getopt; getopt_long(3) with options first; trials", runtime="any",
        # only where there are long options, which getopt_long reads
        habits=replace(_POSIX, abbreviations=True), style="posix", refuses=OF_OPTIONS,
    ),
    "getopts": Reader(
        source="POSIX XCU getopts; trials with dash and bash", runtime="shell",
        named="getopts", habits=_POSIX, style="posix", refuses=OF_OPTIONS,
    ),
    "go-flag": Reader(
        source="Go 1.19, package flag: command line flag syntax; trials",
        habits=Habits(
            help_joined="take",
            abbreviations=False, dashes="alike", bundling=False, interleaved=False, joined="long",
            letter_equals="strip",
            dash_values="take", negative_numbers=False, dash_spaces=False, flag_values="bool", empty_joined="take",
            repeat="last", split_operands=True, split_optional=True, bare_delimiter="nothing",
            later_delimiter="operand", help_wins="in-order",
            help_yields_to=OF_OPTIONS | OF_VALUES, letter_dash="refuse", numbers="go", booleans="go", durations="go",
            empty_values="take",
            lone_dash="text",
        ),
        style="one-dash", help=("-h", "-help"), exit=2, stream="stderr", help_exit=0, help_stream="stderr",
        refuses=OF_OPTIONS | {"bad-type"},
    ),
    "go-pflag": Reader(
        source="spf13/pflag 1.0: command line flag syntax; trials",
        habits=Habits(
            help_joined="take", command_before_help=True,
            abbreviations=False, letter_equals="strip", dash_values="take", negative_numbers=False, dash_spaces=False,
            flag_values="bool", empty_joined="take", repeat="last", split_operands=True, split_optional=True,
            bare_delimiter="nothing", later_delimiter="operand",
            help_wins="in-order", help_yields_to=OF_OPTIONS | OF_VALUES, letter_dash="refuse", numbers="go",
            booleans="go", durations="go",
            empty_values="take", lone_dash="text",
        ),
        help=("-h", "--help"), refuses=OF_OPTIONS | {"bad-type"},
    ),
    "node-parseargs": Reader(
        source="node 20, util.parseArgs with strict; trials", runtime="node",
        named="parseArgs",
        habits=Habits(
            help_joined="refuse", help_letters="refuse",
            abbreviations=False, letter_equals="keep", dash_values="refuse", negative_numbers=False,
            dash_spaces=False,
            empty_joined="take", repeat="last", split_operands=True, split_optional=True, bare_delimiter="nothing",
            later_delimiter="operand", help_wins="reading",
            help_yields_to=OF_OPTIONS, letter_dash="delimiter", numbers="script", empty_values="take",
            lone_dash="text",
            late_values=True,
        ),
        refuses=OF_OPTIONS,
    ),
    "commander": Reader(
        source="commander 14: options, excess arguments; trials", runtime="node",
        named="commander",
        habits=Habits(
            help_joined="refuse", help_letters="alone",
            abbreviations=False, letter_equals="keep", dash_values="take", negative_numbers=True, dash_spaces=False,
            optional_follows=True, empty_joined="take", repeat="last", split_operands=True, split_optional=True,
            bare_delimiter="nothing", later_delimiter="operand",
            help_wins="reading", help_yields_to=frozenset({"missing-value", "bad-type", "not-a-choice"}),
            letter_dash="delimiter", numbers="script", empty_values="take", lone_dash="text",
        ),
        help=("-h", "--help"), exit=1, stream="stderr", help_exit=0, help_stream="stdout",
        refuses=OF_OPTIONS | {"too-few", "too-many", "missing-option", "not-a-choice"},
    ),
    "yargs": Reader(
        source="yargs 18 with strictOptions and requiresArg, yargs-parser: configuration; trials", runtime="node",
        named="yargs",
        habits=Habits(
            abbreviations=False, dashes="letters", negated="all", joined="numbers", letter_equals="strip",
            letter_dash="nothing", dash_values="refuse", negative_numbers=True, dash_spaces=False,
            flag_values="truth", empty_joined="take", repeat="collect", repeat_flags="last", split_operands=True,
            split_optional=True, bare_delimiter="nothing",
            later_delimiter="operand", help_wins="always", numbers="js", empty_values="take", lone_dash="text",
        ),
        help=("--help",), exit=1, stream="stderr", help_exit=0, help_stream="stdout",
        refuses=frozenset({"unknown-option", "missing-value"}),
    ),
    "minimist": Reader(
        source="minimist 1.2; trials", runtime="node",
        named="minimist",
        habits=Habits(
            help_joined="take",
            abbreviations=False, dashes="letters", negated="flags", joined="numbers", letter_equals="strip",
            letter_dash="nothing", dash_values="refuse", negative_numbers=False, dash_spaces=False,
            unknown_options="take", unknown_takes_value=True, flag_values="ignore", missing_values="empty",
            empty_joined="take", repeat="collect", repeat_flags="last", split_operands=True, split_optional=True,
            bare_delimiter="nothing",
            later_delimiter="operand", help_wins="always", numbers="script", empty_values="take", lone_dash="text",
        ),
    ),
    "perl-getopt-long": Reader(
        source="Getopt::Long 2.52: option specifications, configuring; trials", runtime="perl",
        named="Getopt::Long",
        habits=Habits(
            help_joined="refuse", help_letters="refuse",
            abbreviations=True, ignore_case=True, dashes="alike", plus_options=True, bundling=False, joined="long",
            letter_equals="strip",
            optional_follows=True,
            dash_values="take", negative_numbers=False, dash_spaces=False, empty_joined="refuse", repeat="last",
            split_operands=True, split_optional=True, bare_delimiter="nothing", later_delimiter="operand",
            help_wins="reading",
            help_yields_to=OF_OPTIONS | {"bad-type"}, numbers="perl", empty_values="take", lone_dash="text",
        ),
        style="one-dash", refuses=OF_OPTIONS | {"bad-type"},
    ),
    "perl-getopt-long-bundling": Reader(
        source="Getopt::Long 2.52 with bundling; trials", runtime="perl",
        named="Getopt::Long",
        habits=Habits(
            help_joined="refuse", help_letters="refuse",
            abbreviations=True, ignore_case=True, dashes="letters", letter_equals="keep", dash_values="take",
            optional_follows=True, negative_numbers=False, dash_spaces=False, empty_joined="refuse", repeat="last",
            split_operands=True,
            split_optional=True, bare_delimiter="nothing",
            later_delimiter="operand",
            help_wins="reading", help_yields_to=OF_OPTIONS | {"bad-type"}, letter_dash="delimiter", numbers="perl",
            empty_values="take", lone_dash="text",
        ),
        refuses=OF_OPTIONS | {"bad-type"},
    ),
    "ruby-optparse": Reader(
        source="Ruby 3.1, OptionParser; trials", runtime="ruby",
        named="optparse",
        habits=Habits(
            help_joined="refuse",
            abbreviations=True, ignore_case=True, letter_equals="keep", dash_values="take",
            negative_numbers=False, dash_spaces=False, empty_joined="take", repeat="last", split_operands=True,
            split_optional=True, bare_delimiter="nothing",
            later_delimiter="operand", help_wins="in-order", help_yields_to=OF_OPTIONS | OF_VALUES,
            letter_dash="nothing",
            numbers="ruby", empty_values="operands", lone_dash="text", choice_beginnings=True,
        ),
        help=("-h", "--help"), help_exit=0, help_stream="stdout", refuses=OF_OPTIONS | {"bad-type", "not-a-choice"},
    ),
    "clap": Reader(
        source="clap 4, derive reference: arguments, ArgAction; trials with 4.0",
        habits=Habits(
            help_joined="refuse", early_delimiter="refuse", command_before_help=True,
            abbreviations=False, letter_equals="strip", dash_values="refuse", negative_numbers=False,
            dash_spaces=False,
            empty_joined="take", repeat="refuse", split_operands=True, split_optional=True, bare_delimiter="nothing",
            later_delimiter="operand", help_wins="in-order",
            help_yields_to=OF_OPTIONS | OF_VALUES | {"repeated", "too-many", OPERANDS}, letter_dash="refuse",
            numbers="rust", empty_values="take", lone_dash="text",
        ),
        help=("-h", "--help"), exit=2, stream="stderr", help_exit=0, help_stream="stdout",
        refuses=_ALL | {"conflict", "repeated"},
    ),
}  # fmt: skip
"""Name in specs → what is known of the library."""
BY_HAND: Mapping[str, Reader] = {
    "gnu": Reader(source="GNU Coding Standards 4.8", habits=Habits(), help=("--help",)),
    "posix": Reader(
        source="POSIX Utility Syntax Guidelines (XBD 12.2)", style="posix",
        habits=Habits(abbreviations=False, interleaved=False),
    ),
    "one-dash": Reader(
        source="programs whose long options have one dash", style="one-dash",
        habits=Habits(dashes=None, bundling=False, interleaved=None, joined=None),
    ),
}  # fmt: skip
"""Style → what is known of a program that reads its words by hand in that style."""


def can_spell(spellings: Iterable[str], row: Reader) -> bool:
    """Tell whether a reader has options that are spelt so: where one dash stands before a letter alone,
    `-bail` would be five flags, and getopts has no long options."""
    if row.style == "one-dash":
        return True
    strange = r"-[^-]." if row.style == "gnu" else r"-.."
    return not any(re.match(strange, each) for each in spellings)
