"""Which option a word names: exactly, by a beginning, with the other number of dashes, or
negated."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from keen_matrix.core.signature.habits import Habits, need
from keen_matrix.core.signature.model import Option, UsageModel


class Named(NamedTuple):
    """What a word names."""

    option: Option
    #: The spellings that it may stand for: several of different options where it is ambiguous.
    all: tuple[str, ...]
    #: Whether it is only the beginning of a name.
    is_short: bool = False
    #: Whether it switches a flag off.
    negates: bool = False


class OptionNames:
    """The names of the options of a form, as a reader with some habits knows them."""

    def __init__(self, form: UsageModel, habits: Habits) -> None:
        self._form, self._habits = form, habits

    def has(self, name: str) -> bool:
        """Tell whether a word is a spelling of the synopsis."""
        return name in self._form.by_spelling

    def letter(self, spelling: str) -> Option | None:
        """Return the option of a letter."""
        return self._form.by_spelling.get(spelling)

    def find(self, name: str) -> Named | None:
        """Return what a word names; None when that is nothing."""
        # An exact name is never ambiguous, however many others begin with it.
        option = self._form.by_spelling.get(name)
        if option is not None:
            return Named(option, (name,))
        exact = self._other_dashes(name) or self._other_case(name)
        return exact or self._negated(name) or self._shortened(name)

    def _other_dashes(self, name: str) -> Named | None:
        """The same name with one dash for two, or two for one."""
        bare = name.lstrip("-")
        others = [each for each in (f"--{bare}", f"-{bare}") if each in self._form.by_spelling]
        # Three dashes name nothing.
        if not others or not 0 < len(name) - len(bare) < 3:
            return None
        # Asked only where the other spelling exists: else it makes no difference.
        dashes = need(self._habits.dashes, "dashes")
        if dashes == "apart" or (dashes == "letters" and (len(bare) > 1 or not name.startswith("--"))):
            return None
        return Named(self._form.by_spelling[others[0]], (others[0],))

    def _other_case(self, name: str) -> Named | None:
        letters = self._habits.dashes == "alike"
        if not self._habits.ignore_case or not (letters or name.startswith("--")):
            return None
        folded = self._comparable(name)
        for each, option in self._form.by_spelling.items():
            if (letters or len(each) > 2) and self._comparable(each) == folded:
                return Named(option, (each,))
        return None

    def _negated(self, name: str) -> Named | None:
        if not self._habits.negated or not name.startswith("--no-"):
            return None
        # Only whole names are negated: to the readers that do so, --no-ver is an option of its own.
        found = self.find(f"--{name.removeprefix('--no-')}")
        if found is None or found.negates or found.is_short:
            return None
        if found.option.takes_value and self._habits.negated != "all":
            return None
        return found._replace(negates=True)

    def _shortened(self, name: str) -> Named | None:
        """The options whose names begin so; a beginning is of use only where it is longer than the
        dashes."""
        wanted = self._comparable(name)
        fitting: dict[str, Option] = {}
        for each, option in self._candidates(name).items():
            if self._comparable(each).startswith(wanted):
                fitting[each] = option
        if not fitting or not need(self._habits.abbreviations, "abbreviations"):
            return None
        # two spellings of one option do not make a beginning ambiguous
        if len({option.key for option in fitting.values()}) > 1:
            return Named(next(iter(fitting.values())), tuple(sorted(fitting)), is_short=True)
        first, option = next(iter(fitting.items()))
        return Named(option, (first,), is_short=True)

    def _candidates(self, name: str) -> Mapping[str, Option]:
        """Return the names that a word could be the beginning of: long ones with its dashes."""
        either = self._habits.dashes == "alike"
        dashes = len(name) - len(name.lstrip("-"))
        return {
            each: option
            for each, option in self._form.by_spelling.items()
            if len(each) > 2 and (either or len(each) - len(each.lstrip("-")) == dashes)
        }

    def _comparable(self, name: str) -> str:
        # Three dashes name nothing, also to those who take one for two.
        is_name = len(name) - len(name.lstrip("-")) < 3
        bare = name.lstrip("-") if is_name and self._habits.dashes == "alike" else name
        return bare.casefold() if self._habits.ignore_case else bare
