"""Habits: the ways in which readers of argument words differ, and how one that is left open is
followed in all its settings.

A *reading* is one choice for every habit. A judgement under a reading is a pure function of the
signature and the words; a habit that is open, and that a vector touches, makes as many readings as
it has settings.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal, TypeAlias, TypeVar

from keen_matrix.core.structs import Struct

Dashes: TypeAlias = Literal["apart", "alike", "letters"]
Numbers: TypeAlias = Literal["python", "optparse", "go", "perl", "ruby", "rust", "js", "c", "script"]
HelpWins: TypeAlias = Literal["always", "in-order", "reading", "never", "alone"]
Joined: TypeAlias = Literal["any", "long", "numbers", "none"]

#: Stands among the kinds that help yields to where values of operands are checked as well.
OPERANDS = "operands"
#: Readings of one vector that are followed; beyond them it is open.
MOST_READINGS = 64


class NameHabits(Struct, frozen=True, kw_only=True):
    """How the names of options are read."""

    #: Whether a long option may be shortened to an unambiguous beginning: `--rid` for `--riders`
    #: (GNU getopt_long does, POSIX knows none).
    abbreviations: bool | None = None
    #: Whether long options are accepted in upper and lower case: `--RIDERS`.
    ignore_case: bool = False
    #: Whether one dash and two differ; otherwise every name has both (`-riders`, `--riders`), or
    #: `--n` is also `-n`.
    dashes: Dashes | None = "apart"
    #: Whether every flag, or every option, has an opposite: `--no-bike`.
    negated: Literal["flags", "all"] | None = None
    #: Whether flags may share one dash: `-bq` (POSIX guideline 5).
    bundling: bool | None = True
    #: What a dash after letters means, as in `-a-`: no option, the `--` that ends them, or nothing.
    letter_dash: Literal["refuse", "delimiter", "nothing"] | None = None
    #: What `x` is in `-qx` if `-q` is a flag and `-x` is unknown: an unknown letter, or a value
    #: that the flag does not have.
    flag_rest: Literal["letters", "value"] = "letters"
    #: Whether a word with a plus in front is an option too: `+q`.
    plus_options: bool = False
    #: What an unknown word with a dash is, `--zzz`: refused, an option that is accepted and has no
    #: effect, or an operand.
    unknown_options: Literal["refuse", "take", "operand", "open"] = "refuse"
    #: Whether an accepted unknown option takes the next word as its value: `--zzz 3`.
    unknown_takes_value: bool | None = None
    #: Whether a word with a dash and a space, such as `'-a b'`, is an operand if no option begins
    #: it.
    dash_spaces: bool | None = None


class ValueHabits(NameHabits, frozen=True, kw_only=True):
    """Also, where options have their values."""

    #: Which values may be joined to their option: any (`-n3`, `--riders=3`), those of long options,
    #: those and numbers after letters, or none (POSIX guideline 6). With numbers after letters, a
    #: letter before another one has an empty value.
    joined: Joined | None = "any"
    #: What `-n=3` means: 3, `=3`, or a refusal.
    letter_equals: Literal["strip", "keep", "refuse"] | None = None
    #: Whether the word after a valued option may begin with a dash: `-n -x` (POSIX guideline 6 and
    #: getopt accept it).
    dash_values: Literal["take", "refuse"] | None = None
    #: Whether a word such as `-5` is a value or an operand and no option.
    negative_numbers: bool | None = None
    #: Whether an optional value may be a separate word: `--color always`.
    optional_follows: bool | None = False
    #: What `--flag=x` means; `bool` accepts what Go's strconv.ParseBool does, `truth` switches the
    #: flag off for anything but true.
    flag_values: Literal["refuse", "ignore", "bool", "truth"] = "refuse"
    #: What happens to a valued option at the end, `… -n`; `empty` gives it an empty text.
    missing_values: Literal["refuse", "ignore", "empty"] = "refuse"
    #: What `--riders=` means: an empty value, or a refusal.
    empty_joined: Literal["take", "refuse"] | None = None
    #: What a second use of an option does that may not be repeated: `-n 2 -n 3`.
    repeat: Literal["last", "refuse", "collect"] | None = None
    #: The same for a flag, if it differs: `--bike --bike`; if it is open, as `repeat`.
    repeat_flags: Literal["last", "refuse"] | None = None


class OperandHabits(ValueHabits, frozen=True, kw_only=True):
    """Also, which words are operands, and what help does."""

    #: Whether options may follow operands: `Holm -q` (GNU does, POSIX guideline 9 does not).
    interleaved: bool | None = True
    #: Whether options may come between the words of a repeated operand: `a -q b`.
    split_operands: bool | None = None
    #: Whether options may come before an optional operand: `a -q [b]`.
    split_optional: bool | None = None
    #: What happens to operands beyond the synopsis: `Holm Voe extra`.
    superfluous_operands: Literal["refuse", "ignore"] = "refuse"
    #: Whether `--` ends the options (POSIX guideline 10); otherwise its meaning is open.
    delimiter: bool = True
    #: What `--` means with no word after it, no operand right before it and none that it could be.
    bare_delimiter: Literal["nothing", "refuse"] | None = None
    #: What a second `--` is, as in `-- -- a`.
    later_delimiter: Literal["operand", "nothing"] | None = None

    #: What help wins over in `--help --zzz`: everything; what comes after it; what is found once
    #: all words are read; nothing.
    #: Alone: what help means beside any other word is open.
    help_wins: HelpWins | None = None
    #: What `--help=x` means: a flag with a value, which it does not have, or help; otherwise it is
    #: open.
    help_joined: Literal["refuse", "take"] | None = None
    #: What may follow the letter of help in its word, as in `-hx`: nothing; unknown letters are
    #: refused; or help is given before they are looked at.
    help_letters: Literal["alone", "refuse", "take"] = "take"
    #: Whether `--` may come before a subcommand, `-- add`; otherwise it is open.
    early_delimiter: Literal["take", "refuse"] | None = "take"
    #: Whether an unknown subcommand is refused before the help after it is given: `zzz --help`.
    command_before_help: bool = False
    #: Kinds of refusal that come before help: of the words before it, or of all. Those of values
    #: are of option values, unless operands are named among them.
    help_yields_to: frozenset[str] = frozenset()


class Habits(OperandHabits, frozen=True, kw_only=True):
    """How a reader reads its words. None leaves a habit open: every setting of it is followed, but
    for those of texts, of which nothing is claimed then.

    Known from the POSIX Utility Syntax Guidelines (XBD 12.2) and getopt_long(3), and for each
    library from what its row in `readers` names.
    """

    #: Which texts are numbers, by the function that the library calls: `1_000`, `0x10`, `+3`.
    numbers: Numbers | None = None
    #: Which texts are days besides those of ISO 8601, by the library.
    dates: Literal["click"] | None = None
    #: Which texts are durations, by the library: `1h30m`.
    durations: Literal["go"] | None = None
    #: Which texts are booleans besides true and false, by the library: `yes`, `1`.
    booleans: Literal["go", "click"] | None = None
    #: Whether an empty text `''` will do by default: everywhere, or as an operand; otherwise it is
    #: open.
    empty_values: Literal["take", "operands"] | None = None
    #: Whether `-` is a text like any other; otherwise it may be a stream, which is open.
    lone_dash: Literal["text"] | None = None
    #: Whether only the last value of a repeated option is checked: `-n abc -n 3`.
    late_values: bool = False
    #: Whether a choice may be shortened to an unambiguous beginning: `tex` for `text`.
    choice_beginnings: bool = False
    #: Whether an option that is given with its default may count as not given when options exclude
    #: each other.
    default_unseen: bool = False


#: Habits that a spec can set one by one.
SWITCH_NAMES = (
    "abbreviations",
    "bundling",
    "interleaved",
    "joined",
    "repeat",
    "negative_numbers",
    "dash_values",
    "help_wins",
    "delimiter",
    "unknown_options",
    "superfluous_operands",
    "flag_values",
    "missing_values",
    "ignore_case",
)
#: The settings in which an open habit is followed, the likeliest first.
SETTINGS: Mapping[str, tuple[Any, ...]] = {
    "abbreviations": (True, False),
    "dashes": ("apart", "alike"),
    "bundling": (True, False),
    "unknown_takes_value": (True, False),
    "dash_spaces": (False, True),
    "joined": ("any", "none"),
    "letter_equals": ("strip", "keep", "refuse"),
    "letter_dash": ("refuse", "delimiter", "nothing"),
    "dash_values": ("take", "refuse"),
    "negative_numbers": (True, False),
    "optional_follows": (False, True),
    "empty_joined": ("take", "refuse"),
    "repeat": ("last", "refuse", "collect"),
    "interleaved": (True, False),
    "split_operands": (True, False),
    "split_optional": (True, False),
    "bare_delimiter": ("nothing", "refuse"),
    "later_delimiter": ("operand", "nothing"),
    "help_wins": ("always", "never"),
    "help_joined": ("refuse", "take"),
    "early_delimiter": ("take", "refuse"),
}
#: What is open where a habit is open, as half a sentence.
QUESTIONS: Mapping[str, str] = {
    "abbreviations": "whether options may be shortened",
    "dashes": "whether one dash and two differ",
    "bundling": "whether flags may share a dash",
    "unknown_takes_value": "whether an unknown option takes the next word as its value",
    "dash_spaces": "whether a word with a dash and a space is an option",
    "joined": "whether a value may be joined to its option",
    "letter_equals": "what = after a letter means",
    "letter_dash": "what a dash after letters means",
    "dash_values": "whether a value may begin with a dash",
    "negative_numbers": "whether a word such as -5 is a number or an option",
    "optional_follows": "whether an optional value may be a separate word",
    "empty_joined": "whether the value after = may be empty",
    "repeat": "what a second use of an option does",
    "interleaved": "whether options may follow operands",
    "split_operands": "whether options may come between repeated operands",
    "split_optional": "whether options may come before an optional operand",
    "bare_delimiter": "what -- means at the end",
    "later_delimiter": "what a second -- means",
    "help_wins": "help together with other faults",
    "help_joined": "what a value after help means",
    "early_delimiter": "whether -- may come before a subcommand",
}

T = TypeVar("T")


class OpenHabit(BaseException):
    """A judgement has come to a habit that is open. It is no error: whoever follows readings
    catches it, and nobody else may."""

    def __init__(self, name: str) -> None:
        self.name = name


def need(setting: T | None, name: str) -> T:
    """Return the setting of a habit, by its name. Raises OpenHabit where it is open."""
    if setting is None:
        raise OpenHabit(name)
    return setting
