"""What a refusal and a help text promise when a spec says nothing else.

A refusal exits with 1 to 125 (126 and up are the shell's, POSIX XCU 2.8.2), says something on
standard error and nothing on standard output, touches no file, and blames no other argument than
the one at fault.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from keen_matrix.core.expect.aspects import Aspect, ExitAspect, OtherFilesAspect, StreamAspect
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.exits import ExitExpectation
from keen_matrix.core.expect.forms.text import EmptyForm
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.spec import Rule

if TYPE_CHECKING:
    from keen_matrix.core.signature.signature import Signature
    from keen_matrix.core.signature.values import ValueType
    from keen_matrix.core.spec.document.expectations import RefusalKind


def refusal_promise(signature: Signature, origin: str) -> Rule:
    """Return the rule that every refusal must satisfy by default."""
    aspects: dict[str, Aspect] = {
        "exit": ExitAspect(ExitExpectation(((1, 125),))),
        "stdout": StreamAspect("stdout", (EmptyForm(),)),
        "stderr": StreamAspect("stderr", (EmptyForm(wanted=False),)),
        "other-files": OtherFilesAspect((), False),
        "blame": BlameAspect(blamable(signature)),
    }
    return Rule(when=None, aspects=aspects, origins=dict.fromkeys(aspects, origin))


def blame_aspects(table: RefusalKind, promise: Rule) -> Iterator[tuple[str, Aspect]]:
    """Yield the blame aspect as a [refusal] table changes it."""
    before = promise.aspects["blame"]
    assert isinstance(before, BlameAspect)
    if table.blame is not None or table.names_culprit is not None:
        yield (
            "blame",
            replace(
                before, anything=table.blame == "anything", must_name=bool(table.names_culprit)
            ),
        )


def blamable(signature: Signature) -> tuple[str, ...]:
    """Return what a message could blame: long spellings and NAMEs that are no everyday words."""
    spellings = [each for option in signature.options for each in option.spellings if len(each) > 3]
    names = [each for each in signature.values if len(each) > 2 and each.upper() == each]
    return tuple(dict.fromkeys([*spellings, *names]))


@dataclass(frozen=True, slots=True)
class BlameAspect:
    """The message must not blame another argument than the culprit; with `must_name` it must name
    the culprit."""

    names: tuple[str, ...]
    anything: bool = False
    must_name: bool = False

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when the message names others and not the culprit. The usage block is
        no part of it."""
        mentions = context.mentions
        if not mentions or self.anything:
            return
        message = without_usage(outcome.stderr.decode("utf-8", "replace"))
        if any(is_named(each, message) for each in mentions):
            return
        others = [
            each
            for each in self.names
            if each not in mentions and is_named(each, message, exactly=True)
        ]
        if others:
            yield Mismatch(form="blame", expected=mentions[0], actual=", ".join(others))
        elif self.must_name:
            yield Mismatch(form="names", expected=mentions[0], actual=message.strip())


def remark_on(outcome: Outcome, mentions: Sequence[str]) -> str | None:
    """Return a remark on a refusal whose message names nothing that is to blame, or None."""
    message = without_usage(outcome.stderr.decode("utf-8", "replace"))
    if not message.strip() or any(is_named(each, message) for each in mentions):
        return None
    return f"the message does not name {mentions[0]}" if mentions else None


def is_named(word: str, message: str, *, exactly: bool = False) -> bool:
    """Tell whether a message names a word: as a whole word, an option also by its letter alone (as
    getopt does)."""
    if not word:
        return False
    bounded = (
        rf"(?<![\w-]){re.escape(word)}(?![\w-])"
        if word[:1].isalnum() or exactly
        else re.escape(word)
    )
    if re.search(bounded, message, 0 if exactly else re.IGNORECASE):
        return True
    if exactly or not re.fullmatch(r"-\w", word):
        return False
    return re.search(rf"""(?:-- ?|['"`‘]){re.escape(word[1])}(?![\w-])""", message) is not None


def without_usage(text: str) -> str:
    """Return a message without its usage block: the line that begins with usage and those indented
    below it."""
    kept: list[str] = []
    inside = False
    for line in text.splitlines():
        if re.match(r"\s*usage\b", line, re.IGNORECASE):
            inside = True
            continue
        if inside and (not line.strip() or line.startswith((" ", "\t"))):
            continue
        inside = False
        if not re.match(r"\s*(?:try|see|for more|run)\b.*(?:help|man)\b", line, re.IGNORECASE):
            kept.append(line)
    return "\n".join(kept)


def _choices(value: ValueType) -> tuple[str, ...]:
    from keen_matrix.core.signature.values import Choice

    return value.of if isinstance(value, Choice) else ()


def help_rule(signature: Signature, complete: bool, origin: str) -> Rule:
    """Return the rule that a help text must satisfy: exit 0, nothing on standard error, every
    option and operand named."""
    options = tuple(option.spellings for option in signature.options)
    types = signature.values
    operands = tuple((name, _choices(types[name])) for name in signature.operand_names)
    aspects: dict[str, Aspect] = {
        "exit": ExitAspect(ExitExpectation(((0, 0),))),
        "stderr": StreamAspect("stderr", (EmptyForm(),)),
        "help": HelpAspect(options, operands, signature.help, complete),
    }
    return Rule(when=None, aspects=aspects, origins=dict.fromkeys(aspects, origin))


@dataclass(frozen=True, slots=True)
class HelpAspect:
    """The help text, on standard output, names every option and operand of the signature."""

    options: tuple[tuple[str, ...], ...]
    operands: tuple[tuple[str, tuple[str, ...]], ...]
    """Name and choices; an operand without a name in the help may be told by all its choices."""
    help: tuple[str, ...]
    complete: bool = False

    def check(self, outcome: Outcome, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch for what the help does not name, and with `complete` for what it names
        and the synopsis does not."""
        text = outcome.stdout.decode("utf-8", "replace")
        if not text.strip():
            yield Mismatch(form="help", expected="a help text on standard output", actual="")
            return
        missing = [
            ", ".join(each)
            for each in self.options
            if not any(_stands_in(one, text) for one in each)
        ]
        missing += [
            name for name, choices in self.operands
            if not is_named(name, text) and not (choices and all(_stands_in(each, text) for each in choices))
        ]  # fmt: skip
        if missing:
            yield Mismatch(form="help", expected="to name " + ", ".join(missing), actual="")
        if self.complete and (unknown := self.undeclared(text)):
            yield Mismatch(form="undeclared", expected="", actual=", ".join(unknown))

    def undeclared(self, text: str) -> list[str]:
        """Return the options that a help text lists and the synopsis does not have."""
        from keen_matrix.core.signature.helptext import read_help

        known = {spelling for each in self.options for spelling in each} | set(self.help)
        return [
            option.spellings[-1] for option in read_help(text).options if not known & set(option.spellings)
            and not set(option.spellings) <= {"-h", "--help", "-V", "--version"}
        ]  # fmt: skip


def _stands_in(spelling: str, text: str) -> bool:
    return re.search(rf"(?<![\w-]){re.escape(spelling)}(?![\w-])", text) is not None


def remarks_of(aspects: Iterable[Aspect], outcome: Outcome, context: CheckContext) -> list[str]:
    """Return what is worth remarking on though it is no failure."""
    found = []
    for aspect in aspects:
        if isinstance(aspect, BlameAspect) and not aspect.anything and not aspect.must_name:
            remark = remark_on(outcome, context.mentions)
            found += [remark] if remark else []
        elif isinstance(aspect, HelpAspect) and not aspect.complete and outcome.stdout:
            unknown = aspect.undeclared(outcome.stdout.decode("utf-8", "replace"))
            found += (
                [f"the help lists {', '.join(unknown)}, which the synopsis does not have"]
                if unknown
                else []
            )
    return found
