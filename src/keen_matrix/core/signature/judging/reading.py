"""Pass 1: words become options with their values, and operands.

The rules are the POSIX Utility Syntax Guidelines 3 to 10 (XBD 12.2) and, for long options,
getopt_long(3). Where reasonable programs differ a habit of the signature says which way it goes; a
habit that is left open is never guessed (see `habits`).
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence, Set
from dataclasses import dataclass, field

from keen_matrix.core.notation.synopsis import Choice, Form, Operand, OptionUse
from keen_matrix.core.signature.habits import need
from keen_matrix.core.signature.judging.findings import Findings, Given
from keen_matrix.core.signature.judging.naming import OptionNames
from keen_matrix.core.signature.model import FormModel, Option, SignatureParts
from keen_matrix.core.signature.values.choices import GO_FALSE, GO_TRUE

_NEGATIVE = re.compile(r"-(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)")
_NUMBER = re.compile(r"-?[0-9]+(?:\.[0-9]*)?(?:[eE][-+]?[0-9]+)?")
_OFF: Mapping[str, Set[str]] = {"bool": GO_FALSE, "ignore": {"false"}, "refuse": frozenset()}
"""What switches a flag off that it is given."""
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
    """Return what a vector is read as, by one form of a signature. Raises OpenHabit where it
    depends on a habit that is open."""
    reader = _Reader(signature, form, words)
    reader.read()
    return reader.found


class _Reader:
    """Goes through the words once, from left to right."""

    def __init__(self, signature: SignatureParts, form: FormModel, words: Sequence[str]) -> None:
        self.signature, self.form, self.words = signature, form, words
        self.habits = signature.habits
        self.found = Reading()
        self.findings = self.found.findings
        self.names = OptionNames(form, self.habits)
        self._at = 0
        """The place behind the word that is read."""
        self._word_at = 0
        self._only_operands = False
        """Whether no word is an option any more."""
        self._behind_option = False
        """Whether the word before, or the value it took, was an option's."""

    def read(self) -> None:
        """Read all words."""
        words = self.words
        if words and words[0] in self.signature.help and not words[0].startswith("-"):
            self.found.help_at.add(0)
            self.findings.reasons.append(f"{words[0]}: help")
            self._at = 1
        while self._at < len(words):
            self._word_at, self._at = self._at, self._at + 1
            word = words[self._word_at]
            if self._is_operand(word):
                self._operand(word)
            elif word == "--":
                self._delimiter()
            elif word.startswith("+"):
                self._name(f"-{word[1:]}")
            elif (
                self.signature.style == "one-dash"
                or self.names.has(word.partition("=")[0])
                or word.startswith("--")
            ):
                self._name(word)
            else:
                self._letters(word)

    def _is_operand(self, word: str) -> bool:
        """Tell whether a word is no option, whatever the synopsis says of it."""
        # A lone dash or plus is an operand to every reader that was tried.
        if self._only_operands or word in ("-", "+"):
            return True
        if not word.startswith("-") and not (self.habits.plus_options and word.startswith("+")):
            return True
        # guideline 9: the first operand ends the options; subcommands do not
        if self._is_behind_operand and not need(self.habits.interleaved, "interleaved"):
            self._only_operands = True
            return True
        # Declared names go before everything that a word may look like: -5 is an option where the
        # synopsis has it.
        if word == "--" or self.names.has(word.partition("=")[0]):
            return False
        # The habit is asked for last, so that only words which depend on it make readings.
        if self._looks_negative(word) and need(self.habits.negative_numbers, "negative_numbers"):
            return True
        if self.habits.unknown_options == "operand":
            return self._is_unknown(word)
        # argparse takes a word with a space for text that somebody has quoted, unless an option
        # begins it.
        spaced = " " in word.partition("=")[0] and self._is_unknown(word)
        return spaced and need(self.habits.dash_spaces, "dash_spaces")

    @property
    def _is_behind_operand(self) -> bool:
        return len(self.found.operands) > self.form.keywords

    def _looks_negative(self, word: str) -> bool:
        """Tell whether a word is a negative number and its first digit no declared option."""
        return bool(_NEGATIVE.fullmatch(word)) and word[:2] not in self.form.by_spelling

    def _is_unknown(self, word: str) -> bool:
        """Tell whether a word with a dash is no option, nor several, nor one with its value."""
        name = word.partition("=")[0]
        if self.names.has(name) or name in USUAL_HELP:
            return False
        return word.startswith("--") or f"-{word[1]}" not in self.form.by_spelling

    def _operand(self, word: str) -> None:
        if self.found.given and self._is_behind_operand and self._behind_option:
            self.found.is_split = True
        self._behind_option = False
        self.found.operands.append(word)

    def _delimiter(self) -> None:
        rest = self.words[self._at :]
        self.findings.reasons.append("--: the rest are operands")
        if not self.habits.delimiter:
            self.findings.doubt("what -- means to a program that does not end its options by it")
        # Asked only where there is a second one: the habit is open for most, and would double all
        # readings.
        elif "--" in rest and need(self.habits.later_delimiter, "later_delimiter") == "nothing":
            rest = [each for each in rest if each != "--"]
        # argparse takes a -- along with the operands that it stands before or behind
        is_bare = not rest and (self._behind_option or not self._is_behind_operand)
        is_bare = is_bare and (self._is_behind_operand or not _may_have_none(self.form.form))
        if is_bare and need(self.habits.bare_delimiter, "bare_delimiter") == "refuse":
            self.findings.refuse("too-many", "--", why="-- has no word behind it")
        self.found.delimiter = self._only_operands = True
        # The operands behind it are read here and not in the loop, since no word among them is
        # looked at.
        for word in rest:
            self._operand(word)
        self._at = len(self.words)

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

    # --- the two ways in which an option is written ---

    def _name(self, word: str) -> None:
        """A word that is the name of an option, or name=value: `--name` (getopt_long(3)), or `-name`
        where one dash does."""
        name, equals, value = word.partition("=")
        named = self.names.find(name)
        if named is None:
            self._unknown(word)
        elif len(named.all) > 1:
            why = f"{name} could be {', '.join(named.all)}"
            self.findings.refuse("ambiguous", name, *named.all, why=why)
        elif named.negates:
            self.findings.reasons.append(f"{name}: not {named.option.key}")
            self._switch_off(named.option)
            self._behind_option = True
        else:
            if named.is_short:
                self.findings.reasons.append(f"{name}: short for {named.all[0]}")
            # -n=3 is no name with a value to readers of letters: the = may be part of it.
            is_letter = len(named.all[0].lstrip("-")) == 1 and not word.startswith("--")
            if equals and is_letter and self.signature.style != "one-dash":
                self._letters(word)
                return
            self._with_value(named.option, named.all[0], value if equals else None)

    def _letters(self, word: str) -> None:
        """A word such as `-a`, `-abc`, `-n3` (POSIX guidelines 3 to 6)."""
        for place in range(1, len(word)):
            spelling, rest = "-" + word[place], word[place + 1 :]
            option = self.names.letter(spelling)
            # The dash in -a- stands where a letter would: some readers go on as if -- were there.
            if spelling == "--" and place > 1:
                how = need(self.habits.letter_dash, "letter_dash")
                if how == "delimiter" and not rest:
                    self._delimiter()
                    return
                if how == "nothing" and not rest:
                    if self.habits.flag_values == "truth":  # a dash is not true
                        self._switch_off(self.found.given[-1].option)
                    return
            if option is None:
                self._unknown_letter(word, place)
                # Lenient readers go on with the next letter, which may be one that they know.
                if rest and self.habits.unknown_options == "take" and not rest.startswith("="):
                    continue
                return
            if option.takes_value:
                # yargs and minimist see two letters in -na, and give the first an empty value.
                if self._goes_on_behind(rest):
                    self._add(option, spelling, ("",))
                    continue
                self._with_value(option, spelling, self._behind_letter(spelling, rest))
                return
            self._add(option, spelling, ())
            if rest.startswith("="):
                self._flag_value(option, spelling, rest[1:])
                return
            if rest and not need(self.habits.bundling, "bundling"):
                why = f"{word} is not an option, and flags are not bundled"
                self.findings.refuse("unknown-option", word, why=why)
                return

    def _behind_letter(self, spelling: str, rest: str) -> str | None:
        """Return the value that stands behind a letter in its word; None when there is none."""
        if not rest:
            return None
        if rest.startswith("="):
            # to getopt the value of -n=3 is =3, to others 3
            how = need(self.habits.letter_equals, "letter_equals")
            if how == "refuse":
                why = f"{spelling}{rest} is not an option"
                self.findings.refuse("unknown-option", f"{spelling}{rest}", spelling, why=why)
            return rest[1:] if how == "strip" else rest
        if need(self.habits.joined, "joined") in ("none", "long"):
            why = f"{spelling} takes its value as a word of its own"
            self.findings.refuse("unknown-option", f"{spelling}{rest}", spelling, why=why)
        return rest

    def _goes_on_behind(self, rest: str) -> bool:
        """Tell whether what stands behind a valued letter are more letters, and no value of it."""
        is_value = not rest or _NUMBER.fullmatch(rest) or not rest[0].isalnum()
        return self.habits.joined == "numbers" and not is_value

    def _unknown(self, word: str) -> None:
        name = word.partition("=")[0]
        # With a reader it is known what it adds by itself, and that is in `help`.
        if name in USUAL_HELP and not self.signature.reader:
            self.findings.doubt(
                f"whether the program knows {name}, which the signature does not tell"
            )
        elif self.habits.unknown_options == "take":
            self._taken(word)
        else:
            why = f"{name} is not an option of the synopsis"
            self.findings.refuse("unknown-option", name, why=why)

    def _unknown_letter(self, word: str, place: int) -> None:
        letter = "-" + word[place]
        # argparse tries the rest of -bz as the value of -b before it looks for letters in it.
        if place > 1 and self.habits.flag_rest == "value":
            flag = "-" + word[place - 1]
            why = f"{flag} takes no value"
            self.findings.refuse("unexpected-value", flag, word[place:], word, why=why)
            return
        if place == 1 and word in USUAL_HELP and not self.signature.reader:
            self.findings.doubt(f"whether {word!r} is an option that the signature does not tell")
        elif letter == "--":  # as in -a-: no reader calls -- the culprit
            self.findings.refuse("unknown-option", word, why=f"{word} is not an option")
        elif self.habits.unknown_options == "take":
            self._taken(word, is_last=place == len(word) - 1)
        else:
            why = f"{letter} is not an option of the synopsis"
            self.findings.refuse("unknown-option", letter, word, why=why)

    def _taken(self, word: str, *, is_last: bool = True) -> None:
        """Take an option that is none. Some lenient readers take the word behind it for its value,
        and others do not."""
        self.findings.reasons.append(f"{word}: an option that is taken and has no effect")
        self._behind_option = True
        if not is_last or (word.startswith("--no-") and self.habits.negated):
            return
        following = self.words[self._at : self._at + 1]
        is_free = bool(following) and not following[0].startswith("-")
        if (
            "=" not in word
            and is_free
            and need(self.habits.unknown_takes_value, "unknown_takes_value")
        ):
            self._at += 1

    # --- values ---

    def _with_value(self, option: Option, spelling: str, joined: str | None) -> None:
        """Take the values of an option: what is joined to it, or the words that follow."""
        if not option.takes_value:
            self._add(option, spelling, ())
            if joined is not None:
                self._flag_value(option, spelling, joined)
        elif option.optional_value and joined is None:
            self._add(option, spelling, self._optional_value())
        elif joined is None:
            values = self._following_values(option, spelling)
            if len(values) < option.least and self.habits.missing_values == "empty":
                values = [*values, ""]
            self._add(option, spelling, values)
            self._check_count(option, spelling)
        elif spelling.startswith("--") and need(self.habits.joined, "joined") == "none":
            why = f"{spelling} takes its value as a word of its own"
            self.findings.refuse("unknown-option", f"{spelling}={joined}", spelling, why=why)
        elif not joined and need(self.habits.empty_joined, "empty_joined") == "refuse":
            why = f"the value of {spelling} is empty"
            self.findings.refuse("missing-value", spelling, *option.spellings, why=why)
            self._add(option, spelling, ())
        else:
            if option.least > 1:
                self.findings.doubt(f"whether several values of {spelling} may begin after =")
            self._add(option, spelling, (joined,))

    def _flag_value(self, option: Option, spelling: str, value: str) -> None:
        """Deal with what is joined to a flag."""
        how = self.habits.flag_values
        if not value and len(spelling) == 2 and how in ("truth", "ignore"):
            if how == "truth":
                self.findings.refuse(
                    "unknown-option", f"{spelling}=", spelling, why=f"{spelling}= is not an option"
                )
            self._switch_off(option)
        elif how == "refuse" or (how == "bool" and value not in GO_TRUE | GO_FALSE):
            why = f"{spelling} takes no value"
            self.findings.refuse("unexpected-value", spelling, option.key, value, why=why)
        elif value != "true" if how == "truth" else value in _OFF[how]:
            self._switch_off(option)

    def _switch_off(self, option: Option) -> None:
        """Take back every use of a flag."""
        self.found.given = [each for each in self.found.given if each.option is not option]

    def _optional_value(self) -> tuple[str, ...]:
        """Return the word behind an option whose value may be left out, where it can be that."""
        following = self.words[self._at : self._at + 1]
        if not following or following[0].startswith("-"):
            return ()
        if not need(self.habits.optional_follows, "optional_follows"):
            return ()
        self._at += 1
        return (following[0],)

    def _following_values(self, option: Option, spelling: str) -> list[str]:
        """Return the words that follow an option and are its values."""
        taken: list[str] = []
        while self._at < len(self.words) and (option.most is None or len(taken) < option.most):
            word = self.words[self._at]
            if not word and self.habits.missing_values == "empty":
                break  # minimist asks whether there is a word, and an empty one is none to it
            dashed = word.startswith("-") and word != "-"
            # beyond what it needs, an option never takes a word with a dash
            if dashed and (len(taken) >= option.least or not self._takes_dashed(word)):
                break
            taken.append(word)
            self._at += 1
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
        if self._looks_negative(word) and self.habits.negative_numbers:
            return True
        if need(self.habits.dash_values, "dash_values") == "take":
            return True
        return " " in word and bool(self.habits.dash_spaces) and self._is_unknown(word)


def _may_have_none(form: Form) -> bool:
    """Tell whether a form has operands and can go without any."""
    items = [item for item in form.items if not isinstance(item, OptionUse)]
    operands = [each for each in items if isinstance(each, (Operand, Choice))]
    with_words = [
        each
        for each in operands
        if isinstance(each, Operand)
        or any(isinstance(i, Operand) for form in each.alternatives for i in form.walk())
    ]
    return bool(with_words) and all(
        isinstance(each, Choice) and each.optional for each in with_words
    )
