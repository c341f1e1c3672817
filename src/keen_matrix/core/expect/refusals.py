"""What a refusal promises when a spec says nothing else.

A refusal exits with 1 to 125 (126 and up are the shell's, POSIX XCU 2.8.2), says something on
standard error and nothing on standard output, touches no file, and blames no other argument than
the one at fault.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING

from keen_matrix.core.expect.aspects import Aspect, ExitAspect, OtherFilesAspect, StreamAspect
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.exits import ExitExpectation
from keen_matrix.core.expect.forms.text import EmptyForm
from keen_matrix.core.expect.help import HelpAspect
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expect.naming import is_named, without_usage
from keen_matrix.core.expect.tidy import TidyAspect
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.spec import Rule
from keen_matrix.core.signature.judging.taking import USUAL_HELP
from keen_matrix.core.structs import Struct, replace

if TYPE_CHECKING:
    from keen_matrix.core.signature.signature import Signature
    from keen_matrix.core.spec.document.signature import RefusalKind


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


def library_promise(signature: Signature, origin: str) -> Rule | None:
    """Return what the library of the reader promises of refusals of its own; None where it leaves
    the exit status to the program."""
    row = signature.row
    if row.exit is None:
        return None
    aspects: dict[str, Aspect] = {"exit": ExitAspect(ExitExpectation(((row.exit, row.exit),)))}
    if row.stream == "stdout":
        aspects["stdout"] = StreamAspect("stdout", (EmptyForm(wanted=False),))
        aspects["stderr"] = StreamAspect("stderr", (EmptyForm(),))
    return Rule(when=None, aspects=aspects, origins=dict.fromkeys(aspects, origin))


def blame_aspects(table: RefusalKind, promise: Rule) -> Iterator[tuple[str, Aspect]]:
    """Yield the blame aspect as a [refusal] table changes it."""
    before = promise.aspects["blame"]
    assert isinstance(before, BlameAspect)
    if table.blame is not None or table.names_culprit is not None:
        yield (
            "blame",
            replace(before, anything=table.blame == "anything", must_name=bool(table.names_culprit)),
        )


def blamable(signature: Signature) -> tuple[str, ...]:
    """Return what a message could blame: long spellings, and NAMEs of two capital letters and
    more, which no message has by chance."""
    spellings = [
        each
        for option in signature.options
        for each in option.spellings
        # "use --help for a list of options" blames nobody
        if len(each) > 3 and each not in signature.help and each not in USUAL_HELP
    ]
    # A NAME in small letters is a word like any other: "no such file" blames no operand called
    # file.
    names = [each for each in signature.values if len(each) > 1 and each.upper() == each]
    return tuple(dict.fromkeys([*spellings, *names]))


class BlameAspect(Struct, frozen=True):
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
        message = _message(outcome)
        # Who names the culprit may name others as well: "--start must not be after --end".
        if any(is_named(each, message) for each in mentions):
            return
        others = [
            each
            for each in self.names
            # To blame wrongly is a strong claim, so the name must be there as it is spelt.
            if each not in mentions and is_named(each, message, exactly=True)
        ]
        if others:
            yield Mismatch(form="blame", expected=mentions[0], actual=", ".join(others))
        elif self.must_name:
            yield Mismatch(form="names", expected=mentions[0], actual=message.strip())


def _message(outcome: Outcome) -> str:
    """Return what a refusal says aside from its usage: on standard error, or on standard output
    where that is empty."""
    return without_usage((outcome.stderr or outcome.stdout).decode("utf-8", "replace"))


def remark_on(outcome: Outcome, mentions: Sequence[str]) -> str | None:
    """Return a remark on a refusal whose message names nothing that is to blame, or None."""
    message = _message(outcome)
    if not message.strip() or any(is_named(each, message) for each in mentions):
        return None
    return f"the message does not name {mentions[0]}" if mentions else None


def remarks_of(aspects: Iterable[Aspect], outcome: Outcome, context: CheckContext) -> list[str]:
    """Return what is worth remarking on though it is no failure."""
    found = []
    for aspect in aspects:
        if isinstance(aspect, BlameAspect) and not aspect.anything and not aspect.must_name:
            remark = remark_on(outcome, context.mentions)
            found += [remark] if remark else []
        elif (isinstance(aspect, TidyAspect) and not aspect.is_expected) or isinstance(aspect, HelpAspect):
            found += aspect.remarks(outcome, context)
    return found
