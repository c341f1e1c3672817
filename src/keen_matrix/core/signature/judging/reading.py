"""Pass 1: words become options with their values, and operands.

The rules are the POSIX Utility Syntax Guidelines 3 to 10 (XBD 12.2) and, for long options,
getopt_long(3). Where reasonable programs differ a switch of the signature says which way it goes;
one that is left open makes a doubt and not a guess.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from keen_matrix.core.signature.judging.findings import Findings, Given
from keen_matrix.core.signature.model import FormModel, Option, SignatureParts

_NEGATIVE = re.compile(r"-(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)")
USUAL_HELP = frozenset({"-h", "--help", "-?", "-V", "--version", "-help", "-version", "--usage"})
"""Spellings that a program may know though its synopsis does not tell: undeclared, they never
count against it."""


@dataclass(slots=True)
class Reading:
    """What the words of a vector were read as."""

    given: list[Given] = field(default_factory=list)
    """The options, in their order."""
    operands: list[str] = field(default_factory=list)
    delimiter: bool = False
    """Whether `--` is there."""
    help_at: set[int] = field(default_factory=set)
    """Where the words stand that ask for help."""
    actions_at: set[int] = field(default_factory=set)
    """Where the words stand of options that end the call by themselves."""
    is_split: bool = False
    """Whether options stand between operands."""
    is_greedy: bool = False
    """Whether an option with an open number of values took more than it needs, which could be
    operands."""
    findings: Findings = field(default_factory=Findings)

    @property
    def asks_help(self) -> bool:
        """Whether it asks for help."""
        return bool(self.help_at)

    @property
    def spellings(self) -> frozenset[str]:
        """Every spelling of every option that is given."""
        return frozenset(spelling for given in self.given for spelling in given.option.spellings)


def read(signature: SignatureParts, form: FormModel, words: Sequence[str]) -> Reading:
    """Return what a vector is read as, by one form of a signature."""
    reader = _Reader(signature, form, words)
    reader.read()
    return reader.found


class _Reader:
    """Goes through the words once, from left to right."""

    def __init__(self, signature: SignatureParts, form: FormModel, words: Sequence[str]) -> None:
        self.signature, self.form, self.words = signature, form, words
        self.switches = signature.switches
        self.found = Reading()
        self.findings = self.found.findings
        self._at = 0
        """The place behind the word that is read."""
        self._word_at = 0
        self._behind_option = False
        """Whether the word before, or the value it took, was an option's."""

    def read(self) -> None:
        """Read all words."""
        words = self.words
        only_operands = False
        if words and words[0] in self.signature.help and not words[0].startswith("-"):
            self.found.help_at.add(0)
            self.findings.reasons.append(f"{words[0]}: help")
            self._at = 1
        while self._at < len(words):
            self._word_at, self._at = self._at, self._at + 1
            word = words[self._word_at]
            if only_operands or not word.startswith("-") or word == "-":
                self._operand(word)
                # guideline 9: the first operand ends the options; subcommands do not
                if self.switches.interleaved is False and self._is_behind_operand:
                    only_operands = True
            elif word == "--":
                self._delimiter()
                only_operands = True
            elif self.switches.unknown_options == "operand" and self._is_unknown(word):
                self._operand(word)
            elif self._looks_negative(word) and word not in self.form.by_spelling:
                self._negative(word)
            else:
                self._option(word)

    @property
    def _is_behind_operand(self) -> bool:
        return len(self.found.operands) > self.form.keywords

    def _operand(self, word: str) -> None:
        if self.found.given and self._is_behind_operand and self._behind_option:
            self.found.is_split = True
        self._behind_option = False
        self.found.operands.append(word)

    def _delimiter(self) -> None:
        self.found.delimiter = True
        self.findings.reasons.append("--: the rest are operands")
        if not self.switches.delimiter:
            self.findings.doubt("what -- means to a program that does not end its options by it")
        elif "--" in self.words[self._at :]:
            self.findings.doubt("a second -- is an operand to some and nothing to others")

    def _looks_negative(self, word: str) -> bool:
        """Tell whether a word is a negative number and its first digit no declared option."""
        return bool(_NEGATIVE.fullmatch(word)) and word[:2] not in self.form.by_spelling

    def _negative(self, word: str) -> None:
        if self.switches.negative_numbers is False:
            self.findings.refuse("unknown-option", word, why=f"{word} is not an option")
            return
        if self.switches.negative_numbers is None:
            self.findings.doubt(f"whether {word} is an option or a number")
        self._operand(word)

    def _option(self, word: str) -> None:
        style = self.signature.style
        if self.switches.interleaved is None and self._is_behind_operand:
            self.findings.doubt(f"whether the option {word} may follow an operand")
        if word.startswith("--") and style != "one-dash":
            self._long(word)
        elif style == "one-dash" or word.partition("=")[0] in self.form.by_spelling:
            self._one_dash(word)
        else:
            self._short(word)

    def _add(self, option: Option, spelling: str, values: Sequence[str]) -> None:
        """Note an option that is given."""
        if spelling in self.signature.help:
            self.found.help_at.add(self._word_at)
        if any(spelling in each for each in self.signature.actions):
            self.found.actions_at.add(self._word_at)
        self._behind_option = True
        self.found.given.append(Given(option, spelling, tuple(values)))
        shown = " ".join(values)
        named = f" = {shown!r} ({' '.join(option.value_names)})" if values else ""
        self.findings.reasons.append(f"{spelling}: option {option.key}{named}")
        if self._is_on_other_side(option):
            self.findings.doubt(f"whether {spelling} may stand on this side of the keyword")

    def _is_on_other_side(self, option: Option) -> bool:
        """Tell whether an option of the form stands before a keyword that its place in the synopsis
        follows, or the other way round."""
        if not self.form.keywords or option not in self.form.options:
            return False
        seen, due = len(self.found.operands), option.after_keywords
        return seen < due or seen >= self.form.keywords > due

    # --- the three ways in which an option is written ---

    def _long(self, word: str) -> None:
        """A word that begins with two dashes: `--name`, `--name=value` (getopt_long(3))."""
        name, equals, value = word.partition("=")
        known = (each for each in self.form.by_spelling if each.startswith("--"))
        option = self._named(name, word, known)
        if option is None:
            return
        spelling = name
        if name not in option.spellings:  # an abbreviation
            spelling = next(each for each in option.spellings if each.startswith(name))
        self._with_value(option, spelling, value if equals else None)

    def _one_dash(self, word: str) -> None:
        """A word such as `-name` or `-name=value`: an option whose name is longer than a letter."""
        if word.startswith("--"):
            # some readers take --name for -name (Go's flag package does)
            if word[1:].partition("=")[0] in self.form.by_spelling:
                self.findings.doubt(f"whether {word} is {word[1:]}")
            else:
                self._unknown(word)
            return
        name, equals, value = word.partition("=")
        option = self._named(name, word, (each for each in self.form.by_spelling if len(each) > 2))
        if option is None:
            return
        if equals and not option.takes_value and self.switches.flag_values == "refuse":
            self.findings.doubt(f"whether the flag {name} takes =")
        elif equals and self.switches.joined is None:
            self.findings.doubt(f"whether {name} takes its value after =")
        spelling = name if name in option.spellings else option.key
        self._with_value(option, spelling, value if equals else None)

    def _short(self, word: str) -> None:
        """A word such as `-a`, `-abc`, `-n3` (POSIX guidelines 3 to 6)."""
        for place in range(1, len(word)):
            spelling, rest = "-" + word[place], word[place + 1 :]
            option = self.form.by_spelling.get(spelling)
            if option is None:
                self._unknown_letter(word, place)
                return
            if option.takes_value:
                # `-n=3`: the value is `=3` to getopt and `3` to others
                if rest and (rest.startswith("=") or not self.switches.joined):
                    self.findings.doubt(
                        f"what {word!r} means: {rest!r} as a value of {spelling}, or something else"
                    )
                self._with_value(option, spelling, rest or None)
                return
            self._add(option, spelling, ())
            if rest.startswith("=") and self.switches.flag_values == "ignore":
                return
            if rest.startswith("="):
                why = f"{spelling} takes no value"
                self.findings.refuse("unexpected-value", spelling, option.key, word, why=why)
                return
            if rest and not self.switches.bundling:
                why = f"{word} is not an option, and flags are not bundled"
                self.findings.refuse("unknown-option", word, why=why)
                return

    def _named(self, name: str, word: str, candidates: Iterable[str]) -> Option | None:
        """Return the option of a name or of an abbreviation of it; else refuse or doubt and return
        None."""
        option = self.form.by_spelling.get(name)
        if option is not None:
            return option
        fitting = {
            each: self.form.by_spelling[each] for each in candidates if each.startswith(name)
        }
        if not fitting or self.switches.abbreviations is False:
            self._unknown(word)
            return None
        shown = sorted(fitting)
        if self.switches.abbreviations is None:
            self.findings.doubt(f"whether {name} is short for {' or '.join(shown)}")
            return None
        # two spellings of one option do not make a beginning ambiguous
        if len({option.key for option in fitting.values()}) > 1:
            why = f"{name} could be {', '.join(shown)}"
            self.findings.refuse("ambiguous", name, *fitting, why=why)
            return None
        first, option = next(iter(fitting.items()))
        self.findings.reasons.append(f"{name}: short for {first}")
        return option

    def _unknown(self, word: str) -> None:
        name = word.partition("=")[0]
        if name in USUAL_HELP:
            self.findings.doubt(
                f"whether the program knows {name}, which the signature does not tell"
            )
        elif " " in name:
            self.findings.doubt(f"whether {word!r} is an option")
        elif self.switches.unknown_options == "take":
            self._taken(word)
        else:
            why = f"{name} is not an option of the synopsis"
            self.findings.refuse("unknown-option", name, why=why)

    def _unknown_letter(self, word: str, place: int) -> None:
        letter = "-" + word[place]
        if place == 1 and (word in USUAL_HELP or " " in word):
            self.findings.doubt(f"whether {word!r} is an option that the signature does not tell")
        elif letter == "--":  # as in -a-: no reader calls -- the culprit
            self.findings.refuse("unknown-option", word, why=f"{word} is not an option")
        elif self.switches.unknown_options == "take":
            self._taken(word)
        else:
            why = f"{letter} is not an option of the synopsis"
            self.findings.refuse("unknown-option", letter, word, why=why)

    def _taken(self, word: str) -> None:
        """Take an option that is none. Some lenient readers take the word behind it for its value,
        and others do not."""
        self.findings.reasons.append(f"{word}: an option that is taken and has no effect")
        following = self.words[self._at : self._at + 1]
        if "=" not in word and following and not following[0].startswith("-"):
            self.findings.doubt(f"whether {following[0]} is the value of {word}")

    def _is_unknown(self, word: str) -> bool:
        """Tell whether a word with a dash is no option, nor several, nor one with its value."""
        name = word.partition("=")[0]
        if name in self.form.by_spelling or name in USUAL_HELP:
            return False
        return word.startswith("--") or f"-{word[1]}" not in self.form.by_spelling

    # --- values ---

    def _with_value(self, option: Option, spelling: str, joined: str | None) -> None:
        """Take the values of an option: what is joined to it, or the words that follow."""
        if not option.takes_value:
            self._add(option, spelling, ())
            if joined is not None and self.switches.flag_values == "refuse":
                why = f"{spelling} takes no value"
                self.findings.refuse("unexpected-value", spelling, option.key, joined, why=why)
        elif option.optional_value:
            # an optional value can only be joined: a word of its own would be an operand
            self._add(option, spelling, () if joined is None else (joined,))
        elif joined is None:
            self._add(option, spelling, self._following_values(option, spelling))
            self._check_count(option, spelling)
        elif spelling.startswith("--") and self.switches.joined is False:
            why = f"{spelling} takes its value as a word of its own"
            self.findings.refuse("unknown-option", f"{spelling}={joined}", spelling, why=why)
        else:
            if option.least > 1:
                self.findings.doubt(f"whether several values of {spelling} may begin after =")
            self._add(option, spelling, (joined,))

    def _following_values(self, option: Option, spelling: str) -> list[str]:
        """Return the words that follow an option and are its values."""
        taken: list[str] = []
        while self._at < len(self.words) and (option.most is None or len(taken) < option.most):
            word = self.words[self._at]
            dashed = word.startswith("-") and word != "-"
            # beyond what it needs, an option never takes a word with a dash
            if dashed and (len(taken) >= option.least or not self._takes_dashed(spelling, word)):
                break
            taken.append(word)
            self._at += 1
        self.found.is_greedy |= len(taken) > max(option.least, 1)
        return taken

    def _check_count(self, option: Option, spelling: str) -> None:
        taken = self.found.given[-1].values
        if len(taken) < option.least and self.switches.missing_values == "refuse":
            name = option.name_of(len(taken))
            why = f"{spelling} lacks its {name}"
            self.findings.refuse("missing-value", spelling, *option.spellings, name, why=why)

    def _takes_dashed(self, spelling: str, word: str) -> bool:
        """Tell whether a valued option takes a word that begins with a dash."""
        if self.switches.negative_numbers and self._looks_negative(word):
            return True
        if self.switches.dash_values is None:
            self.findings.doubt(f"whether {spelling} takes {word} for its value")
        return self.switches.dash_values != "refuse"
