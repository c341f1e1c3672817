"""Forms say what Python's own comparisons say, and the rules that apply are worked out but once."""

from __future__ import annotations

from collections.abc import Callable
from itertools import product
from unittest.mock import patch

import pytest

from keen_matrix.core.expect import cascade
from keen_matrix.core.expect.aspects import ExitAspect
from keen_matrix.core.expect.cascade import Cascade
from keen_matrix.core.expect.context import CheckContext
from keen_matrix.core.expect.exits import ExitExpectation
from keen_matrix.core.expect.forms import Form
from keen_matrix.core.expect.forms.text import ContainsForm, EmptyForm, EndsForm, IsForm, StartsForm
from keen_matrix.core.expressions import Expression, Scope, Template
from keen_matrix.core.model.outcome import Outcome
from keen_matrix.core.model.spec import Rule

SAMPLES = ["", "\n", "\n\n", "a", "a\n", "a\n\n", "ab", "ab\n", "b{", "a\nb"]


def newline_may_follow(text: str) -> tuple[str, ...]:
    """A text that ends in no newline is met with one behind it as well."""
    return (text,) if text.endswith("\n") else (text, text + "\n")


PLAIN: list[tuple[str, Callable[[Template], Form], Callable[[str, str], bool]]] = [
    ("is", IsForm, lambda text, raw: raw in newline_may_follow(text)),
    ("contains", lambda text: ContainsForm((text,)), lambda text, raw: text in raw),
    ("lacks", lambda text: ContainsForm((text,), wanted=False), lambda text, raw: text not in raw),
    ("starts", StartsForm, lambda text, raw: raw.startswith(text)),
    ("ends", EndsForm, lambda text, raw: raw.endswith(newline_may_follow(text))),
    ("empty", lambda text: EmptyForm(True), lambda text, raw: raw == ""),
    ("not empty", lambda text: EmptyForm(False), lambda text, raw: raw != ""),
]


@pytest.mark.parametrize(("name", "form", "met"), PLAIN, ids=[each[0] for each in PLAIN])
def test_a_form_is_met_exactly_where_python_says_so(
    name: str, form: Callable[[Template], Form], met: Callable[[str, str], bool]
) -> None:
    for text, raw in product(SAMPLES, SAMPLES):
        made = form(Template(text, literal=True))
        assert (not list(made.check(raw.encode(), CheckContext()))) is met(text, raw), (text, raw)


def test_rules_with_conditions_are_worked_out_once_for_the_same_rules() -> None:
    rules = [
        Rule(aspects={"exit": ExitAspect(ExitExpectation(((0, 0),)))}, when=None, origins={}),
        Rule(aspects={"exit": ExitAspect(ExitExpectation(((3, 3),)))}, when=Expression("code == 3"), origins={}),
    ]
    judged = Cascade(rules)
    with patch.object(cascade, "_Checks", wraps=cascade._Checks) as made:
        for code in (3, 4, 3, 5, 3):
            outcome = Outcome(exit=3 if code == 3 else 0)
            assert judged.judge(outcome, CheckContext(Scope({"code": code})), timeout=1, cap=100).verdict == "passed"
        assert made.call_count == 2
    assert Cascade([]).judge(Outcome(exit=0), CheckContext(), timeout=1, cap=100).verdict == "unchecked"
