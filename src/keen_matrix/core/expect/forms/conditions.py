"""`holds`: conditions on the named groups of a regular expression, which are texts."""

from __future__ import annotations

from collections.abc import Iterator

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.forms.base import MATCH_SECONDS, Form, FormContext, FormKind, decoded
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expressions import Expression, Scope
from keen_matrix.core.model.table import Table


class HoldsForm(Form, frozen=True):
    """Conditions that see the groups of a pattern; that the pattern matches is another form's to
    ask."""

    pattern: str
    conditions: tuple[Expression, ...]

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch for each condition that is not true; none when the pattern itself does
        not match."""
        import regex

        text = decoded(actual)
        try:
            found = regex.compile(self.pattern).search(text, timeout=MATCH_SECONDS)
        except TimeoutError:
            return  # `matches` itself tells of it
        if found is None:
            return
        groups = found.groupdict()
        inner = Scope({**context.scope.names, **groups}, context.scope.functions)
        for condition in self.conditions:
            if not condition.evaluate(inner):
                values = ", ".join(
                    f"{name} = {value!r}" for name, value in groups.items() if name in condition.names
                )
                yield Mismatch(form="holds", expected=condition.source, actual=values or text)

    def describe(self) -> str:
        """Return what it asks for."""
        return " and ".join(f"{each.source} is true" for each in self.conditions)


def _holds(table: Table, about: FormContext) -> Iterator[Form]:
    if table.holds is not None:
        yield HoldsForm(table.matches or "", tuple(map(Expression, table.holds)))


HOLDS = FormKind(key="holds", compile=_holds, texts="expression", needs=("matches",))
