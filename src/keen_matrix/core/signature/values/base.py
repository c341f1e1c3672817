"""What every value type has: its name, its default, and the answers that the judge and the families
ask of it.

A *doubtful* text is one that reasonable programs read differently (`1_000` or ` 7 ` as a whole
number): nothing is ever claimed of it. Legal and illegal texts are chosen so that no reader in
common use would disagree.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import ClassVar, Literal, NamedTuple, Self, TypeAlias

from keen_matrix.core.signature.habits import Habits
from keen_matrix.core.signature.kinds import Kind
from keen_matrix.core.structs import Struct, replace

Status: TypeAlias = Literal["legal", "illegal", "doubtful"]
TypeName: TypeAlias = Literal[
    "text", "int", "float", "bool", "choice", "date", "duration", "file", "dir", "path"
]


class ValueReading(NamedTuple):
    """What a value type makes of a text; `kind` is the kind of refusal of an illegal one."""

    status: Status
    kind: Kind = "bad-type"
    reason: str = ""


LEGAL = ValueReading("legal")
NO_HABITS = Habits()


def illegal(reason: str, kind: Kind = "bad-type") -> ValueReading:
    """Return the reading of a text that is plainly none of the type."""
    return ValueReading("illegal", kind, reason)


def doubtful(reason: str) -> ValueReading:
    """Return the reading of a text that some take and some refuse."""
    return ValueReading("doubtful", reason=reason)


class ValueType(Struct, frozen=True, kw_only=True):
    """The type of a value of a signature. A new one is a class, and a line in TYPES.

    Its fields are the keys that a spec's table of the type may have, except for `name` (the NAME in
    the synopsis) and what is known of a case's directory.
    """

    #: The word for it in specs.
    type: ClassVar[TypeName]

    name: str = ""
    #: What the value is when it is not given; null when that is not told.
    default: object = None
    #: A usual legal value, tried first.
    example: str | None = None
    #: Values that it has in examples of calls, tried next.
    seen: tuple[str, ...] = ()
    #: How many words the value may have: as the synopsis says (null), or from and to, where a null
    #: is no upper end.
    count: tuple[int, int | None] | None = None
    #: How the reader of the signature reads texts.
    habits: Habits = NO_HABITS

    def read_by(self, habits: Habits) -> Self:
        """Return the type as a reader with some habits knows it."""
        return replace(self, habits=habits)

    def read(self, text: str) -> ValueReading:
        """Return whether a text is a legal value."""
        raise NotImplementedError

    def made_up(self) -> Iterable[str]:
        """Yield values to try, a plain one first, then those at the edges. What is not legal among
        them is left out by `legal`."""
        raise NotImplementedError

    def made_wrong(self) -> Iterable[str]:
        """Yield values of another type, and just outside each edge. What is not plainly illegal
        among them is left out by `bad`."""
        raise NotImplementedError

    def converted(self, text: str) -> object:
        """Return the value that a text stands for in expressions: itself, unless the type says
        more."""
        return text

    @classmethod
    def bound(cls, value: object) -> object:
        """Return a bound as the type keeps it, from what a spec says. Raises ValueError for what
        is none."""
        raise ValueError(f"a {cls.type} has no bounds")

    @property
    def edges(self) -> tuple[str, ...]:
        """The first and the last value, as texts, where there are such."""
        return ()

    @property
    def usual(self) -> str:
        """A plain legal value: the example, or one made up for the type."""
        return next(iter(self.legal()))

    def legal(self) -> list[str]:
        """Return legal values, the example first, then those at the edges; at least one unless the
        type allows none."""
        examples = () if self.example is None else (self.example,)
        found = list(dict.fromkeys([*examples, *self.seen, *self.made_up()]))
        # Made up without looking at habits or bounds; what does not fit them is left out here, in
        # one place.
        return [each for each in found if self.read(each).status == "legal"] or found[:1]

    def bad(self) -> list[str]:
        """Return plainly illegal values: of another type, and just outside each edge."""
        found = dict.fromkeys(self.made_wrong())
        return [each for each in found if self.read(each).status == "illegal"]

    def made_subtly_wrong(self) -> Iterable[str]:
        """Yield values that a program may take by mistake; each is tried in one way of writing."""
        return ()

    def subtly_bad(self) -> list[str]:
        """Return plainly illegal values that a program may take by mistake."""
        found = dict.fromkeys(self.made_subtly_wrong())
        return [each for each in found if self.read(each).status == "illegal"]
