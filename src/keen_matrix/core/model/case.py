"""A case: one vector with its values; and the names an expression can use in it."""

from __future__ import annotations

import sys
from collections.abc import Callable, Mapping
from typing import Any, NamedTuple, TypeAlias

from keen_matrix.core.expressions import FUNCTIONS, Scope
from keen_matrix.core.model.record import CaseFields, RecordFields
from keen_matrix.core.model.relation import Relation
from keen_matrix.core.structs import Struct

#: Axes, columns, groups and NAMEs, and what each is in one vector.
Named: TypeAlias = Mapping[str, object]


class Standing(NamedTuple):
    """What the signature says of a vector. `bound` maps NAMEs, as expressions write them, to their
    values."""

    status: str
    kinds: tuple[str, ...] = ()
    culprit: str = ""
    mentions: tuple[str, ...] = ()
    help: bool = False
    bound: Named = {}
    given: frozenset[str] = frozenset()
    #: Whether the library that reads the words refuses it, and not the program after it.
    by_library: bool = False
    #: Where the signature stands that says it, `fare.matrix.toml:5`.
    origin: str = ""

    @property
    def refusal(self) -> str:
        """Why the signature refuses it: `unknown-option --swap and too-few
        (fare.matrix.toml:5)`."""
        first, *more = self.kinds or ("",)
        # The other kinds say themselves what is wrong.
        why = "its condition is not met by" if first == "condition" else first
        said = " and ".join([f"{why} {self.culprit}".strip(), *more])
        return f"{said} ({self.origin})" if self.origin else said


class Said(NamedTuple):
    """What a spec says of a case beside what it must do."""

    #: Where its row stands, `tickets.csv:7`.
    row: str = ""
    #: What one should know where it fails.
    note: str = ""
    #: Why it is known to differ; empty where nothing is known.
    known: str = ""
    #: Aspects that are known to differ; none stands for all of them.
    known_aspects: tuple[str, ...] = ()
    #: The verdict that is known.
    known_verdict: str = "failed"
    #: The last day on which a known difference did not count, once it is past.
    known_until: str = ""
    #: Why it is not launched.
    skipped: str = ""
    #: Why it shows nothing of the program at work if it prints nothing, or help.
    hollow: str = ""
    #: Columns of its row whose cells are left open: what is to come there is not known yet.
    open_columns: tuple[str, ...] = ()


class Case(Struct, frozen=True, kw_only=True):
    """One vector of a matrix, complete when it is made.

    `sequence` counts the cases of a spec from 0 in the order of the spec; `matrix` is the number
    of its matrix; `values` maps axes, columns and groups to what they are in this vector (None: in
    a part that is left out).
    """

    sequence: int = 0
    id: str
    matrix: int
    argv: tuple[str, ...]
    values: Named = {}
    #: Why the vector could not be made (an expression in it failed).
    fault: str | None = None
    #: The vectors of further steps, or of further launches that are compared with the first.
    more: tuple[tuple[str, ...], ...] = ()
    #: Vectors that the program is launched with before each launch in a fresh directory: what they
    #: leave there is there for it.
    before: tuple[tuple[str, ...], ...] = ()
    #: What the signature says of each launch's vector; empty without a signature.
    standings: tuple[Standing, ...] = ()
    #: Numbers of the launches, from 0, that start another program: all of its words are in their
    #: vectors.
    others: tuple[int, ...] = ()
    #: How the launches must compare; None when they do not.
    relation: Relation | None = None
    family: str = ""
    kind: str = ""
    culprit: str = ""
    #: What more tells a derived vector from others of its kind, or what would state it in the
    #: spec.
    detail: str = ""
    said: Said = Said()
    #: The accepted vector of which a derived one was made by one change.
    control: tuple[str, ...] = ()
    #: What the program said to the control, when it did not accept it; such a case is not
    #: launched.
    blocked: str | None = None

    def is_fresh(self, number: int) -> bool:
        """Tell whether a launch, from 0, begins in a directory of its own."""
        return number == 0 or (self.relation is not None and self.relation.fresh[number])

    @property
    def named(self) -> Named:
        """What its names are in expressions, beside what the signature binds: of a derived vector
        that is all there is, and its values are the words as they were typed."""
        return {} if self.family and self.standings else self.values

    @property
    def standing(self) -> Standing | None:
        """What the signature says of the vector."""
        return self.standings[0] if self.standings else None


def case_fields(case: Case, matrix: str) -> CaseFields:
    """Return what a case is, as every record says it, without any outcome; `matrix` is the name of
    its matrix."""
    return CaseFields(**described(case, matrix))


def described(case: Case, matrix: str) -> RecordFields:
    """Return the fields of `case_fields` by name, for a record that adds an outcome to them."""
    fields: RecordFields = {
        "id": case.id,
        "matrix": matrix,
        "family": case.family or None,
        "kind": case.kind or None,
        "argv": case.argv,
        "values": case.values,
        "judgement": case.standings[0].status if case.standings else None,
        "culprit": case.culprit,
        "detail": case.detail,
        "relation": case.relation.name if case.relation is not None else "",
        "more_argv": case.more,
        "others": case.others,
        "before": case.before,
        "fault": case.fault or "",
        "control": case.control,
    }
    standing = case.standing
    if standing is not None and standing.status == "refused" and not case.family:
        fields["refused"] = standing.refusal
    if any(case.said):  # of most cases a spec says nothing more
        fields.update(case.said._asdict())
    return fields


def case_scope(
    values: Named,
    argv: tuple[str, ...],
    id: str,
    here: str,
    functions: Mapping[str, Callable[..., object]],
    standing: Standing | None = None,
) -> Scope:
    """Return what the expressions of a case see: its values, `words`, `argc`, `here`, `case_id`,
    `has(…)`.

    With a signature also its NAMEs and, of a vector that it refuses, `culprit`.
    """
    names = {
        "words": list(argv),
        "argc": len(argv),
        "here": here,
        "case_id": id,
        "platform": sys.platform,
        **values,
    }
    if standing is not None:
        names = {**standing.bound, "culprit": standing.culprit, **names}
    known = standing.given if standing is not None else frozenset[str]()
    return Scope(names, {**FUNCTIONS, "has": _given(argv, known), **functions})


class CaseScope(Scope):
    """The scope of a case, made by the function given when an expression first looks into it; most
    never need one."""

    __slots__ = ("_make",)

    def __init__(self, make: Callable[[], Scope]) -> None:
        self._make = make

    def __getattr__(self, name: str) -> Any:  # called only for what is not set yet
        if name not in ("names", "functions"):
            raise AttributeError(name)
        made = self._make()
        self.names, self.functions = made.names, made.functions
        return getattr(made, name)


def _given(argv: tuple[str, ...], known: frozenset[str]) -> Callable[..., bool]:
    def given(*spellings: str) -> bool:
        """Tell whether one of the spellings is a word of the vector, alone or joined to a value by
        `=`.

        With a signature, whether the option is given in whatever spelling.
        """
        return not known.isdisjoint(spellings) or any(
            word == each or word.startswith(f"{each}=") for word in argv for each in spellings
        )

    return given
