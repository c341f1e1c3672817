"""Pass 1: words become options with their values, and operands.

The rules are the POSIX Utility Syntax Guidelines 3 to 10 (XBD 12.2) and, for long options,
getopt_long(3). Where reasonable programs differ a habit of the signature says which way it goes; a
habit that is left open is never guessed (see `habits`).
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from keen_matrix.core.notation.synopsis import Choice, Operand, OptionUse, Usage
from keen_matrix.core.signature.habits import Habits, need
from keen_matrix.core.signature.judging.taking import USUAL_HELP, Reading, Taker, is_unknown, looks_negative
from keen_matrix.core.signature.model import SignatureParts, UsageModel


def read_words(signature: SignatureParts, form: UsageModel, words: Sequence[str]) -> Reading:
    """Return what a vector is read as, by one form of a signature. Raises OpenHabit where it
    depends on a habit that is open."""
    reader = _WordReader(signature, form, words)
    reader.read()
    return reader.found


_NUMBER = re.compile(r"-?[0-9]+(?:\.[0-9]*)?(?:[eE][-+]?[0-9]+)?")


class _WordReader(Taker):
    """Goes through the words once, from left to right."""

    def read(self) -> None:
        """Read all words."""
        words = self.words
        if words and words[0] in self.signature.help and not words[0].startswith("-"):
            self.found.help_at.add(0)
            self.findings.reasons.append(f"{words[0]}: help")
            self.at = 1
        while self.at < len(words):
            self.word_at, self.at = self.at, self.at + 1
            word = words[self.word_at]
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
        if self.only_operands or word in ("-", "+"):
            return True
        if not word.startswith("-") and not (self.habits.plus_options and word.startswith("+")):
            return True
        # guideline 9: the first operand ends the options; subcommands do not
        if self.is_behind_operand and not need(self.habits.interleaved, "interleaved"):
            self.only_operands = True
            return True
        # Declared names go before everything that a word may look like: -5 is an option where the
        # synopsis has it.
        if word == "--" or self.names.has(word.partition("=")[0]):
            return False
        # The habit is asked for last, so that only words which depend on it make readings.
        if looks_negative(self.form, word) and need(self.habits.negative_numbers, "negative_numbers"):
            return True
        if self.habits.unknown_options == "operand":
            return is_unknown(self.names, self.form, word)
        # argparse takes a word with a space for text that somebody has quoted, unless an option
        # begins it.
        spaced = " " in word.partition("=")[0] and is_unknown(self.names, self.form, word)
        return spaced and need(self.habits.dash_spaces, "dash_spaces")

    def _operand(self, word: str) -> None:
        if self.found.given and self.is_behind_operand and self.behind_option:
            self.found.is_split = True
        self.behind_option = False
        self.found.operands.append(word)

    def _delimiter(self) -> None:
        rest = self.words[self.at :]
        self.findings.reasons.append("--: the rest are operands")
        is_early = len(self.found.operands) < self.form.keywords
        if is_early and need(self.habits.early_delimiter, "early_delimiter") == "refuse":
            self.findings.refuse("too-many", "--", why="-- comes before the subcommand")
        if not self.habits.delimiter:
            self.findings.doubt("what -- means to a program whose options it does not end")
        # Asked only where there is a second one: the habit is open for most, and would double all
        # readings.
        elif "--" in rest and need(self.habits.later_delimiter, "later_delimiter") == "nothing":
            rest = [each for each in rest if each != "--"]
        # argparse takes a -- along with the operands that it precedes or behind
        is_bare = not rest and (self.behind_option or not self.is_behind_operand)
        is_bare = is_bare and (self.is_behind_operand or not _may_have_none(self.form.form))
        if is_bare and need(self.habits.bare_delimiter, "bare_delimiter") == "refuse":
            self.findings.refuse("too-many", "--", why="-- has no word after it")
        self.found.delimiter = self.only_operands = True
        # The operands after it are read here and not in the loop, since no word among them is
        # looked at.
        for word in rest:
            self._operand(word)
        self.at = len(self.words)

    def _name(self, word: str) -> None:
        """A word that is the name of an option, or name=value: `--name` (getopt_long(3)), or
        `-name` where one dash does."""
        name, equals, value = word.partition("=")
        named = self.names.find(name)
        if named is None:
            self._unknown(word)
        elif len(named.all) > 1:
            why = f"{name} could be {', '.join(named.all)}"
            self.findings.refuse("ambiguous", name, *named.all, why=why)
        elif named.negates:
            self.findings.reasons.append(f"{name}: not {named.option.key}")
            self.switch_off(named.option)
            self.behind_option = True
        else:
            if named.is_short:
                self.findings.reasons.append(f"{name}: short for {named.all[0]}")
            # -n=3 is no name with a value to readers of letters: the = may be part of it.
            is_letter = len(named.all[0].lstrip("-")) == 1 and not word.startswith("--")
            if equals and is_letter and self.signature.style != "one-dash":
                self._letters(word)
                return
            self.with_value(named.option, named.all[0], value if equals else None)

    def _letters(self, word: str) -> None:
        """A word such as `-a`, `-abc`, `-n3` (POSIX guidelines 3 to 6). What is wrong after the
        letter of help is found before help is given by some, and not looked at by others."""
        before = len(self.findings.refusals)
        self._read_letters(word)
        if self.word_at not in self.found.help_at or len(word) < 3:
            return
        how = self.habits.help_letters
        if how == "alone" and word[:2] in self.signature.help and len(self.findings.refusals) == before:
            why = f"{word} is not an option"
            self.findings.refuse("unknown-option", word, word[:2], why=why)
        if how != "take" and len(self.findings.refusals) > before:
            self.found.help_at.discard(self.word_at)

    def _read_letters(self, word: str) -> None:
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
                        self.switch_off(self.found.given[-1].option)
                    return
            if option is None:
                self._unknown_letter(word, place)
                # Lenient readers go on with the next letter, which may be one that they know.
                if rest and self.habits.unknown_options == "take" and not rest.startswith("="):
                    continue
                return
            if option.takes_value:
                # yargs and minimist see two letters in -na, and give the first an empty value.
                if _goes_on_behind(self.habits, rest):
                    self.add(option, spelling, ("",))
                    continue
                self.with_value(option, spelling, self._behind_letter(spelling, rest))
                return
            self.add(option, spelling, ())
            if rest.startswith("="):
                self.flag_value(option, spelling, rest[1:])
                return
            if rest and not need(self.habits.bundling, "bundling"):
                why = f"{word} is not an option, and flags are not bundled"
                self.findings.refuse("unknown-option", word, why=why)
                return

    def _behind_letter(self, spelling: str, rest: str) -> str | None:
        """Return the value that follows a letter in its word; None when there is none."""
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
            why = f"{spelling} takes its value as a separate word"
            self.findings.refuse("unknown-option", f"{spelling}{rest}", spelling, why=why)
        return rest

    def _unknown(self, word: str) -> None:
        name = word.partition("=")[0]
        # With a reader it is known what it adds on its own, and that is in `help`.
        if name in USUAL_HELP and not self.signature.reader:
            self.findings.doubt(f"whether the program knows {name}, which is not in the signature")
        elif self.habits.unknown_options == "take":
            self._taken(word)
        elif self.habits.unknown_options == "open":
            self.findings.doubt(f"whether {name}, which is not in the synopsis, is refused")
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
            self.findings.doubt(f"whether {word!r} is an option that the signature leaves out")
        elif letter == "--":  # as in -a-: no reader calls -- the culprit
            self.findings.refuse("unknown-option", word, why=f"{word} is not an option")
        elif self.habits.unknown_options == "take":
            self._taken(word, is_last=place == len(word) - 1)
        elif self.habits.unknown_options == "open":
            self.findings.doubt(f"whether {letter}, which is not in the synopsis, is refused")
        else:
            why = f"{letter} is not an option of the synopsis"
            self.findings.refuse("unknown-option", letter, word, why=why)

    def _taken(self, word: str, *, is_last: bool = True) -> None:
        """Take an option that is none. Some lenient readers take the word after it for its value,
        and others do not."""
        self.findings.reasons.append(f"{word}: an option that is accepted and has no effect")
        self.behind_option = True
        if not is_last or (word.startswith("--no-") and self.habits.negated):
            return
        following = self.words[self.at : self.at + 1]
        is_free = bool(following) and not following[0].startswith("-")
        if "=" not in word and is_free and need(self.habits.unknown_takes_value, "unknown_takes_value"):
            self.at += 1


def _may_have_none(form: Usage) -> bool:
    """Tell whether a form has operands and can go without any."""
    items = [item for item in form.items if not isinstance(item, OptionUse)]
    operands = [each for each in items if isinstance(each, (Operand, Choice))]
    with_words = [
        each
        for each in operands
        if isinstance(each, Operand)
        or any(isinstance(i, Operand) for form in each.alternatives for i in form.walk())
    ]
    return bool(with_words) and all(isinstance(each, Choice) and each.optional for each in with_words)


def _goes_on_behind(habits: Habits, rest: str) -> bool:
    """Tell whether what follows a valued letter are more letters, and no value of it."""
    is_value = not rest or _NUMBER.fullmatch(rest) or not rest[0].isalnum()
    return habits.joined == "numbers" and not is_value
