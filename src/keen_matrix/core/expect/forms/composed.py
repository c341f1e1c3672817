"""`any`, `all` and `not`: forms of forms."""

from __future__ import annotations

from collections.abc import Iterator

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.forms.base import Form, FormContext, FormKind, decoded, given
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.model.table import Table


class AllForm(Form, frozen=True):
    """Every one of some forms is met."""

    forms: tuple[Form, ...]

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield what differs, form by form."""
        for form in self.forms:
            yield from form.check(actual, context)

    @property
    def may_ask_nothing(self) -> bool:
        """Whether all of them may."""
        return all(form.may_ask_nothing for form in self.forms)

    def asks_nothing(self, actual: bytes, context: CheckContext) -> bool:
        """Tell whether none of them asks anything."""
        return all(form.asks_nothing(actual, context) for form in self.forms)

    def describe(self) -> str:
        """Return what it asks for."""
        return " and ".join(form.describe() for form in self.forms)

    def forgives(self, what: str) -> bool:
        """Tell whether one of them means an alteration not to be seen."""
        return any(form.forgives(what) for form in self.forms)


class AnyForm(Form, frozen=True):
    """At least one of some forms is met."""

    forms: tuple[Form, ...]

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield one mismatch when none is met."""
        if not any(next(form.check(actual, context), None) is None for form in self.forms):
            yield Mismatch(form="any", expected=self.describe(), actual=decoded(actual))

    @property
    def may_ask_nothing(self) -> bool:
        """Whether one of them may: then any output will do."""
        return any(form.may_ask_nothing for form in self.forms)

    def asks_nothing(self, actual: bytes, context: CheckContext) -> bool:
        """Tell whether one of them asks nothing."""
        return any(form.may_ask_nothing and form.asks_nothing(actual, context) for form in self.forms)

    def describe(self) -> str:
        """Return what it asks for."""
        return "  or  ".join(form.describe() for form in self.forms)

    def forgives(self, what: str) -> bool:
        """Tell whether one of them means an alteration not to be seen."""
        return any(form.forgives(what) for form in self.forms)


class NotForm(Form, frozen=True):
    """A form is not met."""

    form: Form

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when the form is met."""
        if next(self.form.check(actual, context), None) is None:
            yield Mismatch(form="not", expected=self.form.describe(), actual=decoded(actual))

    def describe(self) -> str:
        """Return what it asks for."""
        return f"not: {self.form.describe()}"


def _together(table: Table, about: FormContext) -> Form:
    found = about.forms_of(table, about.aspect)
    return found[0] if len(found) == 1 else AllForm(found)


def _any(table: Table, about: FormContext) -> Iterator[Form]:
    if given(table, "any") is not None:
        yield AnyForm(tuple(_together(each, about) for each in given(table, "any")))


def _all(table: Table, about: FormContext) -> Iterator[Form]:
    if given(table, "all") is not None:
        yield AllForm(tuple(_together(each, about) for each in given(table, "all")))


def _not(table: Table, about: FormContext) -> Iterator[Form]:
    if given(table, "not") is not None:
        yield NotForm(_together(given(table, "not"), about))


ANY = FormKind(key="any", compile=_any)
ALL = FormKind(key="all", compile=_all)
NOT = FormKind(key="not", compile=_not)
