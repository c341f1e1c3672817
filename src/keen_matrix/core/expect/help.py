"""What a help text promises when a spec says nothing else: exit 0, and a text that names what can
be given.

The longest spelling of help must name everything; a short one beside it may say less. The help of a
program with subcommands names them, and that of a subcommand its own options and operands.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from keen_matrix.core.expect.aspects import Aspect, ExitAspect
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.exits import ExitExpectation
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expect.naming import is_named
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.spec import Rule
from keen_matrix.core.structs import Struct

if TYPE_CHECKING:
    from keen_matrix.core.signature.model import UsageModel
    from keen_matrix.core.signature.signature import Signature
    from keen_matrix.core.signature.values import ValueType


class FormHelp(Struct, frozen=True):
    """What the help of one form of the synopsis names."""

    #: The subcommand that it begins with, and what follows it of the kind.
    keywords: tuple[str, ...]
    #: Spellings; one of each will do.
    options: tuple[tuple[str, ...], ...]
    #: Those of them that stand in front of the subcommand: the program's own, which its help
    #: names.
    in_front: frozenset[tuple[str, ...]]
    #: Name and choices; an operand without a name in the help may be named by all its choices.
    operands: tuple[tuple[str, tuple[str, ...]], ...]


def help_rule(signature: Signature, complete: bool, stream: str, origin: str) -> Rule:
    """Return the rule that a help text must satisfy. `stream` is where it must come; none leaves
    that to the program."""
    forms = tuple(_form_help(signature, form) for form in signature.forms)
    actions = tuple(each for spellings in signature.actions for each in spellings)
    aspects: dict[str, Aspect] = {
        "exit": ExitAspect(ExitExpectation(((0, 0),))),
        "help": HelpAspect(forms, signature.help, complete, actions, stream),
    }
    return Rule(when=None, aspects=aspects, origins=dict.fromkeys(aspects, origin))


def _form_help(signature: Signature, form: UsageModel) -> FormHelp:
    from keen_matrix.core.notation.synopsis import Keyword, Operand, OptionUse

    items = list(form.form.walk())
    keywords = tuple(each.word for each in items if isinstance(each, Keyword))[: form.keywords]
    # Options in front of the subcommand are the program's, which its own help names; those behind
    # it are the subcommand's.
    last = max((n for n, each in enumerate(items) if isinstance(each, Keyword)), default=0)
    front = [form.option_of(each) for each in items[:last] if isinstance(each, OptionUse)]
    names = dict.fromkeys(each.name.name for each in items if isinstance(each, Operand))
    operands = tuple((name, _choices(signature.values[name])) for name in names)
    options = tuple(each.spellings for each in form.options)
    in_front = frozenset(each.spellings for each in front) if keywords else frozenset()
    return FormHelp(keywords, options, in_front, operands)


def _choices(value: ValueType) -> tuple[str, ...]:
    from keen_matrix.core.signature.values import OneOf

    return value.of if isinstance(value, OneOf) else ()


def told_names(name: str, keywords: Sequence[str]) -> Iterator[str]:
    """Yield what a program may call an operand of a subcommand that has a NAME of its own in the
    synopsis, where others of the program are called so as well: `ISLAND` for `LIST-ISLAND`, and for
    `ISLAND-2`."""
    prefix = "-".join(keywords).upper() + "-"
    for short in (name.removeprefix(prefix), re.sub(r"-\d+$", "", name)):
        if short not in ("", name):
            yield short


def other_names(signature: Signature) -> dict[str, tuple[str, ...]]:
    """Return what a program may call operands, where that is not their NAMEs alone."""
    forms = [_form_help(signature, form) for form in signature.forms]
    found = {name: tuple(told_names(name, form.keywords)) for form in forms for name, _ in form.operands}
    return {name: told for name, told in found.items() if told}


class HelpAspect(Struct, frozen=True):
    """The help text names every option and operand of the signature, or those of a subcommand."""

    forms: tuple[FormHelp, ...]
    help: tuple[str, ...]
    complete: bool = False
    #: Options that end the call by themselves; they may be named.
    actions: tuple[str, ...] = ()
    #: The stream that it must come on; none: either.
    stream: str = ""

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch for what the help does not name, and with `complete` for what it names
        and the synopsis does not."""
        text = self._text(outcome)
        if not text.strip():
            where = f" on standard {'error' if self.stream == 'stderr' else 'output'}"
            wanted = f"a help text{where if self.stream else ''}"
            yield Mismatch(form="help", expected=wanted, actual="")
            return
        words = _words_of(context)
        # `-h` may be a short one beside a `--help` that tells everything.
        if not self._is_whole(words):
            return
        missing = list(dict.fromkeys(self._missing(text, words)))
        if missing:
            yield Mismatch(form="help", expected="to name " + ", ".join(missing), actual="")
        if self.complete and (unknown := self.undeclared(text)):
            yield Mismatch(form="undeclared", expected="", actual=", ".join(unknown))

    def _text(self, outcome: Outcome) -> str:
        # what a call that failed says on standard error is a message, and no help
        streams = [outcome.stdout, *([outcome.stderr] if outcome.exit == 0 else [])]
        if self.stream:
            streams = [outcome.stderr if self.stream == "stderr" else outcome.stdout]
        texts = (each.decode("utf-8", "replace") for each in streams)
        return next((each for each in texts if each.strip()), "")

    def _is_whole(self, words: Sequence[str]) -> bool:
        """Tell whether a vector asks for the whole help: by the longest of the spellings."""
        asked = [each for each in self.help if each in words]
        longest = max(map(len, self.help), default=0)
        return not asked or any(len(each) == longest for each in asked)

    def _missing(self, text: str, words: Sequence[str]) -> Iterator[str]:
        """Yield what the help of a vector should name and does not."""
        inside = [each for each in self.forms if each.keywords and self._is_inside(each, words)]
        if not inside:
            for each in self.forms:
                if each.keywords and not is_named(each.keywords[0], text):
                    yield each.keywords[0]
        if not inside:
            front = {spellings: None for each in self.forms for spellings in sorted(each.in_front)}
            for spellings in front:
                if not any(_stands_in(one, text) for one in spellings):
                    yield ", ".join(spellings)
        for form in inside or [each for each in self.forms if not each.keywords]:
            for spellings in form.options:
                if spellings not in form.in_front and not any(_stands_in(one, text) for one in spellings):
                    yield ", ".join(spellings)
            for name, choices in form.operands:
                # Some libraries print `{csv,json}` and no name: whoever sees all the choices knows
                # what is asked for.
                by_choices = choices and all(_stands_in(each, text) for each in choices)
                told = (name, *told_names(name, form.keywords))
                if not by_choices and not any(is_named(each, text) for each in told):
                    yield name

    def _is_inside(self, form: FormHelp, words: Sequence[str]) -> bool:
        """Tell whether a vector asks for the help of a subcommand: options of the program's own may
        stand in front of it and between its words, with their values, but nothing that asks for
        help."""
        at = next((at for at, word in enumerate(words) if word in self.help), len(words))
        before = iter(words[:at] if form.in_front else words[: len(form.keywords)])
        return all(keyword in before for keyword in form.keywords)

    def undeclared(self, text: str) -> list[str]:
        """Return the options that a help text lists and the synopsis does not have."""
        from keen_matrix.core.signature.helptext import read_help

        known = {one for form in self.forms for each in form.options for one in each}
        # These are added by libraries; a synopsis that goes without them is not incomplete.
        known |= {*self.help, *self.actions, "-h", "--help", "-V", "--version"}
        options = read_help(text).options
        return [each.spellings[-1] for each in options if known.isdisjoint(each.spellings)]

    def remarks(self, outcome: Outcome, context: CheckContext) -> list[str]:
        """Return what is worth a word though it is no failure."""
        found = []
        if not self.stream and not outcome.stdout.strip() and self._text(outcome):
            found.append(
                'help is printed on standard error; [help] stream = "stderr" accepts that, "stdout" '
                "rejects it"
            )
        if not self.complete and (unknown := self.undeclared(self._text(outcome))):
            told = ", ".join(unknown)
            found.append(f"the help lists {told}, which is not in the synopsis")
        return found


def _words_of(context: CheckContext) -> list[str]:
    found = context.scope.names.get("words")
    return [str(each) for each in found] if isinstance(found, list) else []


_RANGE = re.compile(r"(?<![\w-])-(\w)\s*(?:\.\.\.?|…|to|through|-)\s*-(\w)(?![\w-])")


def _stands_in(spelling: str, text: str) -> bool:
    """Tell whether a text names an option, on its own or in a range: `-0 ... -9`."""
    if re.search(rf"(?<![\w-]){re.escape(spelling)}(?![\w-])", text):
        return True
    if spelling.startswith("--"):
        # --[no]color, --[no-]color and --(no-)color name both spellings
        bare = re.sub(r"^--no-?", "", spelling)
        names = {re.escape(each) for each in (spelling[2:], bare) if each}
        if re.search(rf"(?<![\w-])--[\[(]no-?[\])](?:{'|'.join(names)})(?![\w-])", text):
            return True
    ranges = _RANGE.findall(text) if re.fullmatch(r"-\w", spelling) else ()
    return any(first <= spelling[1] <= last for first, last in ranges)
