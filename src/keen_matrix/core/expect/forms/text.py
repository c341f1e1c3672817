"""`is`, `contains`, `lacks`, `starts`, `ends`, `empty` and `matches`: the text as it stands."""

from __future__ import annotations

from collections.abc import Iterator
from typing import ClassVar

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.forms.base import (
    MATCH_SECONDS,
    Form,
    FormContext,
    FormKind,
    decoded,
    endings,
    forgives_numbers,
    given,
    masked,
    rendered,
    templates,
    texts_of,
    tolerance_of,
    within,
)
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expect.numbers import Tolerance, texts_alike
from keen_matrix.core.expressions import Template
from keen_matrix.core.model.open_mark import OPEN
from keen_matrix.core.model.table import Table


class IsForm(Form, frozen=True):
    """The whole text; one that ends in no newline may be followed by one."""

    instant: ClassVar[bool] = True
    text: Template
    tolerance: Tolerance | None = None

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when the text is another, numbers within the tolerance aside."""
        expected = rendered(self.text, context)
        # Bytes are compared first: nearly all texts are the same to the letter.
        if actual == expected or actual in endings(expected):
            return
        left, right = decoded(expected), decoded(actual)
        if not self.tolerance or not texts_alike(left, right, self.tolerance, newline=True):
            yield Mismatch(form="is", expected=left, actual=right)

    @property
    def is_open(self) -> bool:
        """Whether it is not known yet what is to come."""
        return self.text.constant == OPEN

    def describe(self) -> str:
        """Return what it asks for."""
        return f'is "{self.text.source}"{within(self.tolerance)}'

    def forgives(self, what: str) -> bool:
        """Tell whether an alteration is within the tolerance."""
        return forgives_numbers(self.tolerance, what)


class ContainsForm(Form, frozen=True):
    """Every text, or with `wanted` off none of them, is a part of it."""

    instant: ClassVar[bool] = True
    texts: tuple[Template, ...]
    wanted: bool = True

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch for each text that is missing, or that should be."""
        for text in self._texts(context):
            if (text in actual) is not self.wanted:
                form = "contains" if self.wanted else "lacks"
                yield Mismatch(form=form, expected=decoded(text), actual=decoded(actual))

    @property
    def may_ask_nothing(self) -> bool:
        """Whether a text is filled in, and may so be empty."""
        return self.wanted and any(text.constant is None for text in self.texts)

    def asks_nothing(self, actual: bytes, context: CheckContext) -> bool:
        """Tell whether all its texts are empty: every output contains that."""
        return not any(self._texts(context))

    def _texts(self, context: CheckContext) -> Iterator[bytes]:
        for template in self.texts:
            for text in texts_of(template, context.scope):
                yield masked(text, context)

    def describe(self) -> str:
        """Return what it asks for."""
        texts = " and ".join(f'"{text.source}"' for text in self.texts)
        return f"{'contains' if self.wanted else 'lacks'} {texts}"


class StartsForm(Form, frozen=True):
    """What it starts with."""

    instant: ClassVar[bool] = True
    text: Template

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when it starts with something else."""
        text = rendered(self.text, context)
        if not actual.startswith(text):
            yield Mismatch(form="starts", expected=decoded(text), actual=decoded(actual))

    @property
    def may_ask_nothing(self) -> bool:
        """Whether the text is filled in, and may so be empty."""
        return self.text.constant is None

    def asks_nothing(self, actual: bytes, context: CheckContext) -> bool:
        """Tell whether the text is empty: every output starts with that."""
        return not rendered(self.text, context)

    def describe(self) -> str:
        """Return what it asks for."""
        return f'starts with "{self.text.source}"'


class EndsForm(Form, frozen=True):
    """What it ends with; a newline may follow a text that ends in none."""

    instant: ClassVar[bool] = True
    text: Template

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when it ends with something else."""
        text = rendered(self.text, context)
        if not actual.endswith(endings(text)):
            yield Mismatch(form="ends", expected=decoded(text), actual=decoded(actual))

    @property
    def may_ask_nothing(self) -> bool:
        """Whether the text is filled in, and may so be empty."""
        return self.text.constant is None

    def asks_nothing(self, actual: bytes, context: CheckContext) -> bool:
        """Tell whether the text is empty: every output ends with that."""
        return not rendered(self.text, context)

    def describe(self) -> str:
        """Return what it asks for."""
        return f'ends with "{self.text.source}"'


class EmptyForm(Form, frozen=True):
    """Whether it is empty."""

    instant: ClassVar[bool] = True
    wanted: bool = True

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when there is text where none is expected, or the other way round."""
        if (not actual) is not self.wanted:
            yield Mismatch(form="empty" if self.wanted else "not-empty", expected="", actual=decoded(actual))

    def describe(self) -> str:
        """Return what it asks for."""
        return "is empty" if self.wanted else "is not empty"


class MatchesForm(Form, frozen=True):
    """A regular expression that matches a part of it."""

    pattern: str

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when it does not match, or takes too long to."""
        import regex

        text = decoded(actual)
        try:
            # Patterns are the spec's and texts the program's: together they may take exponential
            # time.
            found = regex.compile(self.pattern).search(text, timeout=MATCH_SECONDS)
        except TimeoutError:
            note = f"{self.pattern} (gave up after {MATCH_SECONDS:g} s)"
            yield Mismatch(form="matches", expected=note, actual=text, problem=True)
            return
        if not found:
            yield Mismatch(form="matches", expected=self.pattern, actual=text)

    def describe(self) -> str:
        """Return what it asks for."""
        return f"matches {self.pattern}"


def _is(table: Table, about: FormContext) -> Iterator[Form]:
    if given(table, "is") is not None:
        yield IsForm(Template(given(table, "is")), tolerance_of(table))


def _contains(table: Table, about: FormContext) -> Iterator[Form]:
    if table.contains is not None:
        yield ContainsForm(templates(table.contains))


def _lacks(table: Table, about: FormContext) -> Iterator[Form]:
    if table.lacks is not None:
        yield ContainsForm(templates(table.lacks), wanted=False)


def _starts(table: Table, about: FormContext) -> Iterator[Form]:
    if table.starts is not None:
        yield StartsForm(Template(table.starts))


def _ends(table: Table, about: FormContext) -> Iterator[Form]:
    if table.ends is not None:
        yield EndsForm(Template(table.ends))


def _empty(table: Table, about: FormContext) -> Iterator[Form]:
    if table.empty is not None:
        yield EmptyForm(table.empty)


def _matches(table: Table, about: FormContext) -> Iterator[Form]:
    if table.matches is not None:
        yield MatchesForm(table.matches)


IS = FormKind(key="is", compile=_is, texts="template", modifiers=("tolerance",))
CONTAINS = FormKind(key="contains", compile=_contains, texts="template")
LACKS = FormKind(key="lacks", compile=_lacks, texts="template")
STARTS = FormKind(key="starts", compile=_starts, texts="template")
ENDS = FormKind(key="ends", compile=_ends, texts="template")
EMPTY = FormKind(key="empty", compile=_empty)
MATCHES = FormKind(key="matches", compile=_matches)
