"""`baseline`: what was recorded and accepted, in a file beside the spec."""

from __future__ import annotations

import os
from collections.abc import Iterator
from functools import lru_cache

from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.forms.base import (
    Form,
    FormContext,
    FormKind,
    decoded,
    forgives_numbers,
    tolerance_of,
    within,
)
from keen_matrix.core.expect.mismatch import Mismatch
from keen_matrix.core.expect.numbers import Tolerance, texts_alike
from keen_matrix.core.model.table import Table


class BaselineForm(Form, frozen=True):
    """The text that was accepted for the aspect of the case."""

    aspect: str
    tolerance: Tolerance | None = None

    def check(self, actual: bytes, context: CheckContext) -> Iterator[Mismatch]:
        """Yield a mismatch when nothing was recorded for the case, or something else. Raises
        ValueError."""
        path = context.baselines
        recorded = _read(path, _written(path)).get(context.id, {}).get(self.aspect)
        if recorded is None:
            yield Mismatch(form="unrecorded", expected="", actual=decoded(actual), recorded=actual)
        elif not texts_alike(decoded(recorded), decoded(actual), self.tolerance) and recorded != actual:
            yield Mismatch(form="is", expected=decoded(recorded), actual=decoded(actual), recorded=actual)

    def describe(self) -> str:
        """Return what it asks for."""
        return f"is as in its baseline{within(self.tolerance)}"

    def forgives(self, what: str) -> bool:
        """Tell whether an alteration is within the tolerance."""
        return forgives_numbers(self.tolerance, what)


def _written(path: str) -> int:
    """Return when a file was last written, 0 when there is none: a reader's key for remembering
    it."""
    try:
        return os.stat(path).st_mtime_ns
    except OSError:
        return 0


@lru_cache(maxsize=64)
def _read(path: str, written: int) -> dict[str, dict[str, bytes]]:
    """Return a file of baselines; empty when there is none. Raises ValueError."""
    from keen_matrix.core.expect.baselines import read_baselines

    return read_baselines(path) if written else {}


def _baseline(table: Table, about: FormContext) -> Iterator[Form]:
    if table.baseline:
        yield BaselineForm(about.aspect, tolerance_of(table))


KIND = FormKind(key="baseline", compile=_baseline, modifiers=("tolerance",))
