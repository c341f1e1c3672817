"""What every form of a text expectation answers, and what a kind of form declares of itself."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any, ClassVar, Literal

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.masks import masked_expectation
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expect.numbers import Tolerance
from keen_matrix.core.expressions import Scope, Template, as_text
from keen_matrix.core.model.table import Table
from keen_matrix.core.structs import Struct

#: Time that one regular expression may take on one output.
MATCH_SECONDS = 2.0


class Form(Struct, frozen=True):
    """One form of a text expectation, a frozen value. What it asks reads as a rule, also in its
    repr."""

    #: Whether checking is a comparison of texts, that takes no time worth counting.
    instant: ClassVar[bool] = False

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield what differs; nothing when the text is as expected. Raises ExpressionFault or
        ValueError."""
        raise NotImplementedError

    def describe(self) -> str:
        """Return what it asks for, without a case: `contains "usage:"`."""
        raise NotImplementedError

    @property
    def is_open(self) -> bool:
        """Whether it is not known yet what is to come."""
        return False

    @property
    def may_ask_nothing(self) -> bool:
        """Whether there may be cases in which it asks nothing; only then is `asks_nothing`
        called."""
        return False

    def asks_nothing(self, actual: bytes, context: CheckContext) -> bool:
        """Tell whether it is met by this output only since it asks nothing in this case. Raises
        ExpressionFault."""
        return False

    def forgives(self, what: str) -> bool:
        """Tell whether an alteration, named as `insight.alterations` names it, is one that the
        form means not to see."""
        return False

    def __repr__(self) -> str:
        return self.describe()


class FormContext(Struct, frozen=True):
    """What a kind may need to know to make forms of a table."""

    #: The name of the aspect, under which a baseline is recorded.
    aspect: str
    #: Makes the forms of a table inside the table.
    forms_of: Callable[[Table, str], tuple[Form, ...]]


class FormKind(Struct, frozen=True, kw_only=True):
    """A kind of form: all that the rest of the code knows of it."""

    #: Its key in a table of a spec.
    key: str
    #: Yields its forms from a validated table.
    compile: Callable[[Table, FormContext], Iterator[Form]]
    #: Keys of which one must be beside it.
    needs: tuple[str, ...] = ()
    #: Keys that change what it asks, and ask nothing by themselves.
    modifiers: tuple[str, ...] = ()
    #: Whether its texts are templates (`always`: also in a table that is literal), expressions, or
    #: neither.
    texts: Literal["template", "always", "expression", "plain"] = "plain"


def attribute(key: str) -> str:
    """Return the attribute of a validated table that holds a key."""
    name = key.replace("-", "_")
    return f"{name}_" if key in ("is", "bytes", "json", "any", "all", "not", "sorted") else name


def given(table: Table, key: str) -> Any:
    """Return what a validated table has under a key; None when it is not given."""
    return getattr(table, attribute(key), None)


def tolerance_of(table: Table) -> Tolerance | None:
    """Return the tolerance of a validated table."""
    return Tolerance(table.tolerance.absolute, table.tolerance.relative) if table.tolerance else None


def templates(value: str | Iterable[str]) -> tuple[Template, ...]:
    """Return a text, or each of a list of texts, as templates."""
    return tuple(map(Template, [value] if isinstance(value, str) else value))


def decoded(raw: bytes) -> str:
    """Return bytes as text; what is no UTF-8 comes back as it was when encoded again."""
    return raw.decode("utf-8", "surrogateescape")


def encoded(text: str) -> bytes:
    """Return a text as bytes."""
    return text.encode("utf-8", "surrogateescape")


def endings(text: bytes) -> tuple[bytes, ...]:
    """Return what may be at the end for an expected text: itself, and itself with a newline
    where it ends in none.

    A text that ends in a newline means that newline: output that lacks it differs.
    """
    return (text,) if text.endswith(b"\n") else (text, text + b"\n")


def rendered(template: Template, context: CheckContext) -> bytes:
    """Return an expected text as a case has it, masked as what is found will be. Raises
    ExpressionFault."""
    return masked(template.render(context.scope), context)


def masked(text: str, context: CheckContext) -> bytes:
    """Return an expected text masked as what is found will be."""
    return encoded(masked_expectation(text, context.masks) if context.masks else text)


def texts_of(template: Template, scope: Scope) -> list[str]:
    """Return the texts that one of a list of texts gives: a field alone that is a list is spliced,
    as in a line. Raises ExpressionFault."""
    value = template.value(scope)
    return [as_text(each) for each in (value if isinstance(value, (list, tuple)) else [value])]


def within(tolerance: Tolerance | None) -> str:
    """Return a tolerance in words, to follow what a form asks for."""
    return f", numbers within {tolerance.absolute or f'a part of {tolerance.relative}'}" if tolerance else ""


def forgives_numbers(tolerance: Tolerance | None, what: str) -> bool:
    """Tell whether a tolerance means an altered number not to be seen."""
    return tolerance is not None and ("number" in what or "digit" in what)
