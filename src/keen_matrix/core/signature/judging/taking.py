"""What is taken on the way through the words: options, with the values that belong to them."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence, Set

from keen_matrix.core.signature.habits import need
from keen_matrix.core.signature.judging.findings import Findings, Given
from keen_matrix.core.signature.judging.naming import OptionNames
from keen_matrix.core.signature.model import Option, SignatureParts, UsageModel
from keen_matrix.core.signature.values.choices import GO_FALSE, GO_TRUE
from keen_matrix.core.structs import Struct, field

_NEGATIVE = re.compile(r"-(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)")
#: What switches a flag off that it is given.
_OFF: Mapping[str, Set[str]] = {"bool": GO_FALSE, "ignore": {"false"}, "refuse": frozenset()}
#: Spellings that a program may know though its synopsis does not tell: undeclared, they never
#: count against it.
USUAL_HELP = frozenset({"-h", "--help", "-?", "-V", "--version", "-help", "-version", "--usage"})


class Reading(Struct):
    """What the words of a vector were read as."""

    #: The options, in their order.
    given: list[Given] = field(default_factory=list)
    operands: list[str] = field(default_factory=list)
    #: Whether `--` is there.
    delimiter: bool = False
    #: Where the words stand that ask for help.
    help_at: set[int] = field(default_factory=set)
    #: Where the words stand of options that end the call by themselves.
    actions_at: set[int] = field(default_factory=set)
    #: Whether options stand between operands.
    is_split: bool = False
    #: Whether an option with an open number of values took more than it needs, which could be
    #: operands.
    is_greedy: bool = False
    findings: Findings = field(default_factory=Findings)

    @property
    def asks_help(self) -> bool:
        """Whether it asks for help."""
        return bool(self.help_at)

    @property
    def spellings(self) -> frozenset[str]:
        """Every spelling of every option that is given."""
        return frozenset(spelling for given in self.given for spelling in given.option.spellings)


class Taker:
    """The words of a vector, how far they are read, and what was taken of them."""

    def __init__(self, signature: SignatureParts, form: UsageModel, words: Sequence[str]) -> None:
        self.signature, self.form, self.words = signature, form, words
        self.habits = signature.habits
        self.found = Reading()
        self.findings = self.found.findings
        self.names = OptionNames(form, self.habits)
        #: The place after the word that is read.
        self.at = 0
        self.word_at = 0
        #: Whether no word is an option any more.
        self.only_operands = False
        #: Whether the word before, or the value it took, was an option's.
        self.behind_option = False

    @property
    def is_behind_operand(self) -> bool:
        """Whether an operand was read that is no subcommand."""
        return len(self.found.operands) > self.form.keywords

    def add(self, option: Option, spelling: str, values: Sequence[str]) -> None:
        """Note an option that is given."""
        if spelling in self.signature.help:
            self.found.help_at.add(self.word_at)
        if any(spelling in each for each in self.signature.actions):
            self.found.actions_at.add(self.word_at)
        self.behind_option = True
        self.found.given.append(Given(option, spelling, tuple(values)))
        shown = " ".join(values)
        named = f" = {shown!r} ({' '.join(option.value_names)})" if values else ""
        self.findings.reasons.append(f"{spelling}: option {option.key}{named}")
        if self._is_on_other_side(option):
            self.findings.doubt(f"whether {spelling} may be on this side of the keyword")

    def _is_on_other_side(self, option: Option) -> bool:
        """Tell whether an option of the form precedes a keyword that its place in the synopsis
        follows, or the other way round."""
        if not self.form.keywords or option not in self.form.options:
            return False
        seen, due = len(self.found.operands), option.after_keywords
        return seen < due or seen >= self.form.keywords > due

    def with_value(self, option: Option, spelling: str, joined: str | None) -> None:
        """Take the values of an option: what is joined to it, or the words that follow."""
        if not option.takes_value:
            self.add(option, spelling, ())
            if joined is not None:
                self.flag_value(option, spelling, joined)
        elif option.optional_value and joined is None:
            self.add(option, spelling, self._optional_value())
        elif joined is None:
            values = self._following_values(option, spelling)
            if len(values) < option.least and self.habits.missing_values == "empty":
                values = [*values, ""]
            self.add(option, spelling, values)
            self._check_count(option, spelling)
        elif len(spelling) > 2 and need(self.habits.joined, "joined") == "none":
            why = f"{spelling} takes its value as a separate word"
            self.findings.refuse("unknown-option", f"{spelling}={joined}", spelling, why=why)
        elif not joined and need(self.habits.empty_joined, "empty_joined") == "refuse":
            why = f"the value of {spelling} is empty"
            self.findings.refuse("missing-value", spelling, *option.spellings, why=why)
            self.add(option, spelling, ())
        else:
            if option.least > 1:
                self.findings.doubt(f"whether several values of {spelling} may begin after =")
            self.add(option, spelling, (joined,))

    def flag_value(self, option: Option, spelling: str, value: str) -> None:
        """Deal with what is joined to a flag."""
        if spelling in self.signature.help:
            self._help_with(option, spelling, value)
            return
        how = self.habits.flag_values
        if not value and len(spelling) == 2 and how in ("truth", "ignore"):
            if how == "truth":
                self.findings.refuse(
                    "unknown-option", f"{spelling}=", spelling, why=f"{spelling}= is not an option"
                )
            self.switch_off(option)
        elif how == "refuse" or (how == "bool" and value not in GO_TRUE | GO_FALSE):
            why = f"{spelling} takes no value"
            self.findings.refuse("unexpected-value", spelling, option.key, value, why=why)
        elif value != "true" if how == "truth" else value in _OFF[how]:
            self.switch_off(option)

    def _help_with(self, option: Option, spelling: str, value: str) -> None:
        """Deal with what is joined to an option that asks for help: to most readers it is a flag,
        and none of them takes a value."""
        if need(self.habits.help_joined, "help_joined") == "take":
            return
        self.found.help_at.discard(self.word_at)
        if len(spelling) == 2 and self.habits.help_letters == "take":
            # some give help before they look at what follows the letter, be it a sign
            self.findings.doubt(f"what {spelling}={value} is")
            return
        why = f"{spelling} takes no value"
        self.findings.refuse("unexpected-value", spelling, option.key, value, why=why)

    def switch_off(self, option: Option) -> None:
        """Take back every use of a flag."""
        self.found.given = [each for each in self.found.given if each.option is not option]

    def _optional_value(self) -> tuple[str, ...]:
        """Return the word after an option whose value may be left out, where it can be that."""
        following = self.words[self.at : self.at + 1]
        if not following or following[0].startswith("-"):
            return ()
        if not need(self.habits.optional_follows, "optional_follows"):
            return ()
        self.at += 1
        return (following[0],)

    def _following_values(self, option: Option, spelling: str) -> list[str]:
        """Return the words that follow an option and are its values."""
        taken: list[str] = []
        while self.at < len(self.words) and (option.most is None or len(taken) < option.most):
            word = self.words[self.at]
            if not word and self.habits.missing_values == "empty":
                break  # minimist asks whether there is a word, and an empty one is none to it
            dashed = word.startswith("-") and word != "-"
            # beyond what it needs, an option never takes a word with a dash
            if dashed and (len(taken) >= option.least or not self._takes_dashed(word)):
                break
            taken.append(word)
            self.at += 1
        # Which words an option with several values leaves to the operands differs; matching asks
        # for it when words are missing.
        self.found.is_greedy |= len(taken) > max(option.least, 1)
        return taken

    def _check_count(self, option: Option, spelling: str) -> None:
        taken = self.found.given[-1].values
        if len(taken) < option.least and self.habits.missing_values == "refuse":
            name = option.name_of(len(taken))
            why = f"{spelling} lacks its {name}"
            self.findings.refuse("missing-value", spelling, *option.spellings, name, why=why)

    def _takes_dashed(self, word: str) -> bool:
        """Tell whether a valued option takes a word that begins with a dash."""
        # A number is a value wherever it would be an operand; where that is open, the next habit
        # decides.
        if looks_negative(self.form, word) and self.habits.negative_numbers:
            return True
        if need(self.habits.dash_values, "dash_values") == "take":
            return True
        return " " in word and bool(self.habits.dash_spaces) and is_unknown(self.names, self.form, word)


def looks_negative(form: UsageModel, word: str) -> bool:
    """Tell whether a word is a negative number and its first digit no declared option."""
    return bool(_NEGATIVE.fullmatch(word)) and word[:2] not in form.by_spelling


def is_unknown(names: OptionNames, form: UsageModel, word: str) -> bool:
    """Tell whether a word with a dash is no option, nor several, nor one with its value."""
    name = word.partition("=")[0]
    if names.has(name) or name in USUAL_HELP:
        return False
    return word.startswith("--") or f"-{word[1]}" not in form.by_spelling
