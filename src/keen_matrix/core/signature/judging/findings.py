"""What the passes of a judgement find: refusals, doubts, and how they came about."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal, NamedTuple, TypeAlias

from keen_matrix.core.signature.kinds import Kind
from keen_matrix.core.signature.model import Option
from keen_matrix.core.structs import Struct, field

#: What an option or operand is bound to: its text or texts, True for a flag, a count for a flag
#: that is given several times.
Bound: TypeAlias = str | bool | int | list[str]


class Refusal(NamedTuple):
    """One reason to turn a vector down. `culprit` is the word or name that a good message would
    mention; `mentions` are all that it could mention instead."""

    kind: str
    culprit: str
    mentions: tuple[str, ...] = ()


class Judgement(Struct, frozen=True, kw_only=True):
    """The judgement on a vector.

    `bindings` maps operand NAMEs and option keys (the first long spelling) to what they were bound
    to: a text, a list of texts, True for a flag, a count for a flag given several times. `reasons`
    tell how it came about, in words.
    """

    status: Literal["accepted", "refused", "unspecified"]
    refusals: tuple[Refusal, ...] = ()
    bindings: Mapping[str, Bound] = field(default_factory=dict)
    reasons: tuple[str, ...] = ()
    #: Whether it asks for help.
    help: bool = False
    #: Every spelling of every option that is given.
    given: frozenset[str] = frozenset()

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds of its refusals, each once."""
        return tuple(dict.fromkeys(each.kind for each in self.refusals))


class Given(NamedTuple):
    """An option as it was given."""

    option: Option
    spelling: str
    values: tuple[str, ...]


class Findings:
    """What one pass found, in the order in which it found it."""

    __slots__ = ("doubts", "reasons", "refusals", "value_doubts")

    def __init__(self) -> None:
        self.refusals: list[Refusal] = []
        #: What the signature does not settle, each as half a sentence: "whether …".
        self.doubts: list[str] = []
        #: The same of values that may be legal or not.
        self.value_doubts: list[str] = []
        self.reasons: list[str] = []

    def refuse(self, kind: Kind, culprit: str, *mentions: str, why: str) -> None:
        """Add a refusal of a kind that judging finds on its own."""
        self.refuse_own(kind, culprit, *mentions, why=why)

    def refuse_own(self, kind: str, culprit: str, *mentions: str, why: str) -> None:
        """Add a refusal of a kind that the spec may have made up."""
        self.refusals.append(Refusal(kind, culprit, tuple(dict.fromkeys([culprit, *mentions]))))
        self.reasons.append(f"{kind}: {why}")

    def doubt(self, why: str) -> None:
        """Add something that the signature leaves open."""
        self.doubts.append(why)

    def doubt_value(self, why: str) -> None:
        """Add a value that may be legal or not."""
        self.value_doubts.append(why)

    @property
    def all_doubts(self) -> list[str]:
        """Everything that is open."""
        return [*self.doubts, *self.value_doubts]

    def add(self, others: Findings) -> None:
        """Take over what a later pass found."""
        self.refusals += others.refusals
        self.doubts += others.doubts
        self.value_doubts += others.value_doubts
        self.reasons += others.reasons
