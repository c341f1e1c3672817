"""Judging a vector: what a conforming program does with it.

Three passes over one form of the synopsis, each adding refusals and doubts:

1. *Reading*: words become options with their values, and operands (POSIX XBD 12.2, guidelines 3 to 10; getopt_long(3)).
2. *Resolving*: the options that are there settle which alternatives of the synopsis are taken; what they exclude is a
   conflict, what a taken part requires and lacks is a missing option. What is left is a pattern of operands.
3. *Matching*: the operands run through that pattern, in all its readings at once, the fullest first.

Then every value is checked by its type, and the conditions of the signature against all values.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any, Literal, NamedTuple

from keen_matrix.core.errors import ExpressionFault
from keen_matrix.core.expressions import FUNCTIONS, Expression, Scope
from keen_matrix.core.notation.synopsis import (
    Choice,
    Delimiter,
    Form,
    Item,
    Keyword,
    Operand,
    OptionUse,
)
from keen_matrix.core.oracle import OracleNotRun
from keen_matrix.core.signature.kinds import Kind
from keen_matrix.core.signature.model import FormModel, Option, SignatureParts, names_of

_NEGATIVE = re.compile(r"-(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)")
_USUAL_HELP = frozenset({"-h", "--help", "-?", "-V", "--version", "-help", "-version", "--usage"})
"""Spellings that a program may know though its synopsis does not tell: undeclared, they never
count against it."""
UNROLLED = 64
"""Bounded counts of operands above this are checked only as open ones are, with their lower end."""


class Refusal(NamedTuple):
    """One reason to turn a vector down. `culprit` is the word or name that a good message would
    mention; `mentions` are all that it could mention instead."""

    kind: str
    culprit: str
    mentions: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Judgement:
    """The judgement on a vector.

    `bindings` maps operand NAMEs and option keys (the first long spelling) to what they were bound
    to: a text, a list of texts, True for a flag, a count for a flag given several times. `reasons`
    tell how it came about, in words.
    """

    status: Literal["accepted", "refused", "unspecified"]
    refusals: tuple[Refusal, ...] = ()
    bindings: Mapping[str, Any] = field(default_factory=dict)
    reasons: tuple[str, ...] = ()
    help: bool = False
    """Whether it asks for help."""
    given: frozenset[str] = frozenset()
    """Every spelling of every option that is given."""

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds of its refusals, each once."""
        return tuple(dict.fromkeys(each.kind for each in self.refusals))


class Given(NamedTuple):
    """An option as it was given."""

    option: Option
    spelling: str
    values: tuple[str, ...]


def judge(signature: SignatureParts, words: Sequence[str]) -> Judgement:
    """Return the judgement of a signature on a vector (see Signature.judge)."""
    best: tuple[tuple[int, int, int], Judgement] | None = None
    for form in signature.forms:
        reader = _FormJudge(signature, form, words)
        found = reader.judgement()
        if found.status == "accepted":
            return found
        rank = (reader.keywords_met, found.status == "unspecified", -len(found.refusals))
        if best is None or rank > best[0]:
            best = (rank, found)
    assert best is not None
    return best[1]


class _FormJudge:
    """The judging of one vector by one form."""

    def __init__(self, signature: SignatureParts, form: FormModel, words: Sequence[str]) -> None:
        self.signature, self.form, self.words = signature, form, words
        self.switches = signature.switches
        self.given: list[Given] = []
        self.operands: list[str] = []
        self.refusals: list[Refusal] = []
        self.doubts: list[str] = []
        self.reasons: list[str] = []
        self.delimiter = False
        self.keywords_met = 0
        self.asks_help = False
        self._greedy = False
        self._split = False
        self._at = 0
        """Where the word stands that is read."""
        self._help_at: set[int] = set()
        """Where the words stand that ask for help."""

    def judgement(self) -> Judgement:
        """Return what this form makes of the vector."""
        self._read()
        if self.asks_help and (found := self._help()) is not None:
            return found
        pattern = _Resolver(self).pattern()
        bound = self._match(pattern)
        self._repeats()
        self._types(bound)
        bindings = self._bindings(bound)
        if not self.refusals and not self.doubts:
            self._conditions(bindings)
        status: Literal["accepted", "refused", "unspecified"] = "accepted"
        if self.doubts:
            status = "unspecified"
        elif self.refusals:
            status = "refused"
        return Judgement(
            status=status,
            refusals=tuple(self.refusals),
            bindings=bindings,
            reasons=(*self.reasons, *(f"not settled: {each}" for each in self.doubts)),
            help=self.asks_help,
            given=self._given(),
        )

    def _given(self) -> frozenset[str]:
        return frozenset(spelling for given in self.given for spelling in given.option.spellings)

    def refuse(self, kind: Kind, culprit: str, *mentions: str, why: str = "") -> None:
        """Add a refusal of a kind that judging finds by itself."""
        self._refused(kind, culprit, *mentions, why=why)

    def _refused(self, kind: str, culprit: str, *mentions: str, why: str) -> None:
        self.refusals.append(Refusal(kind, culprit, tuple(dict.fromkeys([culprit, *mentions]))))
        self.reasons.append(f"{kind}: {why or culprit}")

    def doubt(self, why: str) -> None:
        """Add something that the signature does not settle."""
        self.doubts.append(why)

    # --- help ---

    def _help(self) -> Judgement | None:
        """Return the judgement on a vector that asks for help; None when help does not win over
        what else is wrong."""
        # the words themselves, not those that are spelt so: an abbreviation asks for help as well
        others = [word for at, word in enumerate(self.words) if at not in self._help_at]
        accepted = Judgement(
            status="accepted", bindings={}, reasons=(*self.reasons, "it asks for help"), help=True
        )
        if not others or self.switches.help_wins:
            return accepted
        if judge(self.signature, others).status == "accepted":
            return accepted
        if self.switches.help_wins is None:
            reasons = (*self.reasons, "not settled: help beside other faults")
            return Judgement(status="unspecified", reasons=reasons, help=True)
        return None

    # --- pass 1: reading ---

    def _read(self) -> None:
        words = list(self.words)
        style = self.signature.style
        at, only_operands = 0, False
        if words and words[0] in self.signature.help and not words[0].startswith("-"):
            self.asks_help = True
            self._help_at.add(0)
            self.reasons.append(f"{words[0]}: help")
            at = 1
        while at < len(words):
            word = words[at]
            self._at = at
            at += 1
            if only_operands or not word.startswith("-") or word == "-":
                self._operand(word)
                if self.switches.interleaved is False and len(self.operands) > self.form.keywords:
                    only_operands = True
                continue
            if word == "--":
                self.delimiter = only_operands = True
                self.reasons.append("--: the rest are operands")
                if "--" in words[at:]:
                    self.doubt("a second -- is an operand to some and nothing to others")
                continue
            if (
                _NEGATIVE.fullmatch(word)
                and word[:2] not in self.form.by_spelling
                and word not in self.form.by_spelling
            ):
                if self.switches.negative_numbers is False:
                    self.refuse("unknown-option", word, why=f"{word} is not an option")
                    continue
                if self.switches.negative_numbers is None:
                    self.doubt(f"whether {word} is an option or a number")
                self._operand(word)
                continue
            if self.switches.interleaved is None and len(self.operands) > self.form.keywords:
                self.doubt(f"whether the option {word} may follow an operand")
            if word.startswith("--") and style != "one-dash":
                at = self._long(word, words, at)
            elif style == "one-dash" or word.partition("=")[0] in self.form.by_spelling:
                at = self._one_dash(word, words, at)
            else:
                at = self._short(word, words, at)

    def _operand(self, word: str) -> None:
        if self.given and len(self.operands) > self.form.keywords and self._last_was_option:
            self._split = True
        self._last_was_option = False
        self.operands.append(word)

    _last_was_option = False

    def _add(self, option: Option, spelling: str, values: Sequence[str]) -> None:
        if spelling in self.signature.help:
            self.asks_help = True
            self._help_at.add(self._at)
        self._last_was_option = True
        self.given.append(Given(option, spelling, tuple(values)))
        shown = " ".join(values)
        named = f" = {shown!r} ({' '.join(option.value_names)})" if values else ""
        self.reasons.append(f"{spelling}: option {option.key}{named}")
        seen = len(self.operands)
        if (
            self.form.keywords
            and option in self.form.options
            and (
                seen < option.after_keywords or (seen >= self.form.keywords > option.after_keywords)
            )
        ):
            self.doubt(f"whether {spelling} may stand on this side of the keyword")

    def _long(self, word: str, words: list[str], at: int) -> int:
        """A word that begins with two dashes: `--name`, `--name=value` (getopt_long(3))."""
        name, equals, value = word.partition("=")
        option = self._named(
            name, word, (each for each in self.form.by_spelling if each.startswith("--"))
        )
        if option is None:
            return at
        spelling = (
            next(each for each in option.spellings if each.startswith(name))
            if name not in option.spellings
            else name
        )
        return self._with_value(option, spelling, value if equals else None, words, at)

    def _one_dash(self, word: str, words: list[str], at: int) -> int:
        """A word such as `-name` or `-name=value`: an option whose name is longer than a letter."""
        if word.startswith("--"):
            if word[1:].partition("=")[0] in self.form.by_spelling:
                self.doubt(f"whether {word} is {word[1:]}")
                return at
            self._unknown(word)
            return at
        name, equals, value = word.partition("=")
        option = self._named(name, word, (each for each in self.form.by_spelling if len(each) > 2))
        if option is None:
            return at
        if equals and not option.takes_value:
            self.doubt(f"whether the flag {name} takes =")
        elif equals and self.switches.joined is None:
            self.doubt(f"whether {name} takes its value after =")
        return self._with_value(
            option,
            name if name in option.spellings else option.key,
            value if equals else None,
            words,
            at,
        )

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
        if self.switches.abbreviations is None:
            self.doubt(f"whether {name} is short for {' or '.join(sorted(fitting))}")
            return None
        if len(set(map(id, fitting.values()))) > 1:
            self.refuse(
                "ambiguous", name, *fitting, why=f"{name} could be {', '.join(sorted(fitting))}"
            )
            return None
        self.reasons.append(f"{name}: short for {next(iter(fitting))}")
        return next(iter(fitting.values()))

    def _unknown(self, word: str) -> None:
        name = word.partition("=")[0]
        if name in _USUAL_HELP:
            self.doubt(f"whether the program knows {name}, which the signature does not tell")
        elif " " in name:
            self.doubt(f"whether {word!r} is an option")
        else:
            self.refuse("unknown-option", name, why=f"{name} is not an option of the synopsis")

    def _short(self, word: str, words: list[str], at: int) -> int:
        """A word such as `-a`, `-abc`, `-n3` (POSIX guidelines 3 to 6)."""
        for place in range(1, len(word)):
            spelling = "-" + word[place]
            rest = word[place + 1 :]
            option = self.form.by_spelling.get(spelling)
            if option is None:
                self._unknown_letter(word, place)
                return at
            if option.takes_value:
                if rest and (rest.startswith("=") or not self.switches.joined):
                    self.doubt(
                        f"what {word!r} means: {rest!r} as a value of {spelling}, or something else"
                    )
                return self._with_value(option, spelling, rest or None, words, at)
            self._add(option, spelling, ())
            if rest.startswith("="):
                self.refuse(
                    "unexpected-value", spelling, option.key, word, why=f"{spelling} takes no value"
                )
                return at
            if rest and not self.switches.bundling:
                self.refuse(
                    "unknown-option",
                    word,
                    why=f"{word} is not an option, and flags are not bundled",
                )
                return at
        return at

    def _unknown_letter(self, word: str, place: int) -> None:
        letter = "-" + word[place]
        if place == 1 and (word in _USUAL_HELP or " " in word):
            self.doubt(f"whether {word!r} is an option that the signature does not tell")
        elif letter == "--":
            self.refuse("unknown-option", word, why=f"{word} is not an option")
        else:
            self.refuse(
                "unknown-option", letter, word, why=f"{letter} is not an option of the synopsis"
            )

    def _with_value(
        self, option: Option, spelling: str, joined: str | None, words: list[str], at: int
    ) -> int:
        """Take the values of an option; return the place after them."""
        if not option.takes_value:
            self._add(option, spelling, ())
            if joined is not None:
                self.refuse(
                    "unexpected-value",
                    spelling,
                    option.key,
                    joined,
                    why=f"{spelling} takes no value",
                )
            return at
        if option.optional_value:
            self._add(option, spelling, () if joined is None else (joined,))
            return at
        if joined is not None and spelling.startswith("--") and self.switches.joined is False:
            why = f"{spelling} takes its value as a word of its own"
            self.refuse("unknown-option", f"{spelling}={joined}", spelling, why=why)
            return at
        if joined is not None:
            if option.least > 1:
                self.doubt(f"whether several values of {spelling} may begin after =")
            self._add(option, spelling, (joined,))
            return at
        taken: list[str] = []
        while at < len(words) and (option.most is None or len(taken) < option.most):
            word = words[at]
            dashed = word.startswith("-") and word != "-"
            if dashed:
                if len(taken) >= option.least:
                    break
                if not self._takes_dashed(spelling, word):
                    break
            taken.append(word)
            at += 1
        self._greedy = self._greedy or len(taken) > max(option.least, 1)
        self._add(option, spelling, taken)
        if len(taken) < option.least:
            name = option.name_of(len(taken))
            self.refuse(
                "missing-value",
                spelling,
                *option.spellings,
                name,
                why=f"{spelling} lacks its {name}",
            )
        return at

    def _takes_dashed(self, spelling: str, word: str) -> bool:
        """Tell whether a valued option takes a word that begins with a dash."""
        if (
            _NEGATIVE.fullmatch(word)
            and self.switches.negative_numbers
            and word[:2] not in self.form.by_spelling
        ):
            return True
        if self.switches.dash_values is None:
            self.doubt(f"whether {spelling} takes {word} for its value")
        return self.switches.dash_values != "refuse"

    # --- pass 3: matching ---

    def _match(self, pattern: Sequence[Any]) -> list[tuple[str, str]]:
        """Run the operands through the pattern; return what NAMEs they were bound to."""
        self._positions()
        self.keywords_met = 0
        found = _Matcher(pattern).run(self.operands)
        for kind, name, word in found.bound:
            self.keywords_met += kind == "keyword"
            self.reasons.append(f"{word}: {'keyword' if kind == 'keyword' else f'operand {name}'}")
        if found.unexpected is not None:
            self._unexpected(found)
        elif found.missing:
            self._missing(found.missing)
        return [(name, word) for kind, name, word in found.bound if kind == "operand"]

    def _positions(self) -> None:
        if self._split and self.switches.interleaved is not True:
            self.doubt("whether options may stand between operands")
        elif self._split and self.signature.style == "gnu" and _is_elastic(self.form.form):
            self.doubt("whether operands of an open number may be split by options")

    def _unexpected(self, found: Matched) -> None:
        word = found.unexpected
        assert word is not None
        if found.keywords:
            self.refuse(
                "not-a-choice",
                word,
                *found.keywords,
                why=f"{word!r} is none of {', '.join(found.keywords)}",
            )
        elif self.excluded:
            names = [option.key for option in self.excluded]
            self.refuse(
                "conflict", word, *names, why=f"{word!r} does not go with {', '.join(names)}"
            )
        else:
            self.refuse("too-many", word, why=f"{word!r} is one operand too many")

    def _missing(self, names: Sequence[str]) -> None:
        if self._greedy:
            self.doubt("whether an option with several values leaves words for the operands")
            return
        self.refuse("too-few", names[0], *names, why=f"{' '.join(names)} missing")

    excluded: tuple[Option, ...] = ()
    """Options that are given and stand in place of operands."""

    # --- values and conditions ---

    def _repeats(self) -> None:
        counts: dict[int, int] = {}
        for given in self.given:
            counts[id(given.option)] = counts.get(id(given.option), 0) + 1
            if counts[id(given.option)] != 2 or given.option.again:
                continue
            if self.switches.repeat is None:
                self.doubt(f"what a second {given.option.key} does")
            elif self.switches.repeat == "refuse":
                self.refuse(
                    "repeated",
                    given.spelling,
                    *given.option.spellings,
                    why=f"{given.spelling} is given twice",
                )

    def _types(self, bound: Iterable[tuple[str, str]]) -> None:
        for given in self.given:
            for number, text in enumerate(given.values):
                name = given.option.name_of(number)
                self._value(name, text, given.spelling, *given.option.spellings, name)
        counts: dict[str, int] = {}
        for name, text in bound:
            counts[name] = counts.get(name, 0) + 1
            if text == "-" and self.signature.values[name].type in ("text", "path", "file", "dir"):
                self.doubt(f"what a lone - means for {name}")
            else:
                self._value(name, text, name)

    def _value(self, name: str, text: str, *mentions: str) -> None:
        reading = self.signature.values[name].read(text)
        if reading.status == "doubtful":
            self.doubt(f"{name} {text!r}: {reading.reason}")
        elif reading.status == "illegal":
            culprit = text or mentions[0]
            self.refuse(reading.kind, culprit, *mentions, why=f"{name} {text!r}: {reading.reason}")

    def _bindings(self, bound: Iterable[tuple[str, str]]) -> dict[str, Any]:
        found: dict[str, Any] = {}
        for given in self.given:
            key, old = given.option.key, found.get(given.option.key)
            several = given.option.most is None or given.option.most > 1
            if not given.values and given.option.takes_value:
                found.setdefault(key, True)
            elif not given.values:
                found[key] = True if old is None else int(old) + 1
            elif given.option.again or self.switches.repeat == "collect":
                found[key] = [*(old if isinstance(old, list) else []), *given.values]
            else:
                found[key] = list(given.values) if several else given.values[0]
        several_names = {
            item.name.name
            for item in self.form.form.walk()
            if isinstance(item, Operand) and self._is_several(item)
        }
        for name, text in bound:
            if name in several_names:
                found.setdefault(name, []).append(text)
            else:
                found[name] = text
        return found

    def _is_several(self, item: Operand) -> bool:
        count = self.signature.values[item.name.name].count
        return item.name.several or (count is not None and count[1] != 1)

    def _conditions(self, bindings: Mapping[str, Any]) -> None:
        if not self.signature.where and not self.signature.refuse:
            return
        scope = self._scope(bindings)
        for own in self.signature.refuse:
            if concerns(self.signature, self.form, own.when) and self._holds(own.when, scope):
                self._refuse_condition(own.kind, own.when, scope)
        for condition in self.signature.where:
            if (
                concerns(self.signature, self.form, condition)
                and self._holds(condition, scope) is False
            ):
                self._refuse_condition("where", condition, scope)

    def _refuse_condition(self, kind: str, condition: Any, scope: Scope) -> None:
        names = sorted(condition.names)
        texts = [str(scope.names[name]) for name in names if scope.names.get(name) is not None]
        mentions = [*texts, *names]
        self._refused(
            kind, mentions[0] if mentions else condition.source, *mentions, why=condition.source
        )

    def _holds(self, condition: Any, scope: Scope) -> bool | None:
        try:
            return bool(condition.evaluate(scope))
        except ExpressionFault as fault:
            self.doubt(f"{condition.source}: {fault.reason}")
            return None
        except OracleNotRun:
            self.doubt(f"{condition.source}: it asks the oracle, which is not run here")
            return None

    def _scope(self, bindings: Mapping[str, Any]) -> Scope:
        names = named_values(self.signature, self.form, bindings, self.words)
        return Scope(names, condition_functions(self.signature, self._given()))


def concerns(signature: SignatureParts, form: FormModel, condition: Expression) -> bool:
    """Tell whether a condition is about a form: one that asks for a NAME which only other forms
    have is not."""
    others = {identifier(name) for name in signature.values} - _identifiers_of(form)
    return condition.names.isdisjoint(others)


@lru_cache(1_000)
def _identifiers_of(form: FormModel) -> frozenset[str]:
    return frozenset(map(identifier, names_of(form.form)))


def named_values(
    signature: SignatureParts, form: FormModel, bindings: Mapping[str, Any], words: Sequence[str]
) -> dict[str, Any]:
    """Return what conditions see: each NAME's value (its default, else None, when it is not
    given), `words`, `argc`."""
    names: dict[str, Any] = {
        identifier(name): None if kind.default is None else kind.converted(str(kind.default))
        for name, kind in signature.values.items()
    }
    for option in form.options:
        value = bindings.get(option.key)
        if value is not None and option.takes_value and value is not True:
            texts = value if isinstance(value, list) else [value]
            if len(option.use.values) > 1:
                for number, text in enumerate(texts):
                    name = option.name_of(number)
                    names[identifier(name)] = signature.values[name].converted(text)
            else:
                name = option.name_of(0)
                made = [signature.values[name].converted(text) for text in texts]
                names[identifier(name)] = made if isinstance(value, list) else made[0]
    for name in signature.operand_names:
        value = bindings.get(name)
        if value is not None:
            kind = signature.values[name]
            names[identifier(name)] = (
                [kind.converted(text) for text in value]
                if isinstance(value, list)
                else kind.converted(value)
            )
    names |= {"words": list(words), "argc": len(words)}
    return names


def identifier(name: str) -> str:
    """Return a NAME as expressions write it: other characters than letters and digits become `_`."""
    return re.sub(r"\W", "_", name)


def condition_functions(signature: SignatureParts, spellings: frozenset[str]) -> Mapping[str, Any]:
    """Return the functions that conditions may call; `given` knows the spellings that are given."""
    return {
        **FUNCTIONS,
        **signature.functions,
        "given": lambda *each: any(one in spellings for one in each),
    }


# --- pass 2: resolving ---


class _Resolver:
    """Settles the alternatives of a form by the options that are given."""

    def __init__(self, judged: _FormJudge) -> None:
        self.judged, self.form = judged, judged.form
        self.there = {id(given.option) for given in judged.given}

    def pattern(self) -> list[Any]:
        """Return the pattern of operands that is left: Operand, Keyword, and (alternatives,
        optional, several) tuples."""
        return self._sequence(self.form.form.items)

    def _option(self, use: OptionUse) -> Option:
        return self.form.by_use[id(use)]

    def _touched(self, form: Form) -> set[int]:
        """Return the given options that stand in an alternative."""
        found = set()
        for item in form.walk():
            if isinstance(item, OptionUse) and id(self._option(item)) in self.there:
                found.add(id(self._option(item)))
        return found

    def _needs_option(self, form: Form) -> bool:
        """Tell whether an alternative cannot be taken without an option."""
        return any(
            isinstance(item, OptionUse)
            or (
                isinstance(item, Choice)
                and not item.optional
                and all(map(self._needs_option, item.alternatives))
            )
            for item in form.items
        )

    def _sequence(self, items: Iterable[Item]) -> list[Any]:
        found: list[Any] = []
        for item in items:
            if isinstance(item, (Operand, Keyword)):
                found += self._counted(item) if isinstance(item, Operand) else [item]
            elif isinstance(item, OptionUse):
                option = self._option(item)
                if id(option) not in self.there:
                    self.judged.refuse(
                        "missing-option",
                        option.key,
                        *option.spellings,
                        why=f"{option.key} is required",
                    )
            elif isinstance(item, Delimiter):
                if not self.judged.delimiter:
                    self.judged.refuse(
                        "missing-option", "--", why="-- is required before the operands"
                    )
            else:
                found += self._choice(item)
        return found

    def _counted(self, item: Operand) -> list[Any]:
        """Return an operand as often as its count says."""
        count = self.judged.signature.values[item.name.name].count
        bare = Operand(item.name)
        if count is None:
            return [(((bare,),), False, True)] if item.name.several else [bare]
        least, most = count
        required: list[Any] = [bare] * min(least, UNROLLED)
        if most is None or most > UNROLLED:
            return [*required, (((bare,),), True, True)]
        rest: list[Any] = []
        for _ in range(most - least):  # [A [A [A]]]: each further one only after the one before it
            rest = [(((bare, *rest),), True, False)]
        return [*required, *rest]

    def _choice(self, choice: Choice) -> list[Any]:
        touched = [(each, found) for each in choice.alternatives if (found := self._touched(each))]
        if not touched:
            return self._untouched(choice)
        taken = [touched[0][0]]
        if len(touched) > 1:
            every = set().union(*(found for _, found in touched))
            covering = next((each for each, found in touched if found == every), None)
            if choice.several:
                taken = [each for each, _ in touched]
            elif covering is not None:
                taken = [covering]
            else:
                self._conflict(touched)
        if any(
            isinstance(item, (Operand, Keyword))
            for each in choice.alternatives
            for item in each.walk()
        ):
            self.judged.excluded = (*self.judged.excluded, *(
                given.option for given in self.judged.given if id(given.option) in touched[0][1]))  # fmt: skip
        pattern: list[Any] = []
        for each in taken:
            part = self._sequence(each.items)
            pattern += [((tuple(part),), False, True)] if choice.several and part else part
        return pattern

    def _conflict(self, touched: list[tuple[Form, set[int]]]) -> None:
        """Refuse options of different alternatives; the culprit is the one that comes second."""
        order = [
            given
            for given in self.judged.given
            if any(id(given.option) in found for _, found in touched)
        ]
        groups = [
            next(number for number, (_, found) in enumerate(touched) if id(g.option) in found)
            for g in order
        ]
        late = next(
            (given for given, group in zip(order, groups, strict=True) if group != groups[0]),
            order[-1],
        )
        spellings = [spelling for given in order for spelling in given.option.spellings]
        names = " and ".join(dict.fromkeys(given.spelling for given in order))
        self.judged.refuse("conflict", late.spelling, *spellings, why=f"{names} exclude each other")

    def _untouched(self, choice: Choice) -> list[Any]:
        free = [each for each in choice.alternatives if not self._needs_option(each)]
        if not free:
            if not choice.optional:
                # each alternative needs one: of its own, or in a group inside it
                options = [
                    self._option(use) for each in choice.alternatives for use in _uses_of(each)
                ]
                spellings = [spelling for option in options for spelling in option.spellings]
                names = " or ".join(option.key for option in options)
                self.judged.refuse(
                    "missing-option", options[0].key, *spellings, why=f"{names} is required"
                )
            return []
        alternatives = tuple(tuple(self._free(each.items)) for each in free)
        return [(alternatives, choice.optional, choice.several)]

    def _free(self, items: Iterable[Item]) -> list[Any]:
        """Return the pattern of a part that is not settled: a delimiter in it may be left out."""
        return self._sequence(item for item in items if not isinstance(item, Delimiter))


def _uses_of(form: Form) -> list[OptionUse]:
    """Return the options that stand in a part itself; where there are none, the first in a group
    inside it."""
    own = [item for item in form.items if isinstance(item, OptionUse)]
    return own or [next(item for item in form.walk() if isinstance(item, OptionUse))]


def _is_elastic(form: Form) -> bool:
    """Tell whether a form takes a varying number of operands."""
    return any(
        (isinstance(item, Operand) and item.name.several)
        or (
            isinstance(item, Choice)
            and any(isinstance(i, Operand) for each in item.alternatives for i in each.walk())
        )
        for item in form.walk()
    )


# --- the matcher of pass 3 ---


class Matched(NamedTuple):
    """What came of matching: what words were bound to, the word that did not fit (and keywords
    that would), what is missing."""

    bound: list[tuple[str, str, str]]
    unexpected: str | None = None
    keywords: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()


class _Matcher:
    """Follows all readings of a pattern at once (Thompson's construction, threads in order of
    preference)."""

    def __init__(self, pattern: Sequence[Any]) -> None:
        self.code: list[tuple[Any, ...]] = []
        self._sequence(pattern)
        self.code.append(("end",))

    def _sequence(self, items: Sequence[Any]) -> None:
        for item in items:
            if isinstance(item, Operand):
                self.code.append(("operand", item.name.name))
            elif isinstance(item, Keyword):
                self.code.append(("keyword", item.word))
            else:
                self._choice(*item)

    def _choice(self, alternatives: Sequence[Sequence[Any]], optional: bool, several: bool) -> None:
        """split → each alternative in turn → (back to the split when it may come again) → after."""
        start = len(self.code)
        self.code.append(())
        starts, ends = [], []
        for alternative in alternatives:
            starts.append(len(self.code))
            self._sequence(alternative)
            ends.append(len(self.code))
            self.code.append(())
        after = len(self.code)
        self.code[start] = ("split", *starts, *([after] if optional else ()))
        for end in ends:
            self.code[end] = ("split", start, after) if several else ("split", after)

    def run(self, words: Sequence[str]) -> Matched:
        """Return how the words fit."""
        threads = self._closure([(0, None)])
        for word in words:
            following = [
                (at + 1, (self.code[at][0], self.code[at][1], word, bound))
                for at, bound in threads
                if self.code[at][0] == "operand"
                or (self.code[at][0] == "keyword" and self.code[at][1] == word)
            ]
            if not following:
                ended = any(self.code[at][0] == "end" for at, _ in threads)
                keywords = tuple(
                    self.code[at][1] for at, _ in threads if self.code[at][0] == "keyword"
                )
                bound = threads[0][1] if threads else None
                return Matched(
                    _unwound(bound), word, () if ended else tuple(dict.fromkeys(keywords))
                )
            threads = self._closure(following)
        ended_at = next((bound for at, bound in threads if self.code[at][0] == "end"), _NOT_ENDED)
        if ended_at is not _NOT_ENDED:
            return Matched(_unwound(ended_at))
        best = min((self._shortest(at) for at, _ in threads), key=len)
        return Matched(_unwound(threads[0][1]), missing=best)

    def _closure(self, threads: list[tuple[int, Any]]) -> list[tuple[int, Any]]:
        """Return the threads at words or the end that these lead to without a word, in order, each
        place once."""
        found: list[tuple[int, Any]] = []
        seen: set[int] = set()
        stack = list(reversed(threads))
        while stack:
            at, bound = stack.pop()
            if at in seen:
                continue
            seen.add(at)
            code = self.code[at]
            if code[0] == "split":
                stack += [(each, bound) for each in reversed(code[1:])]
            else:
                found.append((at, bound))
        return found

    def _shortest(self, start: int) -> tuple[str, ...]:
        """Return the names on the shortest way from a place to the end."""
        waves: list[tuple[int, tuple[str, ...]]] = [(start, ())]
        seen: set[int] = set()
        while waves:
            following: list[tuple[int, tuple[str, ...]]] = []
            for at, names in waves:
                reached = self._closure([(at, names)])
                if any(self.code[place][0] == "end" for place, _ in reached):
                    return names
                for place, got in reached:
                    if place not in seen:
                        seen.add(place)
                        following.append((place + 1, (*got, self.code[place][1])))
            waves = following
        return ()


_NOT_ENDED: Any = object()


def _unwound(bound: Any) -> list[tuple[str, str, str]]:
    found = []
    while bound is not None:
        kind, name, word, bound = bound
        found.append((kind, name, word))
    return found[::-1]
